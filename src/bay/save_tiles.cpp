// What a sheet shows of a bay's saves.
#include <bayswap/bay_picture.hpp>
#include <bayswap/package.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "card/tiled_picture.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_picture_bytes = std::size_t{1} << 20;

std::optional<Picture> png_at(BayView& view, const std::string& path) {
  Store& store = view.store();
  const auto bytes = store.read_if_there(in_case_of_disk(store, path), max_picture_bytes);
  if (!bytes || !*bytes) return std::nullopt;
  auto picture = from_png(**bytes);
  if (!picture) return std::nullopt;
  return *std::move(picture);
}

// banner.bin of a wii save (docs/formats/wii.md): a banner, then the icon's frames.
SaveIcon banner_at(BayView& view, const std::string& path) {
  constexpr std::uint32_t magic = 0x5749424E;
  constexpr std::size_t banner_at = 0xA0;
  constexpr std::size_t banner_width = 192;
  constexpr std::size_t banner_height = 64;
  constexpr std::size_t icon_side = 48;
  constexpr std::size_t max_frames = 8;
  SaveIcon icon;
  const auto bytes = view.store().read_if_there(path, max_picture_bytes);
  if (!bytes || !*bytes || (*bytes)->size() < banner_at || be32((*bytes)->view(), 0) != magic) return icon;
  const ByteView all = (*bytes)->view();
  std::size_t at = banner_at;
  const auto take = [&](std::size_t width, std::size_t height) -> std::optional<Picture> {
    const std::size_t size = width * height * 2;
    if (all.size() - at < size) return std::nullopt;
    at += size;
    return untile(all.subspan(at - size, size), {}, width, height);
  };
  icon.banner = take(banner_width, banner_height);
  while (icon.frames.size() < max_frames) {
    auto frame = icon.banner ? take(icon_side, icon_side) : std::nullopt;
    if (!frame) break;
    icon.frames.push_back(*std::move(frame));
  }
  return icon;
}

void note_doubles(const std::vector<HeldSave>& saves, std::map<const HeldSave*, std::string>& notices) {
  std::map<SaveKey, std::vector<const HeldSave*>> by_key;
  for (const HeldSave& save : saves)
    if (save.place.empty() && save.health != Health::deleted && !is_nameless(save))
      by_key[save.key()].push_back(&save);
  for (const auto& [key, same] : by_key)
    if (same.size() > 1)
      for (const HeldSave* one : same) notices[one] = fmt::format("one of {} of this game", same.size());
}

}  // namespace

SaveIcon icon_of(BayView& view, const HeldSave& save) {
  SaveIcon icon;
  switch (save.kind) {
    case SaveKind::card_entry:
    case SaveKind::single: {
      IssueList ignored;
      const auto content = load_save(view, save, {}, ignored);
      return content && content->item ? icon_of(*content->item) : icon;
    }
    case SaveKind::folder:
      if (save.rule->platform == Platform::psp) {
        if (auto picture = png_at(view, join_path(save.path, "ICON0.PNG")))
          icon.frames.push_back(*std::move(picture));
      } else if (save.rule->platform == Platform::wii) {
        return banner_at(view, join_path(save.path, "banner.bin"));
      }
      return icon;
    case SaveKind::package: {
      const auto bytes = view.store().read(save.path);
      const auto package = bytes ? BlockPackage::open(*bytes) : tl::unexpected(bytes.error());
      if (!package) return icon;
      if (auto picture = from_png(package->thumbnail())) icon.frames.push_back(*std::move(picture));
      return icon;
    }
    default:
      return icon;
  }
}

Result<std::vector<SaveTile>> save_tiles(BayView& view) {
  BAYSWAP_TRY(const auto saves, view.saves());
  std::map<const HeldSave*, std::string> doubles;
  note_doubles(*saves, doubles);
  std::vector<SaveTile> tiles;
  for (const HeldSave& save : *saves) {
    SaveTile tile;
    tile.platform = save.rule->platform;
    tile.title = save.label.empty() ? save.name() : save.label;
    // A folder's number says nothing: where it is does.
    tile.name =
        save.kind == SaveKind::folder || save.kind == SaveKind::shared_folder ? save.path : save.name();
    tile.size_bytes = save.size_bytes;
    tile.modified = save.modified;
    tile.is_alarm = save.health == Health::damaged || save.health == Health::empty;
    if (save.health != Health::good)
      tile.notice =
          fmt::format("{}{}{}", to_text(save.health), save.health_note.empty() ? "" : ": ", save.health_note);
    else if (!save.misplaced.empty())
      tile.notice = "misplaced: " + save.misplaced;
    else if (const auto found = doubles.find(&save); found != doubles.end())
      tile.notice = found->second;
    tile.icon = icon_of(view, save);
    tiles.push_back(std::move(tile));
  }
  sort_by(tiles, [](const SaveTile& tile) { return std::pair(tag(tile.platform), lower(tile.title)); });
  return tiles;
}

}  // namespace bayswap
