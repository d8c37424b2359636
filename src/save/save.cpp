#include <bayswap/save.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/text.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

using enum Platform;
constexpr std::array<std::pair<Platform, std::string_view>, 26> platform_tags{{
    {a26, "a26"}, {nes, "nes"}, {snes, "snes"}, {n64, "n64"}, {gc, "gc"},     {wii, "wii"}, {wiiu, "wiiu"},
    {gb, "gb"},   {gbc, "gbc"}, {gba, "gba"},   {nds, "nds"}, {n3ds, "3ds"},  {sms, "sms"}, {gg, "gg"},
    {md, "md"},   {scd, "scd"}, {sat, "sat"},   {dc, "dc"},   {pce, "pce"},   {ws, "ws"},   {ngp, "ngp"},
    {vb, "vb"},   {ps1, "ps1"}, {ps2, "ps2"},   {psp, "psp"}, {x360, "x360"},
}};

constexpr std::array<std::pair<PartKind, std::string_view>, 5> part_words{{{PartKind::eeprom, "eeprom"},
                                                                           {PartKind::sram, "sram"},
                                                                           {PartKind::flash, "flash"},
                                                                           {PartKind::pak, "pak"},
                                                                           {PartKind::rtc, "rtc"}}};

template <class Table, class Key>
std::string_view word_of(const Table& table, Key key) {
  const auto* found = std::ranges::find(table, key, &Table::value_type::first);
  return found == table.end() ? std::string_view{} : found->second;
}

}  // namespace

std::string_view tag(Platform platform) {
  return word_of(platform_tags, platform);
}

std::optional<Platform> platform_from_tag(std::string_view text) {
  const auto* found = std::ranges::find(platform_tags, text, &std::pair<Platform, std::string_view>::second);
  if (found == platform_tags.end()) return std::nullopt;
  return found->first;
}

std::vector<std::string> platform_tag_list() {
  std::vector<std::string> tags;
  tags.reserve(std::size(platform_tags));
  for (const auto& [platform, text] : platform_tags) tags.emplace_back(text);
  return tags;
}

Platform saves_as(Platform platform) {
  return platform == Platform::gbc ? Platform::gb : platform;
}

std::string_view name(Region region) {
  switch (region) {
    case Region::unknown:
      return "unknown";
    case Region::world:
      return "World";
    case Region::japan:
      return "Japan";
    case Region::north_america:
      return "North America";
    case Region::europe:
      return "Europe";
    case Region::germany:
      return "Germany";
    case Region::france:
      return "France";
    case Region::italy:
      return "Italy";
    case Region::spain:
      return "Spain";
    case Region::netherlands:
      return "Netherlands";
    case Region::scandinavia:
      return "Scandinavia";
    case Region::australia:
      return "Australia";
    case Region::brazil:
      return "Brazil";
    case Region::canada:
      return "Canada";
    case Region::china:
      return "China";
    case Region::korea:
      return "Korea";
    case Region::asia:
      return "Asia";
  }
  return "unknown";
}

namespace {

// What people type.
constexpr std::array<std::pair<std::string_view, Region>, 28> short_regions{{
    {"jp", Region::japan},          {"jpn", Region::japan},
    {"j", Region::japan},           {"us", Region::north_america},
    {"usa", Region::north_america}, {"na", Region::north_america},
    {"u", Region::north_america},   {"america", Region::north_america},
    {"eu", Region::europe},         {"eur", Region::europe},
    {"pal", Region::europe},        {"e", Region::europe},
    {"de", Region::germany},        {"ger", Region::germany},
    {"fr", Region::france},         {"fra", Region::france},
    {"it", Region::italy},          {"es", Region::spain},
    {"nl", Region::netherlands},    {"uk", Region::europe},
    {"au", Region::australia},      {"aus", Region::australia},
    {"br", Region::brazil},         {"ca", Region::canada},
    {"cn", Region::china},          {"kr", Region::korea},
    {"kor", Region::korea},         {"w", Region::world},
}};

}  // namespace

std::optional<Region> region_from_text(std::string_view text) {
  std::string wanted = lower(text);
  std::ranges::replace(wanted, '-', ' ');
  const auto* const shorter =
      std::ranges::find(short_regions, wanted, &std::pair<std::string_view, Region>::first);
  if (shorter != short_regions.end()) return shorter->second;
  for (int i = static_cast<int>(Region::world); i <= static_cast<int>(Region::asia); ++i)
    if (lower(name(static_cast<Region>(i))) == wanted) return static_cast<Region>(i);
  return std::nullopt;
}

namespace {

constexpr std::array<std::pair<char, Region>, 18> usual_letters{{{'J', Region::japan},
                                                                 {'E', Region::north_america},
                                                                 {'G', Region::north_america},
                                                                 {'P', Region::europe},
                                                                 {'X', Region::europe},
                                                                 {'Y', Region::europe},
                                                                 {'Z', Region::europe},
                                                                 {'L', Region::europe},
                                                                 {'D', Region::germany},
                                                                 {'F', Region::france},
                                                                 {'I', Region::italy},
                                                                 {'S', Region::spain},
                                                                 {'H', Region::netherlands},
                                                                 {'U', Region::australia},
                                                                 {'B', Region::brazil},
                                                                 {'N', Region::canada},
                                                                 {'C', Region::china},
                                                                 {'K', Region::korea}}};
// What two families have otherwise.
constexpr std::array<std::pair<char, Region>, 9> nds_letters{{{'L', Region::north_america},
                                                              {'M', Region::scandinavia},
                                                              {'N', Region::scandinavia},
                                                              {'O', Region::world},
                                                              {'Q', Region::scandinavia},
                                                              {'R', Region::europe},
                                                              {'T', Region::north_america},
                                                              {'V', Region::europe},
                                                              {'W', Region::europe}}};
constexpr std::array<std::pair<char, Region>, 7> wii_letters{{{'A', Region::world},
                                                              {'L', Region::europe},
                                                              {'M', Region::europe},
                                                              {'N', Region::north_america},
                                                              {'Q', Region::korea},
                                                              {'T', Region::korea},
                                                              {'W', Region::asia}}};
constexpr std::array<std::pair<char, Region>, 2> older_letters{
    {{'A', Region::asia}, {'W', Region::scandinavia}}};

template <class Table>
std::optional<Region> find_letter(const Table& table, char letter) {
  const auto* found = std::ranges::find(table, letter, &Table::value_type::first);
  return found == table.end() ? std::nullopt : std::optional(found->second);
}

}  // namespace

Region region_of_letter(Platform platform, char letter) {
  std::optional<Region> own;
  switch (platform) {
    case nds:
      own = find_letter(nds_letters, letter);
      break;
    case gc:
    case wii:
    case wiiu:
    case n3ds:
      own = find_letter(wii_letters, letter);
      break;
    default:
      own = find_letter(older_letters, letter);
  }
  if (!own) own = find_letter(usual_letters, letter);
  return own.value_or(Region::unknown);
}

Region region_of_code(Platform platform, std::string_view code) {
  const bool disc = platform == ps1 || platform == ps2 || platform == psp;
  const bool numbered = platform == ws || platform == ngp || platform == sms || platform == gg;
  if (!disc) return code.size() == 4 && !numbered ? region_of_letter(platform, code[3]) : Region::unknown;
  if (code.size() < 4) return Region::unknown;
  // Discs with demonstrations have a letter of their own in the third place, and the region before it.
  if (code[2] == 'P' && code[3] == 'X')
    return code[1] == 'E' ? Region::europe : code[1] == 'U' ? Region::north_america : Region::japan;
  switch (code[2]) {
    case 'E':
      return Region::europe;
    case 'U':
      return Region::north_america;
    case 'J':
    case 'P':
      return Region::japan;
    case 'K':
      return Region::korea;
    case 'A':
    case 'H':
      return Region::asia;
    default:
      return Region::unknown;
  }
}

std::optional<char> letter_of_region(Region region) {
  // The first letter of a region is its usual one.
  const auto* const found = std::ranges::find(usual_letters, region, &std::pair<char, Region>::second);
  return found == usual_letters.end() ? std::nullopt : std::optional(found->first);
}

std::optional<std::string> code_in_region(Platform platform, std::string_view code, Region region) {
  const bool lettered = platform == gc || platform == wii || platform == n64 || platform == gba ||
                        platform == nds || platform == n3ds || platform == wiiu;
  if (!lettered || code.size() != 4) return std::nullopt;
  const auto letter = letter_of_region(region);
  if (!letter) return std::nullopt;
  std::string other(code);
  other[3] = *letter;
  return other;
}

std::uint64_t likely_title_id(const GameId& game) {
  std::uint64_t id = game.title_id;
  if (game.platform == Platform::wii && id == 0 && game.code.size() == 4)
    for (const char c : game.code) id = (id << 8) | static_cast<Byte>(c);
  if (id == 0 || id >> 32 != 0) return id;
  const std::uint64_t high = game.platform == Platform::n3ds   ? 0x00040000
                             : game.platform == Platform::wii  ? 0x00010000
                             : game.platform == Platform::wiiu ? 0x00050000
                                                               : 0;
  return (high << 32) | id;
}
std::string title_id_text(const GameId& game) {
  if (game.title_id == 0) return {};
  const auto low = static_cast<std::uint32_t>(game.title_id & 0xFFFFFFFF);
  const auto high = static_cast<std::uint32_t>(game.title_id >> 32);
  return high == 0 ? fmt::format("{:08X}", low) : fmt::format("{:08X}/{:08X}", high, low);
}

GameMatch compare(const GameId& a, const GameId& b) {
  if (saves_as(a.platform) != saves_as(b.platform)) return GameMatch::other_game;
  const auto is_nameless = [](const GameId& game) {
    return game.code.empty() && game.title.empty() && game.title_id == 0;
  };
  if (is_nameless(a) || is_nameless(b)) return GameMatch::unknown;
  const bool same_title = !a.title.empty() && lower(a.title) == lower(b.title);
  if (a.title_id != 0 && b.title_id != 0 && (a.code.empty() || b.code.empty())) {
    // Some trees have only the lower half in their names.
    const bool half = a.title_id >> 32 == 0 || b.title_id >> 32 == 0;
    if (a.title_id == b.title_id || (half && (a.title_id & 0xFFFFFFFF) == (b.title_id & 0xFFFFFFFF)))
      return GameMatch::same;
    return same_title ? GameMatch::other_region : GameMatch::other_game;
  }
  // These are plain numbers, one a game in all regions.
  const bool numbered = a.platform == ws || a.platform == ngp || a.platform == sms || a.platform == gg;
  if (numbered && !a.code.empty() && !b.code.empty()) {
    if (a.code != b.code) return GameMatch::other_game;
  } else if (a.code.size() == 4 && b.code.size() == 4) {
    // The last letter of such a product code is the region, the ones before it name the game.
    if (a.code.substr(0, 3) != b.code.substr(0, 3)) return GameMatch::other_game;
    if (a.code != b.code) return GameMatch::other_region;
  } else if (!a.code.empty() && !b.code.empty()) {
    // Discs have other numbers in each region: the title has to tell.
    if (a.code != b.code)
      return same_title && a.region != b.region ? GameMatch::other_region : GameMatch::other_game;
  } else {
    if (!same_title && (a.code.empty() != b.code.empty() || lower(a.title) != lower(b.title)))
      return GameMatch::other_game;
    if (a.region != b.region && a.region != Region::unknown && b.region != Region::unknown)
      return GameMatch::other_region;
  }
  return a.revision == b.revision ? GameMatch::same : GameMatch::other_revision;
}

std::string to_text(Role role) {
  std::string text(word_of(part_words, role.kind));
  if (role.number > 0) text += std::to_string(role.number);
  return text;
}

std::optional<Role> role_from_text(std::string_view text) {
  for (const auto& [kind, word] : part_words) {
    if (text == word) return Role{kind, 0};
    if (kind == PartKind::pak && text.size() == word.size() + 1 && text.starts_with(word) &&
        text.back() >= '1' && text.back() <= '4')
      return Role{kind, text.back() - '0'};
  }
  return std::nullopt;
}

bool is_blank(const Part& part) {
  Byte fill = 0x55;
  if (is_uniform(part.bytes.view(), &fill)) return fill == 0x00 || fill == 0xff;
  return part.role.kind == PartKind::pak && is_unused_pak(part.bytes.view());
}

const Part* Save::find(Role role) const {
  const auto found = std::ranges::find(parts, role, &Part::role);
  return found == parts.end() ? nullptr : &*found;
}

bool Save::is_blank() const {
  return std::ranges::all_of(parts, [](const Part& part) { return bayswap::is_blank(part); });
}

}  // namespace bayswap
