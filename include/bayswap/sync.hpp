// A round of keeping bays in step: changes become versions, and newer versions from elsewhere are written
// here (docs/sync.md). Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/replica.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How a save can be lost. A loss is asked about, and never spread unasked.
enum class Loss {
  deleted,  // it does not exist any more
  empty,    // it contains only 00 or FF
  damaged   // it can't be read, or is not a save
};
[[nodiscard]] std::string_view to_text(Loss loss);

/// What a round found or did for one save in one bay.
struct SyncRow {
  enum class Outcome {
    noted,     // it changed, and became a version
    renamed,   // it is the same save under another name
    written,   // a newer version is written here
    removed,   // it was deleted elsewhere, and is removed here
    waits,     // it is in use, or was changed in the last seconds
    asked,     // the user has to decide
    conflict,  // two versions, neither of which descends from the other
    failed     // it could not be read, or does not fit here
  };
  Outcome outcome{};
  std::string save;  // what people call it
  std::string bay;   // empty: no particular one
  Platform platform{};
  std::string path;                   // below the bay's root; may be empty
  std::string why;                    // a sentence
  std::optional<Loss> loss;           // of asked
  std::optional<VersionId> version;   // the one noted, or written
  std::optional<std::size_t> plan;    // index of the plan that writes it
  std::optional<std::int64_t> entry;  // of the logbook, once it has run
};
[[nodiscard]] std::string_view to_text(SyncRow::Outcome outcome);

/// A save with two or more versions, none of which descends from another.
struct SyncConflict {
  std::string save;
  Platform platform{};
  struct Side {
    Version version;
    std::string made_on;            // the device that played it; it may have been chosen on another one
    std::vector<std::string> bays;  // of this device that contain it
    bool blank = false;
    double like_ancestor = 0;        // share of bytes equal to the last common version; 0 if there is none
    std::optional<Content> content;  // nothing if it was deleted, or its bytes are not here
  };
  std::vector<Side> sides;          // by device and id
  std::optional<Version> ancestor;  // the last common version
  std::string difference;           // between the first two, in words; empty if their bytes are not here
};

struct SyncRequest {
  CarryRequest carry;                     // what is known of games, titles, chips and accounts
  const StateMaps* state_maps = nullptr;  // nullptr: the built-in ones
  std::set<Loss> accept;                  // losses that are intended
  bool accept_many = false;  // even if more than a third of a bay's saves are gone or empty at once
  /// Returns why the files (absolute paths) can't be read or written now; nothing if no program is using
  /// them.
  std::function<std::optional<std::string>(const std::vector<std::string>& paths)> in_use;
  /// Returns why nothing may be written into the bay now; nothing if its emulator is not running.
  std::function<std::optional<std::string>(const Bay& bay)> bay_in_use;
  std::int64_t now = 0;  // seconds since 1970
};

/// A bay that takes part in a round. What it points to must outlive the round.
struct SyncBay {
  const Bay* bay = nullptr;
  Store* store = nullptr;
  ViewOptions options;
};

/// A round. Call look() for each bay, then exchange(), then plan() and run() for each bay. If it is
/// interrupted, the next round continues. `own` is the replica's store. Not for several threads at once.
class SyncRound {
 public:
  [[nodiscard]] static Result<SyncRound> begin(Replica& replica, Store& own, SyncRequest request);
  SyncRound(SyncRound&&) noexcept;
  SyncRound& operator=(SyncRound&&) = delete;
  SyncRound(const SyncRound&) = delete;
  SyncRound& operator=(const SyncRound&) = delete;
  ~SyncRound();

  /// Notes what changed in the bay since the last look; does not list its saves if nothing changed and
  /// nothing was pending. `logbook`, if not nullptr shows what other commands wrote there, and stores the
  /// earlier bytes of changed saves. Fails if the bay can't be read completely: nothing of it is used then.
  /// Fails with `not_found` if its root does not exist: its saves stay as last seen.
  [[nodiscard]] Result<void> look(const Catalog& catalog, const SyncBay& bay, Logbook* logbook);
  /// Returns the bay that lost more than a third of its saves at once; empty if there is none. If there is
  /// one, nothing is planned.
  [[nodiscard]] const std::string& stopped_by() const { return stopped_by_; }
  /// Saves what look() noted, and exchanges versions if `sync folder` is not nullptr.
  [[nodiscard]] Result<Exchanged> exchange(SyncFolder* sync_folder);
  /// Plans to write newer versions into a bay that was looked at. Returns the plans; rows refer to them by
  /// index. Stores all versions of a save in conflict in `logbook`, in the form they would have in this bay,
  /// if it is not nullptr.
  [[nodiscard]] Result<std::vector<Plan>> plan(const std::string& bay, SyncFolder* sync_folder,
                                               Logbook* logbook);
  /// Runs the plans of one bay, one entry each, in groups that share their syncs, and reads every save back.
  /// Asks `in_use` again before each group. Restores a save that does not read back as written, unless it is
  /// a file on a disk that a program wrote since. `run_some` runs one group; by default it is run_together().
  [[nodiscard]] Result<void> run(const std::string& bay, const std::vector<Plan>& plans, Logbook& logbook,
                                 const PlansRunner& run_some = {});

  [[nodiscard]] const std::vector<SyncRow>& rows() const { return rows_; }
  /// Returns all conflicts. Compares the bytes of their sides if these are here or at the sync folder, which
  /// may be nullptr.
  [[nodiscard]] Result<std::vector<SyncConflict>> conflicts(const Catalog& catalog, SyncFolder* sync_folder);

  struct Impl;

 private:
  explicit SyncRound(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
  std::vector<SyncRow> rows_;
  std::string stopped_by_;
};

/// Returns the saves that a text can mean: a title, a label, a code, a title id, a ROM's stem, a version's
/// id. Returns none if nothing matches.
[[nodiscard]] std::vector<const Lineage*> find_lineages(const History& history, const std::string& what);

/// What a round left open: rows that wait, are asked about, are in conflict or have failed.
struct OpenRows {
  std::int64_t since = 0;  // seconds since 1970; of the first round that left the same rows open
  std::vector<SyncRow> rows;
};
/// Returns what the last round left open; empty if there was none.
[[nodiscard]] Result<OpenRows> open_rows(Store& own);
/// Keeps the open ones of a round's rows. Writes nothing if they are the same as before.
[[nodiscard]] Result<void> keep_open_rows(Store& own, const std::vector<SyncRow>& rows, std::int64_t now);

/// A save of a bay that takes no part in sync.
struct LeftOut {
  Platform platform{};
  std::string save;  // what people call it
  std::string path;  // below the bay's root
  enum class Why {
    kind,          // the bay file does not name its kind
    pattern,       // a pattern of `leave` fits its path
    large,         // over `max_bytes`
    misplaced,     // the bay's own programs do not read it
    unknown_state  // no state map describes it, and the bay file does not say what writes it
  };
  Why why{};
  std::string reason;  // a sentence
};
[[nodiscard]] std::string_view to_text(LeftOut::Why why);
/// Returns what of a bay takes no part, by what lies there now; empty if the bay as a whole takes none. Reads
/// no save but states whose bay file has them take part. `maps` may be nullptr: the built-in ones. Fails as
/// BayView::saves.
[[nodiscard]] Result<std::vector<LeftOut>> left_out(BayView& view, const StateMaps* maps);

/// The state of a bay of this device, from its last look.
struct BayStatus {
  std::string bay;
  std::size_t saves = 0;
  std::size_t waiting = 0;  // with a newer version to be written
  std::size_t lost = 0;     // with a loss to decide about
};
[[nodiscard]] Result<std::vector<BayStatus>> bay_status(Store& own, const History& history);

/// Reverts an unintended loss: the next round writes the newest version to the places of that save that are
/// deleted, empty or damaged. Returns their number.
[[nodiscard]] Result<std::size_t> bring_back(Store& own, const History& history, const Lineage& lineage);

/// Resolves the conflicts of the saves in these files (paths below the bay's root) in favour of what the
/// files contain. Returns how many there were.
[[nodiscard]] Result<std::size_t> prefer_places(Replica& replica, Store& own, const std::string& bay,
                                                const std::vector<std::string>& paths, std::int64_t now);

/// Resolves a conflict: makes a version with the content of `keep` that descends from all sides. Returns its
/// id.
[[nodiscard]] Result<VersionId> resolve_conflict(Replica& replica, const Lineage& lineage,
                                                 const Version& keep, std::int64_t now);

}  // namespace bayswap
BAYSWAP_EXPORT_END
