// Versions from the logbook, back in their place or into another bay.
#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include "base/path.hpp"
#include "base/try.hpp"
#include "carry/origin.hpp"
#include "carry/same_cartridge.hpp"
#include "carry/version_store.hpp"

namespace bayswap {

Result<Plan> plan_restore(Logbook& logbook, std::int64_t version, bool before, Store& files,
                          const std::vector<std::string>& bay_roots) {
  BAYSWAP_TRY(const Entry entry, logbook.entry(version));
  Plan plan;
  plan.kind = EntryKind::restore;
  plan.game = entry.game;
  plan.from_bay = entry.to_bay;
  plan.to_bay = entry.to_bay;
  plan.reason =
      fmt::format("restore version {}{}: {}", version, before ? ", as it was before" : "", entry.reason);
  BAYSWAP_CHECK(check_origin(entry, files, bay_roots, plan));
  for (const LoggedChange& logged : entry.changes) {
    const auto& wanted = before ? logged.before : logged.after;
    FileChange change{logged.path, {}, {}};
    BAYSWAP_TRY(change.before, files.read_if_there(logged.path));
    if (wanted) {
      BAYSWAP_TRY(change.after, logbook.bytes(*wanted));
    }
    change.modified = before ? logged.before_modified : logged.after_modified;
    if (change.before == change.after) continue;
    BAYSWAP_CHECK(check_same_cartridge(logbook, files, logged.path, change.before, version, plan));
    const std::string shown = files.display_path(logged.path);
    if (change.before)
      plan.steps.push_back({"keep",
                            fmt::format("{} ({} bytes) goes into the logbook", shown, change.before->size()),
                            "so that this can be undone"});
    if (change.after) {
      plan.steps.push_back({"place", fmt::format("{} ({} bytes)", shown, change.after->size()),
                            fmt::format("as it was {} entry {}", before ? "before" : "after", version)});
      plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
    } else {
      plan.steps.push_back(
          {"remove", shown,
           fmt::format("nothing was there {} entry {}", before ? "before" : "after", version)});
    }
    plan.changes.push_back(std::move(change));
  }
  if (plan.changes.empty())
    plan.issues.push_back({PlanIssue::Level::note, IssueCode::same,
                           "the files hold that version already: there is nothing to do", ""});
  return plan;
}

Result<std::unique_ptr<Store>> store_of_version(Logbook& logbook, std::int64_t version, bool before,
                                                const Bay& bay, Store& below) {
  BAYSWAP_TRY(const Entry entry, logbook.entry(version));
  const std::string root = normalized(below.absolute_path("."));
  auto store = std::make_unique<VersionStore>(below);
  for (const LoggedChange& logged : entry.changes) {
    if (!logged.path.starts_with(root + "/")) continue;
    std::optional<Blob> bytes;
    if (const auto& wanted = before ? logged.before : logged.after) {
      BAYSWAP_TRY(bytes, logbook.bytes(*wanted));
    }
    store->set(logged.path.substr(root.size() + 1), std::move(bytes),
               (before ? logged.before_modified : logged.after_modified).value_or(entry.begun));
  }
  if (store->is_plain())
    return fail(ErrorCode::bad_usage, fmt::format("version {} is of no save in {}", version, bay.name),
                "look which versions there are, and of which bay", {Remedy::Kind::show_logbook, {}});
  return std::unique_ptr<Store>(std::move(store));
}

}  // namespace bayswap
