// Folders of players' own that nobody had in mind when the rules were made: judged by bytes.
#include "support/first_day.hpp"
#include "support/made_up_saves.hpp"
#include "support/property.hpp"
#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

Blob gb_game(const std::string& title, Byte type) {
  roms::Bytes rom = roms::gb_rom(type, 3);
  std::fill_n(rom.begin() + 0x134, 11, Byte{0});
  roms::put(rom, 0x134, title);
  Byte sum = 0;
  for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  return Blob::copy_of(rom);
}
constexpr Byte clock_board = 0x10;
constexpr Byte plain_board = 0x1b;

// Ten registers of 32 bits and a time of 64, as programs write a gb clock.
Blob gb_clock(std::uint32_t seed) {
  std::vector<Byte> bytes(48);
  for (const std::size_t at : {0U, 20U}) {
    bytes[at] = static_cast<Byte>(seed % 60);
    bytes[at + 4] = static_cast<Byte>(seed / 3 % 60);
    bytes[at + 8] = static_cast<Byte>(seed / 7 % 24);
    bytes[at + 12] = static_cast<Byte>(seed % 200);
  }
  const std::uint64_t time = 1700000000 + seed;
  for (std::size_t i = 0; i < 8; ++i) bytes[40 + i] = static_cast<Byte>(time >> (8 * i));
  return Blob::copy_of(bytes);
}
Blob records(std::uint32_t seed, std::size_t size) {
  constexpr std::size_t of_records = 9;
  return MadeUp(seed).file(of_records, size);
}

class OwnPlaces : public FirstDay {
 protected:
  // A clock game, two plain ones, one of another console; as one file or as two, with that extension.
  void place(const std::string& root, const std::string& extension, bool apart, std::uint32_t seed) {
    put(root + "/roms/Tide Clock.gb", gb_game("TIDE CLOCK", clock_board));
    put(root + "/roms/Gull Ledger.gb", gb_game("GULL LEDGER", plain_board));
    put(root + "/roms/Brine.nes", nes_rom(4));
    put(root + "/saves/Gull Ledger" + extension, records(seed + 1, 32768));
    put(root + "/saves/Brine" + extension, records(seed + 2, 8192));
    if (apart) {
      put(root + "/saves/Tide Clock" + extension, records(seed, 32768));
      put(root + "/saves/Tide Clock.rtc", gb_clock(seed));
    } else {
      put(root + "/saves/Tide Clock" + extension, joined({records(seed, 32768), gb_clock(seed)}));
    }
  }
  // What the place has to hold once everything of that seed is in it.
  void expect_all(const std::string& root, const std::string& extension, bool apart, std::uint32_t seed) {
    EXPECT_EQ(read(root + "/saves/Gull Ledger" + extension), records(seed + 1, 32768));
    EXPECT_EQ(read(root + "/saves/Brine" + extension), records(seed + 2, 8192));
    if (apart) {
      EXPECT_EQ(read(root + "/saves/Tide Clock" + extension), records(seed, 32768));
      EXPECT_EQ(read(root + "/saves/Tide Clock.rtc"), gb_clock(seed));
    } else {
      EXPECT_EQ(read(root + "/saves/Tide Clock" + extension), joined({records(seed, 32768), gb_clock(seed)}));
    }
  }
  std::size_t files_in(const std::string& folder) const {
    return static_cast<std::size_t>(std::distance(fs::directory_iterator(folder_ / folder), {}));
  }
};

// Every form of a clock, in every extension, to every other, one by one and all at once, with a bay and
// without.
TEST_F(OwnPlaces, AClockBesideItsSaveGoesWithItInEveryForm) {
  struct Form {
    const char* extension;
    bool apart;
  };
  const std::vector<Form> forms{{".srm", true}, {".sav", true}, {".srm", false}, {".sav", false}};
  std::uint32_t seed = 10;
  for (const Form& from : forms)
    for (const Form& to : forms) {
      const bool as_bays = seed % 20 == 0;
      seed += 10;
      SCOPED_TRACE(std::string(from.extension) + (from.apart ? " apart" : "") + " to " + to.extension +
                   (to.apart ? " apart" : ""));
      const std::string a = "a" + std::to_string(seed);
      const std::string b = "b" + std::to_string(seed);
      place(a, from.extension, from.apart, seed);
      place(b, to.extension, to.apart, 1);
      const std::size_t there = files_in(b + "/saves");
      if (as_bays)
        for (const std::string& one : {a, b}) {
          const Outcome made = bayswap({"bay", "add", one, one});
          ASSERT_EQ(made.code, 0) << made.err;
        }
      const Outcome all = bayswap({"carry", "--all", "--from", a, "--to", b, "--yes", "--accept", "newer"});
      EXPECT_EQ(all.code, 0) << all.out << all.err;
      expect_all(b, to.extension, to.apart, seed);
      EXPECT_EQ(files_in(b + "/saves"), there) << all.out;
      const Outcome undone = bayswap({"undo", "--yes"});
      EXPECT_EQ(undone.code, 0) << undone.err;
      expect_all(b, to.extension, to.apart, 1);
      // Alone, by its path, and by the clock's path where that is a file.
      const std::string named = from.apart && seed % 40 == 0 ? ".rtc" : from.extension;
      const Outcome one =
          bayswap({"carry", a + "/saves/Tide Clock" + named, "--to", b, "--yes", "--accept", "newer"});
      EXPECT_EQ(one.code, 0) << one.out << one.err;
      EXPECT_EQ(files_in(b + "/saves"), there);
      EXPECT_EQ(read(b + "/saves/Gull Ledger" + to.extension), records(2, 32768));
      if (to.apart) {
        EXPECT_EQ(read(b + "/saves/Tide Clock.rtc"), gb_clock(seed));
        EXPECT_EQ(read(b + "/saves/Tide Clock" + to.extension), records(seed, 32768));
      } else {
        EXPECT_EQ(read(b + "/saves/Tide Clock" + to.extension),
                  joined({records(seed, 32768), gb_clock(seed)}));
      }
    }
}

// Kept, restored and in step with another device, whose files are divided in another way.
TEST_F(OwnPlaces, AClockStaysWithItsSaveOnEveryDevice) {
  std::uint32_t seed = 500;
  for (const bool apart : {true, false})
    for (const bool apart_there : {true, false}) {
      seed += 10;
      const std::string tag = std::to_string(seed);
      SCOPED_TRACE(tag);
      const std::string a = "a" + tag;
      const std::string b = "b" + tag;
      place(a, ".srm", apart, seed);
      place(b, ".sav", apart_there, 1);
      for (const auto& [home, bay] : {std::pair("home-" + a, a), {"home-" + b, b}}) {
        EXPECT_EQ(on(home, {"bay", "add", bay, bay}).code, 0);
        EXPECT_EQ(on(home, {"sync", "join", "sea" + tag, "--device", bay}).code, 0);
      }
      const auto round = [&](const std::string& bay) { return on("home-" + bay, {"sync", "--yes"}); };
      // Both have played: the first device's goes on.
      EXPECT_EQ(round(a).code, 0);
      (void)round(b);
      for (const char* game : {"Tide Clock", "Gull Ledger", "Brine"})
        (void)on("home-" + b, {"sync", "resolve", game, "--keep", a});
      const Outcome taken = round(b);
      expect_all(b, ".sav", apart_there, seed);
      // Played on there, and back again; what was there is in the logbook with its clock.
      ASSERT_EQ(on("home-" + a, {"backup", a}).code, 0);
      place(b, ".sav", apart_there, seed + 5);
      EXPECT_EQ(round(b).code, 0) << taken.out;
      EXPECT_EQ(round(a).code, 0);
      expect_all(a, ".srm", apart, seed + 5);
      const auto entries = nlohmann::json::parse(on("home-" + a, {"logbook", "Tide Clock", "--json"}).out);
      for (const auto& entry : entries)
        if (entry.contains("kind") && entry["kind"] == "backup") {
          const Outcome back = on("home-" + a, {"restore", "Tide Clock", "--entry",
                                                std::to_string(entry["id"].get<int>()), "--yes"});
          EXPECT_EQ(back.code, 0) << back.err;
          break;
        }
      if (apart) {
        EXPECT_EQ(read(a + "/saves/Tide Clock.srm"), records(seed, 32768));
        EXPECT_EQ(read(a + "/saves/Tide Clock.rtc"), gb_clock(seed));
      } else {
        EXPECT_EQ(read(a + "/saves/Tide Clock.srm"), joined({records(seed, 32768), gb_clock(seed)}));
      }
    }
}

TEST_F(OwnPlaces, APartIsRefusedByNameWhereTheRuleTakesOneFile) {
  place("a", ".srm", true, 1);
  place("b", ".sav", false, 100);
  put("settings/bays/a.toml",
      text_blob(
          "root = \"" + (folder_ / "a") +
          "\"\n[platform.gb]\nroms = \"roms\"\npath = \"saves/{rom.stem}.srm\"\nlayout = \"gb.raw\"\n"));
  const Outcome part =
      bayswap({"carry", "TIDE CLOCK", "--from", "a", "--to", "b", "--yes", "--accept", "newer"});
  EXPECT_EQ(part.code, 3) << part.out;
  EXPECT_TRUE(has(part.err, "Tide Clock.rtc")) << part.err;
  EXPECT_EQ(read("b/saves/Tide Clock.sav"), joined({records(100, 32768), gb_clock(100)}));
  put("settings/bays/a.toml",
      text_blob(
          "root = \"" + (folder_ / "a") +
          "\"\n[platform.gb]\nroms = \"roms\"\npath = \"saves/{rom.stem}.rtc\"\nlayout = \"gb.clock48\"\n"));
  const Outcome clock =
      bayswap({"carry", "TIDE CLOCK", "--from", "a", "--to", "b", "--yes", "--accept", "newer"});
  EXPECT_EQ(clock.code, 3) << clock.out;
  EXPECT_TRUE(has(clock.err, "Tide Clock.srm")) << clock.err;
}

TEST_F(OwnPlaces, NeighboursNeverGiveAGameAClock) {
  put("a/saves/Gull Ledger.srm", records(5, 32768));
  put("a/roms/Gull Ledger.gb", gb_game("GULL LEDGER", plain_board));
  put("b/roms/Gull Ledger.gb", gb_game("GULL LEDGER", plain_board));
  put("b/roms/Tide Clock.gb", gb_game("TIDE CLOCK", clock_board));
  put("b/saves/Tide Clock.sav", joined({records(9, 32768), gb_clock(9)}));
  const Outcome carried = bayswap({"carry", "a/saves/Gull Ledger.srm", "--to", "b", "--yes"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_EQ(read("b/saves/Gull Ledger.sav"), records(5, 32768)) << carried.out;
}

TEST_F(OwnPlaces, OneOddFileMakesNoRuleForItsFolder) {
  for (int i = 0; i < 9; ++i) {
    const std::string name = "Mill " + std::to_string(i + 1);
    put("a/roms/" + name + ".nes", nes_rom(static_cast<std::uint32_t>(i + 20)));
    put("a/saves/" + name + ".srm", records(static_cast<std::uint32_t>(i), 8192));
  }
  // A sound card image, under a name like theirs, and one that is a game's save by its name.
  put("a/saves/Mill 10.srm", make_card(CardKind::ps1)->image());
  put("a/saves/Mill 3.srm", make_card(CardKind::ps1)->image());
  const Outcome look = bayswap({"bay", "look", "a", "--json"});
  EXPECT_EQ(look.code, 0) << look.err;
  const auto seen = nlohmann::json::parse(look.out);
  std::size_t nes = 0;
  for (const auto& rule : seen["rules"])
    if (rule["platform"] == "nes") nes += rule["saves"].size();
  EXPECT_EQ(nes, 8U) << look.out;
  put("b/roms/Mill 5.nes", nes_rom(24));
  put("b/saves/Mill 5.sav", records(77, 8192));
  const Outcome carried = bayswap({"carry", "a/saves/Mill 5.srm", "--to", "b", "--yes", "--accept", "newer"});
  EXPECT_EQ(carried.code, 0) << carried.err;
  EXPECT_EQ(read("b/saves/Mill 5.sav"), records(4, 8192));
}

TEST_F(OwnPlaces, AnotherGamesSaveIsNotWrittenToACartridge) {
  put("home/roms/Gull Ledger.gb", gb_game("GULL LEDGER", plain_board));
  put("home/roms/Brine Mill.gb", gb_game("BRINE MILL", plain_board));
  put("home/saves/Gull Ledger.srm", records(1, 8192));
  put("home/saves/Brine Mill.srm", records(2, 8192));
  SimCart cart({"gb", "sram", 8192, PartKind::sram}, "", records(3, 8192));
  const SimReader reader({cart.folder.path()});
  const auto write = [&](const std::string& path) {
    return bayswap({"cart", "write", path, "--port", reader.path(), "--yes"});
  };
  const Outcome wrong = write("home/saves/Brine Mill.srm");
  EXPECT_EQ(wrong.code, 3) << wrong.out;
  EXPECT_TRUE(has(wrong.err, "another game's save")) << wrong.err;
  EXPECT_EQ(cart.chip(), records(3, 8192));
  const Outcome right = write("home/saves/Gull Ledger.srm");
  EXPECT_EQ(right.code, 0) << right.err;
  EXPECT_EQ(cart.chip(), records(1, 8192));
  // Nothing tells: it is said.
  put("desk/x.sav", records(4, 8192));
  EXPECT_TRUE(has(write("desk/x.sav").err, "no ROM, place or entry")) << "a warning";
}

TEST_F(OwnPlaces, SizeNamesNoGame) {
  put("b/roms/Brine Mill.nes", nes_rom(4));
  put("b/saves/Brine Mill.srm", records(2, 8192));
  put("down/x7.sav", records(50, 8192));
  for (const std::vector<std::string>& more : {std::vector<std::string>{}, {"--accept", "newer"}}) {
    std::vector<std::string> words{"carry", "--outside", "down/x7.sav", "--to", "b", "--yes"};
    words.insert(words.end(), more.begin(), more.end());
    const Outcome taken = bayswap(words);
    EXPECT_EQ(taken.code, 3) << taken.out;
    EXPECT_TRUE(has(taken.err, "too little says")) << taken.err;
  }
  EXPECT_EQ(read("b/saves/Brine Mill.srm"), records(2, 8192));
  // A later version of the save in place is told by what both hold.
  std::vector<Byte> later = bytes_of(records(2, 8192));
  std::copy_n(records(60, 8192).view().begin() + 100, 2000, later.begin() + 3000);
  put("down/x8.sav", Blob::copy_of(later));
  const Outcome taken =
      bayswap({"carry", "--outside", "down/x8.sav", "--to", "b", "--yes", "--accept", "newer"});
  EXPECT_EQ(taken.code, 0) << taken.err;
  EXPECT_EQ(read("b/saves/Brine Mill.srm"), Blob::copy_of(later));
}

TEST_F(OwnPlaces, StatesOfAFolderAreWhereItsProgramLooks) {
  place("a", ".srm", false, 1);
  put("a/states/Brine.state", noise(9000, 1));
  put("a/states/Brine.state2", noise(9000, 2));
  const Outcome list = bayswap({"state", "list", "a"});
  EXPECT_EQ(list.code, 0) << list.err;
  EXPECT_TRUE(has(list.out, "states/Brine.state2")) << list.out << list.err;
  const std::vector<std::string> copy{"state", "copy", "Brine", "--in", "a", "--slot", "2", "--to-slot", "5"};
  const Outcome copied = bayswap(copy);
  EXPECT_EQ(copied.code, 0) << copied.err;
  EXPECT_EQ(read("a/states/Brine.state5"), noise(9000, 2));
  EXPECT_EQ(files_in("a/roms"), 3U) << "nothing beside the ROM";
  put("a/states/Brine.state5", noise(9000, 3));
  EXPECT_EQ(bayswap(copy).code, 3) << "it is occupied";
  EXPECT_EQ(read("a/states/Brine.state5"), noise(9000, 3));
}

TEST_F(OwnPlaces, ASheetOfAnotherConsoleChangesNoFolder) {
  put("settings/sheets/cart.toml",
      text_blob(
          "sheet = 1\nid = \"gba.cart\"\nname = \"Cart\"\n[game]\nplatform = \"gba\"\n[[game.magic]]\nat = "
          "0\ntext = \"MARKED\"\n[[field]]\nname = \"coins\"\nat = 8\ntype = \"u8\"\n"));
  put("save/main.bin", joined({text_blob("MARKED"), noise(506, 1)}));
  for (const bool has_several : {false, true}) {
    if (has_several) put("save/extra.bin", noise(64, 2));
    const Outcome set = bayswap({"sheet", "set", "save", "coins=9", "--replace"});
    EXPECT_EQ(set.code, 4) << set.out;
    const Outcome said = bayswap({"sheet", "set", "save", "coins=9", "--replace", "--sheet", "gba.cart"});
    EXPECT_EQ(said.code, 3) << said.out;
    EXPECT_TRUE(has(said.err, "no folders of files")) << said.err;
    EXPECT_EQ(read("save/main.bin"), joined({text_blob("MARKED"), noise(506, 1)}));
  }
}

TEST_F(OwnPlaces, OptionsMayComeBeforeTheCommand) {
  put("a/Brine.srm", records(2, 8192));
  put("a/Brine.nes", nes_rom(4));
  for (const std::vector<std::string>& front : {std::vector<std::string>{"--home", folder_ / "settings"},
                                                {"--json", "--home", folder_ / "settings"},
                                                {"-q"}}) {
    std::vector<std::string> words = front;
    words.insert(words.end(), {"inspect", "a/Brine.srm", "--rom", "a/Brine.nes"});
    const Outcome looked = bayswap(words);
    EXPECT_EQ(looked.code, 0) << looked.err;
  }
}

TEST_F(OwnPlaces, ConvertingTakesTheClockBesideTheSave) {
  put("a/Tide.srm", records(2, 32768));
  put("a/Tide.rtc", gb_clock(7));
  put("a/Tide.gb", gb_game("TIDE CLOCK", clock_board));
  const Outcome one = bayswap({"convert", "a/Tide.srm", "--to", "gb.rtc48", "--out", "a/whole.sav"});
  EXPECT_EQ(one.code, 0) << one.err;
  EXPECT_EQ(read("a/whole.sav"), joined({records(2, 32768), gb_clock(7)}));
  const Outcome without = bayswap({"convert", "a/Tide.srm", "--to", "gb.raw", "--out", "a/half.sav"});
  EXPECT_TRUE(has(without.err + without.out, "Tide.rtc")) << "what stays behind is named";
}

}  // namespace
}  // namespace bayswap::test
