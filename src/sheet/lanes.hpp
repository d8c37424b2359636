// What the search for sums is made of: ways of adding up, prefixes, and how often chance gives a sum.
#pragma once

#include <algorithm>

#include "sheet/search_inside.hpp"

namespace bayswap::checksums {

/// How bytes are added up: words of `unit` bytes, the first of which begins at a place of that phase.
struct Lane {
  bool is_xor = false;
  unsigned unit = 1;
  bool big_endian = false;
  unsigned phase = 0;

  [[nodiscard]] unsigned shift(std::size_t at) const {
    const auto place = static_cast<unsigned>((at + unit - phase) % unit);
    return 8 * (big_endian ? unit - 1 - place : place);
  }
};

// The low 16 bits of what a class has before it, in the two versions that differ most from the first.
struct Prefix {
  std::uint16_t a = 0;
  std::uint16_t b = 0;
};

// Set bits for the keys that some class has.
class Filter {
 public:
  explicit Filter(const std::vector<Prefix>& prefixes) : bits_(std::size_t{1} << (log_bits - 6)) {
    for (const Prefix& one : prefixes) {
      const std::uint32_t at = index(one.a, one.b);
      bits_[at >> 6] |= std::uint64_t{1} << (at & 63);
    }
  }
  [[nodiscard]] bool may_have(std::uint16_t a, std::uint16_t b) const {
    const std::uint32_t at = index(a, b);
    return (bits_[at >> 6] >> (at & 63) & 1) != 0;
  }

 private:
  static constexpr unsigned log_bits = 18;
  static std::uint32_t index(std::uint16_t a, std::uint16_t b) {
    return ((std::uint32_t{a} << 16 | b) * 0x9E3779B1U) >> (32 - log_bits);
  }
  std::vector<std::uint64_t> bits_;
};

// How often chance gives a 16-bit value: counted over ranges drawn from the save itself, for saves are full
// of zeros and small numbers, whose sums are no more than that.
class Chances {
 public:
  Chances() : counts_(std::size_t{1} << 16) {}
  void clear() {
    std::ranges::fill(counts_, 0U);
    total_ = 0;
  }
  void count(std::uint16_t value) {
    ++counts_[value];
    ++total_;
  }
  /// How many bits it says that a range has this value.
  [[nodiscard]] double bits(std::uint16_t value) const {
    constexpr double prior = 0.25;
    const double total = total_ + prior * static_cast<double>(counts_.size());
    return -std::log2((counts_[value] + prior) / total);
  }

 private:
  std::vector<std::uint32_t> counts_;
  double total_ = 0;
};

}  // namespace bayswap::checksums
