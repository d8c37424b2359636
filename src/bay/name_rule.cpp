#include <bayswap/bay.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 9> known_words{
    "rom.stem", "rom.name", "game.code", "game.title", "region", "revision", "slot", "ext", "platform"};

// One component of a path: no separators, nothing that FAT or a desktop refuses, no spaces or dots at its
// ends.
std::string as_component(std::string_view text) {
  std::string out;
  for (const char c : text) {
    const bool refused = static_cast<Byte>(c) < 0x20 || c == 0x7f ||
                         std::string_view("/\\:*?\"<>|").find(c) != std::string_view::npos;
    out += refused ? '_' : c;
  }
  while (!out.empty() && (out.back() == ' ' || out.back() == '.')) out.pop_back();
  while (!out.empty() && out.front() == ' ') out.erase(out.begin());
  return out;
}

Result<std::string> value_of(std::string_view word, const NameFacts& facts) {
  const auto needed = [&](const std::string& value, std::string_view what) -> Result<std::string> {
    if (value.empty())
      return fail(ErrorCode::not_found, fmt::format("the path rule needs {{{}}}, but {}", word, what),
                  "give the bay a rule that does without, or name the ROM with --rom");
    return value;
  };
  if (word == "rom.stem" || word == "rom.name") {
    if (!facts.rom_path) return needed("", "no ROM of the game is in the bay");
    return std::string(word == "rom.stem" ? stem_of(*facts.rom_path) : name_of(*facts.rom_path));
  }
  if (word == "game.code") return needed(as_component(facts.game.code), "the ROM has no code");
  if (word == "game.title") return needed(as_component(facts.game.title), "the ROM has no title");
  if (word == "region") return std::string(name(facts.game.region));
  if (word == "revision") return std::to_string(facts.game.revision);
  if (word == "slot") return std::to_string(facts.slot);
  if (word == "platform") return std::string(tag(facts.game.platform));
  return facts.extension;  // ext
}

}  // namespace

Result<NameRule> NameRule::parse(std::string_view text) {
  NameRule rule;
  rule.text_ = text;
  std::string sample;  // the rule with a letter for each word: must be a tame path
  std::string_view rest = text;
  while (!rest.empty()) {
    const auto brace = rest.find_first_of("{}");
    if (brace != 0) {
      rule.pieces_.push_back({false, std::string(rest.substr(0, brace))});
      sample += rule.pieces_.back().text;
      if (brace == std::string_view::npos) break;
      rest.remove_prefix(brace);
    }
    const auto end = rest.find('}');
    if (rest.front() == '}' || end == std::string_view::npos)
      return fail(ErrorCode::bad_usage, fmt::format("'{}' has a brace without its partner", printable(text)),
                  "words stand in braces, e.g. {rom.stem}");
    const std::string_view word = rest.substr(1, end - 1);
    if (std::ranges::find(known_words, word) == known_words.end()) {
      const std::string near = did_you_mean(word, known_words);
      return fail(ErrorCode::bad_usage,
                  fmt::format("unknown word {{{}}} in '{}'", printable(word), printable(text)),
                  near.empty() ? fmt::format("known are {}", fmt::join(known_words, ", ")) : near);
    }
    rule.pieces_.push_back({true, std::string(word)});
    sample += "x";
    rest.remove_prefix(end + 1);
  }
  if (!is_tame(sample) || printable(sample) != sample)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is no path below the bay's root", printable(text)),
                "it must be relative, without '..', empty components and control characters");
  return rule;
}

bool NameRule::uses(std::string_view word) const {
  return std::ranges::any_of(pieces_,
                             [&](const Piece& piece) { return piece.is_word && piece.text == word; });
}

Result<std::string> NameRule::expand(const NameFacts& facts) const {
  std::string path;
  for (const Piece& piece : pieces_) {
    if (!piece.is_word) {
      path += piece.text;
      continue;
    }
    BAYSWAP_TRY(const std::string value, value_of(piece.text, facts));
    path += value;
  }
  if (!is_tame(path))
    return fail(ErrorCode::bad_usage,
                fmt::format("the path rule '{}' gives '{}', which is no path below the bay's root", text_,
                            printable(path)));
  return path;
}

}  // namespace bayswap
