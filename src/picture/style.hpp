// What all contact sheets have in common.
#pragma once

#include "picture/canvas.hpp"

namespace bayswap {

inline constexpr std::size_t sheet_width = 1280;
inline constexpr std::size_t margin = 24;
inline constexpr std::size_t gap = 16;
inline constexpr std::size_t head_height = 88;
inline constexpr std::size_t edge_width = 6;

inline constexpr Colour paper = 0xf3efe6ff;
inline constexpr Colour tile_colour = 0xfffdf8ff;
inline constexpr Colour ink = 0x1d2b36ff;
inline constexpr Colour faded = 0x6b7780ff;
inline constexpr Colour line = 0xd8d1c2ff;
inline constexpr Colour good = 0x5b8c5aff;
inline constexpr Colour doubt = 0xd98e32ff;
inline constexpr Colour alarm = 0xb3382cff;

/// A tag without a picture on it: clearly none of the game's.
void draw_stand_in(Canvas& canvas, const Area& area, std::string_view word);

}  // namespace bayswap
