// Save states, through the binary.
#include <bayswap/compression.hpp>
#include <bayswap/picture.hpp>

#include <filesystem>
#include <map>

#include "support/core_files.hpp"
#include "support/player.hpp"

namespace bayswap::test {
namespace {

class StateCli : public Player {
 protected:
  StateCli() {
    const std::string kept = "gb/gb-mbc5-32k/coreB/";
    put("a.state", core(kept + "A/Tideward (World).state.auto"));
    put("b.state", core(kept + "B/Tideward (World).state.auto"));
    put("picture.ss1", core("gb/gb-mbc5-32k/coreL/A/Tideward (World).ss1"));
  }
  static Blob core(const std::string& path) {
    const auto file = core_files().read(path);
    EXPECT_TRUE(file) << path;
    return file ? *file : Blob();
  }
  static Blob memory(unsigned seed) {
    std::vector<Byte> bytes(32768);
    for (unsigned i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<Byte>(i * 7 + (i >> 8) * 13 + seed);
    return Blob::copy_of(bytes);
  }
};

TEST_F(StateCli, BatterySavesComeOutOfStatesAndGoIn) {
  const Outcome shown = bayswap({"state", "show", folder_ / "a.state"});
  EXPECT_EQ(shown.code, 0);
  EXPECT_TRUE(has(shown.out, "gb.chunked-a"));
  EXPECT_EQ(json({"state", "show", folder_ / "a.state"})["layers"].size(), 2U);
  const Outcome which = bayswap({"state", "export", folder_ / "a.state", "--out", folder_ / "x"});
  EXPECT_EQ(which.code, 4) << "several sizes, and no ROM";
  EXPECT_TRUE(has(which.err, "--chip"));
  EXPECT_FALSE(exists("x"));
  ASSERT_EQ(
      bayswap({"state", "export", folder_ / "a.state", "--chip", "sram=32768", "--out", folder_ / "a.sav"})
          .code,
      0);
  EXPECT_EQ(read("a.sav"), memory(0x31));
  EXPECT_EQ(
      bayswap({"state", "export", folder_ / "a.state", "--chip", "sram=32768", "--out", folder_ / "a.sav"})
          .code,
      3)
      << "never over a file";
  ASSERT_EQ(bayswap({"state", "export", folder_ / "picture.ss1", "--out", folder_ / "p.sav"}).code, 0)
      << "there the size is the layer's";
  EXPECT_EQ(read("p.sav"), memory(0x31));
  // One into the other: then it is in all but the rest of the snapshot what the other was.
  ASSERT_EQ(
      bayswap({"state", "import", folder_ / "b.state", folder_ / "a.sav", "--out", folder_ / "b2.state"})
          .code,
      0);
  ASSERT_EQ(
      bayswap({"state", "export", folder_ / "b2.state", "--chip", "sram=32768", "--out", folder_ / "b2.sav"})
          .code,
      0);
  EXPECT_EQ(read("b2.sav"), memory(0x31));
  EXPECT_EQ(read("b2.state").size(), read("b.state").size());
  put("other.bin", noise(50000, 1));
  const Outcome unknown = bayswap({"state", "export", folder_ / "other.bin", "--out", folder_ / "y"});
  EXPECT_EQ(unknown.code, 4);
  EXPECT_TRUE(has(unknown.err, "--platform"));
  put("cut.ss1", read("picture.ss1").slice(0, 900));
  EXPECT_EQ(bayswap({"state", "export", folder_ / "cut.ss1", "--out", folder_ / "y"}).code, 4);
  put("nothing", Blob());
  EXPECT_EQ(bayswap({"state", "show", folder_ / "nothing"}).code, 4);
  EXPECT_EQ(bayswap({"state", "show", folder_ / "gone"}).code, 4);
}

TEST_F(StateCli, AMapIsLearnedAndUsedAtOnce) {
  // A program of nobody's: the memory after a head, packed.
  const auto state_with = [](const Blob& chip, std::uint32_t seed) {
    return joined({text_blob("SNAPSHOT-OF-A-MADE-UP-PROGRAM"),
                   wrap(Compression::zlib,
                        joined({text_blob("BODY"), noise(3000, seed), chip, noise(100, seed + 1)}))});
  };
  put("1.snap", state_with(noise(8192, 1), 10));
  put("1.sav", noise(8192, 1));
  put("2.snap", state_with(noise(8192, 2), 20));
  put("2.sav", noise(8192, 2));
  EXPECT_EQ(bayswap({"state", "learn", folder_ / "1.snap", folder_ / "1.sav", "--id", "zx.mine"}).code, 2);
  EXPECT_EQ(bayswap({"state", "learn", folder_ / "1.snap", folder_ / "2.sav", "--id", "nes.mine"}).code, 4);
  const Outcome learned = bayswap({"state", "learn", folder_ / "1.snap", folder_ / "1.sav",
                                   folder_ / "2.snap", folder_ / "2.sav", "--id", "nes.mine"});
  ASSERT_EQ(learned.code, 0) << learned.err;
  EXPECT_TRUE(has(learned.out, "goes back into the very file"));
  put("3.snap", state_with(noise(8192, 3), 30));
  ASSERT_EQ(bayswap({"state", "export", folder_ / "3.snap", "--out", folder_ / "3.sav"}).code, 0);
  EXPECT_EQ(read("3.sav"), noise(8192, 3));
  bool listed = false;
  const auto maps = json({"state", "maps"});
  for (const auto& map : maps) listed = listed || map["id"] == "nes.mine";
  EXPECT_TRUE(listed);
  EXPECT_TRUE(has(bayswap({"state", "maps", "nes.mine"}).out, "[[part]]"));
  EXPECT_TRUE(has(bayswap({"state", "maps", "nes.mime"}).err, "did you mean 'nes.mine'"));
  EXPECT_EQ(bayswap({"state", "learn", folder_ / "1.snap", folder_ / "1.sav", "--id", "nes.mine"}).code, 2)
      << "taken";
  // A bad file of the user's own hurts no other.
  put("home/states/bad.toml", text_blob("id = 3\n"));
  const Outcome all = bayswap({"state", "export", folder_ / "2.snap", "--out", folder_ / "again.sav"});
  EXPECT_EQ(all.code, 0);
  EXPECT_TRUE(has(all.err, "bad.toml, line 1"));
}

// The demo world's states: a bay with pictures of moments, one with chunked files.
class DemoStates : public StateCli {
 protected:
  DemoStates() {
    EXPECT_EQ(bayswap({"demo", "--out", folder_ / "world", "--quiet"}).code, 0);
    home_ = "world/home";
  }
  std::map<std::string, std::string> verdicts(const std::string& place) {
    std::map<std::string, std::string> found;
    const auto listed = json({"state", "list", place, "Gull Ledger"});
    for (const auto& one : listed["states"]) found[one["slot"].dump()] = one["battery"];
    return found;
  }
  const std::string states_ = "world/home-pc/states/Gull Ledger (World), ";
};
using Verdicts = std::map<std::string, std::string>;

TEST_F(DemoStates, AreListedWithWhatTheirBatterySavesAre) {
  const Verdicts expected{{"1", "older"}, {"2", "same"}, {"4", "newer"}, {"\"auto\"", "older"}};
  EXPECT_EQ(verdicts("home-pc"), expected);
  EXPECT_EQ(verdicts("home-pc"), expected) << "and again, out of the memory of the first time";
  EXPECT_EQ(verdicts("quay-tv"), (Verdicts{{"0", "alone"}, {"3", "alone"}}));
  const Outcome shown = bayswap({"state", "list", "home-pc"});
  for (const char* words : {"free slots: 0, 3, 5 to 9", "saves/Gull Ledger (World).sav", "newer than"})
    EXPECT_TRUE(has(shown.out, words)) << words;
  EXPECT_TRUE(has(shown.err, "2 states are older"));
  EXPECT_TRUE(has(bayswap({"state", "list", "home-pc", "Moth"}).err, "no state of 'Moth'"));
  EXPECT_TRUE(has(bayswap({"state", "list", "home-cp"}).err, "home-pc"));
  // The battery save goes: then nothing is older than it.
  fs::remove(folder_ / "world/home-pc/saves/Gull Ledger (World).sav");
  EXPECT_EQ(verdicts("home-pc")["1"], "alone");
}

TEST_F(DemoStates, GoFromSlotToSlotAndBack) {
  const Blob fourth = read(states_ + "slot 4.png");
  const auto change = [&](const std::string& what, const std::string& from, const std::string& to) {
    return bayswap({"state", what, "Gull Ledger", "--in", "home-pc", "--slot", from, "--to-slot", to});
  };
  ASSERT_EQ(change("move", "4", "7").code, 0);
  EXPECT_FALSE(exists(states_ + "slot 4.png"));
  EXPECT_EQ(read(states_ + "slot 7.png"), fourth);
  EXPECT_EQ(change("move", "4", "8").code, 4) << "it is gone";
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(read(states_ + "slot 4.png"), fourth);
  EXPECT_EQ(verdicts("home-pc")["4"], "newer") << "an undo brings the file's date back";
  const Blob second = read(states_ + "slot 2.png");
  EXPECT_EQ(change("copy", "auto", "2").code, 3) << "taken";
  EXPECT_EQ(read(states_ + "slot 2.png"), second);
  ASSERT_EQ(change("copy", "auto", "0").code, 0);
  EXPECT_EQ(read(states_ + "slot 0.png"), read(states_ + "last.png"));
  EXPECT_EQ(change("copy", "1", "x").code, 2);
  EXPECT_EQ(change("copy", "1", "1").code, 2);
}

TEST_F(DemoStates, AreCarriedInTheOtherProgramsForm) {
  const std::string target = "world/quay-tv/states/Gull Ledger (World).4";
  ASSERT_EQ(bayswap({"carry", "Gull Ledger", "--from", "home-pc", "--to", "quay-tv", "--states", "--slot",
                     "all", "--yes"})
                .code,
            0);
  EXPECT_EQ(json({"inspect", folder_ / target})[0]["state_map"], "gb.chunked-a");
  const std::string chip = "sram=8192";
  ASSERT_EQ(bayswap({"state", "export", folder_ / target, "--chip", chip, "--out", folder_ / "a"}).code, 0);
  ASSERT_EQ(bayswap({"state", "export", folder_ / (states_ + "slot 4.png"), "--out", folder_ / "b"}).code, 0);
  EXPECT_EQ(read("a"), read("b"));
  EXPECT_EQ(read("b.rtc").size(), 48U) << "its clock stands behind it";
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_FALSE(exists(target));

  // There and back by hand: the same sections.
  const std::string picture = folder_ / (states_ + "slot 4.png");
  ASSERT_EQ(bayswap({"state", "convert", picture, "--to", "gb.plain-a", "--out", folder_ / "plain"}).code, 0);
  ASSERT_EQ(
      bayswap({"state", "convert", folder_ / "plain", "--base", picture, "--out", folder_ / "back"}).code, 0);
  const auto back = json({"state", "diff", picture, folder_ / "back"}, 1);
  for (const auto& layer : back["layers"])
    EXPECT_EQ(layer["layer"], "png chunk IHDR") << "all but the picture, which shows nothing now";
  EXPECT_EQ(bayswap({"state", "diff", picture, folder_ / (states_ + "slot 2.png")}).code, 1);
  const auto changed = json({"state", "diff", picture, folder_ / (states_ + "slot 2.png")}, 1);
  bool within = false;
  for (const auto& layer : changed["layers"])
    for (const auto& stretch : layer["stretches"]) within = within || stretch["within"] == "sram";
  EXPECT_TRUE(within) << changed.dump(1);
  const Outcome refused = bayswap({"state", "convert", folder_ / "world/locker/Tin Orchard.state", "--to",
                                   "gb.plain-a", "--out", folder_ / "c"});
  EXPECT_EQ(refused.code, 4);
  EXPECT_TRUE(has(refused.err, "--from-state"));
  EXPECT_FALSE(exists("c"));
}

// Two states that would become one file, a file that is none, another game's ROM: nothing is done.
TEST_F(DemoStates, NothingMeetsInOneSlot) {
  const std::string home = "world/home/bays/home-pc.toml";
  std::string bay = text_of(read(home));
  const std::string rule = "\"states/{rom.stem}, last.png\"";
  bay.replace(bay.find(rule), rule.size(), rule + ", \"other/{rom.stem}.{slot}\"");
  put(home, text_blob(bay));
  put("world/home-pc/other/Gull Ledger (World).4", read("world/quay-tv/states/Gull Ledger (World).0"));
  const std::vector<std::string> carry{"carry", "Gull Ledger", "--from",   "home-pc",
                                       "--to",  "quay-tv",     "--states", "--yes"};
  const auto with = [&](std::vector<std::string> more) {
    more.insert(more.begin(), carry.begin(), carry.end());
    return bayswap(more);
  };
  const std::string target = "world/quay-tv/states/Gull Ledger (World).4";
  const Outcome both = with({"--slot", "4"});
  EXPECT_EQ(both.code, 3);
  EXPECT_TRUE(has(both.err, "would both become"));
  EXPECT_FALSE(exists(target));
  EXPECT_EQ(
      bayswap({"state", "copy", "Gull Ledger", "--in", "home-pc", "--slot", "4", "--to-slot", "8"}).code, 2);
  EXPECT_EQ(bayswap({"carry", "Gull Ledger", "--from", "home-pc", "--to", "quay-tv", "--from-state", "--slot",
                     "4", "--yes"})
                .code,
            2);
  // By its path it is one of them.
  auto one = carry;
  one[1] = "other/Gull Ledger (World).4";
  EXPECT_EQ(bayswap(one).code, 0);
  EXPECT_EQ(read(target), read("world/home-pc/other/Gull Ledger (World).4"));
  EXPECT_EQ(with({"--slot", "4", "--region", "europe"}).code, 2) << "no effect on states";
  put("world/home-pc/other/Gull Ledger (World).4", Blob());
  EXPECT_EQ(bayswap(one).code, 3) << "an empty file over a good state";
  EXPECT_NE(read(target).size(), 0U);
  // The same name, another game.
  std::vector<Byte> rom = bytes_of(read("world/quay-tv/roms/Gull Ledger (World).gb"));
  std::copy_n("OTHER GAME ", 11, rom.begin() + 0x134);
  Byte sum = 0;
  for (std::size_t i = 0x134; i < 0x14d; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  put("world/quay-tv/roms/Gull Ledger (World).gb", Blob::copy_of(rom));
  const Outcome other = with({"--slot", "2"});
  EXPECT_EQ(other.code, 3);
  EXPECT_TRUE(has(other.err, "another game"));
}

TEST_F(DemoStates, TheSaveInOneGoesOnInAnotherBay) {
  const std::vector<std::string> carry{"carry", "Gull Ledger", "--from", "home-pc",      "--to",
                                       "bench", "--slot",      "4",      "--from-state", "--yes"};
  const Blob bench = read("world/bench/dumps/GULL LEDGER.sav");
  const Outcome refused = bayswap(carry);
  EXPECT_EQ(refused.code, 3);
  EXPECT_TRUE(has(refused.err, "--accept newer"));
  EXPECT_EQ(read("world/bench/dumps/GULL LEDGER.sav"), bench);
  auto anyway = carry;
  anyway.insert(anyway.end(), {"--accept", "newer"});
  const Outcome carried = bayswap(anyway);
  ASSERT_EQ(carried.code, 0) << carried.err;
  EXPECT_TRUE(has(carried.err, "the game's own menu"));
  ASSERT_EQ(bayswap({"state", "export", folder_ / (states_ + "slot 4.png"), "--out", folder_ / "b"}).code, 0);
  EXPECT_EQ(read("world/bench/dumps/GULL LEDGER.sav").slice(0, 8192), read("b"));
  EXPECT_FALSE(exists("world/home-pc/saves/Gull Ledger (World).srm")) << "the source's save stays as it is";
}

TEST_F(DemoStates, ArePicturedAndNeverOverAFile) {
  ASSERT_EQ(bayswap({"state", "picture", "home-pc", "--out", folder_ / "sheet.png"}).code, 0);
  const auto sheet = from_png(read("sheet.png"));
  ASSERT_TRUE(sheet);
  EXPECT_EQ(sheet->width, 1280U);
  const auto has_colour = [&](std::uint32_t colour) {
    return std::find(sheet->pixels.begin(), sheet->pixels.end(), colour) != sheet->pixels.end();
  };
  EXPECT_TRUE(has_colour(0x53735aff)) << "the sail of the boat in the states' pictures";
  EXPECT_EQ(bayswap({"state", "picture", "home-pc", "--out", folder_ / "sheet.png"}).code, 3);
  EXPECT_EQ(bayswap({"state", "picture", folder_ / "world/quay-tv/roms", "--out", folder_ / "none.png"}).code,
            0);
}

TEST_F(DemoStates, AreToldFromBatterySavesWhateverTheyAreCalled) {
  put("as-a-save.srm", read(states_ + "slot 4.png"));
  put("as-a-save-too.sav", read("world/quay-tv/states/Gull Ledger (World).0"));
  put("as-a-state.state", read("world/bench/dumps/GULL LEDGER.sav"));
  put("as-a-state.ss0", read("world/bench/dumps/A99P.sav"));
  for (const char* state : {"as-a-save.srm", "as-a-save-too.sav"})
    EXPECT_EQ(json({"inspect", folder_ / state})[0]["kind"], "save state") << state;
  for (const char* save : {"as-a-state.state", "as-a-state.ss0"})
    EXPECT_NE(json({"inspect", folder_ / save})[0]["kind"], "save state") << save;
  const Outcome told = bayswap({"inspect", folder_ / "world/locker/Tin Orchard.state"});
  EXPECT_TRUE(has(told.out, "loads only in the kind of program that wrote it") ||
              has(told.out, "the state itself"));
  for (const auto& entry : fs::recursive_directory_iterator(folder_ / "world")) {
    if (!entry.is_regular_file() || entry.path().string().find("/states/") != std::string::npos ||
        entry.path().string().find("/locker/") != std::string::npos)
      continue;
    EXPECT_FALSE(has(bayswap({"inspect", entry.path().string()}).out, "save state")) << entry.path();
  }
}

TEST_F(StateCli, FormattedMemoryIsNoSave) {
  put("fresh.state", core("pce/pce-fresh/coreF/N/Tideward (World).state.auto"));
  const Outcome fresh =
      bayswap({"state", "export", folder_ / "fresh.state", "--platform", "pce", "--out", folder_ / "f"});
  EXPECT_EQ(fresh.code, 4);
  EXPECT_TRUE(has(fresh.err, "no battery save is in this state"));
  EXPECT_FALSE(exists("f"));
  EXPECT_EQ(bayswap({"state", "export", folder_ / "fresh.state", "--platform", "pce", "--candidate", "1",
                     "--out", folder_ / "f"})
                .code,
            0);
}

// A folder as players have them: states cut short, empty, under a battery save's name and the other way
// round.
TEST_F(StateCli, AMessyFolderIsToldApart) {
  const auto rom = core_files().read("roms/gb-mbc5-32k/A/Tideward (World).gb");
  ASSERT_TRUE(rom);
  for (const char* copy : {"place/Tideward.gb", "place/Tideward (World) [b].gb", "target/Tideward.gb"})
    put(copy, *rom);
  put("place/Tideward.srm", memory(0x31));
  put("place/Tideward.state", read("a.state"));
  put("place/Tideward.state2", Blob());
  put("place/Tideward.state9", memory(0x31));
  put("place/Tideward.ss1", read("picture.ss1"));
  put("place/Tideward.ss4", read("picture.ss1").slice(0, 900));
  const auto listed = json({"state", "list", folder_ / "place", "Tideward"});
  std::map<std::string, std::string> found;
  for (const auto& one : listed["states"]) found[one["path"]] = one["battery"];
  const std::map<std::string, std::string> expected{{"Tideward.state", "same"},
                                                    {"Tideward.state2", "empty file"},
                                                    {"Tideward.state9", "no state"},
                                                    {"Tideward.ss1", "same"},
                                                    {"Tideward.ss4", "unknown"}};
  EXPECT_EQ(found, expected);
  EXPECT_EQ(
      bayswap({"state", "copy", "Tideward", "--in", folder_ / "place", "--slot", "2", "--to-slot", "5"}).code,
      3);
  EXPECT_EQ(json({"inspect", folder_ / "place/Tideward.ss4"}, 4)[0]["kind"], "unknown");
  for (const char* state : {"place/Tideward.state", "place/Tideward.ss1"})
    EXPECT_TRUE(has(bayswap({"inspect", folder_ / state}).out, "the CRC-32 of Tideward.gb is in")) << state;
  put("place/Tideward.srm", memory(0x52), 1000000009);
  put("place/Tideward.state", read("a.state"), 1000000009);
  EXPECT_EQ(json({"state", "list", folder_ / "place", "Tideward"})["states"][0]["battery"], "other")
      << "of one date: which came first is not known";
  // A state in a battery save's place, whole or cut short, is never carried as one.
  for (const char* name : {"place", "target"})
    ASSERT_EQ(bayswap({"bay", "add", name, "--like", "beside-rom", "--root", folder_ / name}).code, 0);
  for (const Blob& state : {read("picture.ss1"), read("picture.ss1").slice(0, 900), read("a.state"),
                            read("a.state").slice(0, 30000)}) {
    put("place/Tideward.srm", state);
    EXPECT_EQ(bayswap({"carry", "place/Tideward.srm", "--from", "place", "--to", "target", "--yes",
                       "--accept", "short"})
                  .code,
              4);
    EXPECT_EQ(bayswap({"carry", "Tideward", "--from", "place", "--to", "target", "--yes"}).code == 0, false);
    EXPECT_FALSE(exists("target/Tideward.sav"));
    EXPECT_FALSE(exists("target/Tideward.srm"));
  }
}

}  // namespace
}  // namespace bayswap::test
