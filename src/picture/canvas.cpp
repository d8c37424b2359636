#include "picture/canvas.hpp"

#include <algorithm>

#include "picture/font.hpp"

namespace bayswap {
namespace {

// Takes one character off the head of `text`; U+FFFD for what is none.
char32_t next_character(std::string_view& text) {
  const auto head = static_cast<Byte>(text[0]);
  const std::size_t length = head < 0x80             ? 1
                             : (head & 0xe0) == 0xc0 ? 2
                             : (head & 0xf0) == 0xe0 ? 3
                             : (head & 0xf8) == 0xf0 ? 4
                                                     : 0;
  if (length == 0 || length > text.size()) {
    text.remove_prefix(1);
    return 0xfffd;
  }
  char32_t code = length == 1 ? head : head & (0x7fU >> length);
  for (std::size_t i = 1; i < length; ++i) code = code << 6U | (static_cast<Byte>(text[i]) & 0x3fU);
  text.remove_prefix(length);
  return code;
}

const Glyph& glyph_of(char32_t code) {
  const auto* const end = font_glyphs + font_glyph_count;
  const auto* found = std::lower_bound(
      font_glyphs, end, code, [](const Glyph& glyph, char32_t wanted) { return glyph.code < wanted; });
  if (found != end && found->code == code) return *found;
  return *(end - 1);  // U+FFFD is the last one
}
std::size_t width_of(const Glyph& glyph) {
  return glyph.wide != 0 ? 16 : 8;
}

}  // namespace

Canvas::Canvas(std::size_t width, std::size_t height, Colour background)
    : picture_{width, height, std::vector<std::uint32_t>(width * height, background)} {}

void Canvas::blend(std::size_t x, std::size_t y, Colour colour) {
  if (x >= picture_.width || y >= picture_.height) return;
  Colour& under = picture_.pixels[y * picture_.width + x];
  const Colour opacity = colour & 0xffU;
  Colour mixed = 0xff;
  for (const unsigned shift : {24U, 16U, 8U}) {
    const Colour above = (colour >> shift) & 0xffU;
    const Colour below = (under >> shift) & 0xffU;
    mixed |= ((above * opacity + below * (255 - opacity) + 127) / 255) << shift;
  }
  under = mixed;
}

void Canvas::fill(const Area& area, Colour colour) {
  for (std::size_t y = area.y; y < area.y + area.height; ++y)
    for (std::size_t x = area.x; x < area.x + area.width; ++x) blend(x, y, colour);
}
void Canvas::frame(const Area& area, Colour colour) {
  fill({area.x, area.y, area.width, 1}, colour);
  fill({area.x, area.y + area.height - 1, area.width, 1}, colour);
  fill({area.x, area.y, 1, area.height}, colour);
  fill({area.x + area.width - 1, area.y, 1, area.height}, colour);
}

void Canvas::draw(const Picture& picture, const Area& area) {
  if (picture.width == 0 || picture.height == 0 || picture.pixels.size() != picture.width * picture.height)
    return;
  // Larger: each pixel a square. Smaller: the mean of the pixels that fall together.
  for (std::size_t y = 0; y < area.height; ++y)
    for (std::size_t x = 0; x < area.width; ++x) {
      const std::size_t left = x * picture.width / area.width;
      const std::size_t top = y * picture.height / area.height;
      const std::size_t right = std::max(left + 1, (x + 1) * picture.width / area.width);
      const std::size_t bottom = std::max(top + 1, (y + 1) * picture.height / area.height);
      std::array<std::uint64_t, 4> sum{};
      for (std::size_t v = top; v < bottom; ++v)
        for (std::size_t u = left; u < right; ++u)
          for (std::size_t channel = 0; channel < 4; ++channel)
            sum.at(channel) += (picture.pixels[v * picture.width + u] >> (24 - 8 * channel)) & 0xffU;
      const std::uint64_t count = (right - left) * (bottom - top);
      Colour mean = 0;
      for (std::size_t channel = 0; channel < 4; ++channel)
        mean = mean << 8U | static_cast<Colour>(sum.at(channel) / count);
      blend(area.x + x, area.y + y, mean);
    }
}

void Canvas::text(std::size_t x, std::size_t y, std::size_t width, std::string_view utf8, Colour colour,
                  std::size_t scale) {
  std::string shortened;
  if (text_width(utf8) * scale > width) {
    constexpr std::size_t dots_width = 24;
    const std::size_t room = width / scale > dots_width ? width / scale - dots_width : 0;
    std::string_view rest = utf8;
    std::size_t used = 0;
    while (!rest.empty()) {
      std::string_view after = rest;
      used += width_of(glyph_of(next_character(after)));
      if (used > room) break;
      rest = after;
    }
    shortened = std::string(utf8.substr(0, utf8.size() - rest.size())) + "...";
    utf8 = shortened;
  }
  while (!utf8.empty()) {
    const Glyph& glyph = glyph_of(next_character(utf8));
    const std::size_t columns = width_of(glyph);
    for (std::size_t row = 0; row < text_height; ++row)
      for (std::size_t column = 0; column < columns; ++column) {
        const std::size_t byte = row * columns / 8 + column / 8;
        if ((glyph.rows[byte] >> (7 - column % 8) & 1) != 0)
          fill({x + column * scale, y + row * scale, scale, scale}, colour);
      }
    x += columns * scale;
  }
}

std::size_t text_width(std::string_view utf8) {
  std::size_t width = 0;
  while (!utf8.empty()) width += width_of(glyph_of(next_character(utf8)));
  return width;
}

std::size_t fold_at(std::string_view utf8, std::size_t width) {
  std::string_view rest = utf8;
  std::size_t used = 0;
  std::size_t space = 0;
  while (!rest.empty()) {
    const std::size_t at = utf8.size() - rest.size();
    if (rest[0] == ' ') space = at;
    used += width_of(glyph_of(next_character(rest)));
    if (used > width) return space > 0 ? space : at;
  }
  return utf8.size();
}

}  // namespace bayswap
