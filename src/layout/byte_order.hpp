// Copying bytes while turning the words they are in.
#pragma once

#include <bayswap/layout.hpp>

namespace bayswap {

/// Bytes in a word of that order: 1, 2, 4 or 8.
[[nodiscard]] constexpr std::size_t word_bytes(ByteOrder order) {
  switch (order) {
    case ByteOrder::chip:
      return 1;
    case ByteOrder::swap16:
      return 2;
    case ByteOrder::swap32:
      return 4;
    case ByteOrder::swap64:
      return 8;
  }
  return 1;
}

/// Copies `in` to `out` (same size, a whole number of words, no overlap), reversing the bytes of each word.
/// Its own inverse.
void copy_ordered(ByteOrder order, ByteView in, std::span<Byte> out);

}  // namespace bayswap
