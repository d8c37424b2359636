// Save states, through the binary.
#include <bayswap/compression.hpp>

#include <filesystem>

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
  const Outcome which = bayswap({"state", "battery", folder_ / "a.state", "--out", folder_ / "x"});
  EXPECT_EQ(which.code, 4) << "several sizes, and no ROM";
  EXPECT_TRUE(has(which.err, "--chip"));
  EXPECT_FALSE(exists("x"));
  ASSERT_EQ(
      bayswap({"state", "battery", folder_ / "a.state", "--chip", "sram=32768", "--out", folder_ / "a.sav"})
          .code,
      0);
  EXPECT_EQ(read("a.sav"), memory(0x31));
  EXPECT_EQ(
      bayswap({"state", "battery", folder_ / "a.state", "--chip", "sram=32768", "--out", folder_ / "a.sav"})
          .code,
      3)
      << "never over a file";
  ASSERT_EQ(bayswap({"state", "battery", folder_ / "picture.ss1", "--out", folder_ / "p.sav"}).code, 0)
      << "there the size is the layer's";
  EXPECT_EQ(read("p.sav"), memory(0x31));
  // One into the other: then it is in all but the rest of the snapshot what the other was.
  ASSERT_EQ(
      bayswap({"state", "graft", folder_ / "b.state", folder_ / "a.sav", "--out", folder_ / "b2.state"}).code,
      0);
  ASSERT_EQ(
      bayswap({"state", "battery", folder_ / "b2.state", "--chip", "sram=32768", "--out", folder_ / "b2.sav"})
          .code,
      0);
  EXPECT_EQ(read("b2.sav"), memory(0x31));
  EXPECT_EQ(read("b2.state").size(), read("b.state").size());
  put("other.bin", noise(50000, 1));
  const Outcome unknown = bayswap({"state", "battery", folder_ / "other.bin", "--out", folder_ / "y"});
  EXPECT_EQ(unknown.code, 4);
  EXPECT_TRUE(has(unknown.err, "--platform"));
  put("cut.ss1", read("picture.ss1").slice(0, 900));
  EXPECT_EQ(bayswap({"state", "battery", folder_ / "cut.ss1", "--out", folder_ / "y"}).code, 4);
  put("nothing", Blob());
  EXPECT_EQ(bayswap({"state", "show", folder_ / "nothing"}).code, 4);
  EXPECT_EQ(bayswap({"state", "show", folder_ / "gone"}).code, 4);
}

TEST_F(StateCli, AMapIsLearnedAndUsedAtOnce) {
  // A program of nobody's: the memory behind a head, packed.
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
  ASSERT_EQ(bayswap({"state", "battery", folder_ / "3.snap", "--out", folder_ / "3.sav"}).code, 0);
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
  const Outcome all = bayswap({"state", "battery", folder_ / "2.snap", "--out", folder_ / "again.sav"});
  EXPECT_EQ(all.code, 0);
  EXPECT_TRUE(has(all.err, "bad.toml, line 1"));
}

}  // namespace
}  // namespace bayswap::test
