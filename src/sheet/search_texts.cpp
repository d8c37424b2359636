#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "sheet/value_search_inside.hpp"

namespace bayswap::searching {
namespace {

// 'A', 'a' or '0', if the character is of such a row; 0 otherwise.
char row_of(char c) {
  if (c >= 'A' && c <= 'Z') return 'A';
  if (c >= 'a' && c <= 'z') return 'a';
  if (c >= '0' && c <= '9') return '0';
  return 0;
}

// In each version the letters must be as far apart as in the alphabet.
struct Rows {
  std::map<char, std::uint32_t> codes;  // of 'A', 'a', '0'
  std::size_t told = 0;                 // characters that agree with one before

  bool take(std::uint32_t code, char c, std::uint32_t limit) {
    const char row = row_of(c);
    if (row == 0) return true;  // spaces and the like are anywhere
    const std::uint32_t first = code - static_cast<std::uint32_t>(c - row);
    if (first > limit) return false;
    const auto [known, is_new] = codes.emplace(row, first);
    if (is_new) return true;
    ++told;
    return known->second == first;
  }
};

}  // namespace

void search_texts(const Field& field, const std::vector<std::string>& texts, Finds& finds) {
  constexpr std::size_t shortest = 2;
  if (std::ranges::any_of(texts, [](const std::string& text) { return text.size() < shortest; })) return;
  std::size_t longest = 0;
  for (const std::string& text : texts) longest = std::max(longest, text.size());
  for (const auto& [unit, big] : {std::pair(1U, false), std::pair(2U, false), std::pair(2U, true)})
    for (std::size_t at = 0; at + longest * unit <= field.size; ++at) {
      Rows rows;
      bool fits = true;
      bool is_ascii = true;
      for (std::size_t v = 0; fits && v < texts.size(); ++v)
        for (std::size_t i = 0; fits && i < texts[v].size(); ++i) {
          const auto code = static_cast<std::uint32_t>(field.number(v, at + i * unit, unit, big));
          is_ascii = is_ascii && code == static_cast<Byte>(texts[v][i]);
          fits = rows.take(code, texts[v][i], unit == 1 ? 0xff : 0xffff);
        }
      if (!fits || (!is_ascii && rows.told < 3)) continue;
      ValueFind find;
      find.kind = ValueFind::Kind::text;
      find.offset = at;
      find.bits = static_cast<unsigned>(8 * longest * unit);
      find.unit_bytes = unit;
      find.big_endian = big;
      double bits = 8.0 * static_cast<double>(rows.told);
      const std::string wide = unit == 1 ? ""
                               : big     ? ", two bytes a character, big-endian"
                                         : ", two bytes a character, little-endian";
      if (is_ascii) {
        std::size_t characters = 0;
        for (const std::string& text : texts) characters += text.size();
        bits = 8.0 * static_cast<double>(characters);
        find.encoding = "text in ASCII" + wide;
      } else {
        for (const auto& [row, code] : rows.codes) find.from.emplace_back(row, code);
        std::string words;
        for (const auto& [row, code] : rows.codes)
          words += fmt::format("{}'{}' is {:0{}X}", words.empty() ? "" : ", ", row, code, 2 * unit);
        find.encoding = fmt::format("text in which {}{}", words, wide);
      }
      find.expected_false = static_cast<double>(field.size) * 3 / std::exp2(bits);
      finds.add(std::move(find));
    }
}

}  // namespace bayswap::searching
