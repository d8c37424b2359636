#include "base/ecc.hpp"

#include <bit>
#include <cassert>
#include <cstring>

namespace bayswap {

namespace {

// What the columns of a byte come to, for each value of the exclusive or of all bytes.
constexpr std::array<Byte, 256> column_codes = [] {
  std::array<Byte, 256> codes{};
  constexpr std::array<unsigned, 7> masks{0x55, 0x33, 0x0f, 0, 0xaa, 0xcc, 0xf0};
  for (unsigned value = 0; value < codes.size(); ++value)
    for (unsigned bit = 0; bit < masks.size(); ++bit)
      codes[value] |=
          static_cast<Byte>((static_cast<unsigned>(std::popcount(value & masks.at(bit))) & 1U) << bit);
  return codes;
}();

// Two words side by side, in whatever wide registers the machine has.
using Words = std::uint64_t __attribute__((vector_size(16)));
constexpr std::size_t word_pairs = ecc_chunk_bytes / sizeof(Words);

// Every word's bytes folded into its lowest one.
Words folded(Words words) {
  words ^= words >> 32U;
  words ^= words >> 16U;
  words ^= words >> 8U;
  return words & 0xffU;
}

}  // namespace

// The exclusive or of all bytes has the columns. That of the bytes whose index has a bit set has a line each:
// the upper three lines come from whole pairs of words, the next is the second word of each pair, the lower
// three are masks of whole bytes. Eight parities are then taken at once, a byte each.
Ecc ecc_of(ByteView chunk) {
  assert(chunk.size() == ecc_chunk_bytes);
  std::array<Words, word_pairs> w{};
  std::memcpy(w.data(), chunk.data(), ecc_chunk_bytes);
  // Bytes within a word are counted from the low end.
  if constexpr (std::endian::native == std::endian::big)
    for (Words& one : w) one = Words{__builtin_bswap64(one[0]), __builtin_bswap64(one[1])};
  std::array<Words, 3> line{};
  // Pairs, pairs of pairs, ...: what is in the second of each pair has the bit set.
  std::size_t count = w.size();
  for (Words& bit : line) {
    count /= 2;
    for (std::size_t i = 0; i < count; ++i) {
      bit ^= w[2 * i + 1];
      w[i] = w[2 * i] ^ w[2 * i + 1];
    }
  }
  const std::uint64_t all = w[0][0] ^ w[0][1];
  const Words pairs = folded(Words{all & 0xff00ff00ff00ff00U, all & 0xffff0000ffff0000U}) |
                      folded(Words{all & 0xffffffff00000000U, w[0][1]}) << 16U |
                      folded(Words{line[0][0] ^ line[0][1], line[1][0] ^ line[1][1]}) << 32U |
                      folded(Words{line[2][0] ^ line[2][1], all}) << 48U;
  std::uint64_t parities = pairs[0] | pairs[1] << 8U;
  const std::uint64_t columns = parities >> 56U;
  parities ^= parities >> 4U;
  parities ^= parities >> 2U;
  parities ^= parities >> 1U;
  // The lowest bit of each byte, gathered into the highest byte in their order.
  const auto set = static_cast<unsigned>(((parities & 0x0101010101010101U) * 0x0102040810204080U) >> 56U);
  const unsigned clear = (set ^ ((set & 0x80U) != 0 ? 0x7fU : 0U)) & 0x7fU;
  return {static_cast<Byte>(column_codes[columns] ^ 0x77U), static_cast<Byte>(clear ^ 0x7fU),
          static_cast<Byte>((set & 0x7fU) ^ 0x7fU)};
}

EccFinding ecc_compare(const Ecc& computed, const Ecc& stored) {
  const unsigned columns = (computed[0] ^ stored[0]) & 0x77U;
  const unsigned clear = (computed[1] ^ stored[1]) & 0x7fU;
  const unsigned set = (computed[2] ^ stored[2]) & 0x7fU;
  if (columns == 0 && clear == 0 && set == 0) return {};
  if ((clear ^ set) == 0x7fU && ((columns >> 4U) ^ (columns & 7U)) == 7U)
    return {EccState::one_bit, set, columns >> 4U};
  if (std::popcount(columns) + std::popcount(clear) + std::popcount(set) == 1)
    return {EccState::code_only, 0, 0};
  return {EccState::hopeless, 0, 0};
}

namespace {

bool is_erased(ByteView bytes) {
  Byte value = 0;
  return bytes[0] == 0xff && is_uniform(bytes, &value);
}

}  // namespace

void put_spare(std::span<Byte> spare, ByteView page) {
  std::size_t at = 0;
  for (std::size_t chunk = 0; chunk < ecc_chunks; ++chunk)
    for (const Byte b : ecc_of(page.subspan(chunk * ecc_chunk_bytes, ecc_chunk_bytes))) spare[at++] = b;
  std::memset(&spare[at], 0, ecc_spare_bytes - at);
}

void put_likely_spare(std::span<Byte> spare, ByteView page) {
  if (is_erased(page)) {
    std::memset(spare.data(), 0xff, ecc_spare_bytes);
  } else {
    put_spare(spare, page);
  }
}

bool is_sound_page(ByteView page, ByteView spare) {
  if (spare[0] == 0xff && is_erased(spare) && is_erased(page)) return true;
  bool sound = true;
  for (std::size_t chunk = 0; chunk < ecc_chunks; ++chunk) {
    const Ecc code = ecc_of(page.subspan(chunk * ecc_chunk_bytes, ecc_chunk_bytes));
    const Ecc stored{spare[3 * chunk], spare[3 * chunk + 1], spare[3 * chunk + 2]};
    sound = sound && (code == stored || ecc_compare(code, stored).state == EccState::sound);
  }
  return sound;
}

std::array<EccState, ecc_chunks> repair_page(std::span<Byte> page, ByteView spare) {
  std::array<EccState, ecc_chunks> states{};
  if (is_erased(spare) && is_erased(page)) return states;
  for (std::size_t chunk = 0; chunk < ecc_chunks; ++chunk) {
    const std::span<Byte> data = page.subspan(chunk * ecc_chunk_bytes, ecc_chunk_bytes);
    const Ecc stored{spare[3 * chunk], spare[3 * chunk + 1], spare[3 * chunk + 2]};
    const EccFinding found = ecc_compare(ecc_of(data), stored);
    if (found.state == EccState::sound) continue;
    if (found.state == EccState::one_bit) data[found.byte] ^= static_cast<Byte>(1U << found.bit);
    states.at(chunk) = found.state;
  }
  return states;
}

}  // namespace bayswap
