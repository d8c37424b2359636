// One round of keeping bays in step: what changed becomes versions, what is newer elsewhere is written here
// (docs/sync.md).
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/replica.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// What can have happened to a save that was there: asked about, and never followed unasked.
enum class Loss {
  deleted,  // it is not there any more
  empty,    // it holds only 00 or FF
  damaged   // it can't be read, or holds no save
};
[[nodiscard]] std::string_view to_text(Loss loss);

/// What a round found of one save in one bay, or did with it.
struct SyncRow {
  enum class Outcome {
    noted,     // it changed, and is a version now
    renamed,   // it has another name, and is the same save
    written,   // a newer version goes here
    removed,   // it was deleted elsewhere, and is here
    waits,     // it is in use, or was changed in the last seconds
    asked,     // the user's word is needed
    conflict,  // two versions of which neither came from the other
    failed     // it could not be read, or does not fit here
  };
  Outcome outcome{};
  std::string save;  // what people call it
  std::string bay;   // empty: none in particular
  Platform platform{};
  std::string path;                   // below the bay's root; may be empty
  std::string why;                    // a sentence
  std::optional<Loss> loss;           // of asked
  std::optional<VersionId> version;   // the one that was noted, or that is written
  std::optional<std::size_t> plan;    // index of the plan that writes it
  std::optional<std::int64_t> entry;  // of the logbook, once it has run
};
[[nodiscard]] std::string_view to_text(SyncRow::Outcome outcome);

/// A save with two or more versions of which neither came from the other.
struct SyncConflict {
  std::string save;
  Platform platform{};
  struct Side {
    Version version;
    std::vector<std::string> bays;  // of this device that hold it
    bool blank = false;
    double like_ancestor = 0;  // share of bytes that are as in the last common version; 0 if there is none
    std::optional<Content> content;  // nothing if it was deleted, or its bytes are not here
  };
  std::vector<Side> sides;          // by device and id
  std::optional<Version> ancestor;  // the last common version
  std::string difference;           // between the first two, in words; empty if their bytes are not here
};

struct SyncRequest {
  CarryRequest carry;                     // what is known of games, titles, chips and accounts
  const StateMaps* state_maps = nullptr;  // nullptr: the built-in ones
  std::set<Loss> accept;                  // losses that are meant
  bool accept_many = false;  // even if more than a third of a bay's saves are gone or empty at once
  /// Why the files (absolute paths) can't be read or written now; nothing if no program is using them.
  std::function<std::optional<std::string>(const std::vector<std::string>& paths)> in_use;
  /// Why nothing in the bay may be written now; nothing if its emulator does not run.
  std::function<std::optional<std::string>(const Bay& bay)> bay_in_use;
  std::int64_t now = 0;  // seconds since 1970
};

/// A bay that takes part in a round. All of it must outlive the round.
struct SyncBay {
  const Bay* bay = nullptr;
  Store* store = nullptr;
  ViewOptions options;
};

/// One round. Its calls go in this order: look at each bay, exchange, plan, and for each bay run. Whatever it
/// stops after, the next round goes on from there. `own`: where the replica is, too. Not for several threads.
class SyncRound {
 public:
  [[nodiscard]] static Result<SyncRound> begin(Replica& replica, Store& own, SyncRequest request);
  SyncRound(SyncRound&&) noexcept;
  SyncRound& operator=(SyncRound&&) = delete;
  SyncRound(const SyncRound&) = delete;
  SyncRound& operator=(const SyncRound&) = delete;
  ~SyncRound();

  /// Notes what changed in the bay since it was last looked at; where nothing did, and nothing was open then,
  /// its saves are not even listed. `logbook`, if not nullptr, tells what was
  /// written there by other commands, and keeps what a changed save was before. Fails if the bay can't be
  /// read whole: then nothing of it counts. A bay whose root does not exist is `not_found`: its saves stay
  /// as they were last seen.
  [[nodiscard]] Result<void> look(const Catalog& catalog, const SyncBay& bay, Logbook* logbook);
  /// The bay that lost more than a third of its saves at once; empty if there is none. Then nothing is
  /// planned.
  [[nodiscard]] const std::string& stopped_by() const { return stopped_by_; }
  /// Makes what look() noted count, and exchanges versions; without a lighthouse only the former.
  [[nodiscard]] Result<Exchanged> exchange(Lighthouse* lighthouse);
  /// Plans what is newer into a bay that was looked at. Returns the plans, which rows name by their index. Of
  /// a save in conflict all versions go into `logbook`, in the form they would have in this bay; nullptr:
  /// they do not.
  [[nodiscard]] Result<std::vector<Plan>> plan(const std::string& bay, Lighthouse* lighthouse,
                                               Logbook* logbook);
  /// Runs the plans of one bay, one entry each, and reads every save again. One that does not read as it
  /// should is put back. `run_one` as in run_batch.
  [[nodiscard]] Result<void> run(const std::string& bay, const std::vector<Plan>& plans, Logbook& logbook,
                                 const PlanRunner& run_one = {});

  [[nodiscard]] const std::vector<SyncRow>& rows() const { return rows_; }
  /// All conflicts, with their sides' bytes compared as far as these are here or at the lighthouse.
  [[nodiscard]] Result<std::vector<SyncConflict>> conflicts(const Catalog& catalog, Lighthouse* lighthouse);

  struct Impl;

 private:
  explicit SyncRound(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
  std::vector<SyncRow> rows_;
  std::string stopped_by_;
};

/// The saves that people could mean by these words: a title, a label, a code, a title id, a ROM's stem, a
/// version's id. Empty if there is none.
[[nodiscard]] std::vector<const Lineage*> find_lineages(const History& history, const std::string& what);

/// What a bay of this device holds, as it was last looked at.
struct BayStatus {
  std::string bay;
  std::size_t saves = 0;
  std::size_t behind = 0;  // of which a newer version waits
  std::size_t lost = 0;    // that are asked about
};
[[nodiscard]] Result<std::vector<BayStatus>> bay_status(Store& own, const History& history);

/// The answer to a loss that was not meant: the next round writes the newest version into the places of that
/// save that are gone, empty or damaged. Returns how many there are.
[[nodiscard]] Result<std::size_t> bring_back(Store& own, const Lineage& lineage);

/// Ends the conflicts of the saves that are in these files (below the root of the bay): what is there goes
/// on. Returns how many conflicts there were.
[[nodiscard]] Result<std::size_t> prefer_places(Replica& replica, Store& own, const std::string& bay,
                                                const std::vector<std::string>& paths, std::int64_t now);

/// Ends a conflict: the version `keep` goes on, and came from all the others. Returns the new version.
[[nodiscard]] Result<VersionId> resolve_conflict(Replica& replica, const Lineage& lineage,
                                                 const Version& keep, std::int64_t now);

}  // namespace bayswap
BAYSWAP_EXPORT_END
