#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md). Its place depends on how the cartridge maps its ROM.
struct Mapping {
  std::uint64_t at;  // of the title
  Byte mode;         // low half of the mode byte
  const char* name;
};
constexpr std::array<Mapping, 5> mappings{{{0x7fc0, 0x0, "in banks of 32 KiB"},
                                           {0xffc0, 0x1, "in banks of 64 KiB"},
                                           {0x7fc0, 0x3, "in banks of 32 KiB, with a second processor"},
                                           {0x407fc0, 0x2, "in banks of 32 KiB, over 4 MiB"},
                                           {0x40ffc0, 0x5, "in banks of 64 KiB, over 4 MiB"}}};
constexpr Byte mode_of_large_32k = 0x32;       // low half 2, and yet at the first place
constexpr Byte mode_of_packed_64k = 0x3a;      // low half A, at the second
constexpr std::uint64_t extended_back = 0x10;  // the code is before the title
constexpr std::size_t graphics_ram_at = 0xd;   // there: FFBD
constexpr std::size_t snes_header_size = 0x40;
// Offsets in the header, counted from the title.
constexpr std::size_t snes_title_size = 21;
constexpr std::size_t mode_at = 0x15;
constexpr std::size_t snes_type_at = 0x16;
constexpr std::size_t snes_ram_size_at = 0x18;
constexpr std::size_t country_at = 0x19;
constexpr std::size_t snes_maker_at = 0x1a;
constexpr std::size_t snes_revision_at = 0x1b;
constexpr std::size_t complement_at = 0x1c;
constexpr std::size_t snes_checksum_at = 0x1e;
constexpr std::size_t reset_at = 0x3c;
constexpr Byte extended_maker = 0x33;

// Letters and digits, or half-width katakana.
bool is_title(ByteView field) {
  return is_plain_title(field) || std::ranges::all_of(field, [](Byte b) {
           return (b >= 0x20 && b < 0x7f) || (b >= 0xa1 && b <= 0xdf) || b == 0;
         });
}

bool has_mode(Byte mode, const Mapping& mapping) {
  if ((mode & 0xe0) != 0x20) return false;
  if (mapping.at == 0x7fc0 && mode == mode_of_large_32k) return true;
  if (mapping.at == 0xffc0 && mode == mode_of_packed_64k) return true;
  return (mode & 0x0f) == mapping.mode;
}

int score(ByteView h, const Mapping& mapping) {
  if (h.empty()) return 0;
  int points = 0;
  if (static_cast<std::uint16_t>(le16(h, snes_checksum_at) + le16(h, complement_at)) == 0xffff &&
      le16(h, snes_checksum_at) != 0)
    points += 4;
  if (has_mode(h[mode_at], mapping)) points += 3;
  if (le16(h, reset_at) >= 0x8000)
    points += 2;
  else
    points -= 4;
  if (is_title(h.first(snes_title_size)) && h[0] != 0) points += 2;
  if (h[snes_ram_size_at] > 8) points -= 3;
  if (h[country_at] > 0x14) points -= 2;
  return points;
}

Region region_of(Byte country) {
  switch (country) {
    case 0x00:
      return Region::japan;
    case 0x01:
      return Region::north_america;
    case 0x02:
      return Region::europe;
    case 0x03:
      return Region::scandinavia;
    case 0x06:
      return Region::france;
    case 0x07:
      return Region::netherlands;
    case 0x08:
      return Region::spain;
    case 0x09:
      return Region::germany;
    case 0x0a:
      return Region::italy;
    case 0x0b:
      return Region::china;
    case 0x0d:
      return Region::korea;
    case 0x0f:
      return Region::canada;
    case 0x10:
      return Region::brazil;
    case 0x11:
      return Region::australia;
    default:
      return Region::unknown;
  }
}

// `before`: what is before the title, FFB0 on.
void add_snes_chips(ByteView h, ByteView before, RomFacts& facts) {
  facts.tells_chips = true;
  const int boards = h[snes_type_at] & 0x0f;  // 2, 5 and 6: with a battery (9 and A likewise)
  const bool battery = boards == 2 || boards == 5 || boards == 6 || boards == 9 || boards == 0x0a;
  // Boards with the graphics processor say the size of its RAM elsewhere.
  const bool graphics = (h[snes_type_at] >= 0x13 && h[snes_type_at] <= 0x15) || h[snes_type_at] == 0x1a;
  Byte shift = h[snes_ram_size_at];
  if (graphics && shift == 0 && before.size() > graphics_ram_at) shift = before[graphics_ram_at];
  if (!battery || shift == 0 || shift > 8) {
    facts.evidence.push_back(
        fmt::format("cartridge type {:02X} has no battery-backed RAM of its own", h[snes_type_at]));
    return;
  }
  const std::size_t size = std::size_t{1024} << shift;
  facts.chips.push_back({PartKind::sram, size,
                         fmt::format("cartridge type {:02X} has a battery, the header says {} bytes of RAM",
                                     h[snes_type_at], size)});
}

}  // namespace

std::optional<RomFacts> read_snes_header(const RomView& rom) {
  constexpr int enough = 8;
  int best_score = enough - 1;
  const Mapping* best = nullptr;
  std::uint64_t best_copier = 0;
  const std::uint64_t copier = rom.source.size_bytes % 1024 == 512 ? 512 : 0;  // a copier's header in front
  for (const Mapping& mapping : mappings) {
    const Blob header = rom.at(copier + mapping.at, snes_header_size);
    if (const int points = score(header.view(), mapping); points > best_score) {
      best_score = points;
      best = &mapping;
      best_copier = copier;
    }
  }
  if (best == nullptr) return std::nullopt;
  const Blob header = rom.at(best_copier + best->at, snes_header_size);
  const ByteView h = header.view();
  if (h.size() != snes_header_size) return std::nullopt;  // it could be read a moment ago
  RomFacts facts;
  facts.game.platform = Platform::snes;
  facts.header_size_bytes = static_cast<std::size_t>(best_copier);
  facts.game.title = header_text(h.first(snes_title_size));
  facts.game.region = region_of(h[country_at]);
  facts.game.revision = h[snes_revision_at];
  facts.check_code = le16(h, snes_checksum_at);
  if (h[snes_maker_at] == extended_maker) {
    const Blob extended = rom.at(best_copier + best->at - extended_back, 6);
    if (const ByteView code = extended.empty() ? ByteView{} : extended.view().subspan(2, 4);
        !code.empty() && is_plain_code(code))
      facts.game.code.assign(code.begin(), code.end());
  }
  facts.confidence = best_score >= 11 ? 0.97 : 0.85;
  facts.evidence.push_back(
      fmt::format("a plausible header at {:X}, for a ROM mapped {}", best_copier + best->at, best->name));
  facts.evidence.emplace_back(
      static_cast<std::uint16_t>(le16(h, snes_checksum_at) + le16(h, complement_at)) == 0xffff
          ? "its checksum and complement agree"
          : "its checksum and complement do not agree");
  if (best_copier != 0) facts.evidence.emplace_back("after a copier's header of 512 bytes");
  const Blob before = rom.at(best_copier + best->at - extended_back, extended_back);
  add_snes_chips(h, before.view(), facts);
  return facts;
}

}  // namespace bayswap
