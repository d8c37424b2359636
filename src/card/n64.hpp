// The n64 controller pak: banks of 128 pages of 256 bytes, one in most; an index table a bank with its
// backup, and 16 notes (docs/formats/n64.md).
#pragma once

#include "base/endian.hpp"

namespace bayswap::n64 {

inline constexpr std::size_t page_bytes = 256;
inline constexpr std::size_t bank_pages = 128;
inline constexpr std::size_t bank_bytes = bank_pages * page_bytes;
inline constexpr std::size_t max_banks = 8;
/// Behind the ID page, the tables and their backups of all banks, and two pages of notes.
constexpr std::size_t first_data_page(std::size_t banks) {
  return 3 + 2 * banks;
}

// ---- A note: 32 bytes -------------------------------------------------------------------------------
inline constexpr std::size_t note_bytes = 32;
inline constexpr std::size_t code_at = 0;   // 4 bytes, as in the ROM's header
inline constexpr std::size_t maker_at = 4;  // 2 bytes
inline constexpr std::size_t start_at = 6;  // 16 bits: its first page
inline constexpr std::size_t status_at = 8;
inline constexpr Byte status_occupied = 0x02;
inline constexpr std::size_t extension_at = 12;  // 4 characters of the pak's own set
inline constexpr std::size_t extension_bytes = 4;
inline constexpr std::size_t name_at = 16;  // 16 characters
inline constexpr std::size_t name_bytes = 16;

constexpr bool is_blank_note(ByteView note) {
  // Either is enough for the console.
  return be32(note, code_at) == 0 || be16(note, maker_at) == 0;
}

}  // namespace bayswap::n64
