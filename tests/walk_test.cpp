// Every command as somebody walks it who does not know it yet: help, a typo, and input that is not what it
// should be. Each time there is an exit code that says so, a sentence on what to do next, and every file as
// it was.
#include <sys/stat.h>

#include <filesystem>
#include <fstream>
#include <set>

#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

namespace fs = std::filesystem;

class Walk : public DemoArcade {
 protected:
  // The commands below `words`, as the help lists them: indented names after the heading.
  std::vector<std::string> commands_below(std::vector<std::string> words) const {
    words.emplace_back("--help");
    const Outcome help = bayswap(words);
    EXPECT_EQ(help.code, 0) << help.err;
    EXPECT_TRUE(has(help.out, "Usage: bayswap"));
    std::vector<std::string> names;
    std::istringstream lines(help.out);
    bool inside = false;
    for (std::string line; std::getline(lines, line);) {
      // "Subcommands:", or the name of a group.
      if (line.ends_with(':') && !line.starts_with(' '))
        inside = line != "Options:" && line != "Positionals:" && line != "Examples:";
      if (line.empty()) inside = false;  // examples come after it
      if (!inside || !line.starts_with("  ") || line.size() < 3 || line[2] == ' ') continue;
      names.push_back(line.substr(2, line.find(' ', 2) - 2));
    }
    return names;
  }
  std::map<std::string, std::string> everything() const {
    std::map<std::string, std::string> files;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path())) {
      if (!entry.is_regular_file() || entry.path().string().find("/home/") != std::string::npos) continue;
      std::ifstream file(entry.path(), std::ios::binary);
      files[entry.path().string()] = {std::istreambuf_iterator<char>(file), {}};
    }
    return files;
  }
};

TEST_F(Walk, EveryCommandHelpsAndNamesATypo) {
  std::set<std::string> seen;
  std::vector<std::vector<std::string>> open{{}};
  while (!open.empty()) {
    const std::vector<std::string> words = open.back();
    open.pop_back();
    for (const std::string& name : commands_below(words)) {
      auto whole = words;
      whole.push_back(name);
      std::string path = "bayswap";
      for (const std::string& word : whole) path += " " + word;
      SCOPED_TRACE(path);
      ASSERT_TRUE(seen.insert(path).second);
      auto typo = whole;
      typo.emplace_back("--no-such-option");
      const Outcome odd = bayswap(typo);
      EXPECT_EQ(odd.code, 2) << odd.out;
      EXPECT_TRUE(has(odd.err, "What to do:"));
      open.push_back(whole);
    }
  }
  EXPECT_GE(seen.size(), 30U) << "the whole tree of commands was walked";
}

TEST_F(Walk, InputThatIsNotWhatItShouldBeIsNamedAndNothingIsTouched) {
  fs::create_directory(folder_ / "in");
  const auto input = [&](const std::string& name) { return folder_ / ("in/" + name); };
  const auto put = [&](const std::string& name, const Blob& bytes) {
    ASSERT_TRUE(LocalStore().replace(input(name), bytes.view()));
  };
  put("empty", Blob());
  put("one-byte", noise(1, 1));
  put("noise", noise(100003, 2));
  put("cut-card", read("clubroom/cards/saltglass.card").slice(0, 70001));
  put("cut-package",
      read("clubroom-drive/content/E000A11D00000001/5A5A0993/00000001/jetty").slice(0, 0x9000));
  put("cut-archive.zip", joined({text_blob("PK\x03\x04"), noise(500, 3)}));
  ASSERT_EQ(mkfifo(input("pipe").c_str(), 0600), 0);
  fs::create_directory(input("folder"));
  fs::create_symlink(input("nowhere"), input("dangling"));
  std::vector<std::string> inputs{"/dev/zero", input("missing"), input("missing/below")};
  for (const char* name : {"empty", "one-byte", "noise", "cut-card", "cut-package", "cut-archive.zip", "pipe",
                           "folder", "dangling"})
    inputs.push_back(input(name));
  // @ is the input. All of them want a sound file of their own kind.
  const std::vector<std::vector<std::string>> commands{
      {"convert", "@", "--from", "n64.combined", "--to", "n64.separate", "--out", "out/"},
      {"convert", "@", "--to", "gba.flash", "--out", "out/x"},
      {"infer", "@", "bench/dumps/N99P.sra", "--id", "gba.mine"},
      {"card", "list", "@"},
      {"card", "export", "@", "X", "--out", "out/"},
      {"card", "check", "@"},
      {"card", "remove", "--yes", "@", "X"},
      {"card", "restamp", "@", "X", "--region", "japan"},
      {"card", "rescue", "@", "--out", "out/r"},
      {"card", "picture", "@", "--out", "out/p"},
      {"card", "import", "w/clubroom/cards/saltglass.card", "@"},
      {"card", "copy", "@", "X", "w/clubroom/cards/saltglass.card"},
      {"carry", "--outside", "@", "--to", "home-trees", "--yes"},
      {"carry", "@", "--from", "bench", "--to", "quay-tv", "--yes"},
      {"list", "@"},
      {"logbook", "import", "@"},
      {"layouts", "@"},
  };
  const auto before = everything();
  for (const auto& command : commands)
    for (const std::string& file : inputs) {
      auto words = command;
      std::ranges::replace(words, std::string("@"), file);
      std::string path;
      for (const std::string& word : words) path += word + " ";
      SCOPED_TRACE(path);
      const Outcome outcome = bayswap(words);
      EXPECT_GE(outcome.code, 1) << outcome.out;
      EXPECT_LE(outcome.code, 5) << outcome.out << outcome.err;
      // A check that finds problems says them on stdout, as what was asked for.
      EXPECT_TRUE(outcome.err.find("What to do:") != std::string::npos || outcome.code == 1) << outcome.err;
      if (command[1] == "rescue" && file.ends_with("cut-card")) {  // just what it is for
        EXPECT_EQ(outcome.code, 1);
        EXPECT_EQ(fs::remove_all(folder_ / "out"), 2U);
      }
      EXPECT_FALSE(fs::exists(folder_ / "out")) << "nothing half-written";
    }
  EXPECT_TRUE(everything() == before) << "every file is as it was";
  // Looking is never a failure as long as there is something to look at.
  for (const std::string& file : {input("empty"), input("noise"), input("cut-card"), input("folder")}) {
    const Outcome seen = bayswap({"inspect", file});
    EXPECT_TRUE(seen.code == 0 || seen.code == 4) << file << seen.err;
  }
}

}  // namespace
}  // namespace bayswap::test
