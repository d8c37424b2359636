#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>

#include "sheet/value_search_inside.hpp"

namespace bayswap::searching {
namespace {

// Multiples that games use: halves and quarters, fixed points, tenths, frames.
constexpr std::array<std::int64_t, 20> factors{2,  4,  5,  8,  10,  12,  16,  20,   24,   30,
                                               32, 50, 60, 64, 100, 128, 256, 1000, 4096, 65536};

// Bytes of a number that are not 0: what chance would have to meet.
double significant(std::int64_t value) {
  const auto magnitude = static_cast<std::uint64_t>(value < 0 ? -value : value);
  double bits = 0;
  for (unsigned i = 0; i < 8; ++i) bits += (magnitude >> 8 * i & 0xff) != 0 ? 8 : 0;
  return std::max(bits, 1.0);
}

class NumberSearch {
 public:
  NumberSearch(Field field, std::vector<std::int64_t> values, std::int64_t per, Finds& finds)
      : field_(std::move(field)), values_(std::move(values)), per_(per), finds_(finds) {
    // A version with a value that an earlier one has says next to nothing.
    for (std::size_t v = 0; v < values_.size(); ++v) {
      const bool is_new = std::find(values_.begin(), values_.begin() + static_cast<std::ptrdiff_t>(v),
                                    values_[v]) == values_.begin() + static_cast<std::ptrdiff_t>(v);
      is_new_.push_back(is_new);
      evidence_ += is_new ? significant(values_[v]) : 1;
      if (v > 0) step_evidence_ += is_new ? significant(values_[v] - values_[0]) : 1;
      most_ = std::max(most_, std::abs(values_[v]));
      changes_ = changes_ || values_[v] != values_[0];
    }
  }

  void run() {
    plain_numbers();
    for (const std::size_t bytes : {4U, 3U, 2U, 1U})
      for (const bool big : {false, true})
        if (bytes > 1 || !big) other_numbers(bytes, big);
    packed_digits();
    plain_digits();
    bit_fields();
  }

 private:
  [[nodiscard]] double places() const { return static_cast<double>(changes_ ? field_.changed : field_.size); }

  void add(ValueFind find, double bits, double forms) {
    find.expected_false = places() * forms / std::exp2(bits);
    find.per *= per_;
    finds_.add(std::move(find));
  }

  // How many bytes in that direction are 00 in every version, up to 16.
  [[nodiscard]] std::size_t zeros(std::size_t from, bool upwards) const {
    constexpr std::size_t most = 16;
    std::size_t count = 0;
    for (std::size_t i = 0; i < most; ++i) {
      if (upwards ? from + i >= field_.size : from < i + 1) break;
      const std::size_t at = upwards ? from + i : from - 1 - i;
      for (std::size_t v = 0; v < field_.count(); ++v)
        if (field_.byte(v, at) != 0) return count;
      ++count;
    }
    return count;
  }

  // The width that the zeros above a value speak for: where they end at a usual width, that one; where they
  // go on and on, the least usual one that has room.
  [[nodiscard]] static std::size_t width_with(std::size_t needed, std::size_t zeros) {
    const std::size_t total = needed + zeros;
    if (total == 8 && needed > 2) return 8;
    if (total <= 4) return total;
    const std::size_t usual = needed <= 1 ? 1 : needed <= 2 ? 2 : needed <= 4 ? 4 : 8;
    return total >= 8 ? usual : std::max<std::size_t>(4, needed);
  }

  [[nodiscard]] static std::size_t bytes_for(std::uint64_t value) {
    std::size_t bytes = 1;
    while (bytes < 8 && value >> 8 * bytes != 0) ++bytes;
    return bytes;
  }

  void plain_numbers() {
    if (has_negatives()) {
      for (const std::size_t bytes : {8U, 4U, 2U, 1U})
        for (const bool big : {false, true})
          if (bytes > 1 || !big) signed_numbers(bytes, big);
      return;
    }
    const std::size_t needed = bytes_for(static_cast<std::uint64_t>(most_));
    for (const bool big : {false, true}) {
      std::vector<std::uint64_t> wanted;
      for (const std::int64_t value : values_) wanted.push_back(static_cast<std::uint64_t>(value));
      for (std::size_t at = 0; at + needed <= field_.size; ++at) {
        if (!matches(at, needed, big, wanted)) continue;
        const std::size_t width = width_with(needed, zeros(big ? at : at + needed, !big));
        ValueFind find;
        find.kind = ValueFind::Kind::number;
        find.offset = big ? at + needed - width : at;
        find.bits = static_cast<unsigned>(8 * width);
        find.big_endian = big && width > 1;
        if (needed == 1 && width == 1 && big) continue;
        add(find, evidence_, 10);
      }
    }
  }

  void signed_numbers(std::size_t bytes, bool big) {
    const std::uint64_t mask = mask_of(bytes);
    if (bytes < 8 && most_ > static_cast<std::int64_t>(mask / 2) + 1) return;
    std::vector<std::uint64_t> wanted;
    for (const std::int64_t value : values_) wanted.push_back(static_cast<std::uint64_t>(value) & mask);
    for (std::size_t at = 0; at + bytes <= field_.size; ++at) {
      if (!matches(at, bytes, big, wanted)) continue;
      ValueFind find;
      find.kind = ValueFind::Kind::number;
      find.offset = at;
      find.bits = static_cast<unsigned>(8 * bytes);
      find.big_endian = big && bytes > 1;
      find.is_signed = true;
      add(find, evidence_, 10);
    }
  }

  [[nodiscard]] static std::uint64_t mask_of(std::size_t bytes) {
    return bytes == 8 ? ~std::uint64_t{0} : (std::uint64_t{1} << 8 * bytes) - 1;
  }

  // Scaled, moved, exclusive or.
  void other_numbers(std::size_t bytes, bool big) {
    if (bytes > field_.size) return;
    std::vector<std::uint64_t> stored(values_.size());
    const std::uint64_t mask = mask_of(bytes);
    for (std::size_t at = 0; at + bytes <= field_.size; ++at) {
      bool is_plain = true;
      for (std::size_t v = 0; v < values_.size(); ++v) {
        stored[v] = field_.number(v, at, bytes, big);
        is_plain = is_plain && stored[v] == (static_cast<std::uint64_t>(values_[v]) & mask);
      }
      if (is_plain) continue;
      ValueFind find;
      find.kind = ValueFind::Kind::number;
      find.offset = at;
      find.bits = static_cast<unsigned>(8 * bytes);
      find.big_endian = big && bytes > 1;
      find.is_signed = has_negatives();
      if (scaled(find, stored, mask, most_)) continue;
      if (values_.size() > 1 && changes_ && field_.size > 0) moved(find, stored, mask);
    }
  }

  // stored = value * k, or value / k.
  bool scaled(const ValueFind& plain, const std::vector<std::uint64_t>& stored, std::uint64_t mask,
              std::int64_t most) {
    const auto all = [&](const auto& wanted) {
      for (std::size_t v = 0; v < values_.size(); ++v)
        if (((stored[v] ^ static_cast<std::uint64_t>(wanted(v))) & mask) != 0) return false;
      return true;
    };
    // A fraction is stored as a multiple; if the tenths themselves are, that was looked for before.
    constexpr double forms = 10.0 * 2 * factors.size();
    for (const std::int64_t k : factors) {
      ValueFind find = plain;
      const bool has_room = most <= (std::int64_t{1} << 46) &&
                            (mask == ~std::uint64_t{0} || static_cast<std::uint64_t>(most * k) <= mask);
      if (has_room && all([&](std::size_t v) { return values_[v] * k; })) {
        find.per = k;
        add(find, evidence_, forms);
        return true;
      }
      // A fixed point: the fraction below it is not known, and the whole part agrees.
      if (has_room && k >= 16 && (k & (k - 1)) == 0 && most > 0 && fraction(stored, mask, k)) {
        find.per = k;
        add(find, evidence_, forms);
        return true;
      }
      const bool divides = std::ranges::all_of(values_, [&](std::int64_t value) { return value % k == 0; });
      if (divides && changes_ && all([&](std::size_t v) { return values_[v] / k; })) {
        find.times = k;
        double bits = 0;
        for (std::size_t v = 0; v < values_.size(); ++v) bits += is_new_[v] ? significant(values_[v] / k) : 1;
        add(find, bits, forms);
        return true;
      }
    }
    return any_factor(plain, stored, mask);
  }

  // stored = value * k, for a k that no game is known to use.
  bool any_factor(const ValueFind& plain, const std::vector<std::uint64_t>& stored, std::uint64_t mask) {
    constexpr std::int64_t max_factor = 0xffff;
    if (has_negatives() || values_[0] == 0 || mask == ~std::uint64_t{0} || !changes_) return false;
    const auto first = static_cast<std::int64_t>(stored[0] & mask);
    const std::int64_t k = first / values_[0];
    if (k < 2 || k > max_factor || first % values_[0] != 0) return false;
    for (std::size_t v = 1; v < values_.size(); ++v)
      if (values_[v] > static_cast<std::int64_t>(mask) / k ||
          static_cast<std::int64_t>(stored[v] & mask) != values_[v] * k)
        return false;
    ValueFind find = plain;
    find.per = k;
    add(find, evidence_, 10.0 * max_factor);
    return true;
  }

  [[nodiscard]] bool fraction(const std::vector<std::uint64_t>& stored, std::uint64_t mask,
                              std::int64_t k) const {
    bool has_fraction = false;
    for (std::size_t v = 0; v < values_.size(); ++v) {
      if (values_[v] < 0) return false;
      if ((stored[v] & mask) / static_cast<std::uint64_t>(k) != static_cast<std::uint64_t>(values_[v]))
        return false;
      has_fraction = has_fraction || (stored[v] & mask) % static_cast<std::uint64_t>(k) != 0;
    }
    return has_fraction && per_ == 1;
  }

  // stored = value * k + c, c - value, value ^ c: what the versions differ in tells.
  void moved(const ValueFind& plain, const std::vector<std::uint64_t>& stored, std::uint64_t mask) {
    bool differs = false;
    for (std::size_t v = 1; v < stored.size(); ++v) differs = differs || stored[v] != stored[0];
    if (!differs) return;
    const auto to_signed = [&](std::uint64_t value) {
      value &= mask;
      return value > mask / 2 ? static_cast<std::int64_t>(value) - static_cast<std::int64_t>(mask) - 1
                              : static_cast<std::int64_t>(value);
    };
    const auto all = [&](const auto& holds) {
      for (std::size_t v = 1; v < stored.size(); ++v)
        if (!holds(v)) return false;
      return true;
    };
    // What the bytes have no room for would go round.
    std::int64_t apart = 0;
    for (const std::int64_t value : values_) apart = std::max(apart, std::abs(value - values_[0]));
    if (static_cast<std::uint64_t>(apart) > mask) return;
    constexpr double forms = 10.0 * (3 + factors.size());
    const auto base = static_cast<std::uint64_t>(values_[0]);
    if (all([&](std::size_t v) {
          return ((stored[v] - stored[0] - static_cast<std::uint64_t>(values_[v]) + base) & mask) == 0;
        })) {
      ValueFind find = plain;
      find.plus = -to_signed(stored[0] - base);
      // A small offset is likelier: levels that begin with 0.
      const double known = std::abs(find.plus) <= 16 ? 8.0 * static_cast<double>(find.bits) / 8 - 5 : 0;
      add(find, step_evidence_ + known, forms);
      return;
    }
    if (all([&](std::size_t v) {
          return ((stored[v] ^ stored[0] ^ static_cast<std::uint64_t>(values_[v]) ^ base) & mask) == 0;
        })) {
      ValueFind find = plain;
      find.xor_with = (stored[0] ^ base) & mask;
      find.is_signed = false;
      double bits = 0;
      for (std::size_t v = 1; v < values_.size(); ++v)
        bits += is_new_[v] ? significant(values_[v] ^ values_[0]) : 1;
      add(find, bits, forms);
      return;
    }
    if (all([&](std::size_t v) {
          return ((stored[v] - stored[0] + static_cast<std::uint64_t>(values_[v]) - base) & mask) == 0;
        })) {
      ValueFind find = plain;
      find.times = -1;
      find.plus = static_cast<std::int64_t>((stored[0] + base) & mask);
      add(find, step_evidence_, forms);
      return;
    }
    for (const std::int64_t k : factors)
      if (apart <= (std::int64_t{1} << 40) && static_cast<std::uint64_t>(apart * k) <= mask &&
          all([&](std::size_t v) {
            return ((stored[v] - stored[0] - static_cast<std::uint64_t>(k * (values_[v] - values_[0]))) &
                    mask) == 0;
          })) {
        ValueFind find = plain;
        find.per = k;
        find.plus = -to_signed(stored[0] - static_cast<std::uint64_t>(k * values_[0]));
        // The bits below the factor never change.
        add(find, step_evidence_, forms * 4);
        return;
      }
    // A factor that the first two versions give, and a third one proves.
    constexpr std::int64_t max_factor = 1000;
    for (std::size_t v = 1; v < values_.size(); ++v) {
      const std::int64_t step = values_[v] - values_[0];
      if (step == 0) continue;
      const std::int64_t stored_step = to_signed(stored[v] - stored[0]);
      const std::int64_t k = stored_step / step;
      if (stored_step % step != 0 || std::abs(k) < 2 || std::abs(k) > max_factor) return;
      if (static_cast<std::uint64_t>(apart * std::abs(k)) > mask) return;
      if (!all([&](std::size_t u) {
            return ((stored[u] - stored[0] - static_cast<std::uint64_t>(k * (values_[u] - values_[0]))) &
                    mask) == 0;
          }))
        return;
      ValueFind find = plain;
      find.per = std::abs(k);
      if (k < 0) find.times = -1;
      find.plus = k < 0 ? to_signed(stored[0] - static_cast<std::uint64_t>(k * values_[0]))
                        : -to_signed(stored[0] - static_cast<std::uint64_t>(k * values_[0]));
      add(find, step_evidence_ - significant(step), forms * static_cast<double>(max_factor));
      return;
    }
  }

  [[nodiscard]] bool has_negatives() const {
    return std::ranges::any_of(values_, [](std::int64_t value) { return value < 0; });
  }
  [[nodiscard]] unsigned digits_needed() const {
    return static_cast<unsigned>(fmt::format("{}", most_).size());
  }

  void packed_digits() {
    // Single digits look the same as plain numbers.
    if (has_negatives() || most_ < 10) return;
    const std::size_t needed = (digits_needed() + 1) / 2;
    if (needed > 8) return;
    std::vector<std::uint64_t> wanted;
    for (const std::int64_t value : values_) {
      std::uint64_t packed = 0;
      std::int64_t left = value;
      for (unsigned i = 0; i < needed * 2; ++i, left /= 10)
        packed |= static_cast<std::uint64_t>(left % 10) << 4 * i;
      wanted.push_back(packed);
    }
    for (const bool big : {true, false})
      for (std::size_t at = 0; at + needed <= field_.size; ++at) {
        if (!matches(at, needed, big, wanted)) continue;
        const std::size_t above = zeros(big ? at : at + needed, !big);
        // Zeros that go on and on are no digits.
        const std::size_t width = needed + above <= 5 ? needed + above : needed;
        ValueFind find;
        find.kind = ValueFind::Kind::bcd;
        find.offset = big ? at + needed - width : at;
        find.bits = static_cast<unsigned>(8 * width);
        find.big_endian = big && width > 1;
        if (needed == 1 && width == 1 && !big) continue;
        add(find, evidence_ * 0.95, 20);
      }
  }

  [[nodiscard]] bool matches(std::size_t at, std::size_t bytes, bool big,
                             const std::vector<std::uint64_t>& wanted) const {
    for (std::size_t v = 0; v < wanted.size(); ++v)
      if (field_.number(v, at, bytes, big) != wanted[v]) return false;
    return true;
  }

  // A byte a digit, '0' anywhere.
  void plain_digits() {
    if (has_negatives() || digits_needed() < 2) return;
    constexpr std::size_t max_digits = 10;
    for (std::size_t count = max_digits; count >= digits_needed() && count > 1; --count)
      for (const bool big : {true, false})
        for (std::size_t at = 0; at + count <= field_.size; ++at) {
          const auto digit = [&](std::size_t v, std::size_t i) {  // i from the lowest
            return field_.byte(v, big ? at + count - 1 - i : at + i);
          };
          const auto zero = static_cast<Byte>(digit(0, 0) - values_[0] % 10);
          bool fits = true;
          for (std::size_t v = 0; fits && v < values_.size(); ++v) {
            std::int64_t left = values_[v];
            for (std::size_t i = 0; fits && i < count; ++i, left /= 10)
              fits = digit(v, i) == static_cast<Byte>(zero + left % 10);
          }
          if (!fits) continue;
          ValueFind find;
          find.kind = ValueFind::Kind::digits;
          find.offset = at;
          find.bits = static_cast<unsigned>(8 * count);
          find.big_endian = big;
          find.zero = zero;
          add(find, 8.0 * digits_needed() * static_cast<double>(std::ranges::count(is_new_, true)) - 8, 20);
        }
  }

  // Numbers that begin or end within a byte.
  void bit_fields() {
    if (has_negatives() || !changes_) return;
    const unsigned needed =
        std::max(1U, static_cast<unsigned>(std::bit_width(static_cast<std::uint64_t>(most_))));
    constexpr unsigned max_bits = 31;
    if (needed > max_bits) return;
    for (const bool big : {false, true})
      for (unsigned shift = 0; shift < 8; ++shift) {
        const std::size_t bytes = (shift + needed + 7) / 8;
        if (bytes == 1 && big) continue;
        const std::uint64_t mask = (std::uint64_t{1} << needed) - 1;
        for (std::size_t at = 0; at + bytes <= field_.size; ++at) {
          bool fits = true;
          for (std::size_t v = 0; fits && v < values_.size(); ++v)
            fits =
                (field_.number(v, at, bytes, big) >> shift & mask) == static_cast<std::uint64_t>(values_[v]);
          if (!fits) continue;
          ValueFind find;
          find.kind = ValueFind::Kind::number;
          find.offset = at;
          find.bit = shift;
          find.bits = needed;
          find.big_endian = big && bytes > 1;
          // The rest of the byte may be the number's as well, where it is always 0.
          const auto total = static_cast<unsigned>(8 * bytes);
          while (find.bit + find.bits < total && upper_is_zero(at, bytes, big, find.bit + find.bits))
            ++find.bits;
          double bits = 0;
          for (std::size_t v = 0; v < values_.size(); ++v)
            bits += is_new_[v]
                        ? std::min<double>(find.bits, 2.0 + static_cast<double>(std::bit_width(
                                                                static_cast<std::uint64_t>(values_[v]))))
                        : 0.5;
          add(find, bits, 10.0 * 16);
        }
      }
  }
  [[nodiscard]] bool upper_is_zero(std::size_t at, std::size_t bytes, bool big, unsigned bit) const {
    for (std::size_t v = 0; v < values_.size(); ++v)
      if ((field_.number(v, at, bytes, big) >> bit & 1) != 0) return false;
    return true;
  }

  Field field_;
  std::vector<std::int64_t> values_;
  std::int64_t per_;
  Finds& finds_;
  std::vector<bool> is_new_;
  double evidence_ = 0;
  double step_evidence_ = 0;
  std::int64_t most_ = 0;
  bool changes_ = false;
};

}  // namespace

void search_numbers(const Field& field, const std::vector<std::int64_t>& values, std::int64_t per,
                    Finds& finds) {
  NumberSearch(field, values, per, finds).run();
}

}  // namespace bayswap::searching
