// ROMs with headers, built by their definition, byte for byte.
#pragma once

#include <algorithm>
#include <string_view>
#include <vector>

#include "base/checksum.hpp"
#include "support/builders.hpp"

namespace bayswap::test::roms {

using Bytes = std::vector<Byte>;

inline void put(Bytes& rom, std::size_t at, std::string_view text) {
  std::copy(text.begin(), text.end(), rom.begin() + static_cast<std::ptrdiff_t>(at));
}
inline void put(Bytes& rom, std::size_t at, std::initializer_list<Byte> bytes) {
  std::copy(bytes.begin(), bytes.end(), rom.begin() + static_cast<std::ptrdiff_t>(at));
}
inline void put_le16(Bytes& rom, std::size_t at, unsigned value) {
  put(rom, at, {static_cast<Byte>(value), static_cast<Byte>(value >> 8)});
}

inline Bytes noisy(std::size_t size, std::uint32_t seed = 3) {
  return bytes_of(noise(size, seed));
}

inline Bytes nes_rom(std::initializer_list<Byte> header) {
  Bytes rom = noisy(16 + 32768);
  std::fill_n(rom.begin(), 16, Byte{0});
  put(rom, 0, "NES\x1a");
  put(rom, 4, header);
  return rom;
}

inline Bytes gb_rom(Byte type, Byte ram, bool colour = false) {
  Bytes rom = noisy(65536);
  std::fill(rom.begin() + 0x134, rom.begin() + 0x150, Byte{0});
  put(rom, 0x134, "GULL LEDGER");
  put(rom, 0x143, {static_cast<Byte>(colour ? 0xc0 : 0x80), '9', '9', 0, type, 1, ram, 1, 0x33, 2});
  Byte sum = 0;
  for (std::size_t i = 0x134; i <= 0x14c; ++i) sum = static_cast<Byte>(sum - rom[i] - 1);
  rom[0x14d] = sum;
  return rom;
}

inline Bytes gba_rom(std::string_view tag = "") {
  Bytes rom = noisy(65536);
  std::fill(rom.begin() + 0xa0, rom.begin() + 0xc0, Byte{0});
  put(rom, 0xa0, "MOTH COURIER");
  put(rom, 0xac, "A99P");
  put(rom, 0xb0, "99");
  rom[0xb2] = 0x96;
  rom[0xbc] = 1;
  int sum = 0;
  for (std::size_t i = 0xa0; i <= 0xbc; ++i) sum -= rom[i];
  rom[0xbd] = static_cast<Byte>(sum - 0x19);
  put(rom, 0x8000, tag);
  return rom;
}

inline Bytes nds_rom() {
  Bytes rom = noisy(65536);
  std::fill(rom.begin(), rom.begin() + 0x160, Byte{0});
  put(rom, 0, "TIN ORCHARD");
  put(rom, 0x0c, "Y99E");
  for (std::size_t i = 0; i < 0x9c; ++i) rom[0xc0 + i] = static_cast<Byte>(i * 11);
  put_le16(rom, 0x15c, crc16(ByteView(rom).subspan(0xc0, 0x9c)));
  put_le16(rom, 0x15e, crc16(ByteView(rom).first(0x15e)));
  return rom;
}

inline Bytes md_rom(std::initializer_list<Byte> ram_entry) {
  Bytes rom = noisy(65536);
  std::fill(rom.begin() + 0x100, rom.begin() + 0x200, Byte{' '});
  put(rom, 0x100, {0x53, 0x45, 0x47, 0x41});
  put(rom, 0x150, "ROPE   WALK");
  put(rom, 0x180, "GM 00099999-00");
  put(rom, 0x1b0, ram_entry);
  put(rom, 0x1f0, "E");
  return rom;
}

inline Bytes sms_rom(std::size_t at, Byte region) {
  Bytes rom = noisy(65536);
  put(rom, at,
      {0x54, 0x4d, 0x52, 0x20, 0x53, 0x45, 0x47, 0x41, 0, 0, 0x34, 0x12, 0x99, 0x99, 0x02,
       static_cast<Byte>(region << 4 | 0xc)});
  return rom;
}

inline Bytes snes_rom(std::size_t at, Byte mode, std::size_t size, Byte type = 2, Byte ram = 3) {
  Bytes rom = noisy(size);
  std::fill_n(rom.begin() + static_cast<std::ptrdiff_t>(at), 21, Byte{' '});
  put(rom, at, "TIN ORCHARD");
  put(rom, at + 0x15, {mode, type, 8, ram, 2, 0, 1});
  put_le16(rom, at + 0x1c, 0xffff - 0x1234);
  put_le16(rom, at + 0x1e, 0x1234);
  put_le16(rom, at + 0x3c, 0x8000);
  return rom;
}

inline Bytes ws_rom(Byte save) {
  Bytes rom = noisy(131072);
  put(rom, rom.size() - 16, {0xea, 0, 0, 0, 0xf0, 0, 0x99, 1, 0x42, 1, 2, save, 4, 0});
  std::uint32_t sum = 0;
  for (std::size_t i = 0; i + 2 < rom.size(); ++i) sum += rom[i];
  put_le16(rom, rom.size() - 2, sum & 0xffff);
  return rom;
}

inline Bytes ngp_rom() {
  Bytes rom = noisy(65536);
  put(rom, 0, {0x43, 0x4f, 0x50, 0x59, 0x52, 0x49, 0x47, 0x48, 0x54, 0x20, 0x42, 0x59, 0x20, 0x53,
               0x4e, 0x4b, 0x20, 0x43, 0x4f, 0x52, 0x50, 0x4f, 0x52, 0x41, 0x54, 0x49, 0x4f, 0x4e});
  put(rom, 0x20, {0x34, 0x12, 3, 0x10});
  put(rom, 0x24, "STONE JETTY ");
  return rom;
}

}  // namespace bayswap::test::roms
