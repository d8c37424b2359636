// The ps2 memory card: pages of 512 bytes, two a cluster, 16 an erase block; a superblock, an allocation
// table reached through a table of tables, a tree of directories (docs/formats/ps2.md). Numbers are
// little-endian.
#pragma once

#include "base/ecc.hpp"
#include "base/endian.hpp"

namespace bayswap::ps2 {

inline constexpr std::size_t page_bytes = ecc_page_bytes;
inline constexpr std::size_t spare_bytes = ecc_spare_bytes;
inline constexpr std::size_t cluster_bytes = 1024;

// ---- A directory entry: half a cluster ------------------------------------------------------------------
inline constexpr std::size_t entry_bytes = 512;
inline constexpr std::size_t mode_at = 0;    // 16 bits
inline constexpr std::size_t length_at = 4;  // bytes of a file, entries of a folder
inline constexpr std::size_t created_at =
    8;  // 00, second, minute, hour, day, month, year (16 bits): nine hours ahead of UTC
inline constexpr std::size_t cluster_at = 16;
inline constexpr std::size_t parent_entry_at = 20;  // of ".": which entry of the folder above this folder is
inline constexpr std::size_t modified_at = 24;
inline constexpr std::size_t name_at = 64;
inline constexpr std::size_t name_bytes = 32;

inline constexpr unsigned mode_file = 0x0010;
inline constexpr unsigned mode_folder = 0x0020;
inline constexpr unsigned mode_exists = 0x8000;
inline constexpr unsigned usual_folder_mode = 0x8427;
inline constexpr unsigned usual_file_mode = 0x8497;

inline constexpr std::int64_t zone_seconds = 9 * 3600;

}  // namespace bayswap::ps2
