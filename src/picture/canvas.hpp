// Pixels to draw on: rectangles, pictures, lines of text.
#pragma once

#include <bayswap/card.hpp>

#include <string_view>

namespace bayswap {

using Colour = std::uint32_t;  // 0xRRGGBBAA

struct Area {
  std::size_t x = 0;
  std::size_t y = 0;
  std::size_t width = 0;
  std::size_t height = 0;
};

inline constexpr std::size_t text_height = 16;

class Canvas {
 public:
  Canvas(std::size_t width, std::size_t height, Colour background);

  void fill(const Area& area, Colour colour);
  void frame(const Area& area, Colour colour);
  /// Stretched to fill the area; what is opaque only in part shows what is under it.
  void draw(const Picture& picture, const Area& area);
  /// One line, cut off with "..." where it is longer than `width` pixels. `scale` times as large.
  void text(std::size_t x, std::size_t y, std::size_t width, std::string_view utf8, Colour colour,
            std::size_t scale = 1);
  [[nodiscard]] Picture take() && { return std::move(picture_); }

 private:
  void blend(std::size_t x, std::size_t y, Colour colour);

  Picture picture_;
};

/// How many pixels a line is wide, unscaled.
[[nodiscard]] std::size_t text_width(std::string_view utf8);
/// Where to fold a line that is longer than `width`: at the last space that fits, else at the last character.
[[nodiscard]] std::size_t fold_at(std::string_view utf8, std::size_t width);

}  // namespace bayswap
