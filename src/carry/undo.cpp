#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/origin.hpp"
#include "carry/same_cartridge.hpp"

namespace bayswap {

Result<void> check_origin(const Entry& entry, Store& files, const std::vector<std::string>& bay_roots,
                          Plan& plan) {
  if (!entry.root.empty()) {
    files.stay_within(entry.root);
    plan.root = entry.root;
    const bool is_ours = !is_foreign(entry) || !files.file_traits(entry.root).may_tear ||
                         std::ranges::find(bay_roots, entry.root) != bay_roots.end();
    if (!is_ours)
      return fail(ErrorCode::unsafe,
                  fmt::format("entry {} was made on another device, for a cartridge there", entry.id),
                  "add a bay for the reader first, if the logbook is yours");
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
          "nothing was changed", {Remedy::Kind::check_logbook, {}});
    if (is_foreign(entry) && std::ranges::none_of(bay_roots, [&](const std::string& root) {
          return change.path.starts_with(root == "/" ? root : root + "/");
        }))
      plan.add({PlanIssue::Level::refusal, IssueCode::foreign_path,
                fmt::format("entry {} was made on another device, and {} is in no bay of this one", entry.id,
                            printable(change.path)),
                "add a bay for that folder first, if the logbook is yours"});
  }
  if (is_foreign(entry))
    plan.add({PlanIssue::Level::warning, IssueCode::foreign_entry,
              fmt::format("entry {} was made on another device{}", entry.id,
                          entry.device.empty() ? "" : fmt::format(" ({})", printable(entry.device))),
              "look at the files it names before you go ahead"});
  return {};
}

namespace {

// Which entries of this machine still stand, the newest first: not those that an undo took back.
class Standing {
 public:
  explicit Standing(Logbook& logbook) : logbook_(logbook) {}

  /// Of an undo itself false: it is taken back by its number.
  Result<bool> asks(const Entry& entry) {
    if (entry.state == EntryState::cancelled || entry.state == EntryState::begun ||
        entry.kind == EntryKind::backup || is_foreign(entry))
      return false;
    if (is_gone(entry)) return false;
    if (entry.kind == EntryKind::undo && entry.undoes) {
      Undo undo{*entry.undoes, entry.id, {}};
      for (const LoggedChange& change : entry.changes) undo.paths.insert(change.path);
      undos_.push_back(std::move(undo));
      return false;
    }
    // All is as it was before already, whatever the way.
    for (const LoggedChange& change : entry.changes) {
      BAYSWAP_TRY(const auto newest, logbook_.newest_of(change.path));
      if (newest != change.before) return true;
    }
    return entry.changes.empty();
  }

 private:
  struct Undo {
    std::int64_t first = 0;
    std::int64_t itself = 0;
    std::set<std::string> paths;
  };
  [[nodiscard]] bool is_gone(const Entry& entry) const {
    return std::ranges::any_of(undos_, [&](const Undo& undo) {
      if (entry.id == undo.first) return true;
      return entry.id > undo.first && entry.id < undo.itself &&
             std::ranges::all_of(
                 entry.changes, [&](const LoggedChange& change) { return undo.paths.contains(change.path); });
    });
  }

  Logbook& logbook_;
  std::vector<Undo> undos_;
};

// Neither ours nor foreign for certain: an older one is not taken back in its stead.
bool may_be_of_any_machine(const Entry& entry) {
  return !entry.imported && entry.kind != EntryKind::backup && entry.state != EntryState::cancelled &&
         entry.machine.empty() != this_machine().empty();
}

// The newest `last` changes that still stand, a batch counting as one.
Result<std::vector<Entry>> newest_entries(Logbook& logbook, std::size_t last) {
  std::vector<Entry> entries;
  std::set<std::int64_t> batches;
  bool has_copies = false;
  constexpr std::size_t most = 1U << 20U;
  for (std::size_t limit = 128;; limit *= 4) {
    BAYSWAP_TRY(const auto all, logbook.entries({}, limit));
    entries.clear();
    batches.clear();
    Standing standing(logbook);
    bool is_complete = false;
    for (const Entry& entry : all) {
      has_copies = has_copies || entry.kind == EntryKind::backup;
      if (may_be_of_any_machine(entry) && batches.size() < last)
        return fail(ErrorCode::unsafe,
                    fmt::format("entry {} was made by this machine or by another one: the id of the machine "
                                "(/etc/machine-id) can't be read now, or could not be then",
                                entry.id),
                    "look at the logbook, and name the entry you mean");
      BAYSWAP_TRY(const bool stands, standing.asks(entry));
      if (!stands) continue;
      const std::int64_t batch = entry.batch.value_or(entry.id);
      if (!batches.contains(batch) && batches.size() == last) {
        is_complete = true;
        break;
      }
      batches.insert(batch);
      entries.push_back(entry);
    }
    if (is_complete || all.size() < limit || limit >= most) break;
  }
  if (batches.empty())
    return fail(
        ErrorCode::bad_usage,
        has_copies ? "there is nothing to undo: this device's changes are taken back, and copies that were "
                     "kept change nothing"
                   : "there is nothing to undo: the logbook has no change of this device that was not undone",
        "look at the logbook for all entries, and name the one you mean");
  if (batches.size() < last)
    return fail(
        ErrorCode::bad_usage,
        fmt::format("the logbook has {} of this device to take back, not {}",
                    batches.size() == 1 ? "1 change" : fmt::format("{} changes", batches.size()), last),
        "look at the logbook for what was done");
  return entries;
}

// What is taken back: the entry, or all of its batch, the newest first.
Result<std::vector<Entry>> meant(Logbook& logbook, std::optional<std::int64_t> id, bool whole_batch,
                                 std::size_t last) {
  if (!id) return newest_entries(logbook, last);
  std::vector<Entry> entries;
  BAYSWAP_TRY(Entry entry, logbook.entry(*id));
  if (entry.state == EntryState::cancelled)
    return fail(ErrorCode::bad_usage,
                fmt::format("entry {} changed nothing, so there is nothing to undo", *id),
                "look at the logbook for what was done");
  if (whole_batch) {
    BAYSWAP_TRY(entries, logbook.entries_of_batch(entry.batch.value_or(entry.id)));
    std::erase_if(entries, [&](const Entry& one) {
      return one.state == EntryState::cancelled || one.kind == EntryKind::backup ||
             is_foreign(one) != is_foreign(entry);
    });
    std::ranges::reverse(entries);
  }
  if (entries.empty()) entries.push_back(std::move(entry));
  return entries;
}

// One file over all entries: what the newest left there, and what the oldest found.
struct TakenBack {
  LoggedChange newest;
  const Entry* newest_entry = nullptr;
  std::optional<Digest> before;
  std::optional<std::int64_t> before_modified;
  const Entry* oldest_entry = nullptr;
};

Result<void> add_change(Logbook& logbook, Store& files, const TakenBack& one, Plan& plan) {
  const std::string& path = one.newest.path;
  FileChange change{path, {}, {}};
  BAYSWAP_TRY(change.before, files.read_if_there(path));
  if (one.before) {
    BAYSWAP_TRY(change.after, logbook.bytes(*one.before));
  }
  change.modified = one.before_modified;
  if (change.before == change.after) return {};
  BAYSWAP_CHECK(check_same_cartridge(logbook, files, one.newest, change.before, one.newest_entry->id, plan));
  const std::string shown = files.display_path(path);
  const bool as_left = files.file_traits(path).runs_on ? true
                       : change.before
                           ? one.newest.after && sha256(change.before->view()) == *one.newest.after
                           : !one.newest.after;
  if (!as_left)
    plan.issues.push_back({PlanIssue::Level::warning, IssueCode::changed_since,
                           change.before
                               ? fmt::format("{} has changed since entry {}: it may have been played on",
                                             shown, one.newest_entry->id)
                               : fmt::format("{} is gone since entry {}", shown, one.newest_entry->id),
                           "its present bytes are kept in the logbook, so this can be undone too"});
  if (change.before)
    plan.steps.push_back({"keep",
                          fmt::format("{} ({} bytes) goes into the logbook", shown, change.before->size()),
                          "so that this undo can itself be undone"});
  if (change.after)
    plan.steps.push_back({"place", fmt::format("{} ({} bytes)", shown, change.after->size()),
                          fmt::format("what was there before entry {}", one.oldest_entry->id)});
  else
    plan.steps.push_back(
        {"remove", shown, fmt::format("nothing was there before entry {}", one.oldest_entry->id)});
  plan.changes.push_back(std::move(change));
  return {};
}

}  // namespace

Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files,
                       const std::vector<std::string>& bay_roots, bool whole_batch, std::size_t last) {
  BAYSWAP_TRY(const auto entries, meant(logbook, id, whole_batch, last));
  const Entry& newest = entries.front();
  const Entry& oldest = entries.back();
  Plan plan;
  plan.kind = EntryKind::undo;
  plan.game = entries.size() == 1 ? newest.game : std::nullopt;
  plan.from_bay = newest.to_bay;
  plan.to_bay = newest.to_bay;
  plan.undoes = oldest.id;
  plan.reason = entries.size() == 1 ? fmt::format("undo of {}: {}", newest.id, newest.reason)
                                    : fmt::format("undo of the {} entries {} to {}: {}", entries.size(),
                                                  oldest.id, newest.id, oldest.reason);
  std::vector<std::string> order;
  std::map<std::string, TakenBack> taken;
  for (const Entry& entry : entries) {
    BAYSWAP_CHECK(check_origin(entry, files, bay_roots, plan));
    if (!is_foreign(entry))
      plan.folders_to_remove.insert(plan.folders_to_remove.end(), entry.made_folders.rbegin(),
                                    entry.made_folders.rend());
    for (const LoggedChange& logged : entry.changes) {
      auto [one, is_new] = taken.try_emplace(logged.path, TakenBack{logged, &entry, {}, {}, nullptr});
      if (is_new) order.push_back(logged.path);
      one->second.before = logged.before;
      one->second.before_modified = logged.before_modified;
      one->second.oldest_entry = &entry;
    }
  }
  for (const std::string& path : order) BAYSWAP_CHECK(add_change(logbook, files, taken.at(path), plan));
  if (!plan.changes.empty())
    plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
  return plan;
}

}  // namespace bayswap
