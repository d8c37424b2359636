// The ps1 memory card: 16 blocks of 64 frames of 128 bytes; block 0 is the directory (docs/formats/ps1.md).
#pragma once

#include "base/endian.hpp"

namespace bayswap::ps1 {

inline constexpr std::size_t frame_bytes = 128;
inline constexpr std::size_t block_size = 8192;
inline constexpr std::size_t save_blocks = 15;  // that saves can have; block 0 is the directory
inline constexpr std::size_t card_bytes = (save_blocks + 1) * block_size;
inline constexpr std::size_t checksum_at = 127;

// ---- A directory frame: one for each block ------------------------------------------------------
inline constexpr std::size_t state_at = 0;  // 32 bits
inline constexpr std::size_t size_at = 4;   // 32 bits, of the whole save; in its first frame only
inline constexpr std::size_t next_at = 8;   // 16 bits: the block that follows, counted from 0; FFFF: none
inline constexpr std::size_t name_at = 10;  // 21 bytes, ended by 0
inline constexpr std::size_t name_bytes = 21;
inline constexpr std::uint16_t no_next = 0xffff;

inline constexpr std::uint32_t state_first = 0x51;
inline constexpr std::uint32_t state_middle = 0x52;
inline constexpr std::uint32_t state_last = 0x53;
inline constexpr std::uint32_t state_free = 0xa0;

// ---- The title frame: the first one of a save's content -------------------------------------------
inline constexpr std::size_t display_at = 2;  // 11 to 13, 16 to 18: an icon of one, two, three pictures
inline constexpr std::size_t title_blocks_at = 3;
inline constexpr std::size_t title_at = 4;
inline constexpr std::size_t title_bytes = 64;
/// How many blocks the content that begins with this frame has; 0 if it is no title frame.
constexpr std::size_t blocks_by_title(ByteView frame) {
  const unsigned display = frame[display_at];
  const bool shown = (display >= 0x11 && display <= 0x13) || (display >= 0x16 && display <= 0x18);
  const std::size_t blocks = frame[title_blocks_at];
  return frame[0] == 'S' && frame[1] == 'C' && shown && frame[title_at] != 0 && blocks <= save_blocks ? blocks
                                                                                                      : 0;
}

/// 5x becomes Ax.
constexpr std::uint32_t deleted(std::uint32_t state) {
  return (state & ~0xf0U) | 0xa0U;
}
constexpr bool is_used(std::uint32_t state) {
  return state >= state_first && state <= state_last;
}
constexpr Byte checksum(ByteView frame) {
  Byte sum = 0;
  for (const Byte b : frame.first(checksum_at)) sum ^= b;
  return sum;
}
constexpr void write_checksum(std::span<Byte> frame) {
  frame[checksum_at] = checksum(frame);
}
constexpr bool has_right_checksum(ByteView frame) {
  return frame[checksum_at] == checksum(frame);
}

}  // namespace bayswap::ps1
