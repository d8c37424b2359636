// Whatever the program advises can be typed: commands in the sources, and what errors offer, tried.
#include <filesystem>
#include <fstream>
#include <regex>
#include <set>

#include "support/first_day.hpp"
#include "support/made_up_saves.hpp"

namespace bayswap::test {
namespace {

// Words as a shell splits them; quotes are single ones.
std::vector<std::string> shell_words(const std::string& text) {
  std::vector<std::string> words;
  std::string word;
  bool is_quoted = false;
  bool is_any = false;
  for (const char c : text) {
    if (c == '\'') {
      is_quoted = !is_quoted;
      is_any = true;
    } else if (c == ' ' && !is_quoted) {
      if (is_any) words.push_back(word);
      word.clear();
      is_any = false;
    } else {
      word += c;
      is_any = true;
    }
  }
  if (is_any) words.push_back(word);
  return words;
}

// What is in `quotes like these` and begins with the program's name, without it.
std::vector<std::vector<std::string>> commands_in(const std::string& text) {
  static const std::regex quoted("`bayswap ([^`]*)`");
  std::vector<std::vector<std::string>> found;
  for (std::sregex_iterator one(text.begin(), text.end(), quoted), end; one != end; ++one)
    found.push_back(shell_words((*one)[1].str()));
  return found;
}

class Remedies : public FirstDay {
 protected:
  // The options of a command, by its help; nothing if there is no such command.
  const std::set<std::string>* options_of(const std::vector<std::string>& command) {
    std::string key;
    for (const std::string& word : command) key += word + " ";
    const auto [known, is_new] = options_.try_emplace(key);
    if (is_new) {
      auto words = command;
      words.emplace_back("--help");
      const Outcome help = bayswap(words);
      std::string usage = "Usage: bayswap";
      for (const std::string& word : command) usage += " " + word;
      if (help.code == 0 && has(help.out, usage)) {
        known->second.emplace();
        static const std::regex option("(--[a-z-]+)|(?:^|[ ,])(-[a-zA-Z])[ ,]");
        for (std::sregex_iterator one(help.out.begin(), help.out.end(), option), end; one != end; ++one)
          known->second->insert((*one)[1].matched ? (*one)[1].str() : (*one)[2].str());
      }
    }
    return known->second ? &*known->second : nullptr;
  }
  // Whether there is such a command with such options; `{}` and words in capitals stand for something.
  void expect_typable(const std::vector<std::string>& words, const std::string& where) {
    SCOPED_TRACE(where);
    std::vector<std::string> command;
    const std::set<std::string>* options = nullptr;
    for (const std::string& word : words) {
      static const std::regex name("[a-z-]+");
      if (word.starts_with('-') || command.size() == 3 || !std::regex_match(word, name)) break;
      auto longer = command;
      longer.push_back(word);
      const auto* own = options_of(longer);
      if (own == nullptr) break;
      command = std::move(longer);
      options = own;
    }
    ASSERT_NE(options, nullptr) << "no such command";
    for (const std::string& word : words) {
      if (!word.starts_with("--") || word == "--help") continue;
      const std::string option = word.substr(0, word.find('='));
      EXPECT_TRUE(options->contains(option)) << option;
    }
  }

  std::map<std::string, std::optional<std::set<std::string>>> options_;
};

TEST_F(Remedies, EveryCommandInAMessageExists) {
  std::size_t count = 0;
  for (const auto& entry : fs::recursive_directory_iterator(std::string(BAYSWAP_SOURCE_DIR) + "/src")) {
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    std::ifstream file(entry.path());
    std::string text{std::istreambuf_iterator<char>(file), {}};
    // Literals that follow each other are one; what stands in comments is advice too.
    text = std::regex_replace(text, std::regex("\"\\s*\n\\s*\""), "");
    text = std::regex_replace(text, std::regex("\n\\s*//+ ?"), " ");
    for (const auto& words : commands_in(text)) {
      expect_typable(words, entry.path().filename().string() + ": " + testing::PrintToString(words));
      ++count;
    }
  }
  EXPECT_GT(count, 120U);
}

// Mistakes of every kind; what the error offers is done, and takes a step further.
TEST_F(Remedies, WhatAnErrorOffersIsTaken) {
  const auto save = [](std::uint32_t seed, std::size_t size) { return MadeUp(seed).file(9, size); };
  put("pc/roms/Lamp Quay.nes", nes_rom(1));
  put("pc/roms/Ida's Cog.nes", nes_rom(2));
  put("pc/saves/Lamp Quay.srm", save(1, 8192));
  put("pc/saves/Ida's Cog.srm", save(2, 8192));
  put("tv/Lamp Quay.nes", nes_rom(1));
  put("tv/Lamp Quay.sav", save(3, 8192));
  fs::last_write_time(folder_ / "pc/saves/Lamp Quay.srm",
                      fs::file_time_type::clock::now() - std::chrono::hours(99));
  const auto card = make_card(CardKind::gc);
  const CardSave one = made_save(CardKind::gc, 1, 2, 7);
  const CardSave two = made_save(CardKind::gc, 2, 3, 8);
  ASSERT_TRUE(card->put(one));
  ASSERT_TRUE(card->put(two));
  put("cards/two in one.raw", card->image());
  put("slots/backups/wii/HZ9P/slot-1/a.dat", save(4, 3000));
  put("slots/backups/wii/HZ9P/slot-2/a.dat", save(5, 3000));
  put("nand/title/00010000/485a3950/data/a.dat", save(6, 3000));
  put("known.srm", save(7, 8192));
  std::vector<Byte> turned = bytes_of(save(7, 8192));
  for (Byte& byte : turned) byte ^= 0x55;
  put("turned.srm", Blob::copy_of(turned));
  put("big.sav", joined({save(8, 8192), save(9, 24576)}));
  using Words = std::vector<std::string>;
  const std::vector<Words> mistakes{
      {"carry", "Lamp Quay", "--from", "pc", "--to", "tv", "--yes"},
      {"carry", "Ida's Cog", "--from", "pc", "--to", "tv", "--yes"},
      {"carry", "cards", "--to", "desk.gci", "--yes"},
      {"carry", "cards/two in one.raw", "--to", "desk.gci", "--yes"},
      {"carry", "HZ9P", "--from", "slots", "--to", "nand", "--yes", "--accept", "newer"},
      {"carry", "Lampp Quay", "--from", "pc", "--to", "tv"},
      {"carry", "Lamp Quay", "--to", "tv", "--frm", "pc"},
      {"convert", "known.srm", "--to", "nes.raw", "--out", "known.srm"},
      {"convert", "big.sav", "--to", "nes.raw", "--out", "small.sav"},
      {"infer", "known.srm", "known.srm", "--id", "nes.mine"},
      {"infer", "known.srm", "known.srm", "--id", "nes.mine"},
      {"infer", "known.srm", "turned.srm", "--id", "nes.turned"},
      {"list", "cards/two in one.raw"},
      {"list", "nowhere"},
      {"card", "export", "cards/two in one.raw", "--out", "x"},
      {"card", "remove", "--yes", "cards/two in one.raw", "nothing"},
      {"card", "import", "cards/two in one.raw", "known.srm"},
      {"restore", "Lamp Quay"},
      {"restore", "Lamp Quay", "--version", "abcd"},
      {"restore", "Lamp Quay", "--entry", "99"},
      {"undo", "77", "--yes"},
      {"carry", "--outside", "big.sav", "--to", "tv"},
      {"carry", "--outside", "known.srm", "--to", "tv", "--yes"},
      {"logbook", "nothing of it"},
      {"sheet", "show", "pc:Lamp Quay"},
      {"sync"},
      {"sync", "join", "gone/away"},
      {"inspect", "known.srm", "nowhere.srm"},
      {"backup", "nowhere"},
      {"state", "list", "pc", "Lamp"},
      {"state", "export", "known.srm", "--out", "y"},
  };
  static const std::regex option(
      "(?:pass|with|or|e\\.g\\.|name it|;) (--[a-z-]+)(?: ('(?:[^']|'\\\\'')*'|[^ ,;]+))?");
  static const std::regex choice("type one of '((?:[^']|'\\\\'')*)'");
  std::size_t offered = 0;
  for (const Words& words : mistakes) {
    const Outcome outcome = bayswap(words);
    SCOPED_TRACE(testing::PrintToString(words) + "\n" + outcome.err);
    EXPECT_TRUE(outcome.code <= 1 || has(outcome.err, "What to do")) << outcome.out;
    for (const auto& command : commands_in(outcome.err)) {
      expect_typable(command, "advice");
      ++offered;
    }
    for (std::sregex_iterator found(outcome.err.begin(), outcome.err.end(), option), end; found != end;
         ++found) {
      if (words.front() == "sync" || words.front() == "inspect") break;
      Words again = words;
      again.push_back((*found)[1].str());
      const std::string value = (*found)[2].str();
      const bool stands_for = !value.empty() && std::isupper(static_cast<unsigned char>(value[0])) != 0;
      if (stands_for)
        again.emplace_back("1");
      else if (!value.empty() && value != "goes" && value != "to" && value != "and")
        again.push_back(shell_words(value).front());
      EXPECT_FALSE(has(bayswap(again).err, "unknown option")) << testing::PrintToString(again);
      ++offered;
    }
    std::smatch found;
    if (std::regex_search(outcome.err, found, choice)) {
      Words again = words;
      again[1] = shell_words("'" + found[1].str() + "'").front();
      const Outcome taken = bayswap(again);
      EXPECT_EQ(taken.code, 0) << testing::PrintToString(again) << taken.err;
      ++offered;
    }
  }
  EXPECT_GT(offered, 30U);
}

}  // namespace
}  // namespace bayswap::test
