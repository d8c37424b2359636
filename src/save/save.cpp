#include <bayswap/save.hpp>

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

std::optional<Region> region_from_text(std::string_view text) {
  std::string wanted = lower(text);
  std::ranges::replace(wanted, '-', ' ');
  for (int i = static_cast<int>(Region::world); i <= static_cast<int>(Region::asia); ++i)
    if (lower(name(static_cast<Region>(i))) == wanted) return static_cast<Region>(i);
  return std::nullopt;
}

GameMatch compare(const GameId& a, const GameId& b) {
  if (a.platform != b.platform) return GameMatch::other_game;
  if (a.code.size() == 4 && b.code.size() == 4) {
    // The last letter of such a product code is the region, the ones before it name the game.
    if (a.code.substr(0, 3) != b.code.substr(0, 3)) return GameMatch::other_game;
    if (a.code != b.code) return GameMatch::other_region;
  } else {
    if (a.code != b.code || (a.code.empty() && lower(a.title) != lower(b.title)))
      return GameMatch::other_game;
    if (a.region != b.region) return GameMatch::other_region;
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
