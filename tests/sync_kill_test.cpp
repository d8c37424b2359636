// A round of sync is killed, torn or refused at every call that changes a disk; then the same command again.
#include <fstream>

#include "support/player.hpp"

namespace bayswap::test {
namespace {

class SyncKill : public Player, public testing::WithParamInterface<std::string> {
 protected:
  SyncKill() {
    for (const std::string name : {"pc", "box"}) {
      fs::create_directories(folder_ / ("world/" + name));
      const std::string rule =
          name == "pc" ? "path = \"saves/{rom.stem}.srm\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n"
                       : "path = \"{rom.folder}/{rom.stem}.sav\"\nlayout = \"nes.raw\"\nroms = \".\"\n";
      put("world/" + name + "-home/bays/" + name + ".toml",
          text_blob("root = \"" + (folder_ / ("world/" + name)) + "\"\n[platform.nes]\n" + rule));
      EXPECT_EQ(on(name, {"sync", "join", folder_ / "world/sea", "--device", name}).code, 0);
    }
    for (int game = 0; game < 3; ++game) {
      const Blob rom = nes_rom(3 + static_cast<unsigned>(game));
      put("world/pc/roms/" + title(game) + " (Europe).nes", rom);
      put("world/box/" + title(game) + ".nes", rom);
      put("world/pc/saves/" + title(game) + " (Europe).srm", noise(8192, static_cast<unsigned>(game)));
    }
    round("pc");
    round("box");
    // One evening on each: a game that the other has, and one that is new.
    put("world/pc/saves/" + title(0) + " (Europe).srm", evening(0), 1100000000);
    round("pc");
    put("world/box/" + title(1) + ".sav", evening(1), 1100000000);
    copy("world", "kept");
  }
  // Times included: they tell what is new.
  void copy(const std::string& from, const std::string& to) const {
    fs::remove_all(folder_ / to);
    ASSERT_EQ(run_process({"/bin/cp", "-a", folder_ / from, folder_ / to}, folder_.path(), {}, {}).code, 0);
  }
  static std::string title(int game) {
    return std::vector<std::string>{"Tin Orchard", "Gull Ledger", "Moth Courier"}.at(
        static_cast<std::size_t>(game));
  }
  static Blob evening(int game) { return noise(8192, 100 + static_cast<unsigned>(game)); }
  Outcome on(const std::string& name, std::vector<std::string> words,
             std::map<std::string, std::string> more = {}) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    more["BAYSWAP_HOME"] = folder_ / ("world/" + name + "-home");
    more["TZ"] = "UTC";
    return run_process(words, folder_.path(), more, {});
  }
  void round(const std::string& name) const {
    const Outcome outcome = on(name, {"sync", "--yes"});
    ASSERT_EQ(outcome.code, 0) << outcome.out << outcome.err;
  }
  std::map<std::string, std::string> failpoint(int at) const {
    return {{"LD_PRELOAD", BAYSWAP_FAILPOINT},
            {"FAILPOINT_AT", std::to_string(at)},
            {"FAILPOINT_MODE", GetParam()},
            {"FAILPOINT_LOG", folder_ / "calls"}};
  }
  int calls() const {
    std::ifstream file(folder_ / "calls");
    int count = 0;
    file >> count;
    return count;
  }
  void start_again() const { copy("kept", "world"); }
  void expect_whole(int game, int at) const {
    for (const std::string& where :
         {"world/pc/saves/" + title(game) + " (Europe).srm", "world/box/" + title(game) + ".sav"}) {
      const Blob now = read(where);
      ASSERT_TRUE(now == noise(8192, static_cast<unsigned>(game)) || now == evening(game))
          << where << " at call " << at;
    }
  }
};

TEST_P(SyncKill, AtEveryCallOfARound) {
  start_again();
  ASSERT_EQ(on("box", {"sync", "--yes"}, failpoint(0)).code, 0);
  const int total = calls();
  ASSERT_GT(total, 20);
  RecordProperty("calls", total);
  // Killed at every one; the other ways to fail at every fourth.
  for (int at = 1; at <= total; at += GetParam() == "kill" ? 1 : 4) {
    start_again();
    const Outcome stopped = on("box", {"sync", "--yes"}, failpoint(at));
    if (GetParam() != "error") {
      // One call more or less: ids are at random, and their folders may be there already.
      ASSERT_TRUE(stopped.code == 128 + SIGKILL || (stopped.code == 0 && at > total * 9 / 10)) << at;
    }
    for (int game = 0; game < 3; ++game) expect_whole(game, at);
    // The same again, on both: everything arrives, once, and nothing is in conflict.
    for (const std::string name : {"box", "pc", "box"}) {
      const Outcome again = on(name, {"sync", "--yes"});
      ASSERT_EQ(again.code, 0) << name << " at call " << at << ": " << again.out << again.err;
    }
    for (const int game : {0, 1}) {
      EXPECT_EQ(read("world/pc/saves/" + title(game) + " (Europe).srm"), evening(game)) << at;
      EXPECT_EQ(read("world/box/" + title(game) + ".sav"), evening(game)) << at;
    }
    EXPECT_EQ(std::distance(fs::directory_iterator(folder_ / "world/box"), {}), 6)
        << "nothing is left lying about at " << at;
    const Outcome sound = on("box", {"logbook", "check"});
    EXPECT_EQ(sound.code, 0) << at << ": " << sound.out << sound.err;
  }
}

INSTANTIATE_TEST_SUITE_P(Modes, SyncKill, testing::Values("kill", "kill-after", "torn", "error"),
                         [](const auto& row) {
                           std::string name = row.param;
                           std::erase(name, '-');
                           return name;
                         });

}  // namespace
}  // namespace bayswap::test
