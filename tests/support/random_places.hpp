// Places as players have them, made at random: games of several consoles, with saves where one player's
// programs keep them. Only within a property: what is drawn comes from RapidCheck.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "support/archives.hpp"
#include "support/builders.hpp"
#include "support/cards.hpp"
#include "support/property.hpp"
#include "support/roms.hpp"

namespace bayswap::test {

using Files = std::map<std::string, Blob>;

inline std::unique_ptr<MemoryStore> store_of(const Files& files) {
  auto store = std::make_unique<MemoryStore>();
  for (const auto& [path, bytes] : files) RC_ASSERT(store->replace(path, bytes.view()).has_value());
  return store;
}

// A number below `sides`.
inline int die(int sides) {
  return *rc::gen::inRange(0, sides);
}
template <class T>
T one_of(const std::vector<T>& choices) {
  return choices[static_cast<std::size_t>(die(static_cast<int>(choices.size())))];
}

struct Console {
  std::string tag;
  std::string rom_extension;
  std::vector<std::size_t> sizes;       // of saves
  std::vector<std::string> extensions;  // of saves
};
inline const std::vector<Console>& consoles() {
  static const std::vector<Console> all{
      {"gb", ".gb", {8192, 32768}, {".sav", ".srm"}},
      {"gbc", ".gbc", {8192, 32768}, {".sav", ".srm"}},
      {"gba", ".gba", {8192, 32768, 65536, 131072}, {".sav", ".srm"}},
      {"nes", ".nes", {8192}, {".sav", ".srm"}},
      {"snes", ".sfc", {8192}, {".srm", ".sav"}},
      {"md", ".md", {8192}, {".srm"}},
      {"n64", ".z64", {512, 2048, 32768, 131072}, {""}},
      {"nds", ".nds", {8192, 65536, 524288}, {".sav"}},
      {"sms", ".sms", {8192}, {".sav", ".srm"}},
      {"ws", ".ws", {8192}, {".sav", ".srm"}},
      {"gg", ".gg", {8192, 32768}, {".sav", ".srm"}},
      {"pce", ".pce", {2048}, {".sav", ".srm"}},
  };
  return all;
}

struct Game {
  Console console;
  std::string stem;
  Blob rom;
  std::size_t size = 0;  // of its save
};

// Every game is told apart by what its header says, but on nes, where no header names it.
inline Blob rom_of(const Console& console, std::size_t size, int number) {
  using namespace roms;
  const char digit = static_cast<char>('0' + number);
  Bytes rom;
  if (console.tag == "gb" || console.tag == "gbc") {
    rom = gb_rom(0x1b, size == 8192 ? 2 : 3, console.tag == "gbc");
    rom[0x134] = static_cast<Byte>(digit);
    Byte sum = 0;
    for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
    rom[0x14d] = sum;
  } else if (console.tag == "gba") {
    rom = gba_rom(size == 8192    ? "EEPROM_V124"
                  : size == 32768 ? "SRAM_V113"
                  : size == 65536 ? "FLASH_V126"
                                  : "FLASH1M_V103");
    rom[0xa0] = rom[0xae] = static_cast<Byte>(digit);
    int sum = 0;
    for (std::size_t i = 0xa0; i <= 0xbc; ++i) sum -= rom[i];
    rom[0xbd] = static_cast<Byte>(sum - 0x19);
  } else if (console.tag == "nes") {
    rom = nes_rom({2, 1, 0x12, 0, 1});
    rom[100] = static_cast<Byte>(digit);
  } else if (console.tag == "snes") {
    rom = snes_rom(0x7fc0, 0x20, 131072);
    rom[0x7fc0] = static_cast<Byte>(digit);
  } else if (console.tag == "md") {
    rom = md_rom({'R', 'A', 0xf8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 0x3f, 0xff});
    rom[0x150] = rom[0x186] = static_cast<Byte>(digit);
  } else if (console.tag == "n64") {
    return n64_rom({"LANTERN " + std::string(1, digit), std::string("N9") + digit + "P"});
  } else if (console.tag == "nds") {
    rom = nds_rom();
    rom[0] = rom[0x0e] = static_cast<Byte>(digit);
    put_le16(rom, 0x15e, crc16(ByteView(rom).first(0x15e)));
  } else if (console.tag == "pce") {
    return noise(262144, static_cast<std::uint32_t>(number + 70));  // no header: its name is all it has
  } else if (console.tag == "sms" || console.tag == "gg") {
    rom = sms_rom(0x7ff0, console.tag == "sms" ? 4 : 7);
    rom[0x7ffc] = static_cast<Byte>(0x10 + number);
  } else {
    rom = ws_rom(0x01);
    rom[rom.size() - 8] = static_cast<Byte>(0x40 + number);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i + 2 < rom.size(); ++i) sum += rom[i];
    put_le16(rom, rom.size() - 2, sum & 0xffff);
  }
  return Blob::copy_of(rom);
}

// Of one in so many consoles, and of one at least.
inline std::vector<Game> some_games(int one_in = 3) {
  static const std::vector<std::string> stems{"Cog",
                                              "Buoy (Europe)",
                                              "Lantern Skiff (USA) (Rev 1)",
                                              "Möwe & Co (World)",
                                              "灯台",
                                              "Orchard, The [!]",
                                              "oyster_bay v1.1",
                                              "Kite's 100% Run #1",
                                              "Moth Courier - Part 2 (Japan)",
                                              "REEF"};
  std::vector<Console> chosen;
  for (const Console& console : consoles())
    if (die(one_in) == 0) chosen.push_back(console);
  if (chosen.empty()) chosen.push_back(one_of(consoles()));
  std::vector<Game> games;
  for (std::size_t i = 0; i < stems.size(); ++i) {
    if (die(2) == 0 && i >= chosen.size()) continue;
    const Console& console = i < chosen.size() ? chosen[i] : one_of(chosen);
    const std::size_t size = one_of(console.sizes);
    games.push_back({console, stems[i], rom_of(console, size, static_cast<int>(i)), size});
  }
  return games;
}

// How one player keeps games and saves.
struct Habit {
  enum class Where { beside, flat, by_console, by_game, fixed_name };
  std::string prefix = one_of<std::string>({"", "stick/", "emulators/pc/", "Games/Retro Stuff/"});
  std::string rom_folder = one_of<std::string>({"roms", "ROMs", "games", "my games"});
  std::string save_folder =
      one_of<std::string>({"saves", "Saves", "save", "SAVE", "sram", "battery", "user/saves"});
  bool roms_by_console = die(2) == 0;
  bool upper_tags = die(4) == 0;
  bool zipped = die(4) == 0;
  bool whole_name = die(5) == 0;             // Cog.gb.sav
  bool one_program = die(2) == 0;            // plays all of them
  bool combined = false;                     // every chip of an n64 game in one file
  bool mixed = !one_program && die(5) == 0;  // two extensions of one console
  Where where =
      one_of<Where>({Where::beside, Where::flat, Where::by_console, Where::by_game, Where::fixed_name});
  std::map<std::string, std::string> extensions;

  Habit() {
    for (const Console& console : consoles()) extensions[console.tag] = one_of(console.extensions);
    if (one_program)
      for (auto& [tag, extension] : extensions) extension = extensions.at("gba");
    // In one folder both kinds of gb games have one.
    if (!(where == Where::by_console || (where == Where::beside && roms_by_console)))
      extensions["gbc"] = extensions["gb"];
  }
  [[nodiscard]] std::string tag_of(const Game& game) const {
    std::string tag = game.console.tag;
    if (upper_tags)
      for (char& c : tag) c = static_cast<char>(std::toupper(c));
    return tag;
  }
  [[nodiscard]] std::string rom_place(const Game& game) const {
    return prefix + rom_folder + "/" + (roms_by_console ? tag_of(game) + "/" : "");
  }
  [[nodiscard]] std::string rom(const Game& game) const {
    return rom_place(game) + game.stem + (zipped ? ".zip" : game.console.rom_extension);
  }
  [[nodiscard]] std::string save(const Game& game) const {
    std::string extension = extensions.at(game.console.tag);
    if (mixed && game.stem.size() % 2 == 0) extension = game.console.extensions.back();
    if (game.console.tag == "n64" && combined) extension = ".srm";
    if (game.console.tag == "n64" && !combined)
      extension = game.size == 32768 ? ".sra" : game.size == 131072 ? ".fla" : ".eep";
    const std::string name =
        game.stem + (whole_name && !zipped ? game.console.rom_extension : "") + extension;
    const std::string saves = prefix + save_folder + "/";
    switch (where) {
      case Where::beside:
        return rom_place(game) + name;
      case Where::flat:
        return saves + name;
      case Where::by_console:
        return saves + tag_of(game) + "/" + name;
      case Where::by_game:
        return saves + game.stem + "/" + name;
      case Where::fixed_name:
        break;
    }
    return saves + game.stem + "/progress" + extension;
  }
};

struct Place {
  Habit habit;
  Files files;
  std::map<std::string, std::string> saves;  // the console, by path

  explicit Place(const std::vector<Game>& games, Habit its_habit = Habit()) : habit(std::move(its_habit)) {
    for (const Game& game : games) {
      files[habit.rom(game)] =
          habit.zipped ? zipped(game.stem + game.console.rom_extension, game.rom) : game.rom;
    }
    const std::string& at = habit.prefix;
    const std::map<std::string, Blob> clutter{
        {"settings.cfg", text_blob(std::string(8192, 'x'))},
        {"system/boot.bin", noise(16384, 90)},
        {"cache/Cog.sav", noise(8192, 91)},
        {"screenshots/Cog.png", text_blob("\x89PNG\r\n" + std::string(8000, 'y'))},
        {"logs/run.log", text_blob(std::string(32768, 'z'))},
        {"thumbs.db", noise(8192, 92)},
        {"cheats/Cog.cht", text_blob(std::string(2048, 'c'))}};
    for (const auto& [path, bytes] : clutter)
      if (die(2) == 0) files[at + path] = bytes;
  }
  // What programs leave beside a save under the same name.
  void litter(const Game& game) {
    const std::string path = habit.save(game);
    const std::string stem = path.substr(0, path.rfind('.'));
    const std::map<std::string, Blob> all{{".state1", noise(70000, 95)},
                                          {".png", text_blob("\x89PNG\r\n" + std::string(7000, 'y'))},
                                          {".cht", text_blob(std::string(2048, 'c'))},
                                          {".ips", text_blob("PATCH" + std::string(507, 'p'))},
                                          {".txt", text_blob(std::string(8192, 't'))},
                                          {".sav.bak", noise(game.size, 96)}};
    for (const auto& [extension, bytes] : all)
      if (die(6) == 0) files[stem + extension] = bytes;
  }
  void keep(const Game& game, std::uint32_t seed) {
    const bool is_combined = game.console.tag == "n64" && habit.combined;
    Blob bytes = noise(is_combined ? 296960 : game.size, seed);
    if (game.console.tag == "pce") {
      auto memory = make_card(CardKind::pce);
      RC_ASSERT(memory->put(made_save(CardKind::pce, 1, least_blocks(CardKind::pce), seed)).has_value());
      bytes = memory->image();
    }
    files[habit.save(game)] = bytes;
    saves[habit.save(game)] = game.console.tag == "gbc" ? "gb" : game.console.tag;
  }
  [[nodiscard]] std::unique_ptr<MemoryStore> store() const { return store_of(files); }
  [[nodiscard]] std::string text() const {
    std::string all;
    for (const auto& [path, bytes] : files) all += path + " " + std::to_string(bytes.size()) + "\n";
    return all;
  }
};

}  // namespace bayswap::test
