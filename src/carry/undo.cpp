#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/origin.hpp"

namespace bayswap {

Result<void> check_origin(const Entry& entry, Store& files, const std::vector<std::string>& bay_roots,
                          Plan& plan) {
  if (!entry.root.empty()) {
    files.stay_within(entry.root);
    plan.root = entry.root;
    BAYSWAP_TRY(const auto root, files.stat(entry.root));
    if (!root)
      return fail(ErrorCode::not_found, fmt::format("{} does not exist", entry.root),
                  "plug in the medium it is on");
  }
  for (const LoggedChange& change : entry.changes) {
    if (files.absolute_path(change.path) != change.path)
      return fail(
          ErrorCode::damaged,
          fmt::format("entry {} names '{}', which is not an absolute path", entry.id, printable(change.path)),
          "nothing was changed; run `bayswap logbook check`");
    if (is_foreign(entry) && std::ranges::none_of(bay_roots, [&](const std::string& root) {
          return change.path.starts_with(root == "/" ? root : root + "/");
        }))
      plan.add({PlanIssue::Level::refusal, "foreign-path",
                fmt::format("entry {} was made on another device, and {} is in no bay of this one", entry.id,
                            printable(change.path)),
                "add a bay for that folder first, if the logbook is yours"});
  }
  if (is_foreign(entry))
    plan.add({PlanIssue::Level::warning, "foreign-entry",
              fmt::format("entry {} was made on another device{}", entry.id,
                          entry.device.empty() ? "" : fmt::format(" ({})", printable(entry.device))),
              "look at the files it names before you go ahead"});
  return {};
}

Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files,
                       const std::vector<std::string>& bay_roots) {
  if (!id) {
    BAYSWAP_TRY(const auto newest, logbook.newest());
    if (!newest)
      return fail(ErrorCode::bad_usage, "there is nothing to undo: the logbook has no entry of this device",
                  "`bayswap logbook` shows all entries; name the one you mean");
    id = newest->id;
  }
  BAYSWAP_TRY(const Entry entry, logbook.entry(*id));
  if (entry.state == EntryState::cancelled)
    return fail(ErrorCode::bad_usage,
                fmt::format("entry {} changed nothing, so there is nothing to undo", *id),
                "`bayswap logbook` shows what was done");
  Plan plan;
  plan.kind = EntryKind::undo;
  plan.game = entry.game;
  plan.from_bay = entry.to_bay;
  plan.to_bay = entry.to_bay;
  plan.undoes = entry.id;
  plan.reason = fmt::format("undo of {}: {}", entry.id, entry.reason);
  BAYSWAP_CHECK(check_origin(entry, files, bay_roots, plan));
  for (const LoggedChange& logged : entry.changes) {
    FileChange change{logged.path, {}, {}};
    BAYSWAP_TRY(change.before, files.read_if_there(logged.path));
    if (logged.before) {
      BAYSWAP_TRY(change.after, logbook.bytes(*logged.before));
    }
    const std::string shown = files.display_path(logged.path);
    if (change.before == change.after) continue;
    const bool as_left =
        change.before ? logged.after && sha256(change.before->view()) == *logged.after : !logged.after;
    if (!as_left)
      plan.issues.push_back(
          {PlanIssue::Level::warning, "changed-since",
           fmt::format("{} has changed since entry {}: it may have been played on", shown, entry.id),
           "its present bytes are kept in the logbook, so this can be undone too"});
    if (change.before)
      plan.steps.push_back({"keep",
                            fmt::format("{} ({} bytes) goes into the logbook", shown, change.before->size()),
                            "so that this undo can itself be undone"});
    if (change.after) {
      plan.steps.push_back({"place", fmt::format("{} ({} bytes)", shown, change.after->size()),
                            fmt::format("what was there before entry {}", entry.id)});
      plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
    } else {
      plan.steps.push_back({"remove", shown, fmt::format("nothing was there before entry {}", entry.id)});
    }
    plan.changes.push_back(std::move(change));
  }
  return plan;
}

}  // namespace bayswap
