#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include "base/try.hpp"

namespace bayswap {

Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files) {
  if (!id) {
    BAYSWAP_TRY(const auto newest, logbook.newest());
    if (!newest)
      return fail(ErrorCode::bad_usage, "there is nothing to undo: the logbook is empty",
                  "`bayswap carry` fills it");
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
  for (const LoggedChange& logged : entry.changes) {
    FileChange change{logged.path, {}, {}};
    BAYSWAP_TRY(const auto info, files.stat(logged.path));
    if (info) {
      BAYSWAP_TRY(change.before, files.read(logged.path));
    }
    if (logged.before) {
      BAYSWAP_TRY(change.after, logbook.bytes(*logged.before));
    }
    const std::string shown = files.shown(logged.path);
    if (change.before == change.after) continue;
    const bool as_left =
        change.before ? logged.after && sha256(change.before->view()) == *logged.after : !logged.after;
    if (!as_left)
      plan.dangers.push_back(
          {Danger::Level::warning, "changed-since",
           fmt::format("{} has changed since entry {}: somebody may have played on", shown, entry.id),
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
