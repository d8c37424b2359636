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
      if (entry.modified) save.modified = entry.modified;
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
  // A directory entry has the numbers of a card's blocks as well, which are none of the save.
  if (const auto there = context.view.store().read_if_there(path); there && *there)
    if (const auto present = single_save_from(**there); present && present->same_content(save)) {
      arrival.brought = true;
      return {};
    }
  if (extension_of(path) == ".parcel")
    return place_file(context, arrival, path, to_parcel(save), "as a parcel");
  BAYSWAP_TRY(const Blob bytes, to_single_save(save));
  return place_file(context, arrival, path, bytes, "its directory entry and its data");
}

// A file that holds that very save, whatever it is called.
Result<std::vector<Spot>> single_spot(BayView& view, Arrival& arrival) {
  BAYSWAP_TRY(const auto there, view.saves(BayView::Depth::names));
  if (arrival.content.item)
    for (const HeldSave& save : *there)
      if (save.kind == SaveKind::single &&
          saves_as(save.rule->platform) == saves_as(arrival.rule->platform) &&
          save.entry == arrival.content.item->name)
        return std::vector<Spot>{Spot{save.path}};
  return whole_spot(view, arrival);
}

}  // namespace

const Keeper single_keeper{scan_single, load_single, single_spot, merge_single, false, true};

}  // namespace bayswap
