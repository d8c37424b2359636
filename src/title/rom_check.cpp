// The sums in ROM headers, over the whole ROM (docs/formats/roms.md).
#include <bayswap/title.hpp>

#include <algorithm>
#include <array>
#include <bit>

#include "base/checksum.hpp"
#include "base/endian.hpp"

namespace bayswap {
namespace {

RomSum sum_of(std::string_view what, std::uint32_t stored, std::uint32_t computed, int digits) {
  return {std::string(what), stored, computed, digits};
}

std::uint32_t added(ByteView bytes) {
  std::uint32_t sum = 0;
  for (const Byte b : bytes) sum += b;
  return sum;
}

void add_gb(ByteView rom, std::vector<RomSum>& sums) {
  if (rom.size() < 0x150) return;
  Byte head = 0;
  for (std::size_t i = 0x134; i < 0x14d; ++i) head = static_cast<Byte>(head - rom[i] - 1);
  sums.push_back(sum_of("the header's sum at 14D", rom[0x14d], head, 2));
  const std::uint32_t all = added(rom) - rom[0x14e] - rom[0x14f];
  sums.push_back(sum_of("the ROM's sum at 14E", be16(rom, 0x14e), all & 0xffff, 4));
}

void add_gba(ByteView rom, std::vector<RomSum>& sums) {
  if (rom.size() < 0xc0) return;
  Byte head = 0x19;
  for (std::size_t i = 0xa0; i < 0xbd; ++i) head = static_cast<Byte>(head + rom[i]);
  sums.push_back(sum_of("the header's sum at BD", rom[0xbd], static_cast<Byte>(-head), 2));
}

void add_md(ByteView rom, std::vector<RomSum>& sums) {
  if (rom.size() < 0x202) return;
  // Up to the last address that the header names.
  const std::size_t end = std::min<std::size_t>(rom.size(), std::size_t{be32(rom, 0x1a4)} + 1);
  std::uint32_t sum = 0;
  for (std::size_t i = 0x200; i + 1 < end; i += 2) sum += be16(rom, i);
  sums.push_back(sum_of("the ROM's sum at 18E", be16(rom, 0x18e), sum & 0xffff, 4));
}

// As the cartridge's address lines have it: what lies over a power of two is repeated until it is one again.
std::uint32_t mirrored_sum(ByteView rom) {
  const std::size_t whole = std::bit_floor(rom.size());
  if (whole == rom.size()) return added(rom);
  const ByteView rest = rom.subspan(whole);
  const std::size_t rest_size = std::bit_ceil(rest.size());
  return added(rom.first(whole)) + static_cast<std::uint32_t>(whole / rest_size) * mirrored_sum(rest);
}

void add_snes(ByteView rom, std::vector<RomSum>& sums) {
  for (const std::size_t at : {0x7fdcU, 0xffdcU, 0x40ffdcU}) {
    if (rom.size() < at + 4) continue;
    const std::uint32_t complement = le16(rom, at);
    const std::uint32_t stored = le16(rom, at + 2);
    if ((complement ^ stored) != 0xffff) continue;
    sums.push_back(sum_of("the ROM's sum in its header", stored, mirrored_sum(rom) & 0xffff, 4));
    return;
  }
}

void add_sms(ByteView rom, std::vector<RomSum>& sums) {
  constexpr std::array<Byte, 8> mark{0x54, 0x4d, 0x52, 0x20, 0x53, 0x45, 0x47, 0x41};
  constexpr std::size_t head = 0x7ff0;
  if (rom.size() < head + 16 || !std::equal(mark.begin(), mark.end(), rom.begin() + head)) return;
  // The size code says how far the sum goes; the header itself is left out.
  std::size_t end = 0;
  switch (rom[head + 15] & 0xfU) {
    case 0xa:
      end = 0x2000;
      break;
    case 0xb:
      end = 0x4000;
      break;
    case 0xc:
      end = 0x8000;
      break;
    case 0xd:
      end = 0xc000;
      break;
    case 0xe:
      end = 0x10000;
      break;
    case 0xf:
      end = 0x20000;
      break;
    case 0:
      end = 0x40000;
      break;
    case 1:
      end = 0x80000;
      break;
    default:
      return;
  }
  end = std::min(end, rom.size());
  std::uint32_t sum = added(rom.first(std::min(end, head)));
  if (end > head + 16) sum += added(rom.subspan(head + 16, end - head - 16));
  sums.push_back(sum_of("the ROM's sum at 7FFA", le16(rom, head + 10), sum & 0xffff, 4));
}

void add_ws(ByteView rom, std::vector<RomSum>& sums) {
  if (rom.size() < 16) return;
  sums.push_back(sum_of("the ROM's sum in its last bytes", le16(rom, rom.size() - 2),
                        added(rom.first(rom.size() - 2)) & 0xffff, 4));
}

void add_nds(ByteView rom, std::vector<RomSum>& sums) {
  if (rom.size() < 0x160) return;
  sums.push_back(sum_of("the header's CRC-16 at 15E", le16(rom, 0x15e), crc16(rom.first(0x15e)), 4));
}

}  // namespace

std::vector<RomSum> check_rom(Platform platform, ByteView rom) {
  std::vector<RomSum> sums;
  switch (platform) {
    case Platform::gb:
    case Platform::gbc:
      add_gb(rom, sums);
      break;
    case Platform::gba:
      add_gba(rom, sums);
      break;
    case Platform::md:
      add_md(rom, sums);
      break;
    case Platform::snes:
      add_snes(rom, sums);
      break;
    case Platform::sms:
    case Platform::gg:
      add_sms(rom, sums);
      break;
    case Platform::ws:
      add_ws(rom, sums);
      break;
    case Platform::nds:
      add_nds(rom, sums);
      break;
    default:
      break;
  }
  return sums;
}

}  // namespace bayswap
