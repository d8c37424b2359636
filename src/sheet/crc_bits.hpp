// What CRCs of either order of bits have in common.
#pragma once

#include <cstdint>

namespace bayswap {

/// Returns the low `bits` bits, the lowest first.
[[nodiscard]] constexpr std::uint32_t turned_round(std::uint32_t value, unsigned bits) {
  std::uint32_t out = 0;
  for (unsigned i = 0; i < bits; ++i) out |= (value >> i & 1U) << (bits - 1 - i);
  return out;
}

}  // namespace bayswap
