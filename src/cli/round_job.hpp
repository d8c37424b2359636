// One round of sync, without a word of what is shown.
#pragma once

#include <functional>
#include <map>

#include "cli/commands.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {

/// What a round found and did.
struct RoundReport {
  DeviceInfo device;
  std::vector<SyncRow> rows;
  std::vector<std::pair<std::string, std::string>> away;  // bays that were left as they are, and why
  std::map<std::string, std::string> busy;                // bays that may not be written, and why
  std::vector<std::string> planned;                       // bays that something is to be written into
  std::optional<Error> unreachable;                       // why the sync folder is not reached
  Exchanged exchanged;
  std::size_t unsent = 0;        // versions that the sync folder does not have yet
  std::size_t waiting_away = 0;  // newer saves for bays that are away
  bool is_unlooked = false;      // a bay that was meant was not looked at, or none was at all
  std::string stopped_by;        // the bay that lost more than a third at once: nothing was written
  bool done = false;             // it went to its end

  [[nodiscard]] std::size_t count(SyncRow::Outcome outcome) const;
  /// Saves that are, or would be, written or removed.
  [[nodiscard]] std::size_t to_write() const;
  /// The exit code of a round: not done is what waits, was refused, is in conflict, or did not get to the
  /// others or from them.
  [[nodiscard]] int exit_code() const;
};

/// Makes one. `may_write`: asked once where something is to be written; if it says no, the round ends there.
[[nodiscard]] Result<RoundReport> make_round(const Globals& globals, const SyncOptions& options,
                                             const std::function<bool(const RoundReport&)>& may_write);

}  // namespace bayswap::cli
