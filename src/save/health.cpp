#include <bayswap/save.hpp>

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstring>

namespace bayswap {
namespace {

constexpr std::size_t least_size = 512;
constexpr std::size_t longest_pattern = 256;
constexpr std::string_view read_again =
    "clean the contacts and read the cartridge again, with the chip size it really has";

// The shortest stretch of 1/2, 1/4, ... of the bytes that repeats through all of them; the whole size where
// none does.
std::size_t period(ByteView bytes) {
  std::size_t shortest = bytes.size();
  for (std::size_t p = bytes.size() / 2; p >= 1 && bytes.size() % p == 0; p /= 2) {
    if (std::memcmp(bytes.data(), bytes.data() + p, bytes.size() - p) != 0) break;
    shortest = p;
  }
  return shortest;
}

using Counts = std::array<std::size_t, 256>;

Counts count(ByteView bytes) {
  // Four tables in turn: the same byte twice in a row would wait for its own sum.
  std::array<std::array<std::uint32_t, 256>, 4> tables{};
  std::size_t i = 0;
  for (; i + 4 <= bytes.size(); i += 4) {
    ++tables[0][bytes[i]];
    ++tables[1][bytes[i + 1]];
    ++tables[2][bytes[i + 2]];
    ++tables[3][bytes[i + 3]];
  }
  for (; i < bytes.size(); ++i) ++tables[0][bytes[i]];
  Counts counts{};
  for (std::size_t value = 0; value < counts.size(); ++value)
    counts[value] = std::size_t{tables[0][value]} + tables[1][value] + tables[2][value] + tables[3][value];
  return counts;
}

// The bits that are 1 in every byte, and those that are in any.
struct Bits {
  unsigned always = 0xff;
  unsigned ever = 0;
};
Bits bits_of(ByteView bytes) {
  std::uint64_t always = ~std::uint64_t{0};
  std::uint64_t ever = 0;
  std::size_t i = 0;
  for (; i + 8 <= bytes.size(); i += 8) {
    std::uint64_t eight = 0;
    std::memcpy(&eight, bytes.data() + i, 8);
    always &= eight;
    ever |= eight;
  }
  for (unsigned shift = 32; shift >= 8; shift /= 2) {
    always &= always >> shift;
    ever |= ever >> shift;
  }
  Bits bits{static_cast<unsigned>(always & 0xff), static_cast<unsigned>(ever & 0xff)};
  for (; i < bytes.size(); ++i) {
    bits.always &= bytes[i];
    bits.ever |= bytes[i];
  }
  return bits;
}

// Whether a sample of the bytes is mostly of one value: where it is not, they are not next to nothing.
bool may_hold_nothing(ByteView bytes) {
  constexpr std::size_t sample = 64;
  std::array<Byte, 256> counts{};
  Byte most = 0;
  for (std::size_t i = 0; i < sample; ++i)
    most = std::max(most, ++counts.at(bytes[i * bytes.size() / sample]));
  return most > sample / 2;
}

double entropy(const Counts& counts, std::size_t size_bytes) {  // bits a byte, 0 to 8
  double sum = 0;
  const auto size = static_cast<double>(size_bytes);
  for (const std::size_t n : counts)
    if (n != 0) sum -= static_cast<double>(n) / size * std::log2(static_cast<double>(n) / size);
  return sum;
}

void find_stuck_bits(unsigned always, unsigned stuck, const Counts& first, const Counts& second,
                     const std::string& role, std::vector<DumpDefect>& found) {
  std::size_t distinct = 0;
  for (unsigned value = 0; value < first.size(); ++value)
    distinct += first.at(value) + second.at(value) != 0 ? 1 : 0;
  // Text and small numbers leave high bits alone; but then the low ones don't take on nearly all values.
  constexpr std::size_t enough_values = 110;
  if (distinct < enough_values) return;
  for (unsigned bit = 0; bit < 8; ++bit)
    if ((stuck >> bit & 1U) != 0)
      found.push_back({false, "stuck-bit",
                       fmt::format("{}: bit {} is always {}, while the bytes take on {} of 128 values: a "
                                   "data line without contact",
                                   role, bit, always >> bit & 1U, distinct),
                       std::string(read_again)});
}

}  // namespace

std::vector<DumpDefect> defects(const Part& part) {
  const ByteView bytes = part.bytes.view();
  std::vector<DumpDefect> found;
  constexpr std::size_t largest_chip = std::size_t{1} << 20;  // what is larger is a card of many saves
  if (bytes.size() < least_size || bytes.size() > largest_chip || part.role.kind == PartKind::pak ||
      is_blank(part))
    return found;
  const std::string role = to_text(part.role);
  if (const std::size_t p = period(bytes); p <= longest_pattern) {
    found.push_back(
        {true, "unwritten",
         fmt::format(
             "{}: the same {} bytes come over and over: memory that was switched on and never written", role,
             p),
         "usually the game has never saved, or its battery is flat"});
    return found;
  } else if (p < bytes.size()) {
    found.push_back({false, "mirrored",
                     fmt::format("{}: the same {} bytes come {} times: a smaller chip read as a larger one, "
                                 "or an address line without contact",
                                 role, p, bytes.size() / p),
                     std::string(read_again)});
  }
  const std::size_t half = bytes.size() / 2;
  const Bits bits = bits_of(bytes);
  const unsigned stuck = bits.always | (~bits.ever & 0xffU);
  // The bytes are counted where the count can say something.
  if (stuck == 0 && !may_hold_nothing(bytes.first(half)) && !may_hold_nothing(bytes.subspan(half)))
    return found;
  const Counts first = count(bytes.first(half));
  const Counts second = count(bytes.subspan(half));
  if (stuck != 0) find_stuck_bits(bits.always, stuck, first, second, role, found);
  constexpr double next_to_nothing = 0.2;
  constexpr double full = 7.0;
  const double low = entropy(first, half);
  const double high = entropy(second, bytes.size() - half);
  if (std::min(low, high) < next_to_nothing && std::max(low, high) > full)
    found.push_back({false, "half-empty",
                     fmt::format("{}: the {} half holds next to nothing while the other is full: half the "
                                 "chip may not have been read",
                                 role, low < high ? "first" : "second"),
                     std::string(read_again)});
  return found;
}

}  // namespace bayswap
