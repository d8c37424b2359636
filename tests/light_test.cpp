// What is bounded here is counted, not timed: files opened, looks, bytes read, syncs.
#include <chrono>
#include <fstream>
#include <random>
#include <thread>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

struct Tally {
  long syncs = 0;
  long opens = 0;
  long looks = 0;
  long bytes = 0;
};

class Light : public testing::Test {
 protected:
  Outcome bayswap(std::vector<std::string> words, const std::map<std::string, std::string>& more = {}) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    std::map<std::string, std::string> all{{"BAYSWAP_HOME", folder_ / "home"}, {"TZ", "UTC"}};
    all.insert(more.begin(), more.end());
    return run_process(words, folder_.path(), all);
  }
  // Runs it with every call counted.
  Tally tally_of(const std::vector<std::string>& words, int code = 0) const {
    const Outcome outcome =
        bayswap(words, {{"LD_PRELOAD", BAYSWAP_FAILPOINT}, {"FAILPOINT_LOG", folder_ / "calls"}});
    EXPECT_EQ(outcome.code, code) << outcome.err;
    std::ifstream file(folder_ / "calls");
    std::string word;
    Tally tally;
    file >> word >> word >> tally.syncs >> word >> tally.opens >> word >> tally.looks >> word >> tally.bytes;
    EXPECT_TRUE(file) << "nothing was counted";
    return tally;
  }
  void put(const std::string& name, const Blob& bytes) const {
    ASSERT_TRUE(LocalStore().replace(folder_ / name, bytes.view())) << name;
  }
  // Saves whose names no ROM has, of sizes that many consoles share, and the bytes of all of them.
  long put_saves(const std::string& place, int count, std::size_t size, unsigned seed) const {
    std::filesystem::create_directories(folder_ / place);
    std::mt19937 dice(seed);
    for (int i = 0; i < count; ++i) {
      std::vector<Byte> bytes(size);
      for (std::size_t at = 0; at < size; at += 1 + dice() % 5) bytes[at] = static_cast<Byte>(dice());
      std::ofstream(folder_ / (place + "/Save " + std::to_string(i) + ".sav"), std::ios::binary)
          .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(size));
    }
    return static_cast<long>(count) * static_cast<long>(size);
  }
  void add_bay(const std::string& name) const {
    std::filesystem::create_directories(folder_ / "home/bays");
    std::ofstream(folder_ / ("home/bays/" + name + ".toml"))
        << "root = \"" << (folder_ / name)
        << "\"\n\n[platform.nes]\nroms = \"roms\"\npath = \"saves/{rom.stem}.sav\"\nlayout = \"nes.raw\"\n";
  }
  Folder folder_;
};

TEST_F(Light, AFolderIsReadToBeInspectedToFindRulesAndToBeSettled) {
  const int count = 200;
  const long bytes = put_saves("many", count, 8192, 1);
  const Tally tally = tally_of({"inspect", folder_ / "many", "--quiet"});
  EXPECT_LE(tally.bytes, 3 * bytes + 100000);  // to be inspected, to find rules, and to be settled by one
  EXPECT_LE(tally.opens, 6 * count + 100);
  EXPECT_LE(tally.looks, 14 * count + 200);
  EXPECT_EQ(tally.syncs, 0);
}

TEST_F(Light, OneFileOfManyIsLookedAtWithoutTheOthers) {
  put_saves("few", 1, 8192, 2);
  put_saves("many", 3000, 64, 3);
  put_saves("many", 1, 8192, 2);
  const Tally few = tally_of({"inspect", folder_ / "few/Save 0.sav"});
  const Tally many = tally_of({"inspect", folder_ / "many/Save 0.sav"});
  EXPECT_EQ(many.bytes, few.bytes);
  EXPECT_EQ(many.opens, few.opens);
  // The names are read, for a ROM may be beside it, of the save or of a state; nothing but the names.
  EXPECT_LE(many.looks - few.looks, 2 * 3000);
}

// A batch shares its syncs: twice as many saves take hardly more of them.
TEST_F(Light, ABatchSharesItsSyncs) {
  for (const char* bay : {"here", "there"}) {
    add_bay(bay);
    std::filesystem::create_directories(folder_ / (std::string(bay) + "/roms"));
  }
  std::filesystem::create_directories(folder_ / "there/saves");
  const auto rom = [&](int i) {
    for (const char* bay : {"here", "there"})
      put(std::string(bay) + "/roms/Save " + std::to_string(i) + ".nes",
          nes_rom(static_cast<std::uint32_t>(i)));
  };
  long syncs_of_100 = 0;
  for (const int count : {100, 200}) {
    put_saves("here/saves", count, 8192, static_cast<unsigned>(count));
    for (int i = 0; i < count; ++i) rom(i);
    const Tally tally =
        tally_of({"carry", "--all", "--from", "here", "--to", "there", "--yes", "--accept", "newer"});
    const Tally again = tally_of({"carry", "--all", "--from", "here", "--to", "there", "--yes"});
    EXPECT_EQ(again.syncs, 0);
    if (count == 100) syncs_of_100 = tally.syncs;
    EXPECT_LE(tally.syncs, 60 + count) << count;
    // Both sides' saves and ROMs.
    EXPECT_LE(tally.bytes, 7L * count * 8192 + 2L * count * 41000 + 400000) << count;
  }
  EXPECT_GT(syncs_of_100, 0);
}

// The first round of a device that gives everything, and of one that gets it; then one without news.
TEST_F(Light, ARoundSharesItsSyncsAndItsReads) {
  const auto run = [&](const char* home, std::vector<std::string> words) {
    words.insert(words.begin(), {"--home", folder_ / home});
    return tally_of(words);
  };
  const auto add = [&](const std::string& home, const std::string& name) {
    std::filesystem::create_directories(folder_ / (home + "/bays"));
    std::filesystem::create_directories(folder_ / (name + "/saves"));
    std::ofstream(folder_ / (home + "/bays/" + name + ".toml"))
        << "root = \"" << (folder_ / name)
        << "\"\n\n[platform.nes]\nroms = \"roms\"\npath = \"saves/{rom.stem}.sav\"\nlayout = "
           "\"nes.raw\"\n";
  };
  std::map<int, Tally> gave;
  std::map<int, Tally> got;
  for (const int count : {100, 200}) {
    const std::string n = std::to_string(count);
    add("a" + n, "from" + n);
    add("b" + n, "to" + n);
    put_saves("from" + n + "/saves", count, 8192, static_cast<unsigned>(count));
    for (int i = 0; i < count; ++i)
      for (const char* bay : {"from", "to"})
        put(bay + n + "/roms/Save " + std::to_string(i) + ".nes", nes_rom(static_cast<std::uint32_t>(i)));
    (void)run(("a" + n).c_str(), {"sync", "join", folder_ / ("sea" + n), "--device", "a"});
    (void)run(("b" + n).c_str(), {"sync", "join", folder_ / ("sea" + n), "--device", "b"});
    std::this_thread::sleep_for(std::chrono::milliseconds(2100));  // what was just written may be in use
    gave[count] = run(("a" + n).c_str(), {"sync", "--yes"});
    got[count] = run(("b" + n).c_str(), {"sync", "--yes"});
    // What was written is looked at once more; then nothing is.
    (void)run(("b" + n).c_str(), {"sync", "--yes"});
    const Tally quiet = run(("b" + n).c_str(), {"sync", "--yes"});
    EXPECT_LE(quiet.syncs, 12) << "nothing to tell";
    EXPECT_LE(quiet.bytes, 400000);
  }
  // What a further save costs.
  const auto each = [](const std::map<int, Tally>& all, long Tally::*what) {
    return static_cast<double>(all.at(200).*what - all.at(100).*what) / 100;
  };
  EXPECT_LE(each(gave, &Tally::syncs), 0.2);
  constexpr double rom_bytes = 41000;
  EXPECT_LE(each(gave, &Tally::bytes), rom_bytes + 3 * 8192);
  EXPECT_LE(each(got, &Tally::syncs), 1.0);
  EXPECT_LE(each(got, &Tally::bytes), 3 * rom_bytes + 4 * 8192);  // wanted: one look at each
}

}  // namespace
}  // namespace bayswap::test
