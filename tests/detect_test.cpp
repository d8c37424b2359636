// Places found out by looking: trees of real shape, with the system files that such folders have. Of each,
// every save is found, under the right console, and nothing else is taken for one.
#include <bayswap/card.hpp>
#include <bayswap/detect.hpp>
#include <bayswap/package.hpp>

#include <gtest/gtest.h>

#include <map>

#include "package/fresh_package.hpp"
#include "support/archives.hpp"
#include "support/cards.hpp"
#include "support/core_files.hpp"
#include "support/folder.hpp"
#include "support/roms.hpp"

namespace bayswap::test {
namespace {

using Found = std::map<std::string, std::string>;  // platforms by path; of card entries the card's

Blob blob_of(const roms::Bytes& bytes) {
  return Blob::copy_of(bytes);
}
Blob gb_game() {
  return blob_of(roms::gb_rom(0x03, 2));
}
Blob gb_clock_game() {
  return blob_of(roms::gb_rom(0x10, 3));
}
Blob gba_game(std::string_view tag = "FLASH1M_V103") {
  return blob_of(roms::gba_rom(tag));
}
Blob snes_game() {
  return blob_of(roms::snes_rom(0x7fc0, 0x20, 131072));
}
Blob md_game() {
  return blob_of(roms::md_rom({'R', 'A', 0xf8, 0x20, 0, 0x20, 0, 1, 0, 0x20, 0xff, 0xff}));
}
Blob save(std::size_t size, std::uint32_t seed) {
  return noise(size, seed);
}

Blob parameters(const std::string& title, const std::string& category = "MS") {
  ParameterFile file;
  EXPECT_TRUE(file.set("CATEGORY", category, 4));
  EXPECT_TRUE(file.set("TITLE", title, 128));
  EXPECT_TRUE(file.set("SAVEDATA_TITLE", std::string("Evening"), 128));
  return file.encode();
}
Blob card_with_a_save(CardKind kind) {
  auto card = make_card(kind);
  EXPECT_TRUE(card->put(made_save(kind, 1, least_blocks(kind), 7)));
  return card->image();
}
Blob package_of_a_save() {
  BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "An evening", 1});
  EXPECT_TRUE(package.put("save.dat", noise(5000, 1).view(), 0));
  return package.image();
}
Blob png() {
  std::vector<Byte> bytes = bytes_of(noise(8192, 4));
  const std::vector<Byte> mark{0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'};
  std::ranges::copy(mark, bytes.begin());
  return Blob::copy_of(bytes);
}
Blob lines(std::size_t size) {
  std::string text;
  while (text.size() < size) text += "volume = 7\n";
  return text_blob(text.substr(0, size));
}

Blob single_gc_save(unsigned seed) {
  return *to_single_save(made_save(CardKind::gc, static_cast<int>(seed), 2, seed));
}
Blob disc_of(const std::string& program) {
  return blob_of(roms::disc("SYSTEM.CNF", "BOOT = cdrom:\\" + program + ";1\r\nTCB = 4\r\n"));
}

struct Tree {
  std::string name;
  std::map<std::string, Blob> files;
  Found saves;
  std::size_t max_rules = 1;  // that it takes

  Tree& file(const std::string& path, const Blob& bytes) {
    files[path] = bytes;
    return *this;
  }
  Tree& save_of(const std::string& platform, const std::string& path, const Blob& bytes) {
    saves[path] = platform;
    return file(path, bytes);
  }
};

// What lies about in such folders: settings, pictures, notes, firmware, databases, cheats, patches, caches.
void add_clutter(Tree& tree, const std::string& at) {
  tree.file(at + "settings.cfg", lines(8192))
      .file(at + "README.txt", lines(512))
      .file(at + "screenshots/Cog-310504.png", png())
      .file(at + "system/firmware.bin", noise(16384, 90))
      .file(at + "system/boot.rom", noise(512, 91))
      .file(at + "cheats/Cog.cht", lines(2048))
      .file(at + "cache/Cog.sav", noise(8192, 92))
      .file(at + "database/games.db",
            joined({text_blob("SQLite format 3"), Blob::filled(1, 0), noise(8176, 93)}))
      .file(at + "logs/run.log", lines(32768))
      .file(at + "patches/Cog.ips", joined({text_blob("PATCH"), noise(507, 94)}))
      .file(at + "thumbs/Thumbs.db", noise(32768, 95))
      .file(at + ".DS_Store", noise(8192, 96));
}

std::vector<Tree> trees() {
  std::vector<Tree> all;
  const auto tree = [&](const std::string& name, std::size_t max_rules = 1) -> Tree& {
    all.push_back({name, {}, {}, max_rules});
    return all.back();
  };

  tree("saves beside their ROMs")
      .file("Cog.gb", gb_game())
      .file("Buoy.gb", gb_game())
      .save_of("gb", "Cog.sav", save(8192, 1))
      .save_of("gb", "Buoy.sav", save(8192, 2));
  add_clutter(all.back(), "");

  tree("a folder of saves, ROMs apart", 3)
      .file("roms/Cog.gb", gb_game())
      .file("roms/Moth.gba", gba_game())
      .file("roms/Orchard.sfc", snes_game())
      .save_of("gb", "saves/Cog.srm", save(8192, 1))
      .save_of("gba", "saves/Moth.srm", save(131072, 2))
      .save_of("snes", "saves/Orchard.srm", save(8192, 3));
  add_clutter(all.back(), "");

  tree("a folder of ROMs a console, saves beside them", 2)
      .file("roms/gb/Cog.gb", gb_game())
      .file("roms/gba/Moth.gba", gba_game())
      .save_of("gb", "roms/gb/Cog.sav", save(8192, 1))
      .save_of("gba", "roms/gba/Moth.sav", save(131072, 2));

  tree("ROMs sorted by letter, saves beside them")
      .file("games/A-M/Buoy.gb", gb_game())
      .file("games/N-Z/Oyster.gb", gb_game())
      .save_of("gb", "games/A-M/Buoy.sav", save(8192, 1))
      .save_of("gb", "games/N-Z/Oyster.sav", save(8192, 2));

  tree("a folder of saves a console, other extensions", 3)
      .file("roms/nes/Quay.nes", nes_rom(4))
      .file("roms/md/Rope.bin", md_game())
      .file("roms/snes/Orchard.sfc", snes_game())
      .save_of("nes", "saves/nes/Quay.sav", save(8192, 1))
      .save_of("md", "saves/md/Rope.srm", save(8192, 2))
      .save_of("snes", "saves/snes/Orchard.srm", save(8192, 3));
  add_clutter(all.back(), "");

  tree("two extensions side by side")
      .file("roms/Cog.gb", gb_game())
      .file("roms/Buoy.gb", gb_game())
      .file("roms/Oyster.gb", gb_game())
      .save_of("gb", "saves/Cog.srm", save(8192, 1))
      .save_of("gb", "saves/Buoy.srm", save(8192, 2))
      .save_of("gb", "saves/Oyster.sav", save(8192, 3));

  tree("saves without any ROM, in folders named by console", 3)
      .save_of("gb", "gb/Cog.sav", save(8192, 1))
      .save_of("gba", "gba/Moth.sav", save(65536, 2))
      .save_of("nes", "my nes saves/Quay.sav", save(8192, 3))
      .file("gb/notes.txt", lines(300));

  tree("a flash cartridge's card: chips apart")
      .file("Skiff.z64", n64_rom())
      .file("Lantern.z64", n64_rom({"LANTERN", "N98E"}))
      .save_of("n64", "saves/Skiff.eep", save(512, 1))
      .save_of("n64", "saves/Lantern.sra", save(32768, 2))
      .file("menu.bin", noise(4096, 8))
      .file("emu.cfg", lines(100));

  tree("every chip and pak of a console in one file")
      .file("roms/Skiff.z64", n64_rom())
      .save_of("n64", "saves/Skiff.srm", save(296960, 1));

  tree("dumps named by code and title", 2)
      .file("roms/Lantern Skiff.z64", n64_rom())
      .file("roms/Moth.gba", gba_game())
      .save_of("n64", "dumps/N99P.sra", save(32768, 1))
      .save_of("gba", "dumps/MOTH COURIER.sav", save(131072, 2));

  tree("a fixed name in a folder a game")
      .file("roms/Skiff.z64", n64_rom())
      .file("roms/Lantern.z64", n64_rom({"LANTERN", "N98E"}))
      .save_of("n64", "N99P/save.eep", save(512, 1))
      .save_of("n64", "N98E/save.sra", save(32768, 2));

  tree("a folder a game, named as the ROM is")
      .file("roms/Moth.gba", gba_game())
      .file("roms/Crab.gba", gba_game("SRAM_V113"))
      .save_of("gba", "data/Moth/battery.sav", save(131072, 1))
      .save_of("gba", "data/Crab/battery.sav", save(32768, 2));

  tree("clocks in files of their own")
      .file("Gull.gb", gb_clock_game())
      .save_of("gb", "Gull.sav", save(32768, 1))
      .file("Gull.rtc", Blob::copy_of(std::vector<Byte>{0, 0, 0, 0, 0x10, 0x20, 0x30, 0}));

  tree("card images that games share", 2)
      .save_of("ps1", "cards/ps1-card-1.mcr", card_with_a_save(CardKind::ps1))
      .save_of("ps1", "cards/ps1-card-2.mcr", card_with_a_save(CardKind::ps1))
      .save_of("gc", "cards/slot-a.raw", card_with_a_save(CardKind::gc))
      .file("bios/boot.bin", noise(524288, 5));

  tree("cards with names of their own", 2)
      .save_of("ps1", "memory/ida.mcr", card_with_a_save(CardKind::ps1))
      .save_of("ps2", "memory/marek.ps2", card_with_a_save(CardKind::ps2));

  tree("a memory stick")
      .save_of("psp", "PSP/SAVEDATA/ULES99031DATA00", Blob())
      .file("PSP/SAVEDATA/ULES99031DATA00/PARAM.SFO", parameters("Winter Mooring"))
      .file("PSP/SAVEDATA/ULES99031DATA00/DATA.BIN", noise(4096, 1))
      .file("PSP/SAVEDATA/ULES99031DATA00/ICON0.PNG", png())
      .file("PSP/GAME/ULES99040/PARAM.SFO", parameters("Another", "MG"))
      .file("PSP/GAME/ULES99040/EBOOT.PBP", noise(20000, 2))
      .file("MUSIC/a.mp3", noise(8192, 3));
  all.back().files.erase("PSP/SAVEDATA/ULES99031DATA00");

  tree("title ids of a handheld, deep in an emulator's folder")
      .save_of("3ds", "user/sdmc/tree/title/00040000/0ff99200/data/00000001", Blob())
      .file("user/sdmc/tree/title/00040000/0ff99200/data/00000001/main", noise(20000, 1))
      .file("user/sdmc/tree/title/00040000/0ff99200/content/00000000.app", noise(30000, 2))
      .file("user/config/qt-config.ini", lines(4000));
  all.back().files.erase("user/sdmc/tree/title/00040000/0ff99200/data/00000001");

  tree("a console's own memory, and its card", 2)
      .save_of("wii", "title/00010000/485a3945/data", Blob())
      .file("title/00010000/485a3945/data/save.bin", noise(8192, 1))
      .file("title/00000001/00000002/data/setting.txt", noise(256, 2))
      .save_of("wii", "private/wii/title/HZ9P/data.bin", noise(49152, 3));
  all.back().files.erase("title/00010000/485a3945/data");

  tree("profiles and packages", 2)
      .save_of("x360", "content/E000A11D00000001/5A5A0993/00000001/EVENING", package_of_a_save())
      .save_of("x360", "stick/E000A11D00000001/5A5A0993/MORNING", package_of_a_save());

  tree("a whole stick", 6)
      .file("emulators/pc/roms/Cog.gb", gb_game())
      .save_of("gb", "emulators/pc/saves/Cog.srm", save(8192, 1))
      .save_of("psp", "PSP/SAVEDATA/ULES99031DATA00", Blob())
      .file("PSP/SAVEDATA/ULES99031DATA00/PARAM.SFO", parameters("Winter Mooring"))
      .save_of("ps2", "cards/Mcd001.ps2", card_with_a_save(CardKind::ps2))
      .save_of("gba", "gba/Moth.sav", save(131072, 3))
      .file("gba/Moth.gba", gba_game())
      .file("photos/quay.jpg", noise(65536, 4))
      .file("documents/letter.odt", noise(8192, 5))
      .file("firmware/update.bin", noise(131072, 6));
  all.back().files.erase("PSP/SAVEDATA/ULES99031DATA00");

  tree("an old copy in a folder of backups")
      .file("roms/Cog.gb", gb_game())
      .save_of("gb", "saves/Cog.sav", save(8192, 1))
      .file("backup 2031-05-04/Cog.sav", save(8192, 2))
      .file("saves/old/Cog.sav", save(8192, 3))
      .file("saves/Cog.sav.bak", save(8192, 4));

  tree("save states among battery saves")
      .file("roms/Cog.gb", gb_game())
      .save_of("gb", "saves/Cog.srm", save(8192, 1))
      .file("saves/Cog.state", joined({text_blob("#RZIPv"), noise(30000, 5)}))
      .file("saves/Cog.state1", noise(70000, 6));

  tree("a ROM of a game that never saved, and one whose save is empty")
      .file("roms/Cog.gb", gb_game())
      .file("roms/Buoy.gb", gb_game())
      .save_of("gb", "saves/Cog.srm", Blob::filled(8192, 0xff))
      .save_of("gb", "saves/Buoy.srm", save(8192, 1));

  tree("names in other letters, spaces, brackets")
      .file("roms/Möwe & Co (Europe) (Rev 1).gb", gb_game())
      .file("roms/灯台.gb", gb_game())
      .save_of("gb", "saves/Möwe & Co (Europe) (Rev 1).sav", save(8192, 1))
      .save_of("gb", "saves/灯台.sav", save(8192, 2));

  tree("cartridges of the less usual kinds", 8)
      .file("nds/Orchard.nds", blob_of(roms::nds_rom()))
      .save_of("nds", "nds/Orchard.sav", save(524288, 1))
      .file("ws/Kite.ws", blob_of(roms::ws_rom(2)))
      .save_of("ws", "ws/Kite.sav", save(32768, 2))
      .file("sms/Reef.sms", blob_of(roms::sms_rom(0x7ff0, 4)))
      .save_of("sms", "sms/Reef.sav", save(8192, 4))
      .file("md/Rope.md", md_game())
      .save_of("md", "md/Rope.srm", save(8192, 5))
      .file("pce/Fog.pce", noise(262144, 6))
      .save_of("pce", "pce/Fog.sav", card_with_a_save(CardKind::pce))
      .file("vb/Jetty.vb", noise(524288, 7));
  add_clutter(all.back(), "nds/");

  tree("zipped ROMs")
      .file("roms/Cog (World).zip", zipped("Cog.gb", gb_game()))
      .file("roms/Buoy.zip", zipped("some other name.gb", gb_game()))
      .file("roms/manual.zip", zipped("manual.txt", lines(5000)))
      .save_of("gb", "saves/Cog (World).srm", save(8192, 1))
      .save_of("gb", "saves/Buoy.srm", save(8192, 2));

  tree("discs and a card for each", 2)
      .file("discs/Saltglass.iso", disc_of("SLES_990.31"))
      .file("discs/Pier.cue",
            text_blob("FILE \"Pier (Track 1).bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"))
      .file("discs/Pier (Track 1).bin", disc_of("SLES_990.32"))
      .save_of("ps1", "memcards/Saltglass.mcr", card_with_a_save(CardKind::ps1))
      .save_of("ps1", "memcards/Pier.mcr", card_with_a_save(CardKind::ps1));

  tree("controller paks, a visual memory, backup memories", 4)
      .save_of("n64", "paks/Skiff.mpk", card_with_a_save(CardKind::n64))
      .save_of("dc", "vm/vm-1.bin", card_with_a_save(CardKind::dc))
      .save_of("sat", "sat/Rally.bkr", card_with_a_save(CardKind::sat));

  tree("single saves off cards")
      .save_of("gc", "saves/99-X99P-evening.gci", single_gc_save(1))
      .save_of("gc", "saves/99-X99P-morning.gci", single_gc_save(2));

  tree("accounts of a newer console")
      .save_of("wiiu", "usr/save/00050000/1ff99300/user/80000001", Blob())
      .save_of("wiiu", "usr/save/00050000/1ff99300/user/common", Blob())
      .file("usr/save/00050000/1ff99300/user/80000001/game.dat", noise(5000, 1))
      .file("usr/save/00050000/1ff99300/user/common/shared.dat", noise(5000, 2))
      .file("usr/save/00050000/1ff99300/meta/meta.xml", lines(400))
      .file("sys/config/a.xml", lines(400));
  all.back().files.erase("usr/save/00050000/1ff99300/user/80000001");
  all.back().files.erase("usr/save/00050000/1ff99300/user/common");

  tree("saves of programs for the PC, and sound, under the same extensions")
      .file("roms/Cog.gb", gb_game())
      .save_of("gb", "roms/Cog.sav", save(8192, 1))
      .file("Docs/Adventure/slot1.sav.json", lines(3000))
      .file("Docs/Adventure/options.sav", lines(8192))
      .file("Music/stream.ram", text_blob("http://example.org/stream\n"))
      .file("Pictures/scan.raw", png())
      .file("Video/clip.dat", noise(131072, 9));

  tree("the same game twice: a dump of each region", 2)
      .file("roms/Cog (Europe).gb", gb_game())
      .file("roms/Cog (Japan).gb", gb_game())
      .save_of("gb", "saves/Cog (Europe).srm", save(8192, 1))
      .save_of("gb", "saves/Cog (Japan).srm", save(8192, 2));

  tree("upper case, as some cards have it")
      .file("ROMS/COG.GB", gb_game())
      .save_of("gb", "SAVES/COG.SAV", save(8192, 1));

  tree("nothing at all but clutter", 0);
  add_clutter(all.back(), "home/");
  all.back().files["home/data.bin"] = noise(8192, 7);
  all.back().files["home/notes.sav.txt"] = lines(8192);
  return all;
}

void expect_found(const Tree& tree) {
  MemoryStore store;
  for (const auto& [path, bytes] : tree.files) ASSERT_TRUE(store.replace(path, bytes.view())) << path;
  const Catalog catalog;
  const auto found = detect_place(catalog, store);
  ASSERT_TRUE(found) << found.error().message;
  Found saves;
  std::string rules;
  for (const DetectedRule& rule : found->rules) {
    rules += std::string(tag(rule.rule.platform)) + " " + rule.rule.path.text() + "\n";
    EXPECT_FALSE(rule.evidence.empty()) << rules;
    for (const DetectedSave& one : rule.saves) saves[one.path] = tag(one.platform);
  }
  EXPECT_EQ(saves, tree.saves) << rules;
  EXPECT_LE(found->rules.size(), tree.max_rules) << rules;
  for (const UnsettledFiles& files : found->unsettled)
    ADD_FAILURE() << files.paths.front() << ": " << files.reason;

  // As a bay file it is what a scan of it finds.
  if (found->rules.empty()) return;
  const Bay bay = bay_of(*found, "place", "/place");
  const auto again = parse_bay(to_toml(bay), "place", "place.toml", "/");
  ASSERT_TRUE(again) << again.error().message << "\n" << to_toml(bay);
  const auto scanned = scan_bay(catalog, *again, store);
  ASSERT_TRUE(scanned);
  EXPECT_EQ(scanned->size(), found->saves());
  for (const HeldSave& save : *scanned)
    EXPECT_TRUE(save.misplaced.empty()) << save.path << ": " << save.misplaced;
}
// One test: to make the trees takes longer than to look at them, and would be done at each test's start.
TEST(DetectedTrees, EverySaveIsFoundAndNothingElse) {
  for (const Tree& tree : trees()) {
    SCOPED_TRACE(tree.name);
    expect_found(tree);
  }
}

TEST(Detection, WhatCanNotBeToldIsAskedAndNotGuessed) {
  MemoryStore store;
  ASSERT_TRUE(store.replace("odd/one.sav", save(8192, 1).view()));
  ASSERT_TRUE(store.replace("odd/two.sav", save(8192, 2).view()));
  ASSERT_TRUE(store.replace("odd/cut.sav", save(777, 3).view()));
  const Catalog catalog;
  const auto found = detect_place(catalog, store);
  ASSERT_TRUE(found);
  EXPECT_TRUE(found->rules.empty());
  ASSERT_EQ(found->unsettled.size(), 2U);
  const UnsettledFiles& open =
      found->unsettled.front().choices.empty() ? found->unsettled[1] : found->unsettled[0];
  EXPECT_EQ(open.paths.size(), 2U);
  EXPECT_GT(open.choices.size(), 2U);
  DetectOptions said;
  said.unsettled_as = Platform::gb;
  const auto settled = detect_place(catalog, store, said);
  ASSERT_TRUE(settled);
  ASSERT_EQ(settled->rules.size(), 1U);
  std::size_t damaged = 0;
  for (const DetectedSave& one : settled->rules.front().saves)
    damaged += one.health == Health::damaged ? 1 : 0;
  EXPECT_EQ(settled->rules.front().saves.size() - damaged, 2U);
}

// Where a console's games are and no save of theirs: the others show where they go, unless they don't agree.
TEST(Detection, AConsoleWithoutSavesFollowsTheOthers) {
  const Catalog catalog;
  const auto path_of_gba = [&](const std::vector<std::pair<std::string, Blob>>& files) -> std::string {
    MemoryStore store;
    for (const auto& [path, bytes] : files) EXPECT_TRUE(store.replace(path, bytes.view()));
    const auto found = detect_place(catalog, store);
    EXPECT_TRUE(found);
    for (const DetectedRule& rule : found->rules)
      if (rule.rule.platform == Platform::gba) {
        EXPECT_TRUE(rule.rule.like && rule.saves.empty());
        EXPECT_EQ(rule.evidence.size(), 1U);
        EXPECT_EQ(rule.rule.extensions.empty(), !rule.rule.path.uses("ext"));
        std::string text = rule.rule.path.text();
        if (rule.rule.path.uses("ext")) text.replace(text.size() - 5, 5, rule.rule.extensions.front());
        return text;
      }
    return "";
  };
  const std::pair<std::string, Blob> gb{"roms/GB/Cog.gb", gb_game()};
  const std::pair<std::string, Blob> gba{"roms/GBA/Moth.gba", gba_game()};
  const std::pair<std::string, Blob> snes{"roms/SNES/Orchard.sfc", snes_game()};
  EXPECT_EQ(path_of_gba({gb, gba, {"saves/Cog.srm", save(8192, 1)}}), "saves/{rom.stem}.srm");
  EXPECT_EQ(path_of_gba({gb, gba, {"saves/GB/Cog.srm", save(8192, 1)}}), "saves/GBA/{rom.stem}.srm");
  EXPECT_EQ(path_of_gba({gb, gba, {"saves/gb/Cog.gb.sav", save(8192, 1)}}), "saves/gba/{rom.name}.sav");
  EXPECT_EQ(path_of_gba({gb, gba, {"roms/GB/Cog.sav", save(8192, 1)}}), "roms/GBA/{rom.stem}.sav");
  EXPECT_EQ(path_of_gba({gb, gba, {"saves/Cog/Cog.sav", save(8192, 1)}}), "saves/{rom.stem}/{rom.stem}.sav");
  // Two extensions, two habits, a folder that is one console's by a name of its own: nothing tells.
  EXPECT_EQ(
      path_of_gba({gb, gba, snes, {"saves/Cog.sav", save(8192, 1)}, {"saves/Orchard.srm", save(8192, 2)}}),
      "");
  EXPECT_EQ(path_of_gba({gb, gba, snes, {"saves/Cog.srm", save(8192, 1)}, {"x/Orchard.srm", save(8192, 2)}}),
            "");
  EXPECT_EQ(path_of_gba({gb, gba, {"pocket/Cog.srm", save(8192, 1)}}), "");
}

TEST(Detection, StopsWhereItIsToldTo) {
  MemoryStore store;
  for (int i = 0; i < 300; ++i)
    ASSERT_TRUE(store.replace("folder " + std::to_string(i) + "/a.sav", save(8192, 1).view()));
  const Catalog catalog;
  DetectOptions options;
  options.max_names = 100;
  const auto cut = detect_place(catalog, store, options);
  ASSERT_TRUE(cut);
  EXPECT_TRUE(cut->incomplete);
  options = {};
  int asked = 0;
  options.on_progress = [&](std::size_t, const std::string&) { return ++asked < 5; };
  const auto stopped = detect_place(catalog, store, options);
  ASSERT_FALSE(stopped) << "a part is never taken for all";
  EXPECT_EQ(stopped.error().code, ErrorCode::cancelled);
  EXPECT_EQ(asked, 5);
  // A bay for one use neither, wherever it is stopped.
  const Folder folder;
  for (int i = 0; i < 150; ++i)
    for (const char* name : {"/a.gb", "/a.sav"})
      ASSERT_TRUE(LocalStore().replace(folder / std::to_string(i) + name,
                                       name[3] == 'g' ? gb_game().view() : save(8192, 1).view()));
  ASSERT_TRUE(bay_for_path(catalog, folder.path()));
  for (const int after : {1, 60, 151, 152}) {
    options.on_progress = [asked = 0, after](std::size_t, const std::string&) mutable {
      return ++asked < after;
    };
    for (const std::string& path : {folder.path(), folder / "0/a.sav"}) {
      const auto bay = bay_for_path(catalog, path, options);
      if (after <= 60 && path == folder.path()) {
        ASSERT_FALSE(bay) << after;
        EXPECT_EQ(bay.error().code, ErrorCode::cancelled);
      }
    }
  }
  options = {};
  options.max_names = 100;
  EXPECT_EQ(bay_for_path(catalog, folder.path(), options).error().code, ErrorCode::unsafe);
}

TEST(Detection, PlacesInAHomeFolder) {
  MemoryStore store;
  const auto put = [&](const std::string& path, const Blob& bytes) {
    ASSERT_TRUE(store.replace(path, bytes.view()));
  };
  put("Games/pc/roms/Cog.gb", gb_game());
  put("Games/pc/saves/Cog.srm", save(8192, 1));
  put(".config/kite/sav/gba/Moth.sav", save(131072, 2));
  put(".local/share/lantern/title/00040000/0ff99200/data/00000001/main", noise(3000, 3));
  put("Downloads/letter.odt", noise(8192, 4));
  put("work/project/data.raw", noise(131072, 5));
  put("work/project/.git/objects/aa.sav", save(8192, 6));
  put(".cache/kite/x.sav", save(8192, 7));
  const Catalog catalog;
  const auto places = find_places_with_saves(catalog, store, false);
  ASSERT_TRUE(places);
  std::map<std::string, std::size_t> roots;
  std::set<std::string> names;
  for (const DetectedPlace& place : *places) {
    roots[place.root] = place.detection.saves();
    EXPECT_TRUE(is_bay_name(place.suggested_name)) << place.suggested_name;
    EXPECT_TRUE(names.insert(place.suggested_name).second);
  }
  EXPECT_EQ(roots, (std::map<std::string, std::size_t>{
                       {"Games/pc", 1}, {".config/kite", 1}, {".local/share/lantern", 1}}));
}

}  // namespace
}  // namespace bayswap::test
