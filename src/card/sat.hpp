// sat backup memory: blocks of 64 bytes (internal) or 512 and more (cartridge); a save is a first block with
// a list of the others, and nothing else says what is in use (docs/formats/sat.md). Numbers are big-endian.
#pragma once

#include "base/endian.hpp"

namespace bayswap::sat {

inline constexpr std::size_t tag_bytes = 4;  // before every block
inline constexpr std::uint32_t tag_first = 0x80000000;

// ---- The first block of a save --------------------------------------------------------------------------
inline constexpr std::size_t name_at = 4;
inline constexpr std::size_t name_bytes = 11;
inline constexpr std::size_t language_at = 15;  // 0 to 5
inline constexpr std::size_t comment_at = 16;
inline constexpr std::size_t comment_bytes = 10;
inline constexpr std::size_t date_at = 26;      // minutes since 1980
inline constexpr std::size_t size_at = 30;      // bytes of data
inline constexpr std::size_t entry_bytes = 34;  // then the list of blocks, ended by 0, then the data

inline constexpr std::int64_t epoch = 315532800;  // 1980-01-01, in seconds since 1970
inline constexpr Byte max_language = 5;

}  // namespace bayswap::sat
