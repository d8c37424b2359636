// What a save was at a time, out of the logbook and of the history of sync, and how it comes back. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/replica.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A version, and from when on it was the save, in seconds since 1970: its file's time where that can be,
/// else the time at which the version was made, by its device's clock. A file that was put back has a time
/// before that of the version it replaced.
struct TimedVersion {
  const Version* version = nullptr;
  std::int64_t since = 0;
};
/// Returns the versions of a lineage, those that others were made from last; of others the newest first.
[[nodiscard]] std::vector<TimedVersion> newest_first(const Lineage& lineage);

/// A file as it was at a time.
struct PastFile {
  std::string path;              // absolute
  std::int64_t since = 0;        // from when on it was so, in seconds since 1970, as far as that is known
  std::optional<Digest> digest;  // nothing: there was no file
  std::optional<std::int64_t> modified;
  std::int64_t entry = 0;  // of the logbook
  bool before = false;     // as it was before that entry
};
/// Returns the files of `entries` as they were at `moment`, in seconds since 1970. `entries`: those of one
/// save, in any order. Leaves out files of which nothing is known as early as that.
[[nodiscard]] std::vector<PastFile> files_at(const std::vector<Entry>& entries, std::int64_t moment);
/// Returns the earliest time of which files_at() knows something; nothing if there are no entries.
[[nodiscard]] std::optional<std::int64_t> earliest_of(const std::vector<Entry>& entries);

/// Plans to restore the files of `entries`, those of one save, as they were at `moment`; a file that a
/// program has written since its last entry, and before `moment`, stays. Otherwise like plan_restore. Fails
/// with `not_found` if nothing is known as early as that, or there was no save.
[[nodiscard]] Result<Plan> plan_restore_at(Logbook& logbook, const std::vector<Entry>& entries,
                                           std::int64_t moment, Store& files,
                                           const std::vector<std::string>& bay_roots);

/// Returns the bays of this device in which a save of that lineage was seen when they were last looked at,
/// each with the path of the save below the bay's root. `own` is the replica's store.
[[nodiscard]] Result<std::vector<std::pair<std::string, std::string>>> places_of(Store& own,
                                                                                 const Lineage& lineage);
/// Returns what a version contains. `sync folder` may be nullptr: only what is on this device then. Fails as
/// Replica::bundle does, and with `not_found` for a deletion.
[[nodiscard]] Result<Content> content_of(Replica& replica, const Version& version, SyncFolder* sync_folder,
                                         const Catalog& catalog);
/// Returns a description of what differs: bytes and places by chip or file; empty if nothing does.
[[nodiscard]] std::string difference_in_words(const Content& first, const Content& second);

/// Plans a version of the history into a bay, as a restore. `bundle` is what Replica::bundle returned for it;
/// `place` is the path of the save in that bay, if it has it, from places_of. Fails with `unsupported` if the
/// version is a deletion, or the bay keeps no such save.
[[nodiscard]] Result<Plan> plan_version(BayView& to, const Version& version, const Blob& bundle,
                                        const std::string& place, const CarryRequest& request,
                                        const StateMaps* maps = nullptr);

}  // namespace bayswap
BAYSWAP_EXPORT_END
