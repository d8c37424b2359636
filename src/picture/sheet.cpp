#include <bayswap/picture.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "picture/style.hpp"

namespace bayswap {
namespace {

constexpr std::size_t card_columns = 3;
constexpr std::size_t card_tile_width = (sheet_width - 2 * margin - (card_columns - 1) * gap) / card_columns;
constexpr std::size_t card_tile_height = 148;
constexpr std::size_t card_icon_side = 64;
constexpr std::size_t frame_side = 32;

constexpr Colour system_colour = 0x8b929aff;
constexpr std::array<Colour, 12> edges{0x1f6f8bff, 0xd98e32ff, 0x5b8c5aff, 0xa24857ff,
                                       0x6c5b9eff, 0x3a9a94ff, 0xc2b134ff, 0x35507eff,
                                       0xb5678fff, 0x7d6a4fff, 0x4c9bd4ff, 0x8a9a3bff};
Colour edge_of(std::size_t entry) {
  return edges.at(entry % edges.size());
}

std::string counted(std::size_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

void draw_tile(Canvas& canvas, const Area& tile, const Card& card, const CardEntry& entry,
               std::size_t index) {
  const bool gone = entry.state == CardEntry::State::deleted;
  canvas.fill(tile, tile_colour);
  canvas.frame(tile, line);
  canvas.fill({tile.x, tile.y, edge_width, tile.height}, gone ? line : edge_of(index));
  const Area big{tile.x + 20, tile.y + 14, card_icon_side, card_icon_side};
  SaveIcon icon;
  if (const auto save = card.read(entry.name); save && !gone) icon = icon_of(*save);
  if (!icon.frames.empty()) {
    canvas.draw(icon.frames.front(), big);
  } else {
    draw_stand_in(canvas, big, gone ? "deleted" : icon.model ? "model" : "no icon");
  }
  const std::size_t text_x = big.x + card_icon_side + 16;
  const std::size_t room = tile.x + tile.width - 12 - text_x;
  const std::string& title = entry.title.empty() ? entry.name : entry.title;
  const std::size_t fold = fold_at(title, room);
  std::size_t y = tile.y + 12;
  canvas.text(text_x, y, room, std::string_view(title).substr(0, fold), gone ? faded : ink);
  y += text_height + 2;
  if (fold < title.size()) {
    const std::size_t from = title.find_first_not_of(' ', fold);
    canvas.text(text_x, y, room, std::string_view(title).substr(std::min(from, title.size())),
                gone ? faded : ink);
    y += text_height + 2;
  }
  if (!entry.title.empty()) canvas.text(text_x, y, room, entry.name, faded);
  y = tile.y + 68;
  std::string facts =
      card.block_bytes() == 1 ? counted(entry.blocks, "byte") : counted(entry.blocks, "block");
  if (entry.modified) facts += "  " + card_time(card.kind(), *entry.modified).substr(0, 16);
  canvas.text(text_x, y, room, facts, ink);
  // All frames of the animation, in their order, and the banner.
  const std::size_t bottom = tile.y + tile.height - frame_side - 12;
  std::size_t x = big.x;
  if (icon.frames.size() > 1)
    for (const Picture& frame : icon.frames) {
      canvas.draw(frame, {x, bottom, frame_side, frame_side});
      x += frame_side + 4;
    }
  if (icon.banner) {
    const Area banner{tile.x + tile.width - 12 - icon.banner->width, bottom, icon.banner->width,
                      icon.banner->height};
    if (banner.x > x) canvas.draw(*icon.banner, banner);
  }
  if (entry.state != CardEntry::State::good) {
    const std::string_view state = to_text(entry.state);
    const std::size_t width = text_width(state) + 12;
    const Area badge{tile.x + tile.width - 12 - width, bottom + 6, width, text_height + 4};
    canvas.fill(badge, gone ? line : alarm);
    canvas.text(badge.x + 6, badge.y + 2, width, state, gone ? ink : tile_colour);
  }
}

// ---- The block map -------------------------------------------------------------------------------

struct MapShape {
  std::size_t group = 1;  // blocks a cell
  std::size_t cell = 0;   // pixels, with its gap
  std::size_t cells = 0;
  std::size_t a_row = 1;
  [[nodiscard]] std::size_t height() const { return (cells + a_row - 1) / a_row * cell; }
};
MapShape shape_of(std::size_t blocks) {
  constexpr std::size_t max_cells = 2048;
  MapShape shape;
  shape.group = std::max<std::size_t>(1, (blocks + max_cells - 1) / max_cells);
  shape.cells = (blocks + shape.group - 1) / shape.group;
  shape.cell = shape.cells <= 32 ? 36 : shape.cells <= 256 ? 18 : shape.cells <= 1024 ? 12 : 9;
  shape.a_row = (sheet_width - 2 * margin) / shape.cell;
  return shape;
}

void draw_map(Canvas& canvas, std::size_t top, const std::vector<CardBlock>& map, const MapShape& shape) {
  for (std::size_t i = 0; i < shape.cells; ++i) {
    const Area cell{margin + i % shape.a_row * shape.cell, top + i / shape.a_row * shape.cell, shape.cell - 2,
                    shape.cell - 2};
    // Of several blocks in a cell the one that is used for most shows.
    const auto first = map.begin() + static_cast<std::ptrdiff_t>(i * shape.group);
    const auto last = map.begin() + static_cast<std::ptrdiff_t>(std::min(map.size(), (i + 1) * shape.group));
    const auto shown =
        std::find_if(first, last, [](const CardBlock& block) { return block.use != BlockUse::free; });
    const CardBlock block = shown == last ? *first : *shown;
    switch (block.use) {
      case BlockUse::free:
        canvas.fill(cell, tile_colour);
        canvas.frame(cell, line);
        break;
      case BlockUse::save:
        canvas.fill(cell, edge_of(block.entry));
        break;
      case BlockUse::system:
        canvas.fill(cell, system_colour);
        break;
      case BlockUse::lost:
        canvas.fill(cell, tile_colour);
        canvas.frame(cell, alarm);
        for (std::size_t d = 0; d < cell.width; ++d) canvas.fill({cell.x + d, cell.y + d, 1, 1}, alarm);
        break;
    }
  }
}

void draw_legend(Canvas& canvas, std::size_t top, std::string_view of) {
  std::size_t x = margin;
  canvas.text(x, top, 300, of, ink);
  x += text_width(of) + 32;
  const auto item = [&](Colour colour, bool hollow, std::string_view what) {
    const Area chip{x, top + 3, 12, 12};
    canvas.fill(chip, hollow ? tile_colour : colour);
    canvas.frame(chip, colour);
    canvas.text(x + 20, top, 300, what, faded);
    x += 20 + text_width(what) + 28;
  };
  item(line, true, "free");
  item(system_colour, false, "the card's own");
  item(edge_of(0), false, "a save, in its tile's colour");
  item(alarm, true, "in use, but no save's");
}

}  // namespace

Picture contact_sheet(const Card& card, std::string_view caption) {
  const auto entries = card.entries();
  const auto map = card.map();
  const MapShape shape = shape_of(map.size());
  const std::size_t rows = (entries.size() + card_columns - 1) / card_columns;
  const std::size_t tiles = rows == 0 ? 64 : rows * (card_tile_height + gap);
  const std::size_t legend = head_height + tiles + 8;
  const std::size_t height =
      map.empty() ? legend + margin : legend + text_height + 12 + shape.height() + margin;
  Canvas canvas(sheet_width, height, paper);
  canvas.fill({0, 0, sheet_width, 64}, ink);
  canvas.text(margin, 16, sheet_width - 2 * margin - 460, caption, tile_colour, 2);
  const std::string_view unit = card.block_bytes() == 1 ? "byte" : "block";
  std::string facts = map.empty() ? counted(entries.size(), "save")
                                  : fmt::format("{} card, {} of {} free", to_text(card.kind()),
                                                card.free_blocks(), counted(card.capacity_blocks(), unit));
  const std::size_t problems = card.check().size();
  if (problems > 0) facts += ", " + counted(problems, "problem");
  canvas.text(sheet_width - margin - text_width(facts), 24, 460, facts,
              problems > 0 ? 0xf2b8a8ff : 0xc9d3daff);
  if (entries.empty()) canvas.text(margin, head_height + 16, 600, "No saves.", faded);
  for (std::size_t i = 0; i < entries.size(); ++i)
    draw_tile(canvas,
              {margin + i % card_columns * (card_tile_width + gap),
               head_height + i / card_columns * (card_tile_height + gap), card_tile_width, card_tile_height},
              card, entries[i], i);
  if (!map.empty()) {
    const std::string of = shape.group == 1 ? fmt::format("The card's {}s", unit)
                                            : fmt::format("{} {}s a square", shape.group, unit);
    draw_legend(canvas, legend, of);
    draw_map(canvas, legend + text_height + 12, map, shape);
  }
  return std::move(canvas).take();
}

}  // namespace bayswap
