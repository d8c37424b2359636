// The versions of a save that sync knows, beside the entries of the logbook.
#pragma once

#include <bayswap/timeline.hpp>

#include "cli/output.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {

/// As long as an id is shown.
inline constexpr std::size_t shown_id = 8;
[[nodiscard]] inline std::string short_id(const VersionId& id) {
  return id.hex().substr(0, shown_id);
}

/// The saves of these words: named by them, or else with them in their names.
[[nodiscard]] std::vector<const Lineage*> lineages_called(const History& history, const std::string& what);
/// The one save that the words mean, of those that sync knows; nullptr: none. Fails with `bad_usage` if they
/// mean several.
[[nodiscard]] Result<const Lineage*> lineage_meant(const History& history, const std::string& what);
/// The version whose id begins so. Fails with `not_found`, and `bad_usage` if it is the beginning of several.
[[nodiscard]] Result<const Version*> version_called(const Lineage& lineage, const std::string& id,
                                                    const std::string& what);
/// Takes in what is new at the sync folder, where it can be reached; changes nothing there.
void look_for_news(SyncJob& job);
/// Prints each version of the save: when, where, and what differs from the one before, as far as the bytes
/// are on this device. `entries`: the logbook's about the same save.
void print_versions(SyncJob& job, const Catalog& catalog, const Lineage& lineage,
                    const std::vector<Entry>& entries, SheetChanges& sheets);
[[nodiscard]] Json to_json(SyncJob& job, const TimedVersion& version);

}  // namespace bayswap::cli
