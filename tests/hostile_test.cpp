// Trees that no tidy person made, through the binary: many files, odd names, long paths, links, clashes, no
// permission. Whatever it says, nothing outside the bay is touched, and what is carried is whole.
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

namespace fs = std::filesystem;

// Two bays of 3ds trees, with a save each of one game.
class Hostile : public DemoArcade {
 protected:
  Hostile() {
    for (const char* name : {"from", "to"}) {
      fs::create_directories(folder_ / name);
      if (bayswap({"bay", "add", name, "--like", "tree-3ds", "--root", folder_ / name}).code != 0)
        throw std::runtime_error("no bay");
      put(std::string(name) + save + "/main.bin", name);
    }
  }
  void put(const std::string& path, const std::string& bytes) const {
    const std::string whole = folder_ / path;
    fs::create_directories(fs::path(whole).parent_path());
    std::ofstream(whole, std::ios::binary) << bytes;
    const timespec then{std::time(nullptr) - 60, 0};
    const timespec times[2] = {then, then};
    utimensat(AT_FDCWD, whole.c_str(), times, 0);
  }
  [[nodiscard]] std::string get(const std::string& path) const {
    std::ifstream file(folder_ / path, std::ios::binary);
    return {std::istreambuf_iterator<char>(file), {}};
  }
  [[nodiscard]] Outcome carry(const std::vector<std::string>& more = {}) const {
    std::vector<std::string> words{"carry", "0ff99777", "--from", "from", "--to", "to", "--yes"};
    words.insert(words.end(), more.begin(), more.end());
    return bayswap(words);
  }
  // Every failure says what to do.
  static void expect_refused(const Outcome& outcome) {
    EXPECT_NE(outcome.code, 0);
    EXPECT_LE(outcome.code, 5) << outcome.code;
    EXPECT_TRUE(has(outcome.err, "What to do:"));
  }
  const std::string save = "/title/00040000/0ff99777/data/00000001";
};

TEST_F(Hostile, TenThousandFilesInASaveAreCountedPlannedAndGoOverWhole) {
  const auto name = [](int i) { return "/replays/" + std::to_string(i % 100) + "/" + std::to_string(i); };
  for (int i = 0; i < 10000; ++i) put("from" + save + name(i), std::to_string(i * 7));
  const auto listed = json({"list", "from"});
  ASSERT_EQ(listed["saves"].size(), 1U);
  EXPECT_EQ(listed["saves"][0]["files"], 10001);
  EXPECT_EQ(json({"carry", "0ff99777", "--from", "from", "--to", "to", "--dry-run"})["to"]["files"].size(),
            10001U);
  // Each file is synced: a twentieth of them has to do for the real thing.
  for (int i = 500; i < 10000; ++i) fs::remove(folder_ / ("from" + save + name(i)));
  const Outcome there = carry();
  ASSERT_EQ(there.code, 0) << there.err;
  for (int i = 0; i < 500; ++i) ASSERT_EQ(get("to" + save + name(i)), std::to_string(i * 7)) << i;
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_EQ(get("to" + save + "/main.bin"), "to");
  EXPECT_FALSE(fs::exists(folder_ / ("to" + save + name(499))));
}

TEST_F(Hostile, NamesOfAnyBytesAreCarriedAsTheyAreAndShownWithoutTricks) {
  const std::string odd = "\xc3\x28\xff caf\xe9 \x1b[31m\n.bin";
  put("from" + save + "/" + odd, "odd");
  put("from" + save + "/" + std::string(255, 'n'), "long");
  const Outcome there = carry();
  ASSERT_EQ(there.code, 0) << there.err;
  EXPECT_EQ(get("to" + save + "/" + odd), "odd");
  EXPECT_EQ(get("to" + save + "/" + std::string(255, 'n')), "long");
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"logbook"}, {"logbook", "0ff99777"}, {"list", "to"}, {"logbook", "check"}}) {
    const Outcome shown = bayswap(words);
    EXPECT_EQ(shown.code, 0) << words.back() << shown.out << shown.err;
    EXPECT_EQ((shown.out + shown.err).find('\x1b'), std::string::npos) << "an escape reached the terminal";
  }
  EXPECT_EQ(there.out.find('\x1b'), std::string::npos);
  EXPECT_EQ(json({"logbook"}).size(), 1U) << "what is shown as JSON is UTF-8";
  ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  EXPECT_FALSE(fs::exists(folder_ / ("to" + save + "/" + odd)));
}

TEST_F(Hostile, PathsLongerThanTheSystemTakesAreRefusedAndNothingIsHalfCarried) {
  std::string deep = "from" + save;
  for (int i = 0; i < 12; ++i) deep += "/" + std::string(240, 'd');
  put(deep + "/file", "deep");
  EXPECT_EQ(bayswap({"list", "from"}).code, 0);
  // At the target the same path would be over the 4096 bytes that a call takes.
  std::string far = "far";
  while ((folder_ / far).size() < 1300) far += "/" + std::string(200, 'r');
  fs::create_directories(folder_ / far);
  ASSERT_EQ(bayswap({"bay", "add", "far", "--like", "tree-3ds", "--root", folder_ / far}).code, 0);
  const Outcome refused = bayswap({"carry", "0ff99777", "--from", "from", "--to", "far", "--yes"});
  expect_refused(refused);
  EXPECT_TRUE(fs::is_empty(folder_ / far) || !fs::exists(folder_ / (far + save + "/main.bin")))
      << "what was placed before the failure is taken back";
}

TEST_F(Hostile, LinksNeverLeadAWriteOutOfTheBay) {
  put("outside/main.bin", "precious");
  put("from" + save + "/sub/inner.bin", "new");
  fs::create_directory_symlink(folder_ / "outside", folder_ / ("to" + save + "/sub"));
  expect_refused(carry());
  EXPECT_FALSE(fs::exists(folder_ / "outside/inner.bin"));
  fs::remove(folder_ / ("to" + save + "/sub"));
  // The file itself is a link to outside.
  fs::remove(folder_ / ("to" + save + "/main.bin"));
  fs::create_symlink(folder_ / "outside/main.bin", folder_ / ("to" + save + "/main.bin"));
  (void)carry();
  EXPECT_EQ(get("outside/main.bin"), "precious");
  // Loops on both sides only cost nothing.
  fs::create_directory_symlink(folder_ / ("from" + save), folder_ / ("from" + save + "/loop"));
  fs::create_directory_symlink(folder_ / "to", folder_ / "to/title/loop");
  EXPECT_EQ(bayswap({"list", "from"}).code, 0);
  EXPECT_EQ(bayswap({"list", "to"}).code, 0);
}

TEST_F(Hostile, NamesThatDifferInCaseAloneStayTwo) {
  put("from" + save + "/Main.bin", "upper");
  put("from" + save + "/main.bin", "lower");
  const Outcome there = carry();
  ASSERT_EQ(there.code, 0) << there.err;
  EXPECT_EQ(get("to" + save + "/Main.bin"), "upper");
  EXPECT_EQ(get("to" + save + "/main.bin"), "lower");
}

TEST_F(Hostile, FoldersThatMayNotBeReadOrWrittenAreNamed) {
  if (geteuid() == 0) {
    // Root may do anything: a file where a folder should be has to do.
    fs::remove_all(folder_ / ("to" + save));
    put("to" + save, "a file in the way");
    expect_refused(carry());
    EXPECT_EQ(get("to" + save), "a file in the way");
    return;
  }
  chmod((folder_ / ("to" + save)).c_str(), 0500);
  expect_refused(carry());
  EXPECT_EQ(get("to" + save + "/main.bin"), "to");
  chmod((folder_ / ("to" + save)).c_str(), 0700);
}

}  // namespace
}  // namespace bayswap::test
