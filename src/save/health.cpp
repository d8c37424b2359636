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

double entropy(const Counts& counts, std::size_t size_bytes) {  // bits a byte, 0 to 8
  double sum = 0;
  const auto size = static_cast<double>(size_bytes);
  for (const std::size_t n : counts)
    if (n != 0) sum -= static_cast<double>(n) / size * std::log2(static_cast<double>(n) / size);
  return sum;
}

void find_stuck_bits(const Counts& first, const Counts& second, const std::string& role,
                     std::vector<DumpDefect>& found) {
  std::size_t distinct = 0;
  unsigned always = 0xff;
  unsigned ever = 0;
  for (unsigned value = 0; value < first.size(); ++value) {
    if (first.at(value) + second.at(value) == 0) continue;
    ++distinct;
    always &= value;
    ever |= value;
  }
  // Text and small numbers leave high bits alone; but then the low ones don't take on nearly all values.
  constexpr std::size_t enough_values = 110;
  const unsigned stuck = always | (~ever & 0xffU);
  if (distinct < enough_values || stuck == 0) return;
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
  const Counts first = count(bytes.first(half));
  const Counts second = count(bytes.subspan(half));
  find_stuck_bits(first, second, role, found);
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
