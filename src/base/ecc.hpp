// The Hamming code in the spare area of ps2 cards' pages: three bytes for each 128 bytes of data; one wrong bit is
// found and set right, two are noticed (docs/formats/ps2.md).
#pragma once

#include <bayswap/base.hpp>

#include <array>

namespace bayswap {

inline constexpr std::size_t ecc_chunk_bytes = 128;
/// Column parity, then line parity of the bytes whose index has a bit clear, then set.
using Ecc = std::array<Byte, 3>;

/// `chunk` has ecc_chunk_bytes bytes.
[[nodiscard]] Ecc ecc_of(ByteView chunk);

enum class EccState { sound, one_bit, code_only, hopeless };
/// What `stored` says of the chunk. For one_bit, `byte` and `bit` tell which one is wrong; code_only: the data
/// are right, the code has a wrong bit.
struct EccFinding {
  EccState state = EccState::sound;
  std::size_t byte = 0;
  unsigned bit = 0;
};
[[nodiscard]] EccFinding ecc_compare(const Ecc& computed, const Ecc& stored);

}  // namespace bayswap
