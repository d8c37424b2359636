// What is where in an x360 package (docs/formats/x360.md).
#pragma once

#include <bayswap/package.hpp>

#include <algorithm>
#include <array>

#include "base/clock.hpp"
#include "base/endian.hpp"

namespace bayswap {
namespace x360 {

inline constexpr std::size_t block_bytes = 0x1000;
inline constexpr std::uint32_t per_table = 0xAA;     // entries of a hash table
inline constexpr std::uint32_t per_level1 = 0x70E4;  // 0xAA squared
inline constexpr std::uint32_t max_blocks = 0x4000;  // 64 MiB: saves are far smaller
inline constexpr std::uint32_t no_block = 0xFFFFFF;
inline constexpr std::size_t hash_entry_bytes = 24;
inline constexpr std::size_t table_count_at = 0xFF0;

inline constexpr std::size_t header_hash_at = 0x32C;
inline constexpr std::size_t header_size_at = 0x340;
inline constexpr std::size_t content_type_at = 0x344;  // from here on the header is hashed
inline constexpr std::size_t content_size_at = 0x34C;
inline constexpr std::size_t title_id_at = 0x360;
inline constexpr std::size_t profile_id_at = 0x371;
inline constexpr std::size_t separation_at = 0x37B;
inline constexpr std::size_t table_blocks_at = 0x37C;
inline constexpr std::size_t table_first_at = 0x37E;
inline constexpr std::size_t top_hash_at = 0x381;
inline constexpr std::size_t total_at = 0x395;
inline constexpr std::size_t unallocated_at = 0x399;
inline constexpr std::size_t volume_kind_at = 0x3A9;  // 0: blocks under hash tables
inline constexpr std::size_t display_name_at = 0x411;
inline constexpr std::size_t title_name_at = 0x1691;
inline constexpr std::size_t display_name_bytes = 256;  // a language each, nine of them
inline constexpr std::size_t title_name_bytes = 128;
inline constexpr std::size_t thumbnail_size_at = 0x1712;
inline constexpr std::size_t thumbnail_at = 0x171A;
inline constexpr std::size_t thumbnail_most = 0x4000;
inline constexpr std::size_t least_header = 0x971A;

inline constexpr Byte in_use = 0x80;
inline constexpr Byte newly_used = 0xC0;
inline constexpr Byte freed = 0x40;
inline constexpr Byte second_copy = 0x40;

inline std::uint32_t be24(ByteView bytes, std::size_t at) {
  return (std::uint32_t{bytes[at]} << 16) | be16(bytes, at + 1);
}
inline std::uint32_t le24(ByteView bytes, std::size_t at) {
  return le16(bytes, at) | (std::uint32_t{bytes[at + 2]} << 16);
}
inline void put_be24(std::span<Byte> bytes, std::size_t at, std::uint32_t value) {
  bytes[at] = static_cast<Byte>(value >> 16);
  put_be16(bytes, at + 1, static_cast<std::uint16_t>(value & 0xffff));
}

// The calendar of FAT: two-second steps since 1980, date in the upper half.
inline std::optional<std::int64_t> from_fat_time(std::uint32_t value) {
  const auto part = [value](unsigned shift, unsigned bits) {
    return static_cast<int>((value >> shift) & ((1U << bits) - 1));
  };
  return seconds_of({1980 + part(25, 7), part(21, 4), part(16, 5), part(11, 5), part(5, 6), part(0, 5) * 2});
}
inline std::uint32_t to_fat_time(std::int64_t seconds) {
  const ClockTime time = clock_time(seconds);
  const auto year = static_cast<unsigned>(std::clamp(time.year - 1980, 0, 127));
  return (year << 25) | (static_cast<unsigned>(time.month) << 21) | (static_cast<unsigned>(time.day) << 16) |
         (static_cast<unsigned>(time.hour) << 11) | (static_cast<unsigned>(time.minute) << 5) |
         static_cast<unsigned>(time.second / 2);
}

inline std::size_t blocks_for(std::size_t size) {
  return (size + block_bytes - 1) / block_bytes;
}

inline std::pair<std::string, std::string> split(const std::string& path) {
  const auto slash = path.rfind('/');
  if (slash == std::string::npos) return {"", path};
  return {path.substr(0, slash), path.substr(slash + 1)};
}

}  // namespace x360

// An entry of the file table, as it is there.
struct BlockPackage::Record {
  static constexpr std::size_t size_bytes = 64;
  static constexpr std::size_t name_most = 40;
  static constexpr Byte folder_flag = 0x80;
  static constexpr Byte contiguous_flag = 0x40;

  std::array<Byte, size_bytes> raw{};

  [[nodiscard]] std::size_t name_size() const { return std::min<std::size_t>(raw[40] & 0x3F, name_most); }
  [[nodiscard]] std::string name() const {
    return {raw.begin(), raw.begin() + static_cast<std::ptrdiff_t>(name_size())};
  }
  [[nodiscard]] bool is_folder() const { return (raw[40] & folder_flag) != 0; }
  [[nodiscard]] std::uint32_t blocks() const { return x360::le24(raw, 41); }
  [[nodiscard]] std::uint32_t first() const { return x360::le24(raw, 47); }
  [[nodiscard]] std::uint16_t parent() const { return be16(raw, 50); }
  [[nodiscard]] std::uint32_t size() const { return be32(raw, 52); }
  [[nodiscard]] std::uint32_t updated() const { return be32(raw, 56); }

  void make(const std::string& name, bool folder, std::uint16_t parent) {
    raw.fill(0);
    std::ranges::copy(name, raw.begin());
    raw[40] = static_cast<Byte>(name.size() | (folder ? folder_flag : 0));
    put_be16(raw, 50, parent);
  }
  void place(const std::vector<std::uint32_t>& chain, std::size_t size) {
    put_le(raw, 41, 3, chain.size());
    put_le(raw, 44, 3, chain.size());
    put_le(raw, 47, 3, chain.empty() ? 0 : chain.front());
    put_be32(raw, 52, static_cast<std::uint32_t>(size));
    bool in_a_row = true;
    for (std::size_t i = 1; i < chain.size(); ++i) in_a_row = in_a_row && chain[i] == chain[i - 1] + 1;
    raw[40] = static_cast<Byte>((raw[40] & ~contiguous_flag) | (in_a_row ? contiguous_flag : 0));
  }
  void stamp(std::int64_t modified) {
    put_be32(raw, 56, x360::to_fat_time(modified));
    put_be32(raw, 60, x360::to_fat_time(modified));
  }
};

}  // namespace bayswap
