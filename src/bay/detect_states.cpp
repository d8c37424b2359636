// How the save states of a place are called.
#include <algorithm>
#include <cctype>
#include <map>
#include <set>
#include <tuple>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"
#include "bay/rom_list.hpp"

namespace bayswap {
namespace {

// The ROM whose stem the name begins with, and what comes after it: ".state3".
std::optional<std::pair<const RomFile*, std::string>> rom_and_rest(const Survey& survey,
                                                                   const std::string& path) {
  const std::string name(name_of(path));
  for (std::size_t length = name.size(); length > 0; --length) {
    const bool is_end = length == name.size() || name[length] == '.' || name[length] == '_' ||
                        name[length] == '-' || is_digit(name[length]);
    if (!is_end) continue;
    const auto found = survey.by_stem.find(lower(name.substr(0, length)));
    if (found != survey.by_stem.end()) return std::pair(&survey.roms[found->second], name.substr(length));
  }
  return std::nullopt;
}

// What comes after the ROM's stem, with words for what differs from state to state.
struct Rest {
  std::string front;  // up to the slot
  std::string back;   // after it
  enum class Slot { none, number, letter } slot = Slot::none;
  char letter = 0;
  std::string digits = {};  // of a number

  [[nodiscard]] auto key() const { return std::tuple(front, back, slot == Slot::letter); }
};

bool is_between(const std::string& text, std::size_t at, std::size_t count) {
  const auto is_mark = [](char c) {
    return c == '.' || c == '_' || c == '-' || c == ' ' || c == '[' || c == ']' || c == '(' || c == ')';
  };
  return at > 0 && is_mark(text[at - 1]) && (at + count == text.size() || is_mark(text[at + count]));
}

class StateNames {
 public:
  explicit StateNames(Store& store) : store_(store) {}

  /// "{rom.stem}" without its own digest: other ROMs have others.
  [[nodiscard]] Rest rest_of(const RomFile& rom, std::string text) const {
    for (std::size_t at = 1; at < text.size(); ++at) {
      std::size_t count = 0;
      while (at + count < text.size() && std::isalnum(static_cast<unsigned char>(text[at + count])) != 0)
        ++count;
      if (count >= 8 && is_between(text, at, count)) {
        const std::string word = digest_word(store_, rom, std::string_view(text).substr(at, count));
        if (!word.empty()) {
          text.replace(at, count, "\x01" + word + "\x02");  // braces are not allowed in what was there
          break;
        }
      }
      at += count;
    }
    return slot_in(text);
  }

 private:
  // At the end, or between marks: ".state3", ".3.state", ".B.state".
  static Rest slot_in(const std::string& text) {
    std::size_t digits = 0;
    while (digits < text.size() && is_digit(text[text.size() - 1 - digits])) ++digits;
    if (digits > 0)
      return {text.substr(0, text.size() - digits), "", Rest::Slot::number, 0,
              text.substr(text.size() - digits)};
    constexpr std::size_t most_digits = 3;
    for (std::size_t at = 1; at < text.size(); ++at) {
      std::size_t count = 0;
      while (at + count < text.size() && is_digit(text[at + count])) ++count;
      if (count > 0 && count <= most_digits && is_between(text, at, count))
        return {text.substr(0, at), text.substr(at + count), Rest::Slot::number, 0, text.substr(at, count)};
      const char c = text[at];
      const bool is_letter = (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z');
      if (is_letter && is_between(text, at, 1))
        return {text.substr(0, at), text.substr(at + 1), Rest::Slot::letter,
                c >= 'a' ? static_cast<char>(c - 'a' + 'A') : c};
      at += count;
    }
    return {text, "", Rest::Slot::none};
  }

  Store& store_;
};

std::string with_braces(std::string text) {
  for (char& c : text) c = c == 1 ? '{' : c == 2 ? '}' : c;
  return text;
}

}  // namespace

void add_state_rules(Store& store, const Survey& survey, const std::vector<SurveyedFile>& files,
                     std::vector<PlatformRule>& rules) {
  struct Name {
    bool has_bare = false;
    bool has_number = false;
    bool is_of_two = true;    // each number has two digits
    bool has_nought = false;  // and one of them begins with 0
    std::set<char> letters;
    std::string literal;  // with its one letter
  };
  using Key =
      std::tuple<std::string, std::string, std::string, bool>;  // folder, before the slot, after it, a letter
  std::map<Platform, std::map<Key, Name>> names;
  const StateNames reader(store);
  for (const SurveyedFile& file : files) {
    const auto rom = rom_and_rest(survey, file.path);
    // Of a kind that no map knows: by a name that only states have.
    const bool is_called_so = rom && lower(rom->second).find(".state") != std::string::npos;
    if (file.finding.kind != FileKind::save_state && !is_called_so) continue;
    if (!rom || rom->second.find_first_of("{}\x01\x02") != std::string::npos) continue;
    const Platform platform = rom->first->facts.game.platform;
    const Rest rest = reader.rest_of(*rom->first, rom->second);
    const bool is_beside = folder_of(rom->first->path) == folder_of(file.path);
    Name& name = names[saves_as(platform)][{is_beside ? "{rom.folder}" : folder_of(file.path), rest.front,
                                            rest.back, rest.slot == Rest::Slot::letter}];
    if (rest.slot == Rest::Slot::letter) {
      name.letters.insert(rest.letter);
      name.literal = rest.front + rest.letter + rest.back;
    } else {
      (rest.slot == Rest::Slot::number ? name.has_number : name.has_bare) = true;
      name.is_of_two = name.is_of_two && (rest.slot != Rest::Slot::number || rest.digits.size() == 2);
      name.has_nought = name.has_nought || rest.digits.starts_with('0');
    }
  }
  for (const auto& [own_platform, own] : names) {
    const Platform platform = own_platform;
    const auto rule = std::find_if(rules.begin(), rules.end(), [&](const PlatformRule& one) {
      return saves_as(one.platform) == platform && !one.roms.empty();
    });
    if (rule == rules.end()) continue;
    for (const auto& [key, name] : own) {
      const auto& [folder, front, back, is_letter] = key;
      const auto prefix =
          folder == "{rom.folder}" ? std::optional<std::string>("{rom.folder}/") : rule_prefix(folder);
      if (!prefix) continue;
      // An autosave has a word where others have their number.
      const bool is_padded = name.has_number && name.is_of_two && name.has_nought && !name.has_bare;
      std::string slot = is_padded           ? "{slot.2}"
                         : name.has_number   ? (name.has_bare ? "{slot.bare}" : "{slot}")
                         : front == ".state" ? "{slot.bare}"
                                             : "";
      if (is_letter) {
        // Ten letters are ten digits, from nought on; fewer count as those of cards do.
        constexpr char tenth = 'J';
        if (name.letters.size() < 2 && *name.letters.begin() != 'A') {
          if (auto parsed = NameRule::parse(*prefix + "{rom.stem}" + with_braces(name.literal)))
            rule->states.push_back(*std::move(parsed));
          continue;
        }
        slot =
            *name.letters.rbegin() == tenth && name.letters.size() == 10 ? "{slot.letter0}" : "{slot.letter}";
      }
      if (auto parsed =
              NameRule::parse(*prefix + "{rom.stem}" + with_braces(front) + slot + with_braces(back)))
        rule->states.push_back(*std::move(parsed));
    }
  }
}

}  // namespace bayswap
