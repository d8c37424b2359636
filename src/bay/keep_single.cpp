// Saves off a memory card, each in a file of its own.
#include <fmt/format.h>

#include "base/path.hpp"
#include "base/try.hpp"
#include "bay/keeper.hpp"

namespace bayswap {
namespace {

Result<void> scan_single(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  const PlatformRule& rule = *rules.front();
  BAYSWAP_TRY(const auto places,
              find_places(scan.store, rule.path, rule.platform, scan.view.options().on_error));
  for (const Place& place : places) {
    if (place.info.kind != FileInfo::Kind::file) continue;
    HeldSave save = SaveList::begin(rule, place);
    save.kind = SaveKind::single;
    save.health = Health::damaged;
    const auto bytes = scan.store.read(place.path);
    const auto read = bytes ? single_save_from(*bytes) : tl::unexpected(bytes.error());
    if (read) {
      const CardEntry entry = describe(*read);
      save.health = Health::good;
      save.entry = entry.name;
      save.label = entry.title;
      save.facts.game.code = entry.code;
      save.facts.game.region = entry.region;
      save.thumbnail = true;
    } else {
      save.health_note = read.error().message;
    }
    scan.list.finish(std::move(save));
  }
  return {};
}

Result<Content> load_single(BayView& view, const HeldSave& save, const Hints& /*hints*/,
                            IssueList& /*issues*/) {
  Content content;
  content.kind = Content::Kind::item;
  BAYSWAP_TRY(const Blob bytes, view.store().read(save.path));
  auto item = single_save_from(bytes);
  if (!item) {
    item.error().message = fmt::format("{}: {}", view.store().display_path(save.path), item.error().message);
    return tl::unexpected(std::move(item.error()));
  }
  content.item = *std::move(item);
  return content;
}

Result<void> merge_single(MergeContext& context, std::span<Arrival* const> arrivals) {
  Arrival& arrival = *arrivals.front();
  BAYSWAP_TRY(const CardSave save, as_item(context.view, arrival));
  const std::string& path = arrival.spots.front().path;
  if (extension_of(path) == ".parcel")
    return place_file(context, arrival, path, to_parcel(save), "as a parcel");
  BAYSWAP_TRY(const Blob bytes, to_single_save(save));
  return place_file(context, arrival, path, bytes, "its directory entry and its data");
}

}  // namespace

const Keeper single_keeper{scan_single, load_single, whole_spot, merge_single, false, true};

}  // namespace bayswap
