// What is asked on a terminal, and what comes of the answers.
#include <filesystem>

#include "support/demo_arcade.hpp"
#include "support/terminal.hpp"

namespace bayswap::test {
namespace {

class Terminal : public DemoArcade {
 protected:
  Session session(std::vector<std::string> words, const Answers& answers,
                  std::map<std::string, std::string> environment = {}) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    environment["BAYSWAP_HOME"] = path("home");
    environment["TZ"] = "UTC";
    return run_in_terminal(words, folder_.path(), environment, answers);
  }
  [[nodiscard]] std::size_t entries() const { return json({"logbook"}).size(); }
  const std::vector<std::string> skiff_{"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv"};
  const std::string light_ = "clubroom-console/usr/save/00050000/1ff99300/user/";
  const std::string hashed_ = "home-trees/save/9e3779b9/user/";
};

TEST_F(Terminal, NothingIsDoneWithoutAYes) {
  const Blob own = read(tv_save);
  for (const char* answer :
       {"n\n", "\n", "perhaps\n", "no, and not at all: yyyyyyyyyyyyyyyyyyyyyyy\n", "\x04"}) {
    const Session no = session(skiff_, {{"?", answer}});
    EXPECT_EQ(no.code, 3) << no.seen;
    EXPECT_EQ(read(tv_save), own);
  }
  EXPECT_EQ(entries(), 0U);
  const Session yes = session(skiff_, {{"?", "y\n"}});
  EXPECT_EQ(yes.code, 0) << yes.seen;
  EXPECT_NE(read(tv_save), own);
  EXPECT_EQ(entries(), 1U);
}

TEST_F(Terminal, CtrlCAtTheQuestionLeavesEverythingAsItWas) {
  const Blob own = read(tv_save);
  const Session stopped = session(skiff_, {{"?", "\x03"}});
  EXPECT_NE(stopped.code, 0);
  EXPECT_TRUE(has(stopped.seen, "interrupted"));
  EXPECT_EQ(read(tv_save), own);
  EXPECT_EQ(session(skiff_, {{"?", "y\n"}}).code, 0) << "and nothing stays locked";
}

TEST_F(Terminal, WhichSaveIsMeantIsAskedAndABatchIsShownBeforeItsQuestion) {
  write("bench/roms/Lantern Skiff 2.z64", n64_rom({.title = "LANTERN SKIFF 2", .code = "N98P"}));
  write("bench/dumps/N98P.sra", noise(32768, 5));
  const Session which =
      session({"carry", "lantern", "--from", "bench", "--to", "quay-tv", "--accept", "newer"},
              {{"Which one?", "2\n"}, {"[y", "n\n"}});
  EXPECT_EQ(which.code, 3) << which.seen;
  EXPECT_TRUE(has(which.seen, "dumps/N98P.sra"));
  EXPECT_TRUE(has(which.seen, "from bench to quay-tv")) << "one of them is planned";
  const Session all = session({"carry", "--all", "--from", "bench", "--to", "quay-tv"}, {{"[y", "n\n"}});
  EXPECT_EQ(all.code, 3) << all.seen;
  EXPECT_LT(all.seen.find("MOTH COURIER"), all.seen.find("Carry "));
  EXPECT_EQ(entries(), 0U);
}

TEST_F(Terminal, WhoseSaveItIsIsAskedOnBothSidesAndRemembered) {
  // A second player at the console: now both sides have a choice.
  write(light_ + "80000002/save.bin", noise(2500, 12));
  const std::vector<std::string> carry{"carry", "AHLP",       "--from",   "clubroom-console",
                                       "--to",  "home-trees", "--accept", "newer"};
  const Blob first = read(hashed_ + "80000011/save.bin");
  const Session asked = session(carry, {{"80000002", "2\n"}, {"80000012", "2\n"}, {"[y", "y\n"}});
  ASSERT_EQ(asked.code, 0) << asked.seen;
  EXPECT_TRUE(has(asked.seen, "Which account of clubroom-console has it?"));
  EXPECT_TRUE(has(asked.seen, "Which account in home-trees gets it?"));
  EXPECT_EQ(read(hashed_ + "80000012/save.bin"), noise(2500, 12));
  EXPECT_EQ(read(hashed_ + "80000011/save.bin"), first) << "the other player's is not touched";
  EXPECT_TRUE(has(text_of(read("home/accounts.toml")), "80000012"));
  // Asked once: the next time only the yes.
  write(light_ + "80000002/save.bin", noise(2500, 13));
  const Session again = session(carry, {{"[y", "y\n"}});
  EXPECT_EQ(again.code, 0) << again.seen;
  EXPECT_EQ(again.seen.find("Whose"), std::string::npos);
  EXPECT_EQ(read(hashed_ + "80000012/save.bin"), noise(2500, 13));
  // No answer is a no.
  write(light_ + "80000001/save.bin", noise(2500, 14));
  std::filesystem::remove(path("home/accounts.toml"));
  const Session none = session(carry, {{"80000002", "\n"}});
  EXPECT_EQ(none.code, 3) << none.seen;
}

TEST_F(Terminal, ColoursAreForTerminalsThatWantThem) {
  const std::vector<std::string> words{"bay", "list"};
  EXPECT_NE(session(words, {}).seen.find("\x1b["), std::string::npos);
  EXPECT_EQ(session(words, {}, {{"NO_COLOR", "1"}}).seen.find('\x1b'), std::string::npos);
  EXPECT_EQ(bayswap(words).out.find('\x1b'), std::string::npos);
}

TEST_F(Terminal, LinesKeepToItsWidth) {
  auto dry = skiff_;
  dry.emplace_back("--dry-run");
  const Session plan = session(dry, {}, {{"NO_COLOR", "1"}});
  ASSERT_EQ(plan.code, 0) << plan.seen;
  std::istringstream lines(plan.seen);
  for (std::string line; std::getline(lines, line);) {
    if (line.ends_with('\r')) line.pop_back();
    // A path without a space can't be folded.
    EXPECT_TRUE(line.size() <= 100 || line.find('/') != std::string::npos) << line;
  }
}

TEST_F(Terminal, ATableTooWideHasItsLastColumnBelow) {
  const std::vector<std::string> words{"list", "home-trees"};
  const std::string plain = bayswap(words).out;
  EXPECT_TRUE(has(plain, "good    content/E000B22D00000002")) << "one line a save where nobody looks";
  for (int i = 0; i < 2; ++i) {  // the second time from what is remembered
    const Session scan = session(words, {}, {{"NO_COLOR", "1"}});
    EXPECT_TRUE(has(scan.seen, "good\r\n      content/E000B22D00000002/5A5A0993/00000001/jetty\r\n"));
  }
  EXPECT_EQ(bayswap(words).out, plain);
}

TEST_F(Terminal, EverythingThatDiffersIsCountedAlong) {
  const Session all = session({"carry", "--all", "--from", "ferry-sd", "--to", "locker-sd"}, {{"?", "y\n"}});
  EXPECT_LE(all.code, 3) << all.seen;
  EXPECT_TRUE(has(all.seen, "carried"));
}

}  // namespace
}  // namespace bayswap::test
