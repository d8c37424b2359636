#include <bayswap/bay.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 28> known_words{
    "rom.stem",   "rom.name",     "rom.folder", "rom.md5",     "rom.crc",   "slot.letter0", "game.code",
    "game.title", "game.maker",   "region",     "region.area", "revision",  "slot",         "slot.2",
    "slot.8",     "slot.letter",  "slot.bare",  "ext",         "platform",  "title.high",   "title.low",
    "title.id",   "title.unique", "code.hex",   "account",     "save.name", "suffix",       "folder"};

bool is_hex(char c) {
  return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F');
}
bool is_letter(char c) {
  return (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z');
}
bool all(std::string_view text, bool (*test)(char)) {
  return std::ranges::all_of(text, test);
}

// How many characters a word can stand for: from .. to.
struct Span {
  std::size_t from = 1;
  std::size_t to = 255;
};
Span span_of(std::string_view word, Platform platform) {
  if (word == "title.high" || word == "title.low" || word == "title.unique" || word == "code.hex" ||
      word == "slot.8" || word == "rom.crc")
    return {8, 8};
  if (word == "title.id") return {16, 16};
  if (word == "rom.md5") return {32, 32};
  if (word == "game.maker" || word == "slot.2") return {2, 2};
  if (word == "slot.letter" || word == "slot.letter0") return {1, 1};
  if (word == "slot") return {1, 3};
  if (word == "slot.bare") return {0, 3};
  if (word == "region.area") return {3, 3};
  if (word == "ext" || word == "suffix") return {0, 255};
  if (word == "game.code") {
    if (platform == Platform::psp) return {9, 9};
    if (platform == Platform::gc || platform == Platform::wii || platform == Platform::n64 ||
        platform == Platform::gba || platform == Platform::nds || platform == Platform::n3ds ||
        platform == Platform::wiiu)
      return {4, 4};
    return {1, 16};
  }
  return {};
}
bool may_be(std::string_view word, std::string_view text, Platform platform) {
  if (word == "title.high" || word == "title.id") {
    // The first half of a title id begins with the console's own number.
    const std::string_view console = platform == Platform::wii    ? "0001"
                                     : platform == Platform::n3ds ? "0004"
                                     : platform == Platform::wiiu ? "0005"
                                                                  : "";
    return all(text, is_hex) && text.starts_with(console);
  }
  if (word == "title.low" || word == "title.unique" || word == "code.hex" || word == "slot.8" ||
      word == "rom.md5" || word == "rom.crc")
    return all(text, is_hex);
  if (word == "slot" || word == "slot.2" || word == "revision") return all(text, is_digit);
  if (word == "slot.bare") return all(text, is_digit) && text != "0";
  if (word == "slot.letter" || word == "slot.letter0" || word == "region.area") return all(text, is_letter);
  if (word == "game.maker" || word == "game.code") {
    if (platform == Platform::psp && text.size() == 9)
      return all(text.substr(0, 4), is_letter) && all(text.substr(4), is_digit);
    return std::ranges::all_of(text, [](char c) { return is_letter(c) || is_digit(c) || c == '-'; });
  }
  if (word == "account")
    return std::ranges::all_of(text,
                               [](char c) { return is_letter(c) || is_digit(c) || c == '-' || c == '_'; });
  if (word == "ext") return text.empty() || text.front() == '.';
  return true;
}

std::string_view area_of(Region region) {
  switch (region) {
    case Region::japan:
      return "JAP";
    case Region::north_america:
    case Region::canada:
    case Region::brazil:
      return "USA";
    case Region::korea:
      return "KOR";
    case Region::unknown:
    case Region::world:
      return {};
    default:
      return "EUR";
  }
}

// {title.unique}: the id without its last two digits, which tell demos and the like apart.
std::string unique_of(std::uint64_t title_id) {
  return fmt::format("{:08x}", (title_id & 0xFFFFFFFF) >> 8);
}

std::uint64_t number_of(std::string_view hex) {
  std::uint64_t value = 0;
  (void)std::from_chars(hex.data(), hex.data() + hex.size(), value, 16);
  return value;
}

Result<std::string> value_of(std::string_view word, const NameFacts& facts) {
  const auto needed = [&](const std::string& value, std::string_view what) -> Result<std::string> {
    if (value.empty())
      return fail(ErrorCode::not_found, fmt::format("the path rule needs {{{}}}, but {}", word, what),
                  "give the bay a rule that does without, or name the ROM", {Remedy::Kind::rom, {}});
    return value;
  };
  if (word == "rom.stem" || word == "rom.name" || word == "rom.folder") {
    if (!facts.rom_path) return needed("", "no ROM of the game is in the bay");
    if (word == "rom.folder") return folder_of(*facts.rom_path);
    return std::string(word == "rom.stem" ? stem_of(*facts.rom_path) : name_of(*facts.rom_path));
  }
  if (word == "rom.md5") return needed(facts.rom_md5, "no ROM of the game is in the bay");
  if (word == "rom.crc") return needed(facts.rom_crc, "no ROM of the game is in the bay");
  const GameId& game = facts.game;
  if (word == "game.code") return needed(as_file_name(game.code), "the game's code is not known");
  if (word == "game.title") return needed(as_file_name(game.title), "the game's title is not known");
  if (word == "game.maker") return needed(as_file_name(game.maker), "the game's maker is not known");
  if (word == "region") return std::string(name(game.region));
  if (word == "region.area")
    return needed(std::string(area_of(game.region)), "the game's region is not known");
  if (word == "revision") return std::to_string(game.revision);
  if (word == "slot") return std::to_string(facts.slot);
  if (word == "slot.bare") return facts.slot == 0 ? std::string() : std::to_string(facts.slot);
  if (word == "slot.2") return fmt::format("{:02}", facts.slot);
  if (word == "slot.8") return fmt::format("{:08x}", facts.slot);
  if (word == "slot.letter")
    return std::string(1, static_cast<char>('A' + std::clamp(facts.slot, 1, 26) - 1));
  if (word == "slot.letter0") return std::string(1, static_cast<char>('A' + std::clamp(facts.slot, 0, 25)));
  if (word == "platform") return std::string(tag(game.platform));
  if (word == "account") return needed(as_file_name(facts.account), "no account is said");
  if (word == "save.name") return needed(as_file_name(facts.save_name), "the save has no name");
  if (word == "suffix") return as_file_name(facts.suffix);
  if (word == "folder")
    return needed(as_file_name(facts.folder), "it can only be found by looking, and was not");
  const bool numbered = word.starts_with("title.") || word == "code.hex";
  if (numbered) {
    if (game.title_id == 0) return needed("", "the game's title id is not known");
    const bool whole = word == "title.high" || word == "title.id";
    if (whole && game.title_id != likely_title_id(game))
      return needed("", "only half of the game's title id is known");
    // A console's own tree has them in lower case where letters are digits.
    const bool upper = game.platform == Platform::x360;
    std::string digits = word == "title.high"     ? fmt::format("{:08x}", game.title_id >> 32)
                         : word == "title.id"     ? fmt::format("{:016x}", game.title_id)
                         : word == "title.unique" ? unique_of(game.title_id)
                                                  : fmt::format("{:08x}", game.title_id & 0xFFFFFFFF);
    if (upper)
      for (char& c : digits) c = c >= 'a' && c <= 'f' ? static_cast<char>(c - 'a' + 'A') : c;
    return digits;
  }
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
                  "put words in braces, e.g. {rom.stem}");
    const std::string_view word = rest.substr(1, end - 1);
    if (std::ranges::find(known_words, word) == known_words.end()) {
      const std::string near = did_you_mean(word, known_words);
      return fail(ErrorCode::bad_usage,
                  fmt::format("unknown word {{{}}} in '{}'", printable(word), printable(text)),
                  near.empty() ? fmt::format("known are {}", joined(known_words, ", ")) : near);
    }
    rule.pieces_.push_back({true, std::string(word)});
    sample += "x";
    rest.remove_prefix(end + 1);
  }
  if (!is_safe_relative(sample) || printable(sample) != sample)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is no path below the bay's root", printable(text)),
                "it must be relative, without '..', empty components and control characters");
  rule.components_.emplace_back();
  for (const Piece& piece : rule.pieces_) {
    if (piece.is_word) {
      rule.components_.back().push_back(piece);
      continue;
    }
    std::string_view left = piece.text;
    for (auto slash = left.find('/'); slash != std::string_view::npos; slash = left.find('/')) {
      if (slash > 0) rule.components_.back().push_back({false, std::string(left.substr(0, slash))});
      rule.components_.emplace_back();
      left.remove_prefix(slash + 1);
    }
    if (!left.empty()) rule.components_.back().push_back({false, std::string(left)});
  }
  return rule;
}

std::optional<std::string> NameRule::literal(std::size_t component) const {
  std::string text;
  for (const Piece& piece : components_.at(component)) {
    if (piece.is_word) return std::nullopt;
    text += piece.text;
  }
  return text;
}

std::optional<NameRule::Words> NameRule::match(std::size_t component, std::string_view name,
                                               Platform platform) const {
  const std::vector<Piece>& pieces = components_.at(component);
  Words words;
  int steps = 0;
  // Tries the pieces from `i` on against what is left of the name; rules have few words, names 255
  // characters.
  const std::function<bool(std::size_t, std::string_view)> fits = [&](std::size_t i, std::string_view left) {
    if (++steps > 100000) return false;
    if (i == pieces.size()) return left.empty();
    const Piece& piece = pieces[i];
    if (!piece.is_word) {
      return left.size() >= piece.text.size() &&
             lower(left.substr(0, piece.text.size())) == lower(piece.text) &&
             fits(i + 1, left.substr(piece.text.size()));
    }
    Span span = span_of(piece.text, platform);
    if (piece.text == "ext" && left.find('.') == std::string_view::npos &&
        name.find('.', 1) != std::string_view::npos)
      return false;  // the last dot begins it
    // The extension is the last one; the stem before it has what dots there are.
    const bool greedy = piece.text == "rom.stem" || piece.text == "rom.name" || piece.text == "save.name" ||
                        piece.text == "game.title";
    const std::size_t most = std::min(span.to, left.size());
    for (std::size_t k = span.from; k <= most; ++k) {
      const std::size_t count = greedy ? most - (k - span.from) : k;
      if (!may_be(piece.text, left.substr(0, count), platform) || !fits(i + 1, left.substr(count))) continue;
      words[piece.text] = left.substr(0, count);
      return true;
    }
    return false;
  };
  if (name.size() > 255 || !fits(0, name)) return std::nullopt;
  return words;
}

NameFacts facts_of_words(const NameRule::Words& words, Platform platform) {
  NameFacts facts;
  facts.game.platform = platform;
  const auto word = [&](std::string_view name) -> std::string {
    const auto found = words.find(std::string(name));
    return found == words.end() ? std::string() : found->second;
  };
  const auto upper = [](std::string text) {
    for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
    return text;
  };
  facts.game.code = upper(word("game.code"));
  facts.game.title = word("game.title");
  facts.game.maker = upper(word("game.maker"));
  if (const auto stem = word("rom.stem"); !stem.empty()) facts.rom_path = stem;
  if (const auto rom = word("rom.name"); !rom.empty()) facts.rom_path = stem_of(rom);
  facts.extension = word("ext");
  facts.account = word("account");
  facts.save_name = word("save.name");
  facts.suffix = word("suffix");
  facts.folder = word("folder");
  facts.rom_md5 = lower(word("rom.md5"));
  facts.rom_crc = lower(word("rom.crc"));
  facts.unique = static_cast<std::uint32_t>(number_of(word("title.unique")));
  for (const char* name : {"slot", "slot.2"})
    if (const auto slot = word(name); !slot.empty())
      (void)std::from_chars(slot.data(), slot.data() + slot.size(), facts.slot);
  if (words.contains("slot.bare")) {
    const std::string slot = word("slot.bare");
    facts.slot = 0;
    (void)std::from_chars(slot.data(), slot.data() + slot.size(), facts.slot);
  }
  if (const auto slot = word("slot.8"); !slot.empty())
    facts.slot = static_cast<int>(number_of(slot) & 0x7FFFFFFF);
  if (const auto slot = upper(word("slot.letter")); !slot.empty()) facts.slot = slot.front() - 'A' + 1;
  if (const auto slot = upper(word("slot.letter0")); !slot.empty()) facts.slot = slot.front() - 'A';
  facts.game.title_id = number_of(word("title.id"));
  if (facts.game.title_id == 0)
    facts.game.title_id =
        (number_of(word("title.high")) << 32) | number_of(word("title.low") + word("code.hex"));
  if (facts.game.code.empty() && (platform == Platform::wii || !word("code.hex").empty())) {
    std::string code;
    for (int shift = 24; shift >= 0; shift -= 8)
      code += static_cast<char>((facts.game.title_id >> shift) & 0xFF);
    if (std::ranges::all_of(code, [](char c) { return is_letter(c) || is_digit(c); })) facts.game.code = code;
  }
  facts.game.region = region_of_code(platform, facts.game.code);
  const std::string area = upper(word("region.area"));
  if (facts.game.region == Region::unknown && !area.empty())
    facts.game.region = area == "JAP"   ? Region::japan
                        : area == "USA" ? Region::north_america
                        : area == "EUR" ? Region::europe
                        : area == "KOR" ? Region::korea
                                        : Region::unknown;
  if (const auto region = region_from_text(word("region"))) facts.game.region = *region;
  return facts;
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
  if (path.starts_with("./")) path.erase(0, 2);  // the folder of a ROM in the root
  if (!is_safe_relative(path))
    return fail(ErrorCode::bad_usage,
                fmt::format("the path rule '{}' gives '{}', which is no path below the bay's root", text_,
                            printable(path)));
  // No disk has longer names: said here, it is of one save, and not an error of the whole place.
  constexpr std::size_t max_name_bytes = 255;
  for (std::size_t at = 0; at < path.size();) {
    const std::size_t end = std::min(path.find('/', at), path.size());
    if (end - at > max_name_bytes)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("'{}...' is a name of {} bytes, and {} is the most",
                              printable(path.substr(at, 40)), end - at, max_name_bytes),
                  "give the ROM, or the save, a shorter name");
    at = end + 1;
  }
  return path;
}

}  // namespace bayswap
