// The process is killed, or the disk fills up, at every call that changes a disk: whatever happens, the
// target is the old or the new file, whole, the old bytes are to be had, and the same command run again
// succeeds.
#include <filesystem>
#include <fstream>
#include <random>

#include <sys/wait.h>
#include <unistd.h>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

class Kill : public DemoArcade, public testing::WithParamInterface<std::string> {
 protected:
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
  void fresh_home() const {
    std::filesystem::remove_all(path("home/logbook"));
    write(tv_save, own_);
  }
  // The old bytes are what the target holds, or the logbook gives them back.
  void expect_old_bytes_safe(int at) const {
    const Blob now = read(tv_save);
    ASSERT_TRUE(now == own_ || now == carried_) << "neither old nor new at call " << at;
    if (now == own_) return;
    const Outcome undone = bayswap({"undo", "--yes"});
    ASSERT_EQ(undone.code, 0) << "call " << at << ": " << undone.err;
    EXPECT_EQ(read(tv_save), own_) << "call " << at;
  }
  const std::vector<std::string> there_{"carry", "Lantern Skiff", "--from", "bench",
                                        "--to",  "quay-tv",       "--yes"};
  const Blob own_ = read(tv_save);
  const Blob carried_ =
      joined({own_.slice(0, 133120), words_reversed(read(dump)), own_.slice(165888, 131072)});
};

TEST_P(Kill, ACarryAtEveryCall) {
  ASSERT_EQ(bayswap(there_, failpoint(0)).code, 0);
  const int total = calls();
  ASSERT_GT(total, 20);
  for (int at = 1; at <= total; ++at) {
    fresh_home();
    const Outcome stopped = bayswap(there_, failpoint(at));
    if (GetParam() == "error") {
      EXPECT_TRUE(stopped.code == 0 || stopped.code == 5) << at << ": " << stopped.code << stopped.err;
      EXPECT_TRUE(stopped.code != 0 || read(tv_save) == carried_) << at;
    } else {
      EXPECT_EQ(stopped.code, 128 + SIGKILL) << at;
    }
    expect_old_bytes_safe(at);
    const Outcome again = bayswap(there_);
    ASSERT_EQ(again.code, 0) << at << ": " << again.err;
    EXPECT_EQ(read(tv_save), carried_) << at;
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(path("quay-tv/saves")), {}), 1)
        << "nothing left lying about";
  }
}

TEST_P(Kill, AnUndoAtEveryCall) {
  for (int at = 1, total = 1; at <= total; ++at) {
    fresh_home();
    ASSERT_EQ(bayswap(there_).code, 0);
    (void)bayswap({"undo", "1", "--yes"}, failpoint(at));
    if (at == 1) {
      fresh_home();
      ASSERT_EQ(bayswap(there_).code, 0);
      ASSERT_EQ(bayswap({"undo", "1", "--yes"}, failpoint(0)).code, 0);
      total = calls();
      ASSERT_GT(total, 10);
      continue;
    }
    const Blob now = read(tv_save);
    ASSERT_TRUE(now == own_ || now == carried_) << at;
    ASSERT_EQ(bayswap({"undo", "1", "--yes"}).code, 0) << at;
    EXPECT_EQ(read(tv_save), own_) << at;
  }
}

INSTANTIATE_TEST_SUITE_P(Modes, Kill, testing::Values("kill", "kill-after", "torn", "error"),
                         [](const auto& row) {
                           std::string name = row.param;
                           std::erase(name, '-');
                           return name;
                         });

// Folders of files, downloads, versions brought back and pruned: at every call, every file of both bays is
// what it was or what it becomes, the logbook is sound, and the same again succeeds.
struct Deed {
  std::string name;
  std::vector<std::string> words;
  std::string folder = "home-trees";  // what it changes
  bool makes_new = false;             // a file that must not exist
};
void PrintTo(const Deed& deed, std::ostream* out) {
  *out << deed.name;
}

class KillDeeds : public DemoArcade, public testing::WithParamInterface<Deed> {
 protected:
  using Files = std::map<std::string, std::string>;
  Files files() const {
    Files found;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(path(GetParam().folder))) {
      // Of the home folder only what is in it counts, not that it was opened.
      const std::string name = entry.path().filename().string();
      if (!entry.is_regular_file() || name.starts_with(".bayswap-") || name.starts_with("index.sqlite") ||
          name == "lock")
        continue;
      std::ifstream file(entry.path(), std::ios::binary);
      found[entry.path().string()] = {std::istreambuf_iterator<char>(file), {}};
    }
    return found;
  }
  std::vector<std::string> words() const {
    std::vector<std::string> words = GetParam().words;
    for (std::string& word : words)
      if (word.starts_with("@")) word = path(word.substr(1));
    return words;
  }
  std::map<std::string, std::string> failpoint(const std::string& set, int at,
                                               const std::string& mode) const {
    return {{"LD_PRELOAD", BAYSWAP_FAILPOINT},
            {"FAILPOINT_LOG", folder_ / "calls"},
            {"FAILPOINT_SET", set},
            {"FAILPOINT_AT", std::to_string(at)},
            {"FAILPOINT_MODE", mode}};
  }
  // Runs the deed undisturbed, and counts.
  int calls_of(const std::string& set) const {
    const Outcome whole = bayswap(words(), failpoint(set, 0, "kill"));
    EXPECT_EQ(whole.code, 0) << whole.err;
    int total = 0;
    std::ifstream(folder_ / "calls") >> total;
    EXPECT_GT(total, 5);
    return total;
  }
  void expect_done_by_the_same_again(const Files& after, const std::string& set, int at) const {
    const bool is_there = GetParam().makes_new && files() == after;
    const Outcome again = bayswap(words());
    ASSERT_TRUE(again.code == 0 || (is_there && has(again.err, "exists already")))
        << set << " " << at << ": " << again.err;
    const Files now = files();
    for (const auto& [name, bytes] : after)
      EXPECT_TRUE(now.contains(name) && now.at(name) == bytes)
          << set << " " << at << ": " << name
          << (now.contains(name) ? " differs: " + now.at(name) : " is missing");
    EXPECT_EQ(now.size(), after.size()) << set << " " << at;
    const Outcome check = bayswap({"logbook", "check"});
    ASSERT_EQ(check.code, 0) << set << " " << at << ": " << check.out << check.err;
  }
  void prepare() const {
    for (const char* account : {"80000011", "80000012"})
      ASSERT_EQ(bayswap({"carry", "AHLP", "--from", "clubroom-console", "--to", "home-trees", "--account",
                         std::string("80000001=") + account, "--yes"})
                    .code,
                0);
    ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);  // so that there is something to prune
    ASSERT_EQ(bayswap({"card", "make", "ps1", path("clubroom/cards/other.card")}).code, 0);
    ASSERT_EQ(bayswap({"logbook", "export", path("clubroom/logbook-of-another")}).code, 0);
    std::filesystem::create_directory(folder_ / "kept");
    for (const std::string& name : {GetParam().folder, std::string("home")})
      std::filesystem::copy(path(name), folder_ / ("kept/" + name), std::filesystem::copy_options::recursive);
  }
  // The world as it was made, with one carry done; from a copy, which is faster than making it.
  void fresh() const {
    const auto copy =
        std::filesystem::copy_options::recursive | std::filesystem::copy_options::overwrite_existing;
    for (const std::string& name : {GetParam().folder, std::string("home")}) {
      std::filesystem::remove_all(path(name));
      std::filesystem::copy(folder_ / ("kept/" + name), path(name), copy);
    }
    for (const auto& entry : std::filesystem::recursive_directory_iterator(path(GetParam().folder)))
      if (entry.is_regular_file())
        std::filesystem::last_write_time(
            entry.path(), std::filesystem::file_time_type::clock::now() - std::chrono::hours(1));
  }
};
INSTANTIATE_TEST_SUITE_P(
    Deeds, KillDeeds,
    testing::Values(
        Deed{"carry", {"carry", "Brine", "--from", "ferry-sd", "--to", "home-trees", "--exact", "--yes"}},
        Deed{
            "carry_all", {"carry", "--all", "--from", "ferry-sd", "--to", "locker-sd", "--yes"}, "locker-sd"},
        Deed{"carry_outside",
             {"carry", "--outside", "@clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty",
              "--to", "home-trees", "--yes"}},
        Deed{"restore", {"restore", "Harbour", "--entry", "1", "--before", "--yes"}},
        Deed{"prune", {"logbook", "prune", "--keep", "1", "--per-save", "--yes"}},
        Deed{"backup", {"backup", "home-trees"}},
        Deed{"export", {"logbook", "export", "@clubroom/exported"}, "clubroom"},
        Deed{"import",
             {"logbook", "import", "@clubroom/logbook-of-another", "--home", "@clubroom/home-of-another"},
             "clubroom"},
        Deed{"take",
             {"card", "export", "@clubroom/cards/saltglass.card", "BESLPS-99001IDA", "--out",
              "@clubroom/cards/ida.parcel"},
             "clubroom",
             true},
        Deed{"card",
             {"card", "copy", "@clubroom/cards/saltglass.card", "--all", "@clubroom/cards/other.card",
              "--replace"},
             "clubroom"},
        Deed{"convert",
             {"convert", "@bench/dumps/N99P.sra", "--to", "n64.combined", "--base",
              "@quay-tv/saves/Lantern Skiff (Europe).srm", "--out",
              "@quay-tv/saves/Lantern Skiff (Europe).srm", "--replace"},
             "quay-tv"}),
    [](const auto& row) { return row.param.name; });

TEST_P(KillDeeds, AtEveryCall) {
  prepare();
  fresh();
  const Files before = files();
  const int total = calls_of("writes");
  const Files after = files();
  const std::vector<std::string> modes{"kill", "kill-after", "torn", "error"};
  for (int at = 1; at <= total; ++at) {
    fresh();
    (void)bayswap(words(), failpoint("writes", at, modes[static_cast<std::size_t>(at) % modes.size()]));
    for (const auto& [name, bytes] : files()) {
      const bool old = before.contains(name) && before.at(name) == bytes;
      const bool made = after.contains(name) && after.at(name) == bytes;
      ASSERT_TRUE(old || made) << at << ": " << name;
    }
    for (const auto& [name, bytes] : before)
      ASSERT_TRUE(!after.contains(name) || std::filesystem::exists(name)) << at << ": " << name;
    expect_done_by_the_same_again(after, "writes", at);
  }
}

// Every way in which a call can fail short of ending the process, at every call that changes or reads
// something: no file is half, what is said is true, the logbook is sound, and the same again succeeds.
TEST_P(KillDeeds, EveryErrorAtEveryCall) {
  prepare();
  const std::vector<int> numbers{EIO, ENOSPC, EINTR, EACCES, EMFILE, EPERM, ENOLCK};
  std::size_t turn = 0;
  for (const char* set : {"writes", "reads"}) {
    fresh();
    const Files before = files();
    const int total = calls_of(set);
    const Files after = files();
    const int step = std::max(1, total / 120);  // thousands of reads: every so many, with another error each
    for (int at = 1; at <= total; at += step, ++turn) {
      fresh();
      const bool is_short = turn % (numbers.size() + 1) == numbers.size();
      auto environment = failpoint(set, at, is_short ? "short" : "error");
      environment["FAILPOINT_ERRNO"] = std::to_string(numbers[turn % numbers.size()]);
      SCOPED_TRACE(std::string(set) + " call " + std::to_string(at) + (is_short ? ", short" : ", errno ") +
                   environment["FAILPOINT_ERRNO"]);
      const Outcome outcome = bayswap(words(), environment);
      ASSERT_LE(outcome.code, 5) << outcome.err;
      const Files now = files();
      if (outcome.code == 0) {
        ASSERT_TRUE(now == after) << "done was said";
      } else {
        ASSERT_TRUE(outcome.code == 1 || has(outcome.err, "What to do:")) << outcome.err;
      }
      if (has(outcome.err, "verything is as it was") || has(outcome.err, "othing was changed")) {
        ASSERT_TRUE(now == before || now == after) << outcome.err;
      }
      for (const auto& [name, bytes] : now)
        ASSERT_TRUE((before.contains(name) && before.at(name) == bytes) ||
                    (after.contains(name) && after.at(name) == bytes))
            << name;
      expect_done_by_the_same_again(after, set, at);
    }
  }
}

// Where the system starts no more threads, one does the work, and the answer is the same.
class Threads : public DemoArcade {};

TEST_F(Threads, WithoutAnyTheAnswersAreTheSame) {
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"inspect", folder_ / "locker"},
           {"list", "home-trees"},
           {"bay", "look", folder_ / "home-pc"},
           {"state", "list", "home-pc"},
           {"carry", "--all", "--from", "clubroom", "--to", "home-trees", "-n"}}) {
    const Outcome usual = bayswap(words);
    const Outcome alone = bayswap(words, {{"LD_PRELOAD", BAYSWAP_FAILPOINT}, {"FAILPOINT_THREADS", "none"}});
    EXPECT_EQ(alone.code, usual.code) << words.front();
    EXPECT_EQ(alone.out, usual.out) << words.front();
    EXPECT_EQ(alone.err, usual.err) << words.front();
  }
}

// A lost index is made again whole, or not at all: whenever that is stopped, no entry is missing afterwards.
class LostIndex : public DemoArcade {};
TEST_F(LostIndex, IsMadeAgainWhole) {
  for (int i = 0; i < 3; ++i) {
    ASSERT_EQ(bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
    ASSERT_EQ(bayswap({"undo", "--yes"}).code, 0);
  }
  const auto ids = [this] {
    std::vector<int> found;
    for (const auto& entry : json({"logbook"})) found.push_back(entry["id"]);
    return found;
  };
  const auto all = ids();
  ASSERT_EQ(all.size(), 6U);
  const std::vector<std::string> modes{"kill", "kill-after", "torn", "error"};
  int total = 1;
  for (int at = 0; at <= total; ++at) {
    for (const char* name : {"index.sqlite", "index.sqlite-journal"})
      std::filesystem::remove(path("home/logbook/") + name);
    (void)bayswap({"logbook", "check"},
                  {{"LD_PRELOAD", BAYSWAP_FAILPOINT},
                   {"FAILPOINT_LOG", folder_ / "calls"},
                   {"FAILPOINT_AT", std::to_string(at)},
                   {"FAILPOINT_MODE", modes[static_cast<std::size_t>(at) % modes.size()]}});
    if (at == 0) std::ifstream(folder_ / "calls") >> total;
    ASSERT_EQ(ids(), all) << "stopped at call " << at << " of " << total;
    ASSERT_EQ(bayswap({"logbook", "check"}).code, 0);
  }
  EXPECT_GT(total, 5);
  // An index that lost entries on its own: their records are never written over.
  const Outcome more = bayswap({"carry", "Lantern Skiff", "--from", "bench", "--to", "quay-tv", "--yes"});
  ASSERT_EQ(more.code, 0) << more.err;
  EXPECT_EQ(ids().front(), 7);
}

TEST_F(DemoArcade, SurvivesBeingKilledAtRandomTimes) {
  const Blob own = read(tv_save);
  const Blob carried = joined({own.slice(0, 133120), words_reversed(read(dump)), own.slice(165888, 131072)});
  std::mt19937 dice(2031);
  int stopped = 0;
  for (int i = 0; i < 150; ++i) {
    const pid_t child = fork();
    if (child == 0) {
      setenv("BAYSWAP_HOME", path("home").c_str(), 1);
      if (std::freopen("/dev/null", "w", stdout) == nullptr ||
          std::freopen("/dev/null", "w", stderr) == nullptr)
        _exit(126);
      if (i % 2 == 0)
        execl(BAYSWAP_BINARY, "bayswap", "carry", "N99P", "--from", "bench", "--to", "quay-tv", "--yes",
              nullptr);
      else
        execl(BAYSWAP_BINARY, "bayswap", "undo", "--yes", nullptr);
      _exit(127);
    }
    usleep(static_cast<useconds_t>(dice() % 25000));
    kill(child, SIGKILL);
    int status = 0;
    ASSERT_EQ(waitpid(child, &status, 0), child);
    stopped += WIFSIGNALED(status) ? 1 : 0;
    const Blob now = read(tv_save);
    ASSERT_TRUE(now == own || now == carried) << "round " << i;
  }
  EXPECT_GT(stopped, 0);
  ASSERT_EQ(bayswap({"carry", "N99P", "--from", "bench", "--to", "quay-tv", "--yes"}).code, 0);
  EXPECT_EQ(read(tv_save), carried);
  for (const auto& entry : json({"logbook"})) EXPECT_NE(entry["state"], "begun");
}

}  // namespace
}  // namespace bayswap::test
