#include "layout/byte_order.hpp"

#include <cassert>
#include <cstring>

// The loops below become byte shuffles where the processor has them. Which one runs is settled when the
// program is loaded; sanitizers don't stand code that runs that early.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) && \
    !defined(__SANITIZE_THREAD__)
#define BAYSWAP_FAST_CLONES __attribute__((target_clones("avx2", "default")))
#else
#define BAYSWAP_FAST_CLONES
#endif

namespace bayswap {
namespace {

BAYSWAP_FAST_CLONES void reverse16(const Byte* __restrict in, Byte* __restrict out, std::size_t words) {
  for (std::size_t i = 0; i < words; ++i) {
    std::uint16_t word = 0;
    std::memcpy(&word, in + 2 * i, 2);
    word = __builtin_bswap16(word);
    std::memcpy(out + 2 * i, &word, 2);
  }
}

BAYSWAP_FAST_CLONES void reverse32(const Byte* __restrict in, Byte* __restrict out, std::size_t words) {
  for (std::size_t i = 0; i < words; ++i) {
    std::uint32_t word = 0;
    std::memcpy(&word, in + 4 * i, 4);
    word = __builtin_bswap32(word);
    std::memcpy(out + 4 * i, &word, 4);
  }
}

BAYSWAP_FAST_CLONES void reverse64(const Byte* __restrict in, Byte* __restrict out, std::size_t words) {
  for (std::size_t i = 0; i < words; ++i) {
    std::uint64_t word = 0;
    std::memcpy(&word, in + 8 * i, 8);
    word = __builtin_bswap64(word);
    std::memcpy(out + 8 * i, &word, 8);
  }
}

}  // namespace

void copy_ordered(ByteOrder order, ByteView in, std::span<Byte> out) {
  assert(in.size() == out.size());
  if (in.empty()) return;
  switch (order) {
    case ByteOrder::chip:
      std::memcpy(out.data(), in.data(), in.size());
      return;
    case ByteOrder::swap16:
      reverse16(in.data(), out.data(), in.size() / 2);
      return;
    case ByteOrder::swap32:
      reverse32(in.data(), out.data(), in.size() / 4);
      return;
    case ByteOrder::swap64:
      reverse64(in.data(), out.data(), in.size() / 8);
      return;
  }
}

}  // namespace bayswap
