// The gc memory card: blocks of 8 KiB; header, directory and allocation table, the latter two with a backup
// each (docs/formats/gc.md). Numbers are big-endian.
#pragma once

#include "base/endian.hpp"

namespace bayswap::gc {

inline constexpr std::size_t block_size = 8192;
inline constexpr std::size_t system_blocks = 5;

// ---- A directory entry: 64 bytes; all FF where there is none ----------------------------------------
inline constexpr std::size_t entry_bytes = 64;
inline constexpr std::size_t code_at = 0;   // 4 bytes: game, region in the last
inline constexpr std::size_t maker_at = 4;  // 2 bytes
inline constexpr std::size_t reserved_at = 6;
inline constexpr std::size_t banner_at = 7;  // bits 0 and 1: form of the banner; bit 2: icons go to and fro
inline constexpr std::size_t name_at = 8;
inline constexpr std::size_t name_bytes = 32;
inline constexpr std::size_t modified_at = 40;     // seconds since 2000, on the console's clock
inline constexpr std::size_t pictures_at = 44;     // offset of banner and icons in the data; FFFFFFFF: none
inline constexpr std::size_t icon_forms_at = 48;   // two bits an icon, the first one lowest
inline constexpr std::size_t icon_speeds_at = 50;  // two bits an icon; 0: no more icons
inline constexpr std::size_t permissions_at = 52;
inline constexpr std::size_t copies_at = 53;
inline constexpr std::size_t first_block_at = 54;
inline constexpr std::size_t blocks_at = 56;
inline constexpr std::size_t comment_at = 60;  // offset of two texts of 32 bytes in the data; FFFFFFFF: none
inline constexpr std::size_t comment_bytes = 32;

inline constexpr std::int64_t epoch = 946684800;  // 2000-01-01, in seconds since 1970

inline bool is_no_entry(ByteView entry) {
  return is_uniform(entry.first(name_at), nullptr) && entry[0] == 0xff;
}

}  // namespace bayswap::gc
