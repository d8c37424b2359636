// A contact sheet of a bay's saves. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/picture.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// One save on a sheet.
struct SaveTile {
  Platform platform{};
  std::string title;  // the title to show
  std::string name;   // the file's or the entry's
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970, UTC
  std::string notice;                    // empty, damaged, one of two versions; may be empty
  bool is_alarm = false;                 // the notice says that something is broken
  SaveIcon icon;
};

/// Returns a tile for each save of the bay, by platform and title. Reads the saves for their pictures: of psp
/// folders, x360 packages, card entries, wii banners. Fails as BayView::saves.
[[nodiscard]] Result<std::vector<SaveTile>> save_tiles(BayView& view);
/// Returns the pictures that a save contains; empty if it has none, or they can't be read.
[[nodiscard]] SaveIcon icon_of(BayView& view, const HeldSave& save);

/// Draws a sheet 1280 pixels wide in the style of card sheets, with a section for each platform. `date`
/// formats a time (seconds since 1970).
[[nodiscard]] Picture bay_sheet(const std::vector<SaveTile>& tiles, std::string_view caption,
                                const std::function<std::string(std::int64_t)>& date);

}  // namespace bayswap
BAYSWAP_EXPORT_END
