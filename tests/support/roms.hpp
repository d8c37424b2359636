// ROMs with headers, built by their definition, byte for byte.
#pragma once

#include <algorithm>
#include <string_view>
#include <tuple>
#include <vector>

#include "base/checksum.hpp"
#include "base/endian.hpp"
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
  put(rom, 0x100, {0x00, 0xc3, 0x50, 0x01});
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

// A disc with one file in its root, by ECMA-119: a volume at sector 16, the root folder at 18, the file
// at 20.
inline std::vector<Byte> disc(std::string_view name, std::string_view content, std::size_t stride = 2048,
                              std::size_t lead = 0) {
  std::vector<Byte> plain(24 * 2048);
  const std::span<Byte> p(plain);
  const auto text = [&](std::size_t at, std::string_view words) {
    std::ranges::copy(words, plain.begin() + static_cast<std::ptrdiff_t>(at));
  };
  plain[16 * 2048] = 1;
  text(16 * 2048 + 1, "CD001");
  put_le(p, 16 * 2048 + 156 + 2, 4, 18);
  put_le(p, 16 * 2048 + 156 + 10, 4, 2048);
  std::size_t at = 18 * 2048;
  for (const auto& [file, sector, size] : {std::tuple{std::string("\0", 1), 18U, std::size_t{2048}},
                                           {"OTHER.TXT;1", 19U, std::size_t{5}},
                                           {std::string(name) + ";1", 20U, content.size()}}) {
    const std::size_t length = (33 + file.size() + 1) / 2 * 2;
    plain[at] = static_cast<Byte>(length);
    put_le(p, at + 2, 4, sector);
    put_le(p, at + 10, 4, size);
    plain[at + 32] = static_cast<Byte>(file.size());
    text(at + 33, file);
    at += length;
  }
  text(20 * 2048, content);
  if (stride == 2048) return plain;
  std::vector<Byte> raw(24 * stride);
  for (std::size_t sector = 0; sector < 24; ++sector)
    std::copy_n(plain.begin() + static_cast<std::ptrdiff_t>(sector * 2048), 2048,
                raw.begin() + static_cast<std::ptrdiff_t>(sector * stride + lead));
  return raw;
}

}  // namespace bayswap::test::roms
