// Product codes of four letters, the last of which is the region (n64, gc). An entry begins with the code.
#pragma once

#include <algorithm>

#include "card/kinds.hpp"

namespace bayswap {

inline constexpr std::size_t region_letter_at = 3;

inline constexpr std::size_t letter_code_bytes = 4;
inline constexpr std::size_t with_maker_bytes = 6;  // the maker's two characters follow the code

/// Four characters of a game's code, or these and the maker's two.
[[nodiscard]] inline bool is_letter_code(std::string_view code) {
  return (code.size() == letter_code_bytes || code.size() == with_maker_bytes) &&
         std::ranges::all_of(code, [](char c) { return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9'); });
}

/// As SaveFormat::restamped. A code that was asked for is what is written; without one only the letter of the
/// region changes.
[[nodiscard]] inline std::optional<CardSave> with_region_letter(const CardSave& save, Region region,
                                                                std::string_view code) {
  std::vector<Byte> entry(save.entry.view().begin(), save.entry.view().end());
  if (!code.empty()) {
    if (!is_letter_code(code)) return std::nullopt;
    for (std::size_t i = 0; i < code.size(); ++i) entry[i] = static_cast<Byte>(code[i]);
  } else {
    const auto letter = letter_of_region(region);
    if (!letter) return std::nullopt;
    entry[region_letter_at] = static_cast<Byte>(*letter);
  }
  CardSave stamped = save;
  stamped.entry = Blob::copy_of(entry);
  return stamped;
}

}  // namespace bayswap
