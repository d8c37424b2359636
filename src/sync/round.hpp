// What the steps of a round share.
#pragma once

#include <bayswap/sync.hpp>

#include "bay/tracing_store.hpp"
#include "carry/resolve.hpp"
#include "sync/bundle.hpp"
#include "sync/place_book.hpp"

namespace bayswap {

/// The save's key within its bay, as one text.
[[nodiscard]] std::string key_text(const HeldSave& save);
/// Names, sizes and times of the save's files, and of those that have none (`has_no_time`) the bytes: the
/// same again, and the save need not be read.
[[nodiscard]] Result<std::string> stamp_of(BayView& view, const HeldSave& save, bool* has_no_time = nullptr);
/// Absolute paths of the save's files.
[[nodiscard]] std::vector<std::string> paths_of(BayView& view, const HeldSave& save);
[[nodiscard]] std::string label_of(const HeldSave& save);
[[nodiscard]] Version::Kind kind_of(const HeldSave& save);
/// What is known of the save's chips before it is read.
[[nodiscard]] Hints hints_for(BayView& view, const HeldSave& save, const SyncRequest& request);

/// A version on its way into a place.
struct Writing {
  std::size_t plan = 0;
  std::size_t row = 0;
  VersionId version;
  std::string content;    // the version's digest; empty: the save is removed
  std::string path;       // below the bay's root
  std::string entry;      // on a card
  std::string key;        // of the place it had before; empty: none
  bool is_plain = false;  // a state or configuration
};

struct SyncRound::Impl {
  Impl(Replica& replica_in, Store& own_in, SyncRequest request_in, PlaceBook book)
      : replica(replica_in), own(own_in), request(std::move(request_in)), places(std::move(book)) {}

  Replica& replica;
  Store& own;
  SyncRequest request;
  PlaceBook places;
  std::vector<SyncRow>* rows = nullptr;

  struct BayInRound {
    const Catalog* catalog = nullptr;
    SyncBay bay;
    std::unique_ptr<TracingStore> traced;
    std::unique_ptr<BayView> view;  // made when it is needed
    Digest rules;
    bool is_at_rest = false;  // as it was, and nothing was open
    bool is_settled = true;
  };
  std::map<std::string, BayInRound> bays;
  [[nodiscard]] static BayView& view_of(BayInRound& bay);

  /// In each bay: versions whose save must not be written there in this round.
  std::map<std::string, std::set<VersionId>> blocked;
  std::map<std::string, std::set<std::string>> blocked_paths;
  /// That version's save, even if it was pruned since.
  void block(const std::string& bay, const VersionId& version);
  std::map<std::string, std::vector<Writing>> writings;  // by bay

  SyncRow& row(SyncRow::Outcome outcome, const std::string& bay, Platform platform, std::string save,
               std::string path, std::string why) const {
    SyncRow one;
    one.outcome = outcome;
    one.bay = bay;
    one.platform = platform;
    one.save = std::move(save);
    one.path = std::move(path);
    one.why = std::move(why);
    rows->push_back(std::move(one));
    return rows->back();
  }
};

/// Whether its last word everywhere is that it is gone.
[[nodiscard]] bool is_deleted(const Lineage& lineage);
/// After others were heard: saves that were new here, with bytes that were deleted elsewhere, become children
/// of that deletion. True if there were any.
[[nodiscard]] Result<bool> settle_unheard(SyncRound::Impl& round);
/// Takes a save out of the bay; `deletion` is the version that says so.
[[nodiscard]] Result<Plan> plan_removal(BayView& view, const HeldSave& save, const Version& deletion);
/// One look at one bay; see SyncRound::look.
[[nodiscard]] Result<std::string> look_at(SyncRound::Impl& round, BayView& view, Logbook* logbook);
/// A version as a save from outside of the bay, to be planned into it.
[[nodiscard]] SourceSave source_of(const Version& version, Bundle bundle, const std::set<IssueCode>& accept);
[[nodiscard]] Result<std::vector<Plan>> plan_into(SyncRound::Impl& round, BayView& view,
                                                  SyncFolder* sync_folder, Logbook* logbook);
[[nodiscard]] Result<void> run_plans(SyncRound::Impl& round, BayView& view, const std::vector<Plan>& plans,
                                     Logbook& logbook, const PlansRunner& run_some);

}  // namespace bayswap
