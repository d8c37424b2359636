// The bitmap font that is built in: cmake/embed_font.cpp takes it from a Debian package.
#pragma once

#include <cstdint>

namespace bayswap {

struct Glyph {
  char32_t code;
  std::uint8_t wide;      // 16 pixels, otherwise 8
  std::uint8_t rows[32];  // NOLINT(modernize-avoid-c-arrays): 16 rows, the left pixel highest
};
extern const Glyph font_glyphs[];  // NOLINT(modernize-avoid-c-arrays): by code point
extern const unsigned font_glyph_count;

}  // namespace bayswap
