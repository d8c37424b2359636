#include <fmt/format.h>

#include <bit>

#include "title/readers.hpp"

namespace bayswap {
namespace {

// The container's header before a ROM file (docs/formats/roms.md); the cartridge itself has none.
constexpr std::size_t nes_header_size = 16;
constexpr std::size_t program_units_at = 4;  // of 16 KiB
constexpr std::size_t flags6_at = 6;
constexpr std::size_t flags7_at = 7;
constexpr std::size_t ram_units_at = 8;  // first generation: work RAM in units of 8 KiB; 0: not said
constexpr std::size_t ram_shifts_at =
    10;  // second: low half volatile RAM, high half battery RAM, 64 << n bytes
constexpr Byte battery_flag = 0x02;
constexpr std::size_t unit = 8192;

}  // namespace

std::optional<RomFacts> read_nes_header(const RomView& rom) {
  const Blob header = rom.at(0, nes_header_size);
  const ByteView h = header.view();
  if (h.empty() || h[0] != 0x4e || h[1] != 0x45 || h[2] != 0x53 || h[3] != 0x1a) return std::nullopt;
  RomFacts facts;
  facts.game.platform = Platform::nes;
  facts.header_size_bytes = nes_header_size;
  facts.confidence = 0.99;
  facts.tells_chips = true;
  const bool second = (h[flags7_at] & 0x0c) == 0x08;
  // Bytes 7 to 15 of older files hold a text.
  const bool archaic = (h[flags7_at] & 0x0c) == 0x04;
  facts.evidence.push_back(fmt::format("it begins with an nes container header of the {} generation",
                                       second ? "second" : "first"));
  if ((h[flags6_at] & battery_flag) == 0) {
    facts.evidence.emplace_back("the header says: no battery");
    return facts;
  }
  std::size_t size = 0;
  if (second) {
    const int shift = h[ram_shifts_at] >> 4;
    size = shift == 0 ? 0 : std::size_t{64} << shift;
  } else if (!archaic) {
    size = h[ram_units_at] * unit;
    // Boards with two chips of 8 KiB mostly back one of them only.
    if (size == 2 * unit) size = 0;
  }
  const int mapper = (h[flags6_at] >> 4) | (archaic ? 0 : h[flags7_at] & 0xf0);
  constexpr int self_flashing =
      30;  // there the battery's bit says that the program writes its own flash chip
  if (mapper == self_flashing) {
    facts.chips.push_back({PartKind::flash, std::size_t{h[program_units_at]} * 16384,
                           "the header says: a board whose program writes its own flash chip"});
    return facts;
  }
  constexpr std::size_t largest = 131072;  // no board has more
  if (size > largest || !std::has_single_bit(size)) size = 0;
  const bool serial = size == 128 || size == 256;  // no parallel RAM is that small
  facts.chips.push_back({serial ? PartKind::eeprom : PartKind::sram, size,
                         fmt::format("the header says: {}{}", serial ? "serial EEPROM" : "battery-backed RAM",
                                     size == 0 ? ", size not given" : fmt::format(" of {} bytes", size))});
  return facts;
}

}  // namespace bayswap
