// The Hamming code in the spare area of ps2 cards' pages: three bytes for each 128 bytes of data; one wrong
// bit is found and set right, two are noticed (docs/formats/ps2.md).
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
/// What `stored` says of the chunk. For one_bit, `byte` and `bit` tell which one is wrong; code_only: the
/// data are right, the code has a wrong bit.
struct EccFinding {
  EccState state = EccState::sound;
  std::size_t byte = 0;
  unsigned bit = 0;
};
[[nodiscard]] EccFinding ecc_compare(const Ecc& computed, const Ecc& stored);

// ---- Pages: 512 bytes of data, 16 spare bytes
// ----------------------------------------------------------------

inline constexpr std::size_t ecc_page_bytes = 512;
inline constexpr std::size_t ecc_spare_bytes = 16;  // the codes of four chunks, and 4 bytes 00
inline constexpr std::size_t ecc_chunks = ecc_page_bytes / ecc_chunk_bytes;

/// The spare bytes of a page that was written.
void put_spare(std::span<Byte> spare, ByteView page);
/// The spare bytes of a page of which nothing else is known: FF for one that is all FF, as erased ones are.
void put_likely_spare(std::span<Byte> spare, ByteView page);
/// Every code agrees, or the page is erased.
[[nodiscard]] bool is_sound_page(ByteView page, ByteView spare);
/// Sets single wrong bits in the page right. What each chunk was like; an erased page is sound.
[[nodiscard]] std::array<EccState, ecc_chunks> repair_page(std::span<Byte> page, ByteView spare);

}  // namespace bayswap
