// Copying bytes while turning the words they stand in.
#pragma once

#include <bayswap/layout.hpp>

namespace bayswap {

/// Copies `in` to `out` (same size, a whole number of words, no overlap), reversing the bytes of each word.
/// Its own inverse.
void copy_ordered(ByteOrder order, ByteView in, std::span<Byte> out);

}  // namespace bayswap
