// Saves that only the console can read: carried whole.
#include "base/try.hpp"
#include "bay/keeper.hpp"

namespace bayswap {
namespace {

Result<void> scan_encrypted(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  const PlatformRule& rule = *rules.front();
  BAYSWAP_TRY(const auto places,
              find_places(scan.store, rule.path, rule.platform, scan.view.options().on_error));
  for (const Place& place : places) {
    if (place.info.kind != FileInfo::Kind::file) continue;
    HeldSave save = SaveList::begin(rule, place);
    save.kind = SaveKind::encrypted;
    save.health = place.info.size_bytes == 0 ? Health::empty : Health::encrypted;
    save.health_note = "only the console it belongs to can read it";
    scan.list.finish(std::move(save));
  }
  return {};
}

Result<Content> load_encrypted(BayView& view, const HeldSave& save, const Hints& /*hints*/,
                               IssueList& /*issues*/) {
  Content content;
  content.kind = Content::Kind::encrypted;
  BAYSWAP_TRY(content.whole, view.store().read(save.path));
  return content;
}

Result<void> merge_encrypted(MergeContext& context, std::span<Arrival* const> arrivals) {
  Arrival& arrival = *arrivals.front();
  if (arrival.content.kind != Content::Kind::encrypted) return cannot_become(context.view, arrival);
  return place_file(context, arrival, arrival.spots.front().path, *arrival.content.whole,
                    "carried whole: only the console can read it");
}

}  // namespace

const Keeper encrypted_keeper{scan_encrypted, load_encrypted, whole_spot, merge_encrypted, false, false};

}  // namespace bayswap
