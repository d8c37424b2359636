#include <bayswap/carry.hpp>
#include <bayswap/cart_store.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <set>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

// Puts back what was changed, the last first. Returns the error that led here, with what to do next.
Error put_back(Store& store, const std::vector<FileChange>& changes, const std::vector<FileChange>& as_logged,
               const std::vector<bool>& placed, Error error, Logbook& logbook, std::int64_t id) {
  std::vector<std::string> left;
  bool torn = false;
  for (std::size_t i = changes.size(); i-- > 0;) {
    if (!placed[i]) continue;
    const auto now = store.read_if_there(changes[i].path);
    if (now && *now == changes[i].before) continue;
    // Bytes that are neither the old nor the new ones are another program's and kept nowhere: they stay.
    const std::vector<FileChange> back{
        {changes[i].path, changes[i].after, changes[i].before, as_logged[i].before_modified}};
    std::vector<bool> done;
    const bool stays = store.file_traits(changes[i].path).may_tear;
    if (stays || !now || *now != changes[i].after || !store.apply(back, done))
      left.push_back(store.absolute_path(changes[i].path));
    torn = torn || store.file_traits(changes[i].path).may_tear;
  }
  if (torn) {
    // Stays open: every command says so until the write goes on, or is taken back.
    error.remedy = {Remedy::Kind::resume_cart, {std::to_string(id)}};
    error.hint = "the old and the new bytes are safe in the logbook";
    return error;
  }
  const auto logged = left.empty() ? logbook.finish(id, EntryState::cancelled) : logbook.cut_short(id, left);
  if (!left.empty() || !logged) {
    error.hint = "the old bytes are safe in the logbook";
    error.remedy = {Remedy::Kind::undo, {std::to_string(id)}};
  } else if (error.hint.empty())
    error.hint = "everything is as it was; try again";
  return error;
}

// The folder that has to be there for the change to be looked at later.
std::string root_of(const Plan& plan, Store& target) {
  if (!plan.root.empty()) return plan.root;
  if (std::string root = target.root(); !root.empty()) return root;
  std::string folder = folder_of(target.absolute_path(plan.changes.front().path));
  while (folder.starts_with('/') && folder != "/") {
    const auto there = target.stat(folder);
    if (there && *there) return folder;
    folder = folder_of(folder);
  }
  return {};
}

// The folders that have to be made for new files and are not `known` yet, the outermost first; as absolute
// paths.
Result<std::vector<std::string>> missing_folders(const std::vector<FileChange>& changes, Store& target,
                                                 std::set<std::string>& known) {
  std::vector<std::string> missing;
  for (const FileChange& change : changes) {
    if (change.before || !change.after) continue;
    std::vector<std::string> own;
    for (std::string folder = folder_of(change.path);
         folder != "." && folder != "/" && known.insert(folder).second; folder = folder_of(folder)) {
      BAYSWAP_TRY(const auto info, target.stat(folder));
      if (info) break;
      own.push_back(target.absolute_path(folder));
    }
    missing.insert(missing.end(), own.rbegin(), own.rend());
  }
  return missing;
}

// Writes that were cut off, and that this one has repaired: the bytes of all of them are in the logbook.
Result<void> close_unfinished(Logbook& logbook, std::int64_t id, const std::vector<FileChange>& changes) {
  BAYSWAP_TRY(const auto open, logbook.unfinished());
  for (const Entry& entry : open) {
    std::vector<std::string> paths;
    bool is_repaired = entry.id != id;
    for (const LoggedChange& change : entry.changes) {
      paths.push_back(change.path);
      is_repaired = is_repaired && is_cart_path(change.path) &&
                    std::ranges::any_of(changes, [&](const FileChange& one) {
                      return name_of(one.path) == name_of(change.path);
                    });
    }
    if (is_repaired && !paths.empty()) BAYSWAP_CHECK(logbook.cut_short(entry.id, paths));
  }
  return {};
}

}  // namespace

void Plan::add(PlanIssue issue) {
  const bool known = std::ranges::any_of(
      issues, [&](const PlanIssue& one) { return one.code == issue.code && one.text == issue.text; });
  if (!known) issues.push_back(std::move(issue));
}

const PlanIssue* Plan::refusal() const {
  const auto found = std::ranges::find(issues, PlanIssue::Level::refusal, &PlanIssue::level);
  return found == issues.end() ? nullptr : &*found;
}

namespace {

// The entry of a plan that can be run now, with its changes as the logbook has them. `folders`: those that
// are known to be there, or to be made by another plan.
Result<Logbook::NewEntry> entry_of(const Plan& plan, Store& target, std::optional<std::int64_t> batch,
                                   std::set<std::string>& folders) {
  if (const PlanIssue* refusal = plan.refusal()) return fail(ErrorCode::unsafe, refusal->text, refusal->hint);
  if (plan.changes.empty()) return fail(ErrorCode::bad_usage, "there is nothing to do");
  for (const FileChange& change : plan.changes) {
    BAYSWAP_TRY(const auto now, target.read_if_there(change.path));
    if (now != change.before && !target.file_traits(change.path).runs_on)
      return fail(ErrorCode::busy,
                  fmt::format("{} has changed since the plan was made", target.display_path(change.path)),
                  "close the game that uses it, and try again");
  }
  Logbook::NewEntry made{{}, plan.changes};
  Entry& entry = made.entry;
  entry.kind = plan.kind;
  entry.reason = plan.reason;
  entry.game = plan.game;
  entry.from_bay = plan.from_bay;
  entry.to_bay = plan.to_bay;
  entry.from_paths = plan.from_files;
  entry.undoes = plan.undoes;
  entry.root = root_of(plan, target);
  entry.account = plan.account;
  entry.place = plan.place;
  entry.slot = plan.slot;
  entry.content = plan.content;
  entry.batch = batch;
  for (FileChange& change : made.changes) {
    BAYSWAP_TRY(const auto info, target.stat(change.path));
    if (info && info->modified != 0) change.before_modified = info->modified;
    change.path = target.absolute_path(change.path);
    if (change.before_cut) change.before = *change.before_cut;
  }
  BAYSWAP_TRY(entry.made_folders, missing_folders(plan.changes, target, folders));
  return made;
}

// What is left to do once the files of a plan are in place and its entry is closed.
Result<std::int64_t> close_plan(const Plan& plan, Store& target, Logbook& logbook, std::int64_t id,
                                const std::vector<FileChange>& logged) {
  for (const std::string& folder : plan.folders_to_remove) (void)target.remove_empty_folder(folder);
  if (std::ranges::any_of(plan.changes,
                          [&](const FileChange& one) { return target.file_traits(one.path).may_tear; }))
    BAYSWAP_CHECK(close_unfinished(logbook, id, logged));
  return id;
}

}  // namespace

Result<std::int64_t> run(const Plan& plan, Store& target, Logbook& logbook,
                         std::optional<std::int64_t> batch) {
  std::set<std::string> folders;
  BAYSWAP_TRY(const Logbook::NewEntry made, entry_of(plan, target, batch, folders));
  BAYSWAP_TRY(const std::int64_t id, logbook.begin(made.entry, made.changes));
  std::vector<bool> placed;
  if (auto applied = target.apply(plan.changes, placed); !applied)
    return tl::unexpected(
        put_back(target, plan.changes, made.changes, placed, std::move(applied.error()), logbook, id));
  if (auto closed = logbook.finish(id, EntryState::done); !closed) {
    closed.error().hint = fmt::format("the files are in place; the next command will complete entry {}", id);
    return tl::unexpected(std::move(closed.error()));
  }
  return close_plan(plan, target, logbook, id, made.changes);
}

std::vector<Result<std::int64_t>> run_together(std::span<const Plan* const> plans, Store& target,
                                               Logbook& logbook, std::optional<std::int64_t> batch) {
  std::vector<Result<std::int64_t>> results(plans.size(), fail(ErrorCode::io, "it was not run"));
  const auto run_alone = [&](std::size_t i) {
    results[i] = run(*plans[i], target, logbook, batch);
    if (results[i] && !batch) batch = *results[i];
  };
  // Where each file is placed on its own, on a cartridge or a server, nothing is gained.
  if (plans.size() < 2 || !target.traits().atomic_replace) {
    for (std::size_t i = 0; i < plans.size(); ++i) run_alone(i);
    return results;
  }
  std::set<std::string> folders;
  std::vector<std::size_t> ready;  // numbers of plans
  std::vector<Logbook::NewEntry> entries;
  std::vector<FileChange> changes;
  for (std::size_t i = 0; i < plans.size(); ++i) {
    auto made = entry_of(*plans[i], target, batch, folders);
    if (!made) {
      results[i] = tl::unexpected(std::move(made.error()));
      continue;
    }
    ready.push_back(i);
    entries.push_back(*std::move(made));
    changes.insert(changes.end(), plans[i]->changes.begin(), plans[i]->changes.end());
  }
  if (ready.empty()) return results;
  const auto ids = logbook.begin_all(entries);
  if (!ids) {  // each then says for itself what is wrong
    for (const std::size_t i : ready) run_alone(i);
    return results;
  }
  std::vector<bool> placed;
  const auto applied = target.apply(changes, placed);
  placed.resize(changes.size());
  std::vector<std::int64_t> done;
  std::vector<std::size_t> again;
  std::size_t at = 0;
  for (std::size_t n = 0; n < ready.size(); ++n) {
    const Plan& plan = *plans[ready[n]];
    const std::int64_t id = (*ids)[n];
    const std::vector<bool> own(placed.begin() + static_cast<std::ptrdiff_t>(at),
                                placed.begin() + static_cast<std::ptrdiff_t>(at + plan.changes.size()));
    at += plan.changes.size();
    if (applied) {
      done.push_back(id);
      results[ready[n]] = id;
      continue;
    }
    // What stopped it may have been another plan's file, and what is in place may not be on the disk: it goes
    // back, and alone each gets its own answer.
    results[ready[n]] =
        tl::unexpected(put_back(target, plan.changes, entries[n].changes, own, applied.error(), logbook, id));
    if (const auto entry = logbook.entry(id); entry && entry->state == EntryState::cancelled)
      again.push_back(ready[n]);
  }
  if (auto closed = logbook.finish_all(done); !closed) {
    for (const std::size_t i : ready)
      if (results[i]) {
        Error error = closed.error();
        error.hint =
            fmt::format("the files are in place; the next command will complete entry {}", *results[i]);
        results[i] = tl::unexpected(std::move(error));
      }
    return results;
  }
  for (std::size_t n = 0; n < ready.size(); ++n)
    if (auto& result = results[ready[n]]; result)
      result = close_plan(*plans[ready[n]], target, logbook, *result, entries[n].changes);
  for (const std::size_t i : again) run_alone(i);
  return results;
}

}  // namespace bayswap
