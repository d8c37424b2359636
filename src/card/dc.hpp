// The dc visual memory: 256 blocks of 512 bytes; root, allocation table and directory at the upper end
// (docs/formats/dc.md). Numbers are little-endian.
#pragma once

#include <bayswap/base.hpp>

#include <optional>

#include "base/checksum.hpp"
#include "base/endian.hpp"

namespace bayswap::dc {

inline constexpr std::size_t block_size = 512;
inline constexpr std::size_t max_user_blocks = 241;

// ---- A directory entry: 32 bytes ----------------------------------------------------------------------
inline constexpr std::size_t entry_bytes = 32;
inline constexpr std::size_t type_at = 0;
inline constexpr Byte type_none = 0x00;
inline constexpr Byte type_data = 0x33;
inline constexpr Byte type_game = 0xcc;
inline constexpr std::size_t protection_at = 1;  // FF: not to be copied
inline constexpr std::size_t first_block_at = 2;
inline constexpr std::size_t name_at = 4;
inline constexpr std::size_t name_bytes = 12;
inline constexpr std::size_t time_at =
    16;  // BCD: century, year, month, day, hour, minute, second, day of the week
inline constexpr std::size_t time_bytes = 8;
inline constexpr std::size_t blocks_at = 24;
inline constexpr std::size_t header_block_at = 26;  // in which of its blocks the header is

/// Returns how many bytes the checksum in a file's header covers; 0 if it has none, or they are not all
/// there.
[[nodiscard]] std::size_t covered_bytes(ByteView data);
/// Returns the checksum of so many bytes, as the header should have it.
[[nodiscard]] std::uint16_t content_crc(ByteView covered);
inline constexpr std::size_t content_crc_at = 70;
/// Some programs keep the content of a save with its bytes reversed in words of four, or of two. Returns it
/// as the console has it, where its checksum proves that; nothing if it is right as it is, or nothing proves
/// it.
[[nodiscard]] std::optional<Blob> in_true_order(ByteView entry, const Blob& payload);

/// Writes a time in BCD, its day of the week too. `seconds`: since 1970 on the console's clock.
void put_time(std::span<Byte> field, std::int64_t seconds);

}  // namespace bayswap::dc
