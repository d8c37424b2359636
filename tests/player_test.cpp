// A player's own folders instead of the demo's: an emulator's folder, a flash cartridge's card, memory cards;
// other names, zipped ROMs, two dumps of one game, a stick that is not plugged in. Each mistake that once
// ended in "Done" and a save that did not load.

#include "support/player.hpp"

namespace bayswap::test {
namespace {

TEST_F(Player, AStickThatIsNotPluggedIn) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("pc/saves/Buoy.srm", noise(8192, 1));
  fs::remove_all(folder_ / "handheld");
  for (const auto& [from, to] : {std::pair{"pc", "handheld"}, {"handheld", "pc"}}) {
    const Outcome refused = carry("Buoy", from, to);
    EXPECT_EQ(refused.code, 4);
    EXPECT_TRUE(has(refused.err, "plug in"));
  }
  for (const std::vector<std::string>& words : {std::vector<std::string>{"list", "handheld"},
                                                {"bay", "show", "handheld"},
                                                {"bay", "check", "handheld"}}) {
    const Outcome outcome = bayswap(words);
    EXPECT_TRUE(has(outcome.err + outcome.out, "plug in")) << words.front();
  }
  EXPECT_FALSE(exists("handheld"));
}

TEST_F(Player, EverySaveIsAccountedForAndTheRunDoesWhatTheDryRunSays) {
  for (const auto& [name, seed] : {std::pair{"Buoy", 1U}, {"Cinder Quay", 2U}, {"Dory", 3U}, {"Eddy", 4U}}) {
    put(std::string("pc/roms/") + name + ".nes", nes_rom(seed));
    put(std::string("pc/saves/") + name + ".srm", noise(8192, seed));
  }
  put("pc/saves/Fluke.srm", noise(8192, 9));  // of a game that is nowhere
  put("pc/saves/Eddy.srm", Blob::filled(8192, 0xff));
  put("handheld/Buoy (World).nes", nes_rom(1));
  put("handheld/Cinder Quay.nes", nes_rom(2));
  put("handheld/Cinder Quay.sav", noise(8192, 22), 1100000000);  // played on there
  put("handheld/Dory.nes", nes_rom(3));
  put("handheld/Dory.sav", noise(8192, 3));
  const auto plan = json({"carry", "--all", "--from", "pc", "--to", "handheld", "--dry-run"}, 1);
  const auto planned = outcomes(plan);
  EXPECT_EQ(planned, (std::map<std::string, std::string>{{"saves/Buoy.srm", "carry"},
                                                         {"saves/Cinder Quay.srm", "refused"},
                                                         {"saves/Dory.srm", "same"},
                                                         {"saves/Eddy.srm", "left"},
                                                         {"saves/Fluke.srm", "refused"}}));
  EXPECT_EQ(plan["saves"].size(), json({"list", "pc"})["saves"].size());
  EXPECT_FALSE(exists("handheld/Buoy (World).sav"));
  const auto run = json({"carry", "--all", "--from", "pc", "--to", "handheld", "--yes"}, 1);
  auto done = planned;
  for (auto& [path, outcome] : done)
    if (outcome == "carry") outcome = "carried";
  EXPECT_EQ(outcomes(run), done);
  EXPECT_EQ(read("handheld/Buoy (World).sav"), noise(8192, 1));
  EXPECT_EQ(read("handheld/Cinder Quay.sav"), noise(8192, 22)) << "newer progress stays";
  EXPECT_FALSE(exists("handheld/Fluke.sav")) << "no program would look for it";
  // Played on at the target since: its date may lie, the logbook knows.
  put("handheld/Buoy (World).sav", noise(8192, 77), 900000000);
  const Outcome back = carry("Buoy", "pc", "handheld");
  EXPECT_EQ(back.code, 3);
  EXPECT_TRUE(has(back.err, "--accept newer"));
}

TEST_F(Player, ABatchIsOneEntryOfManyAndOneUndo) {
  for (std::uint32_t i = 0; i < 5; ++i) {
    const std::string name = "Game " + std::to_string(i);
    put("pc/roms/" + name + ".nes", nes_rom(i));
    put("pc/saves/" + name + ".srm", noise(8192, i));
    put("handheld/" + name + ".nes", nes_rom(i));
  }
  put("handheld/Game 3.sav", noise(8192, 33), 900000000);
  ASSERT_EQ(bayswap({"carry", "--all", "--from", "pc", "--to", "handheld", "--yes"}).code, 0);
  const auto book = json({"logbook"});
  ASSERT_EQ(book.size(), 5U);
  for (const auto& entry : book) EXPECT_TRUE(entry["id"] == 1 || entry["batch"] == 1);
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  for (int i = 0; i < 5; ++i) EXPECT_EQ(exists("handheld/Game " + std::to_string(i) + ".sav"), i == 3);
  EXPECT_EQ(read("handheld/Game 3.sav"), noise(8192, 33));
  EXPECT_EQ(bayswap({"undo", "--yes"}).code, 2) << "all of it is back already";
  ASSERT_EQ(bayswap({"undo", "6", "--batch", "--yes"}).code, 0);
  EXPECT_EQ(read("handheld/Game 3.sav"), noise(8192, 3)) << "an undo can be undone, too";
}

TEST_F(Player, TwoSavesNeverBecomeOneFile) {
  // Two dumps of one game, and one ROM at the target.
  bay("pc", "n64", "path = \"n64/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = \"n64roms\"\n");
  bay("stick", "n64", "path = \"{rom.stem}{ext}\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
  const auto combined = [](std::uint32_t seed) {
    return *pack(**Catalog().find("n64.combined"),
                 Save{Platform::n64, {{{PartKind::sram, 0}, noise(32768, seed), true}}});
  };
  put("pc/n64roms/Skiff.z64", n64_rom());
  put("pc/n64roms/Skiff (Alt).z64", n64_rom());
  put("pc/n64/Skiff.srm", combined(1));
  put("stick/Skiff the Boat.z64", n64_rom());
  // Only one of them has a save: that one is meant.
  EXPECT_EQ(carry("N99P", "pc", "stick", {"--dry-run"}).code, 0);
  put("pc/n64/Skiff (Alt).srm", combined(2));
  const Outcome which = carry("N99P", "pc", "stick");
  EXPECT_EQ(which.code, 2);
  EXPECT_TRUE(has(which.err, "'n64/Skiff (Alt).srm'"));
  EXPECT_TRUE(has(which.err, "'n64/Skiff.srm'"));
  const auto batch = json({"carry", "--all", "--from", "pc", "--to", "stick", "--yes"}, 1);
  for (const auto& [path, outcome] : outcomes(batch)) EXPECT_EQ(outcome, "refused") << path;
  EXPECT_EQ(batch["saves"][0]["issue"], "same-place");
  EXPECT_FALSE(exists("stick/Skiff the Boat.sra"));
  EXPECT_EQ(carry("n64/Skiff (Alt).srm", "pc", "stick").code, 0);
  EXPECT_EQ(fs::file_size(folder_ / "stick/Skiff the Boat.sra"), 32768U);

  // Two cards with an entry of one name.
  bay("club", "ps1", "path = \"cards/{save.name}.mcr\"\nkeeps = \"card\"\n");
  bay("box", "ps1", "path = \"one.mcr\"\nkeeps = \"card\"\n");
  const CardSave save = made_save(CardKind::ps1, 1, 1, 7);
  CardSave other = save;
  other.payload = noise(save.payload.size(), 5);
  for (const auto& [name, one] : {std::pair{"a", &save}, {"b", &other}}) {
    const auto card = make_card(CardKind::ps1);
    ASSERT_TRUE(card->put(*one));
    put(std::string("club/cards/") + name + ".mcr", card->image());
  }
  const auto cards = json({"carry", "--all", "--from", "club", "--to", "box", "--yes"}, 1);
  EXPECT_EQ(cards["saves"].size(), 2U);
  EXPECT_EQ(cards["refused"], 2);
  const Outcome asked = carry(save.name, "club", "box");
  EXPECT_EQ(asked.code, 2);
  EXPECT_TRUE(has(asked.err, "cards/a.mcr: " + save.name));
  EXPECT_EQ(carry("cards/b.mcr: " + save.name, "club", "box").code, 0);
  EXPECT_TRUE((*(*open_card(read("box/one.mcr")))->read(save.name)).same_content(other));
}

TEST_F(Player, SavesThatDoNotFitTheRuleAreSeenAndCarried) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("pc/saves/Buoy.sav", noise(8192, 1));  // the bay says .srm
  put("pc/roms/Anchor & Chain (Europe).nes", nes_rom(2));
  put("pc/saves/Anchor and Chain.srm", noise(8192, 2));
  put("handheld/Buoy.nes", nes_rom(1));
  put("handheld/The Anchor & Chain.nes", nes_rom(2));
  const auto scan = json({"list", "pc"});
  ASSERT_EQ(scan["saves"].size(), 2U);
  for (const auto& save : scan["saves"]) EXPECT_NE(save["misplaced"], "");
  const auto batch = json({"carry", "--all", "--from", "pc", "--to", "handheld", "--yes"});
  EXPECT_EQ(batch["carried"], 2);
  EXPECT_EQ(read("handheld/Buoy.sav"), noise(8192, 1));
  EXPECT_EQ(read("handheld/The Anchor & Chain.sav"), noise(8192, 2));
  // Beside one that fits it is named, and left.
  put("pc/saves/Buoy.srm", noise(8192, 5), 1200000000);
  const auto both = json({"carry", "--all", "--from", "pc", "--to", "handheld", "--yes"});
  EXPECT_EQ(outcomes(both)["saves/Buoy.sav"], "left");
  EXPECT_EQ(read("handheld/Buoy.sav"), noise(8192, 5));
  // The single chips of a game, where the bay has one file for all.
  bay("pc", "n64", "path = \"n64/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = \"n64roms\"\n");
  bay("bench", "n64", "path = \"{game.code}{ext}\"\nlayout = \"n64.separate\"\nroms = \"roms\"\n");
  put("pc/n64roms/Skiff.z64", n64_rom());
  put("bench/roms/Skiff.z64", n64_rom());
  put("pc/n64/Skiff.eep", noise(512, 1));
  put("pc/n64/Skiff.sra", noise(32768, 2));
  EXPECT_EQ(carry("Skiff", "pc", "bench").code, 0);
  EXPECT_EQ(read("bench/N99P.eep"), noise(512, 1));
  EXPECT_EQ(read("bench/N99P.sra"), noise(32768, 2));
}

TEST_F(Player, ARomInAZipGivesItsNameAndNoRomIsRefused) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("pc/saves/Buoy.srm", noise(8192, 1));
  const Outcome none = carry("Buoy", "pc", "handheld");
  EXPECT_EQ(none.code, 3);
  EXPECT_TRUE(has(none.err, "--accept no-rom"));
  put("handheld/Buoy (World).zip", zipped("Buoy.nes", nes_rom(1)));
  EXPECT_EQ(carry("Buoy", "pc", "handheld").code, 0);
  EXPECT_EQ(read("handheld/Buoy (World).sav"), noise(8192, 1));
}

TEST_F(Player, AnArchiveIsABayThatIsOnlyRead) {
  put("handheld/Buoy.nes", nes_rom(1));
  put("backup.zip", zipped("saves/Buoy.srm", noise(8192, 4)));
  put("home/bays/old.toml", text_blob("root = \"" + (folder_ / "backup.zip") +
                                      "\"\n[platform.nes]\npath = \"saves/{rom.stem}.srm\"\nlayout = "
                                      "\"nes.raw\"\nroms = \".\"\n"));
  EXPECT_EQ(json({"list", "old"})["saves"].size(), 1U);
  EXPECT_EQ(carry("Buoy", "old", "handheld").code, 0);
  EXPECT_EQ(read("handheld/Buoy.sav"), noise(8192, 4));
  put("handheld/Buoy.sav", noise(8192, 5));
  const Blob before = read("backup.zip");
  const Outcome back = carry("Buoy", "handheld", "old", {"--accept", "no-rom", "--accept", "newer"});
  EXPECT_EQ(back.code, 3) << back.out;
  EXPECT_TRUE(has(back.err, "only read"));
  const auto all = json({"carry", "--all", "--from", "handheld", "--to", "old", "--yes", "--accept", "no-rom",
                         "--accept", "newer"},
                        1);
  EXPECT_EQ(all["refused"], 1);
  EXPECT_EQ(read("backup.zip"), before);
}

TEST_F(Player, ASaveNamedUnlikeItsRomIsPairedWithIt) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("pc/saves/my best run.srm", noise(8192, 1));
  put("handheld/Marker.nes", nes_rom(1));
  EXPECT_EQ(carry("my best run", "pc", "handheld").code, 3);
  ASSERT_EQ(carry("saves/my best run.srm", "pc", "handheld", {"--rom", "Marker.nes"}).code, 0);
  EXPECT_EQ(read("handheld/Marker.sav"), noise(8192, 1));
  put("pc/saves/my best run.srm", noise(8192, 2), 1100000000);
  EXPECT_EQ(carry("my best run", "pc", "handheld").code, 0) << "the pair is remembered";
  EXPECT_EQ(read("handheld/Marker.sav"), noise(8192, 2));
  EXPECT_EQ(json({"pairs"})[0]["rom"], "Marker.nes");
  // And on the way back it takes the name it has there.
  put("handheld/Marker.sav", noise(8192, 3), 1200000000);
  fs::remove(folder_ / "pc/roms/Buoy.nes");
  EXPECT_EQ(carry("Marker", "handheld", "pc", {"--accept", "no-rom"}).code, 0);
  EXPECT_EQ(read("pc/saves/my best run.srm"), noise(8192, 3));
  EXPECT_EQ(bayswap({"pairs", "remove", "Marker.nes"}).code, 0);
  EXPECT_TRUE(json({"pairs"}).empty());
  EXPECT_EQ(bayswap({"pairs", "remove", "Marker.nes"}).code, 4);
  put("home/pairs.toml", text_blob("[[pair]]\nbay = 3\n"));
  const Outcome broken = bayswap({"pairs"});
  EXPECT_EQ(broken.code, 2);
  EXPECT_TRUE(has(broken.err, "line 2"));
  EXPECT_TRUE(has(broken.err, "What to do"));
}

TEST_F(Player, AJunkFileTeachesNothingAndWhatWasTaughtCanBeForgotten) {
  bay("flash", "nds", "path = \"{rom.stem}.sav\"\nlayout = \"nds.raw\"\nroms = \".\"\n");
  bay("emu", "nds", "path = \"{rom.stem}.dsv\"\nlayout = \"nds.trailer\"\nroms = \".\"\n");
  std::vector<Byte> rom = bytes_of(noise(4096, 1));
  std::fill_n(rom.begin(), 12, Byte{0});
  std::ranges::copy(std::string_view("PEBBLE"), rom.begin());
  std::ranges::copy(std::string_view("ACCP99"), rom.begin() + 0x0c);
  const auto crc = [&rom](std::size_t from, std::size_t size) {
    std::uint16_t value = 0xffff;
    for (std::size_t i = from; i < from + size; ++i) {
      value = static_cast<std::uint16_t>(value ^ rom[i]);
      for (int bit = 0; bit < 8; ++bit)
        value = static_cast<std::uint16_t>((value >> 1) ^ ((value & 1) != 0 ? 0xa001 : 0));
    }
    return value;
  };
  const auto put16 = [&rom](std::size_t at, std::uint16_t value) {
    rom[at] = static_cast<Byte>(value);
    rom[at + 1] = static_cast<Byte>(value >> 8);
  };
  put16(0x15c, crc(0xc0, 0x9c));
  put16(0x15e, crc(0, 0x15e));
  for (const char* place : {"flash", "emu"}) put(std::string(place) + "/Pebble.nds", Blob::copy_of(rom));
  put("flash/Pebble.sav", noise(8192, 1));  // junk
  ASSERT_EQ(carry("Pebble", "flash", "emu").code, 0);
  EXPECT_TRUE(json({"chips"}).empty()) << "one file alone is a guess";
  put("flash/Pebble.sav", noise(524288, 2), 1300000000);
  const Outcome good = carry("Pebble", "flash", "emu", {"--accept", "newer"});
  EXPECT_EQ(good.code, 0) << good.err;
  EXPECT_GT(fs::file_size(folder_ / "emu/Pebble.dsv"), 524288U);
  // What was said counts, until it is forgotten; but it cuts nothing unasked.
  const Outcome said = carry("Pebble", "flash", "emu", {"--chip", "flash=262144"});
  EXPECT_NE(said.code, 0) << said.out;
  EXPECT_GT(fs::file_size(folder_ / "emu/Pebble.dsv"), 524288U);
  ASSERT_EQ(carry("Pebble", "flash", "emu", {"--chip", "flash=1048576"}).code, 0);
  const auto chips = json({"chips"});
  ASSERT_EQ(chips.size(), 1U) << chips;
  EXPECT_EQ(bayswap({"chips", "remove", "Pebbel"}).code, 4);
  EXPECT_EQ(bayswap({"chips", "remove", "ACCP"}).code, 0);
  EXPECT_TRUE(json({"chips"}).empty());
}

TEST_F(Player, AFileIsLookedAtAsCarryDoes) {
  put("pc/roms/Anchor & Chain (Europe).nes", nes_rom(1));
  put("pc/roms/Ancient Rain (Europe).nes", nes_rom(2));
  put("dl/anchor and chain 100%.sav", noise(8192, 3), 1200000000);
  put("pc/saves/Anchor & Chain (Europe).srm", noise(777, 1));  // no nes save
  const Outcome odd =
      bayswap({"carry", "--outside", folder_ / "dl/anchor and chain 100%.sav", "--to", "pc", "--yes"});
  EXPECT_EQ(odd.code, 3) << odd.out;
  EXPECT_TRUE(has(odd.err, "--accept odd-target"));
  EXPECT_EQ(read("pc/saves/Anchor & Chain (Europe).srm"), noise(777, 1));
  put("pc/saves/Anchor & Chain (Europe).srm", noise(8192, 9), 1300000000);
  EXPECT_TRUE(has(
      bayswap({"carry", "--outside", folder_ / "dl/anchor and chain 100%.sav", "--to", "pc", "--yes"}).err,
      "--accept newer"));
  EXPECT_EQ(bayswap({"carry", "--outside", folder_ / "dl/anchor and chain 100%.sav", "--to", "pc", "--yes",
                     "--accept", "newer"})
                .code,
            0);
  EXPECT_EQ(read("pc/saves/Anchor & Chain (Europe).srm"), noise(8192, 3));
}

TEST_F(Player, OptionsWithoutAnEffectAreRefusedByName) {
  put("pc/roms/Buoy.nes", nes_rom(1));
  put("pc/saves/Buoy.srm", noise(8192, 1));
  put("handheld/Buoy.nes", nes_rom(1));
  for (const std::vector<std::string>& option : {std::vector<std::string>{"--region", "japan"},
                                                 {"--exact"},
                                                 {"--companions"},
                                                 {"--account", "a=b"},
                                                 {"--slot", "2"}}) {
    const Outcome refused = carry("Buoy", "pc", "handheld", option);
    EXPECT_EQ(refused.code, 3) << option[0];
    EXPECT_TRUE(has(refused.err, option[0]));
    auto all = option;
    all.insert(all.begin(), {"carry", "--all", "--from", "pc", "--to", "handheld", "--yes"});
    EXPECT_EQ(bayswap(all).code, 3) << option[0];
  }
  EXPECT_FALSE(exists("handheld/Buoy.sav"));
  put("home/bays/odd.toml",
      text_blob("root = \"/\"\n[platform.nes]\npath = \"x/{rom.stem}\"\nlayout = \"nes.raw\"\n"
                "[platform.nes.also]\nextra = \"y\"\n"));
  EXPECT_EQ(bayswap({"bay", "show", "odd"}).code, 2) << "further places of a file save mean nothing";
}

TEST_F(Player, TheLogbookKnowsTheSameSaveInAnotherContainer) {
  bay("pc", "n64", "path = \"n64/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = \"n64roms\"\n");
  bay("bench", "n64", "path = \"{game.code}{ext}\"\nlayout = \"n64.separate\"\nroms = \"roms\"\n");
  put("pc/n64roms/Skiff.z64", n64_rom());
  put("bench/roms/Skiff.z64", n64_rom());
  put("bench/N99P.sra", noise(32768, 2));
  ASSERT_EQ(carry("Skiff", "bench", "pc").code, 0);
  ASSERT_EQ(bayswap({"backup", "bench"}).code, 0);
  const auto book = json({"logbook"});
  ASSERT_EQ(book.size(), 2U);
  EXPECT_FALSE(book[0]["content"].is_null());
  EXPECT_EQ(book[0]["content"], book[1]["content"]);
}

}  // namespace
}  // namespace bayswap::test
