#include "card/tiled_picture.hpp"

#include "base/endian.hpp"

namespace bayswap {
namespace {

// Bit 15: five bits each; otherwise three bits of opacity and four each.
std::uint32_t colour(std::uint16_t value) {
  const auto five = [&](unsigned shift) {
    const std::uint32_t v = (value >> shift) & 31U;
    return (v << 3) | (v >> 2);
  };
  const auto four = [&](unsigned shift) { return ((value >> shift) & 15U) * 17U; };
  if ((value & 0x8000U) != 0) return five(10) << 24 | five(5) << 16 | five(0) << 8 | 0xff;
  const std::uint32_t opacity = (value >> 12) & 7U;
  return four(8) << 24 | four(4) << 16 | four(0) << 8 | ((opacity << 5) | (opacity << 2) | (opacity >> 1));
}

}  // namespace

Picture untile(ByteView pixels, ByteView palette, std::size_t width, std::size_t height) {
  Picture picture{width, height, std::vector<std::uint32_t>(width * height)};
  const std::size_t tile_width = palette.empty() ? 4 : 8;
  constexpr std::size_t tile_height = 4;
  std::size_t at = 0;
  for (std::size_t top = 0; top < height; top += tile_height)
    for (std::size_t left = 0; left < width; left += tile_width)
      for (std::size_t y = top; y < top + tile_height; ++y)
        for (std::size_t x = left; x < left + tile_width; ++x, ++at)
          picture.pixels[y * width + x] =
              colour(palette.empty() ? be16(pixels, 2 * at) : be16(palette, std::size_t{2} * pixels[at]));
  return picture;
}

}  // namespace bayswap
