#include "base/ecc.hpp"

#include <bit>
#include <cassert>
#include <cstring>

namespace bayswap {

// Eight bytes at a time: the exclusive or of all words has the columns; that of the words whose index has a
// bit set has a line each; the three lines within a word are masks of whole bytes.
Ecc ecc_of(ByteView chunk) {
  static_assert(std::endian::native == std::endian::little,
                "bytes within a word are counted from the low end");
  assert(chunk.size() == ecc_chunk_bytes);
  constexpr std::size_t words = ecc_chunk_bytes / 8;
  std::array<std::uint64_t, words> word{};
  std::memcpy(word.data(), chunk.data(), ecc_chunk_bytes);
  std::uint64_t all = 0;
  std::array<std::uint64_t, 4> line{};
  for (std::size_t i = 0; i < words; ++i) {
    all ^= word[i];
    for (std::size_t bit = 0; bit < line.size(); ++bit) line[bit] ^= ((i >> bit) & 1U) != 0 ? word[i] : 0;
  }
  // Folded by hand: without a popcount instruction std::popcount is a call.
  const auto parity = [](std::uint64_t value) {
    value ^= value >> 32U;
    value ^= value >> 16U;
    value ^= value >> 8U;
    value ^= value >> 4U;
    return (0x6996U >> (value & 15U)) & 1U;
  };
  unsigned set = 0;  // line parity of the bytes whose index has the bit set
  set |= parity(all & 0xff00ff00ff00ff00U) << 0U;
  set |= parity(all & 0xffff0000ffff0000U) << 1U;
  set |= parity(all & 0xffffffff00000000U) << 2U;
  for (std::size_t bit = 0; bit < line.size(); ++bit) set |= parity(line[bit]) << (3 + bit);
  const unsigned clear = set ^ (parity(all) != 0 ? 0x7fU : 0U);
  std::uint64_t column = all ^ (all >> 32U);
  column ^= column >> 16U;
  column ^= column >> 8U;
  column &= 0xffU;
  unsigned columns = 0;
  columns |= parity(column & 0x55U) << 0U;
  columns |= parity(column & 0x33U) << 1U;
  columns |= parity(column & 0x0fU) << 2U;
  columns |= parity(column & 0xaaU) << 4U;
  columns |= parity(column & 0xccU) << 5U;
  columns |= parity(column & 0xf0U) << 6U;
  return {static_cast<Byte>(columns ^ 0x77U), static_cast<Byte>(clear ^ 0x7fU),
          static_cast<Byte>(set ^ 0x7fU)};
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

std::array<EccState, ecc_chunks> mend_page(std::span<Byte> page, ByteView spare) {
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
