// Drawing: a contact sheet of a card, and PNG files. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/card.hpp>
#include <bayswap/export.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Draws a sheet of a card, 1280 pixels wide: a tile for each save with its icon (all frames side by side) or
/// banner, title, size and date, and below them the use of each block. `caption` is its heading.
[[nodiscard]] Picture contact_sheet(const Card& card, std::string_view caption);

/// A save state on a sheet.
struct StateTile {
  std::string slot;  // "slot 3", "autosave"
  std::string date;
  std::string verdict;  // on the battery save in it
  enum class Tone { plain, good, bad } tone = Tone::plain;
  std::string file;
  std::optional<Picture> picture;
};
struct StateGroup {
  std::string game;
  std::vector<StateTile> tiles;
};
/// Draws a sheet of save states in the same style: for each game a tile for each state with its picture.
[[nodiscard]] Picture state_sheet(const std::vector<StateGroup>& groups, std::string_view caption);

/// Reads a PNG file of up to 4096 by 4096 pixels. Fails with `damaged` if it is not a PNG file,
/// `does_not_fit` if it is larger.
[[nodiscard]] Result<Picture> from_png(const Blob& file);

/// Returns a PNG file (ISO/IEC 15948) with 8 bits per channel and opacity. Fails with `bad_usage` for a
/// picture without pixels.
[[nodiscard]] Result<Blob> to_png(const Picture& picture);

}  // namespace bayswap
BAYSWAP_EXPORT_END
