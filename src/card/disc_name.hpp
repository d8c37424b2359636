// Directory names of ps1 and ps2 saves: "BESLPS-99001SKIFF": two letters for the region, ten for the product
// code, the rest is the game's own.
#pragma once

#include <bayswap/save.hpp>

#include <array>

namespace bayswap {

inline constexpr std::size_t disc_code_end = 12;
struct DiscRegion {
  Region region;
  std::string_view letters;
};
inline constexpr std::array<DiscRegion, 3> disc_regions{
    {{Region::japan, "BI"}, {Region::north_america, "BA"}, {Region::europe, "BE"}}};

[[nodiscard]] inline Region region_of_disc_name(std::string_view name) {
  for (const DiscRegion& known : disc_regions)
    if (name.starts_with(known.letters)) return known.region;
  return Region::unknown;
}
[[nodiscard]] inline std::string code_of_disc_name(std::string_view name) {
  return name.size() >= disc_code_end && region_of_disc_name(name) != Region::unknown
             ? std::string(name.substr(2, disc_code_end - 2))
             : std::string{};
}
/// "SLES-99001" from what people and discs write: "SLES_990.01", "sles99001". Empty where it is none.
[[nodiscard]] inline std::string disc_code(std::string_view text) {
  std::string code;
  for (const char c : text) {
    if (c == '-' || c == '_' || c == '.' || c == ' ') continue;
    code += c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
    if (code.size() == 4) code += '-';
  }
  constexpr std::size_t size = disc_code_end - 2;
  if (code.size() != size) return {};
  for (std::size_t i = 0; i < size; ++i) {
    const bool fits = i < 4    ? code[i] >= 'A' && code[i] <= 'Z'
                      : i == 4 ? code[i] == '-'
                               : code[i] >= '0' && code[i] <= '9';
    if (!fits) return {};
  }
  return code;
}
[[nodiscard]] inline std::string_view disc_letters(Region region) {
  for (const DiscRegion& known : disc_regions)
    if (known.region == region) return known.letters;
  return {};
}

}  // namespace bayswap
