#include "base/checksum.hpp"

#include <zlib.h>

#include <numeric>

namespace bayswap {
namespace {

template <class Word, Word polynomial>
constexpr std::array<Word, 256> crc_table() {
  std::array<Word, 256> table{};
  for (unsigned i = 0; i < 256; ++i) {
    auto word = static_cast<Word>(i);
    for (int bit = 0; bit < 8; ++bit)
      word = static_cast<Word>((word >> 1) ^ ((word & 1) != 0 ? polynomial : 0));
    table[i] = word;
  }
  return table;
}

constexpr auto table16 = crc_table<std::uint16_t, 0xA001>();

}  // namespace

std::uint32_t crc32(ByteView bytes, std::uint32_t so_far) {
  return static_cast<std::uint32_t>(crc32_z(so_far, bytes.data(), bytes.size()));
}

std::uint16_t crc16(ByteView bytes) {
  std::uint16_t crc = 0xffff;
  for (const Byte b : bytes) crc = static_cast<std::uint16_t>((crc >> 8) ^ table16[(crc ^ b) & 0xff]);
  return crc;
}

std::uint16_t crc16_ccitt(ByteView bytes) {
  unsigned crc = 0;
  for (const Byte b : bytes) {
    crc ^= static_cast<unsigned>(b) << 8U;
    for (int bit = 0; bit < 8; ++bit) crc = (crc << 1U) ^ ((crc & 0x8000U) != 0 ? 0x1021U : 0U);
  }
  return static_cast<std::uint16_t>(crc & 0xffffU);
}

std::uint16_t sum16(ByteView bytes) {
  return static_cast<std::uint16_t>(std::accumulate(bytes.begin(), bytes.end(), std::uint32_t{0}) & 0xffff);
}

}  // namespace bayswap
