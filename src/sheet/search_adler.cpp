#include <algorithm>

#include "sheet/search_inside.hpp"

namespace bayswap::checksums {
namespace {

constexpr std::uint32_t searched_modulus = 65521;

/// Adler-32: the low half gives the range's class, the high half its very end.
class AdlerSearch {
 public:
  explicit AdlerSearch(Finds& finds) : finds_(finds), v_(finds.versions()) {}

  void run() {
    const std::size_t enough = v_.count() > 2 ? 4 : 3;
    std::vector<std::uint32_t> places;
    std::size_t changed = 0;
    for (std::size_t i = 0; i < v_.size; ++i) {
      changed += v_.is_changed[i] ? 1 : 0;
      if (i >= 4) changed -= v_.is_changed[i - 4] ? 1 : 0;
      if (i >= 3 && changed >= enough) places.push_back(static_cast<std::uint32_t>(i - 3));
    }
    if (places.empty()) return;
    if (!finds_.allows(static_cast<double>(places.size()) * static_cast<double>(v_.classes()) * 4)) {
      finds_.leave_out("Adler sums");
      return;
    }
    const std::size_t last = v_.count() - 1;
    sums_.assign(v_.classes(), 0);
    weighted_.assign(v_.classes(), 0);
    for (std::size_t k = 0; k < v_.changed.size(); ++k) {
      const std::size_t at = v_.changed[k];
      const std::uint32_t apart =
          (v_.bytes[last][at] + searched_modulus - v_.bytes[0][at]) % searched_modulus;
      sums_[k + 1] = (sums_[k] + apart) % searched_modulus;
      weighted_[k + 1] = static_cast<std::uint32_t>(
          (weighted_[k] + std::uint64_t{apart} * (at % searched_modulus)) % searched_modulus);
    }
    totals_.assign(v_.size + 1, 0);
    for (std::size_t i = 0; i < v_.size; ++i) totals_[i + 1] = totals_[i] + v_.bytes[0][i];
    by_sum_.resize(searched_modulus);
    for (std::size_t k = 0; k < v_.classes(); ++k) by_sum_[sums_[k]].push_back(static_cast<std::uint32_t>(k));
    for (const std::uint32_t at : places)
      for (const bool big : {false, true}) field(at, big, last);
  }

 private:
  void field(std::uint32_t at, bool big, std::size_t last) {
    const auto now = static_cast<std::uint32_t>(value_at(v_.bytes[last], at, 4, big));
    const auto then = static_cast<std::uint32_t>(value_at(v_.bytes[0], at, 4, big));
    const auto half = [](std::uint32_t a, std::uint32_t b) {
      return (a % searched_modulus + searched_modulus - b % searched_modulus) % searched_modulus;
    };
    if ((now & 0xffff) >= searched_modulus || now >> 16 >= searched_modulus) return;
    const std::uint32_t a = half(now & 0xffff, then & 0xffff);
    const std::uint32_t b = half(now >> 16, then >> 16);
    if (a == 0) return;  // then the end can't be worked out; another version tells
    // Ranges beside the value; then those around it, of which its own bytes are no part.
    ends(at, big, then, a, b, {});
    Own own;
    for (std::size_t i = at; i < at + std::size_t{4}; ++i) {
      const std::uint32_t apart = (v_.bytes[last][i] + searched_modulus - v_.bytes[0][i]) % searched_modulus;
      own.sum = (own.sum + apart) % searched_modulus;
      own.weighted = static_cast<std::uint32_t>(
          (own.weighted + std::uint64_t{apart} * (i % searched_modulus)) % searched_modulus);
      own.total += v_.bytes[0][i];
    }
    own.is_around = true;
    ends(at, big, then, a, b, own);
  }

  // What the value's own bytes would add to a range around it.
  struct Own {
    bool is_around = false;
    std::uint32_t sum = 0;
    std::uint32_t weighted = 0;
    std::uint64_t total = 0;
  };

  void ends(std::uint32_t at, bool big, std::uint32_t value, std::uint32_t a, std::uint32_t b,
            const Own& own) {
    const std::uint32_t inverse = power(a, searched_modulus - 2);
    const std::uint32_t wanted = (a + own.sum) % searched_modulus;
    for (std::size_t k = 1; k < v_.classes(); ++k) {
      if (own.is_around && v_.last_end(k) < at + std::size_t{4}) continue;
      for (const std::uint32_t j : by_sum_[(sums_[k] + searched_modulus - wanted) % searched_modulus]) {
        if (j >= k) continue;
        const std::uint64_t range =
            std::uint64_t{weighted_[k]} + 2 * searched_modulus - weighted_[j] - own.weighted;
        const std::uint64_t end = (b + range) % searched_modulus * inverse % searched_modulus;
        for (std::size_t to = end; to <= v_.last_end(k); to += searched_modulus)
          if (to >= v_.first_end(k)) exact(at, big, j, to, value, own);
      }
    }
  }

  void exact(std::uint32_t at, bool big, std::uint32_t j, std::size_t to, std::uint32_t value,
             const Own& own) {
    const std::size_t end = at + std::size_t{4};
    for (std::size_t from = v_.first_end(j); from <= std::min(v_.last_end(j), to); ++from) {
      if (own.is_around ? from > at || to < end : to > at && from < end) continue;
      if ((1 + totals_[to] - totals_[from] - own.total) % searched_modulus != (value & 0xffff)) continue;
      Checksum checksum;
      checksum.form.kind = ChecksumForm::Kind::adler32;
      checksum.form.bits = 32;
      checksum.ranges = {{from, to}};
      checksum.at = at;
      checksum.big_endian = big;
      finds_.add(checksum, {evidence_of(v_, at, 4) + 32, 1, finds_.places_like(at, 4), false});
    }
  }

  static std::uint32_t power(std::uint64_t base, std::uint32_t exponent) {
    std::uint64_t out = 1;
    for (; exponent > 0; exponent >>= 1, base = base * base % searched_modulus)
      if ((exponent & 1) != 0) out = out * base % searched_modulus;
    return static_cast<std::uint32_t>(out);
  }

  Finds& finds_;
  const Versions& v_;
  std::vector<std::uint32_t> sums_;
  std::vector<std::uint32_t> weighted_;
  std::vector<std::uint64_t> totals_;
  std::vector<std::vector<std::uint32_t>> by_sum_;
};

}  // namespace

void search_adler(Finds& finds) {
  AdlerSearch(finds).run();
}

}  // namespace bayswap::checksums
