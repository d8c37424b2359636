// Contact sheets of the saves of a bay.
#include <fmt/format.h>
#include <bayswap/bay_picture.hpp>

#include <algorithm>

#include "picture/style.hpp"

namespace bayswap {
namespace {

constexpr std::size_t bay_columns = 3;
constexpr std::size_t bay_tile_width = (sheet_width - 2 * margin - (bay_columns - 1) * gap) / bay_columns;
constexpr std::size_t bay_tile_height = 116;
constexpr std::size_t section_height = text_height * 2 + 12;
constexpr std::size_t bay_icon_side = 72;

std::string size_in_words(std::uint64_t bytes) {
  constexpr double kib = 1024;
  const auto size = static_cast<double>(bytes);
  if (size >= kib * kib) return fmt::format("{:.1f} MiB", size / kib / kib);
  if (size >= kib) return fmt::format("{:.0f} KiB", size / kib);
  return fmt::format("{} byte{}", bytes, bytes == 1 ? "" : "s");
}

// As large as it fits, in its own shape, in the middle.
void draw_fitting(Canvas& canvas, const Picture& picture, const Area& room) {
  const double scale = std::min(static_cast<double>(room.width) / static_cast<double>(picture.width),
                                static_cast<double>(room.height) / static_cast<double>(picture.height));
  const auto width =
      std::max<std::size_t>(1, static_cast<std::size_t>(static_cast<double>(picture.width) * scale));
  const auto height =
      std::max<std::size_t>(1, static_cast<std::size_t>(static_cast<double>(picture.height) * scale));
  canvas.draw(picture,
              {room.x + (room.width - width) / 2, room.y + (room.height - height) / 2, width, height});
}

void draw_tile(Canvas& canvas, const Area& tile, const SaveTile& save,
               const std::function<std::string(std::int64_t)>& date) {
  canvas.fill(tile, tile_colour);
  canvas.frame(tile, line);
  canvas.fill({tile.x, tile.y, edge_width, tile.height}, save.notice.empty() ? good
                                                         : save.is_alarm     ? alarm
                                                                             : doubt);
  const Area room{tile.x + 18, tile.y + (tile.height - bay_icon_side) / 2, bay_icon_side, bay_icon_side};
  const Picture* picture = !save.icon.frames.empty() ? &save.icon.frames.front()
                           : save.icon.banner        ? &*save.icon.banner
                                                     : nullptr;
  if (picture != nullptr && picture->width > 0 && picture->height > 0)
    draw_fitting(canvas, *picture, room);
  else
    draw_stand_in(canvas, room, tag(save.platform));
  const std::size_t text_x = room.x + bay_icon_side + 14;
  const std::size_t width = tile.x + tile.width - 12 - text_x;
  std::size_t y = tile.y + 10;
  const std::size_t fold = fold_at(save.title, width);
  canvas.text(text_x, y, width, std::string_view(save.title).substr(0, fold), ink);
  y += text_height + 2;
  if (fold < save.title.size()) {
    const std::size_t from = std::min(save.title.find_first_not_of(' ', fold), save.title.size());
    canvas.text(text_x, y, width, std::string_view(save.title).substr(from), ink);
    y += text_height + 2;
  }
  if (save.name != save.title) {
    canvas.text(text_x, y, width, save.name, faded);
    y += text_height + 2;
  }
  const std::string facts =
      size_in_words(save.size_bytes) + (save.modified ? "   " + date(*save.modified) : "");
  canvas.text(text_x, y, width, facts, faded);
  if (!save.notice.empty())
    canvas.text(text_x, tile.y + tile.height - text_height - 8, width, save.notice,
                save.is_alarm ? alarm : doubt);
}

}  // namespace

Picture bay_sheet(const std::vector<SaveTile>& tiles, std::string_view caption,
                  const std::function<std::string(std::int64_t)>& date) {
  std::vector<std::pair<Platform, std::vector<const SaveTile*>>> sections;
  std::size_t notices = 0;
  for (const SaveTile& tile : tiles) {
    if (sections.empty() || sections.back().first != tile.platform) sections.push_back({tile.platform, {}});
    sections.back().second.push_back(&tile);
    notices += tile.notice.empty() ? 0 : 1;
  }
  std::size_t height = head_height + margin;
  for (const auto& [platform, own] : sections)
    height += section_height + (own.size() + bay_columns - 1) / bay_columns * (bay_tile_height + gap);
  if (sections.empty()) height += 64;
  Canvas canvas(sheet_width, height, paper);
  canvas.fill({0, 0, sheet_width, 64}, ink);
  canvas.text(margin, 16, sheet_width - 2 * margin - 460, caption, tile_colour, 2);
  std::string facts = fmt::format("{} save{}", tiles.size(), tiles.size() == 1 ? "" : "s");
  if (notices > 0) facts += fmt::format(", {} worth a look", notices);
  canvas.text(sheet_width - margin - text_width(facts), 24, 460, facts,
              notices > 0 ? 0xf2b8a8ff : 0xc9d3daff);
  if (sections.empty()) canvas.text(margin, head_height + 16, 600, "No saves.", faded);
  std::size_t y = head_height;
  for (const auto& [platform, own] : sections) {
    canvas.text(margin, y, sheet_width - 2 * margin, tag(platform), ink, 2);
    y += section_height;
    for (std::size_t i = 0; i < own.size(); ++i)
      draw_tile(canvas,
                {margin + i % bay_columns * (bay_tile_width + gap),
                 y + i / bay_columns * (bay_tile_height + gap), bay_tile_width, bay_tile_height},
                *own[i], date);
    y += (own.size() + bay_columns - 1) / bay_columns * (bay_tile_height + gap);
  }
  return std::move(canvas).take();
}

}  // namespace bayswap
