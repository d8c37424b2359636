// Product codes of four letters, the last of which is the region (n64, gc). An entry begins with the code.
#pragma once

#include "card/kinds.hpp"

namespace bayswap {

inline constexpr std::size_t region_letter_at = 3;

/// As SaveFormat::restamped.
[[nodiscard]] inline std::optional<CardSave> with_region_letter(const CardSave& save, Region region,
                                                                std::string_view /*code*/) {
  const auto letter = letter_of_region(region);
  if (!letter) return std::nullopt;
  std::vector<Byte> entry(save.entry.view().begin(), save.entry.view().end());
  entry[region_letter_at] = static_cast<Byte>(*letter);
  CardSave stamped = save;
  stamped.entry = Blob::copy_of(entry);
  return stamped;
}

}  // namespace bayswap
