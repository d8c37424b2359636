#include <fmt/format.h>
#include <bayswap/value_search.hpp>

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/value_search_inside.hpp"

namespace bayswap {
namespace searching {
namespace {

struct Number {
  std::int64_t whole = 0;  // times `per`
  std::int64_t per = 1;    // 1, 10, 100 or 1000
};

std::optional<Number> number_from(std::string_view text) {
  Number number;
  const bool is_negative = text.starts_with('-');
  if (is_negative) text.remove_prefix(1);
  bool has_point = false;
  std::size_t digits = 0;
  constexpr std::size_t max_digits = 17;
  for (const char c : text) {
    if (c == '.' && !has_point) {
      has_point = true;
      continue;
    }
    if (c < '0' || c > '9' || ++digits > max_digits) return std::nullopt;
    number.whole = number.whole * 10 + (c - '0');
    if (has_point) number.per *= 10;
  }
  if (digits == 0 || number.per > 1000) return std::nullopt;
  if (is_negative) number.whole = -number.whole;
  return number;
}

// What is known is a range, or how it went on.
void search_trends(const Field& field, const ValueRequest& request, Finds& finds) {
  for (const std::size_t bytes : {4U, 2U, 1U})
    for (const bool big : {false, true}) {
      if (bytes == 1 && big) continue;
      for (std::size_t at = 0; at + bytes <= field.size; ++at) {
        bool fits = true;
        double bits = 0;
        for (std::size_t v = 0; fits && v < field.count(); ++v) {
          const auto value = static_cast<std::int64_t>(field.number(v, at, bytes, big));
          if (!request.between.empty()) {
            const auto [low, high] = request.between[v];
            fits = value >= low && value <= high;
            bits += std::max(
                0.0, 8.0 * static_cast<double>(bytes) - std::log2(static_cast<double>(high - low) + 1));
          }
          if (!fits || v == 0 || request.trends.empty()) continue;
          const auto before = static_cast<std::int64_t>(field.number(v - 1, at, bytes, big));
          switch (request.trends[v - 1]) {
            case Trend::any:
              break;
            case Trend::changed:
              fits = value != before;
              break;
            case Trend::same:
              fits = value == before;
              break;
            case Trend::more:
              fits = value > before;
              bits += 1;
              break;
            case Trend::less:
              fits = value < before;
              bits += 1;
              break;
          }
        }
        if (!fits) continue;
        ValueFind find;
        find.kind = ValueFind::Kind::number;
        find.offset = at;
        find.bits = static_cast<unsigned>(8 * bytes);
        find.big_endian = big;
        find.expected_false = static_cast<double>(field.changed) * 6 / std::exp2(bits);
        finds.add(std::move(find));
      }
    }
}

std::string factor_words(const ValueFind& find) {
  std::string words;
  if (find.xor_with != 0) words += fmt::format(", exclusive or {:X}", find.xor_with);
  if (find.times == -1)
    words += fmt::format(", counted down from {}", find.plus);
  else if (find.times != 1)
    words += fmt::format(", in units of {}", find.times);
  if (find.per != 1) words += fmt::format(", {} times the value", find.per);
  if (find.plus != 0 && find.times != -1)
    words += fmt::format(", {} {}", std::abs(find.plus), find.plus < 0 ? "too many" : "too few");
  return words;
}

std::string in_words(const ValueFind& find) {
  const std::string order = find.big_endian ? "big-endian" : "little-endian";
  switch (find.kind) {
    case ValueFind::Kind::number: {
      const bool is_whole = find.bit == 0 && find.bits % 8 == 0;
      return fmt::format("{}{}{}{}{}", find.is_signed ? "s" : "u", find.bits,
                         find.bits > 8 ? " " + order : "",
                         is_whole ? "" : fmt::format(" from bit {}", find.bit), factor_words(find));
    }
    case ValueFind::Kind::bcd:
      return fmt::format("bcd{}{}{}", find.bits / 4, find.bits > 8 ? " " + order : "", factor_words(find));
    case ValueFind::Kind::digits:
      return fmt::format("{} digits, a byte each, {} first, '0' is {:02X}", find.bits / 8,
                         find.big_endian ? "highest" : "lowest", find.zero);
    case ValueFind::Kind::text:
      break;
  }
  return find.encoding;
}

}  // namespace

Finds::Finds(std::size_t max) : max_(max) {}

void Finds::add(ValueFind find) {
  constexpr std::size_t max_kept = 200'000;
  if (finds_.size() < max_kept) finds_.push_back(std::move(find));
}

// Of several readings of one place the plainest stays: whole bytes before bits, then the widest.
std::vector<ValueFind> Finds::take() {
  const auto rank = [](const ValueFind& find) {
    const bool is_bits = find.kind == ValueFind::Kind::number && (find.bit != 0 || find.bits % 8 != 0);
    const bool is_plain = find.times == 1 && find.plus == 0 && find.per == 1 && find.xor_with == 0;
    const double log = std::log2(find.expected_false + 1e-300);
    // Readings that are as likely by numbers, within a factor of 64, are told apart by how plain they are.
    return std::tuple(is_bits, !is_plain, std::floor(log / 6), -static_cast<double>(find.bits));
  };
  std::ranges::stable_sort(finds_, [&](const ValueFind& a, const ValueFind& b) { return rank(a) < rank(b); });
  std::vector<ValueFind> kept;
  std::map<std::size_t, std::vector<std::size_t>> by_place;  // in pieces of 16 bytes
  for (ValueFind& find : finds_) {
    const std::size_t begin = find.offset;
    const std::size_t end = find.offset + (find.bit + find.bits + 7) / 8;
    bool is_told = false;
    for (std::size_t piece = begin / 16; !is_told && piece <= (end - 1) / 16; ++piece)
      for (const std::size_t other : by_place[piece]) {
        const std::size_t other_end = kept[other].offset + (kept[other].bit + kept[other].bits + 7) / 8;
        is_told = is_told || (begin < other_end && kept[other].offset < end);
      }
    if (is_told) continue;
    for (std::size_t piece = begin / 16; piece <= (end - 1) / 16; ++piece)
      by_place[piece].push_back(kept.size());
    kept.push_back(std::move(find));
  }
  for (ValueFind& find : kept) {
    if (find.encoding.empty()) find.encoding = in_words(find);
    find.confidence = 1 / (1 + find.expected_false);
  }
  std::ranges::stable_sort(kept, {}, &ValueFind::expected_false);
  if (kept.size() > max_) kept.resize(max_);
  return kept;
}

}  // namespace searching

Result<std::vector<ValueFind>> find_values(std::span<const Blob> versions, const ValueRequest& request) {
  constexpr std::size_t max_versions = 64;
  constexpr std::size_t max_size = std::size_t{16} << 20;
  if (versions.empty() || versions.size() > max_versions)
    return fail(ErrorCode::bad_usage, fmt::format("{} versions were given", versions.size()),
                "give 1 to 64 versions of one save");
  searching::Field field;
  field.size = versions[0].size();
  for (const Blob& version : versions) {
    if (version.size() != field.size || version.size() > max_size || version.empty())
      return fail(ErrorCode::bad_usage,
                  fmt::format("versions of {} and {} bytes can't be compared", field.size, version.size()),
                  "give versions of one save, of one size, up to 16 MiB");
    field.bytes.push_back(version.view());
  }
  for (std::size_t i = 0; i < field.size; ++i) {
    bool same = true;
    for (std::size_t v = 1; same && v < field.count(); ++v) same = field.byte(v, i) == field.byte(0, i);
    field.changed += same ? 0 : 1;
  }
  const auto needs = [&](std::size_t given, std::size_t wanted, const std::string& what) -> Result<void> {
    if (given == 0 || given == wanted) return {};
    return fail(ErrorCode::bad_usage,
                fmt::format("{} {} were given for {} versions", given, what, versions.size()),
                fmt::format("give {}", wanted));
  };
  BAYSWAP_CHECK(needs(request.values.size(), versions.size(), "values"));
  BAYSWAP_CHECK(needs(request.between.size(), versions.size(), "ranges"));
  BAYSWAP_CHECK(needs(request.trends.size(), versions.size() - 1, "trends"));
  if (request.values.empty() && request.between.empty() && request.trends.empty())
    return fail(ErrorCode::bad_usage, "nothing is known of the value",
                "pass the values, their ranges, or their trend");
  searching::Finds finds(request.max_finds);
  if (request.values.empty()) {
    searching::search_trends(field, request, finds);
    return finds.take();
  }
  std::vector<searching::Number> numbers;
  std::int64_t per = 1;
  for (const std::string& value : request.values)
    if (const auto number = searching::number_from(value)) {
      numbers.push_back(*number);
      per = std::max(per, number->per);
    }
  if (numbers.size() != request.values.size()) {
    searching::search_texts(field, request.values, finds);
    return finds.take();
  }
  std::vector<std::int64_t> values;
  values.reserve(numbers.size());
  for (const searching::Number& number : numbers) values.push_back(number.whole * (per / number.per));
  searching::search_numbers(field, values, per, finds);
  return finds.take();
}

}  // namespace bayswap
