#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The last 16 bytes of the cartridge (docs/formats/roms.md).
constexpr std::size_t footer_size = 16;
constexpr std::size_t ws_maker_at = 6;
constexpr std::size_t ws_colour_at = 7;
constexpr std::size_t ws_number_at = 8;
constexpr std::size_t ws_revision_at = 9;
constexpr std::size_t save_at = 11;
constexpr std::size_t ws_checksum_at = 14;
constexpr Byte far_jump = 0xea;
constexpr std::uint64_t ws_largest_rom = std::uint64_t{16} << 20;

struct SaveType {
  Byte type;
  PartKind kind;
  std::size_t size_bytes;
};
constexpr std::array<SaveType, 8> save_types{{{0x01, PartKind::sram, 8192},
                                              {0x02, PartKind::sram, 32768},
                                              {0x03, PartKind::sram, 131072},
                                              {0x04, PartKind::sram, 262144},
                                              {0x05, PartKind::sram, 524288},
                                              {0x10, PartKind::eeprom, 128},
                                              {0x20, PartKind::eeprom, 2048},
                                              {0x50, PartKind::eeprom, 1024}}};

}  // namespace

std::optional<RomFacts> read_ws_footer(const RomView& rom) {
  const std::uint64_t size = rom.source.size_bytes;
  if (size < 65536 || size > ws_largest_rom || !std::has_single_bit(size)) return std::nullopt;
  const Blob footer = rom.at(size - footer_size, footer_size);
  const ByteView f = footer.view();
  if (f.empty() || f[0] != far_jump || f[ws_colour_at] > 1) return std::nullopt;
  // The checksum is over the whole ROM: the jump has made it worth reading.
  std::uint16_t sum = 0;
  for (std::uint64_t at = 0; at < size - 2;) {
    const Blob bytes = rom.at(at, static_cast<std::size_t>(std::min<std::uint64_t>(1U << 20, size - 2 - at)));
    if (bytes.empty()) return std::nullopt;
    sum = static_cast<std::uint16_t>(sum + sum16(bytes.view()));
    at += bytes.size();
  }
  if (sum != le16(f, ws_checksum_at)) return std::nullopt;
  RomFacts facts;
  facts.game.platform = Platform::ws;
  facts.game.code = fmt::format("{:02X}{:02X}", f[ws_maker_at], f[ws_number_at]);
  facts.game.region = Region::japan;
  facts.game.revision = f[ws_revision_at] & 0x7f;
  facts.check_code = sum;
  facts.confidence = 0.98;
  facts.tells_chips = true;
  facts.evidence.emplace_back("the ROM ends in a jump and the right checksum of all its bytes");
  const auto* type = std::ranges::find(save_types, f[save_at], &SaveType::type);
  if (type != save_types.end()) {
    facts.chips.push_back(
        {type->kind, type->size_bytes, fmt::format("save type {:02X} in the footer", f[save_at])});
  } else {
    facts.evidence.push_back(fmt::format("save type {:02X} in the footer means no known chip", f[save_at]));
  }
  return facts;
}

}  // namespace bayswap
