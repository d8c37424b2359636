// Product codes of four letters, the last of which is the region (n64, gc). An entry begins with the code.
#pragma once

#include <algorithm>

#include "card/kinds.hpp"

namespace bayswap {

struct RegionLetter {
  Region region;
  char letter;
};
inline constexpr std::array<RegionLetter, 3> region_letters{
    {{Region::japan, 'J'}, {Region::north_america, 'E'}, {Region::europe, 'P'}}};
inline constexpr std::size_t region_letter_at = 3;

[[nodiscard]] inline Region region_of_letter(Byte letter) {
  const auto* const known =
      std::ranges::find(region_letters, static_cast<char>(letter), &RegionLetter::letter);
  return known == region_letters.end() ? Region::unknown : known->region;
}
/// As SaveFormat::restamped.
[[nodiscard]] inline std::optional<CardSave> with_region_letter(const CardSave& save, Region region) {
  const auto* const wanted = std::ranges::find(region_letters, region, &RegionLetter::region);
  if (wanted == region_letters.end()) return std::nullopt;
  std::vector<Byte> entry(save.entry.view().begin(), save.entry.view().end());
  entry[region_letter_at] = static_cast<Byte>(wanted->letter);
  CardSave stamped = save;
  stamped.entry = Blob::copy_of(entry);
  return stamped;
}

}  // namespace bayswap
