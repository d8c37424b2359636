// Completion, in a real bash: what is offered for a line that somebody has typed so far.
#include <gtest/gtest.h>
#include <bayswap/card.hpp>

#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "support/cards.hpp"
#include "support/demo_arcade.hpp"

namespace bayswap::test {
namespace {

class Completion : public DemoArcade {
 protected:
  // Sources the script, puts the line in bash's variables as it does when Tab is pressed, and calls the
  // function.
  std::set<std::string> offered(const std::vector<std::string>& words) const {
    std::string line = "source '" + std::string(BAYSWAP_SOURCE_DIR) +
                       "/data/completions/bayswap.bash'; compopt() { :; }; COMP_WORDS=(";
    for (const std::string& word : words) line += "'" + word + "' ";
    line += "); COMP_CWORD=" + std::to_string(words.size() - 1) +
            "; _bayswap; printf '%s\\n' \"${COMPREPLY[@]}\"";
    const std::string folder = std::filesystem::path(BAYSWAP_BINARY).parent_path();
    const Outcome outcome = run_process({"/bin/bash", "--norc", "-c", "PATH='" + folder + "':$PATH; " + line},
                                        folder_.path(), {{"BAYSWAP_HOME", path("home")}, {"TZ", "UTC"}});
    EXPECT_EQ(outcome.code, 0) << outcome.err;
    EXPECT_EQ(outcome.err, "");
    std::set<std::string> lines;
    std::istringstream stream(outcome.out);
    for (std::string one; std::getline(stream, one);)
      if (!one.empty()) lines.insert(one);
    return lines;
  }
  void offers(const std::vector<std::string>& words, const std::vector<std::string>& wanted,
              const std::vector<std::string>& unwanted = {}) const {
    const auto all = offered(words);
    std::string text;
    for (const std::string& one : all) text += one + "\n";
    for (const std::string& one : wanted) EXPECT_TRUE(all.contains(one)) << one << " is not in:\n" << text;
    for (const std::string& one : unwanted) EXPECT_FALSE(all.contains(one)) << one << " is in:\n" << text;
  }
};

TEST_F(Completion, OffersWhatCanComeNext) {
  offers({"bayswap", ""}, {"carry", "bay", "undo", "help"}, {"__complete", "--json"});
  offers({"bayswap", "ca"}, {"card", "carry", "cart"}, {"bay"});
  offers({"bayswap", "bay", ""}, {"look", "add", "show"});
  offers({"bayswap", "carry", "--"}, {"--from", "--to", "--dry-run", "--json"}, {"--forms"});
  offers({"bayswap", "list", ""}, {"quay-tv", "home-pc"});
  offers({"bayswap", "carry", "--from", "q"}, {"quay-tv"}, {"home-pc"});
  offers({"bayswap", "bay", "add", "x", "--like", "tree"}, {"tree-psp", "tree-3ds"});
  offers({"bayswap", "convert", "x.sav", "--to", "n64."}, {"n64.combined"}, {"gb.raw"});
  offers({"bayswap", "carry", "x", "--region", "eu"}, {"europe"});
  offers({"bayswap", "carry", "x", "--accept", "new"}, {"newer"});
  offers({"bayswap", "help", ""}, {"places", "json", "carry"});
  offers({"bayswap", "carry", "--from", "quay-tv", "Lan"}, {"Lantern\\ Skiff\\ \\(Europe\\)"});
  offers({"bayswap", "card", "list", "w/clubroom/car"}, {"w/clubroom/cards"});
  offers({"bayswap", "nonsense", "--what", ""}, {});
  const auto card = open_card(read("clubroom/cards/saltglass.card"));
  ASSERT_TRUE(card);
  offers({"bayswap", "card", "export", "w/clubroom/cards/saltglass.card", ""},
         {(*card)->entries().front().name});
}

TEST_F(Completion, OfALargeBayTakesNoLongerThanAnEyeBlinks) {
  const std::string root = path("large");
  std::filesystem::create_directories(root + "/saves");
  std::filesystem::create_directories(root + "/roms");
  for (int i = 0; i < 2000; ++i) {
    std::ofstream(root + "/saves/Game " + std::to_string(i) + ".srm") << std::string(64, 'x');
  }
  ASSERT_EQ(bayswap({"bay", "add", "large", "--like", "stem-folder", "--root", root}).code, 0);
  const Outcome all =
      run_process({BAYSWAP_BINARY, "__complete", "4", "bayswap", "carry", "--from", "large", "Game 19"},
                  folder_.path(), {{"BAYSWAP_HOME", path("home")}});
  EXPECT_TRUE(has(all.out, "Game 1999"));
  // As yardsticks: the same process with nothing to list, for what the sanitizers cost, and as many names
  // listed by another program. A twelfth of this is what a list a rule took.
  const Outcome started = run_process({BAYSWAP_BINARY, "__complete", "2", "bayswap", "carr"}, folder_.path(),
                                      {{"BAYSWAP_HOME", path("home")}});
  const Outcome listed =
      run_process({"/bin/bash", "-c", "ls -l " + root + "/saves | wc -l"}, folder_.path(), {});
  EXPECT_LT(all.cpu_seconds, 3 * started.cpu_seconds + 3 * listed.cpu_seconds);
}

TEST_F(Completion, NeverFailsAndNeverWrites) {
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{},
                                             {"x"},
                                             {"0"},
                                             {"-1"},
                                             {"99999999999999999999"},
                                             {"1"},
                                             {"1", "bayswap"},
                                             {"7", "bayswap", "card", "export", "gone"},
                                             {"3", "bayswap", "--home", "/nowhere", ""}}) {
    std::vector<std::string> all{BAYSWAP_BINARY, "__complete"};
    all.insert(all.end(), words.begin(), words.end());
    const Outcome outcome = run_process(all, folder_.path(), {{"BAYSWAP_HOME", folder_ / "none"}});
    EXPECT_EQ(outcome.code, 0);
    EXPECT_EQ(outcome.err, "");
  }
  EXPECT_FALSE(std::filesystem::exists(folder_ / "none"));
}

}  // namespace
}  // namespace bayswap::test
