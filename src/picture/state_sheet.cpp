// Contact sheets of save states.
#include <bayswap/picture.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "picture/style.hpp"

namespace bayswap {
namespace {

constexpr std::size_t state_columns = 4;
constexpr std::size_t state_tile_width =
    (sheet_width - 2 * margin - (state_columns - 1) * gap) / state_columns;
constexpr std::size_t picture_height = 200;
constexpr std::size_t state_tile_height = picture_height + 84;

void draw_tile(Canvas& canvas, const Area& tile, const StateTile& state) {
  canvas.fill(tile, tile_colour);
  canvas.frame(tile, line);
  const Area room{tile.x + 12, tile.y + 12, tile.width - 24, picture_height - 12};
  if (state.picture && state.picture->width > 0 && state.picture->height > 0) {
    // As large as it fits, in its own shape.
    const double scale =
        std::min(static_cast<double>(room.width) / static_cast<double>(state.picture->width),
                 static_cast<double>(room.height) / static_cast<double>(state.picture->height));
    const auto width = static_cast<std::size_t>(static_cast<double>(state.picture->width) * scale);
    const auto height = static_cast<std::size_t>(static_cast<double>(state.picture->height) * scale);
    canvas.draw(*state.picture,
                {room.x + (room.width - width) / 2, room.y + (room.height - height) / 2, width, height});
  } else {
    draw_stand_in(canvas, room, "no picture");
  }
  const std::size_t wide = tile.width - 24;
  std::size_t y = tile.y + picture_height + 8;
  canvas.text(tile.x + 12, y, wide, state.slot, ink);
  const std::size_t date = text_width(state.date);
  if (date < wide) canvas.text(tile.x + 12 + wide - date, y, date, state.date, faded);
  y += text_height + 4;
  const Colour colour = state.tone == StateTile::Tone::bad    ? alarm
                        : state.tone == StateTile::Tone::good ? good
                                                              : faded;
  canvas.fill({tile.x + 12, y + 2, 4, text_height - 2}, colour);
  canvas.text(tile.x + 22, y, wide - 10, state.verdict, colour);
  y += text_height + 4;
  canvas.text(tile.x + 12, y, wide, state.file, faded);
}

}  // namespace

void draw_stand_in(Canvas& canvas, const Area& area, std::string_view word) {
  canvas.fill(area, paper);
  canvas.frame(area, line);
  for (std::size_t i = 8; i + 8 < area.width; ++i) canvas.fill({area.x + i, area.y + i, 1, 1}, line);
  const std::size_t width = text_width(word);
  canvas.fill({area.x + (area.width - width) / 2 - 2, area.y + (area.height - text_height) / 2, width + 4,
               text_height},
              paper);
  canvas.text(area.x + (area.width - width) / 2, area.y + (area.height - text_height) / 2, width, word,
              faded);
}

Picture state_sheet(const std::vector<StateGroup>& groups, std::string_view caption) {
  std::size_t states = 0;
  std::size_t height = head_height + margin;
  for (const StateGroup& group : groups) {
    states += group.tiles.size();
    height += text_height * 2 + 12 +
              (group.tiles.size() + state_columns - 1) / state_columns * (state_tile_height + gap);
  }
  if (groups.empty()) height += 64;
  Canvas canvas(sheet_width, height, paper);
  canvas.fill({0, 0, sheet_width, 64}, ink);
  canvas.text(margin, 16, sheet_width - 2 * margin - 460, caption, tile_colour, 2);
  const std::string facts = fmt::format("{} state{}", states, states == 1 ? "" : "s");
  canvas.text(sheet_width - margin - text_width(facts), 24, 460, facts, 0xc9d3daff);
  if (groups.empty()) canvas.text(margin, head_height + 16, 600, "No save states.", faded);
  std::size_t y = head_height;
  for (const StateGroup& group : groups) {
    canvas.text(margin, y, sheet_width - 2 * margin, group.game, ink, 2);
    y += text_height * 2 + 12;
    for (std::size_t i = 0; i < group.tiles.size(); ++i)
      draw_tile(canvas,
                {margin + i % state_columns * (state_tile_width + gap),
                 y + i / state_columns * (state_tile_height + gap), state_tile_width, state_tile_height},
                group.tiles[i]);
    y += (group.tiles.size() + state_columns - 1) / state_columns * (state_tile_height + gap);
  }
  return std::move(canvas).take();
}

}  // namespace bayswap
