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

template <class Word, class Reverse>
[[gnu::always_inline]] inline void each_word(const Byte* __restrict in, Byte* __restrict out,
                                             std::size_t size_bytes, Reverse reverse) {
  for (std::size_t at = 0; at + sizeof(Word) <= size_bytes; at += sizeof(Word)) {
    Word word = 0;
    std::memcpy(&word, in + at, sizeof(Word));
    word = reverse(word);
    std::memcpy(out + at, &word, sizeof(Word));
  }
}

BAYSWAP_FAST_CLONES void reverse16(const Byte* in, Byte* out, std::size_t size_bytes) {
  each_word<std::uint16_t>(in, out, size_bytes, [](std::uint16_t word) { return __builtin_bswap16(word); });
}
BAYSWAP_FAST_CLONES void reverse32(const Byte* in, Byte* out, std::size_t size_bytes) {
  each_word<std::uint32_t>(in, out, size_bytes, [](std::uint32_t word) { return __builtin_bswap32(word); });
}
BAYSWAP_FAST_CLONES void reverse64(const Byte* in, Byte* out, std::size_t size_bytes) {
  each_word<std::uint64_t>(in, out, size_bytes, [](std::uint64_t word) { return __builtin_bswap64(word); });
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
      reverse16(in.data(), out.data(), in.size());
      return;
    case ByteOrder::swap32:
      reverse32(in.data(), out.data(), in.size());
      return;
    case ByteOrder::swap64:
      reverse64(in.data(), out.data(), in.size());
      return;
  }
}

}  // namespace bayswap
