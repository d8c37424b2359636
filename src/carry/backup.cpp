// Saves into the logbook as they are, without being carried: before a title is deleted, a console sold, a
// card formatted.
#include <bayswap/carry.hpp>

#include <fmt/format.h>
#include <bayswap/state_slots.hpp>

#include <algorithm>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/keep_one.hpp"
#include "carry/select.hpp"

namespace bayswap {
namespace {

// The files that hold the save: of a card's entry the whole card, of a folder all that is in it.
Result<std::vector<FileChange>> kept_files(const HeldSave& save, Store& store) {
  std::vector<FileChange> files;
  BAYSWAP_TRY(const auto info, store.stat(save.path));
  if (info && info->kind == FileInfo::Kind::folder) {
    BAYSWAP_TRY(const auto tree, read_tree(store, save.path));
    for (const TreeFile& file : tree)
      files.push_back({join_path(save.path, file.path), file.bytes, file.bytes, file.modified});
    return files;
  }
  std::vector<HeldFile> held = save.held;
  if (held.empty()) held.push_back({save.path, nullptr, {}, info ? info->modified : 0, 0});
  for (const HeldFile& file : held) {
    BAYSWAP_TRY(const Blob bytes, store.read(file.path));
    files.push_back({file.path, bytes, bytes, file.modified});
  }
  return files;
}

Result<bool> is_kept_already(const std::vector<FileChange>& files, Logbook& logbook) {
  for (const FileChange& file : files) {
    BAYSWAP_TRY(const auto newest, logbook.newest_of(file.path));
    if (!newest || newest != sha256(file.after->view())) return false;
    if (!logbook.bytes(*newest)) return false;  // it rotted: it is kept anew
  }
  return true;
}

Result<BackedUpSave> into_logbook(BackedUpSave kept, Entry entry, const std::vector<FileChange>& files,
                                  BayView& bay, Logbook& logbook, std::optional<std::int64_t>& batch) {
  entry.kind = EntryKind::backup;
  entry.to_bay = bay.bay().name;
  entry.root = bay.store().root();
  entry.batch = batch;
  BAYSWAP_TRY(kept.entry, logbook.begin(std::move(entry), files));
  BAYSWAP_CHECK(logbook.finish(*kept.entry, EntryState::done));
  if (!batch) batch = kept.entry;
  return kept;
}

std::string kept_label(const HeldSave& save) {
  return !save.facts.game.title.empty() ? save.facts.game.title
         : !save.label.empty()          ? save.label
                                        : save.name();
}

}  // namespace

Result<BackedUpSave> keep_one(const HeldSave& save, BayView& bay, Logbook& logbook,
                              std::optional<std::int64_t>& batch) {
  BackedUpSave kept;
  kept.what = kept_label(save);
  kept.path = bay.store().display_path(save.path);
  BAYSWAP_TRY(auto files, kept_files(save, bay.store()));
  if (files.empty()) {
    kept.outcome = BackedUpSave::Outcome::empty;
    return kept;
  }
  for (FileChange& file : files) {
    kept.size_bytes += file.after->size();
    file.path = bay.store().absolute_path(file.path);
  }
  BAYSWAP_TRY(const bool known, is_kept_already(files, logbook));
  if (known) {
    kept.outcome = BackedUpSave::Outcome::same;
    return kept;
  }
  Entry entry;
  entry.reason = fmt::format("keep '{}' of {}", kept.what, bay.bay().name);
  entry.game = save.facts.game;
  entry.account = save.facts.account;
  entry.slot = save.key().slot;
  if (save.kind != SaveKind::card_entry && save.kind != SaveKind::card) {
    entry.place = save.entry;
    IssueList doubts;
    if (const auto content = load_save(bay, save, {}, doubts)) entry.content = digest_of(*content).hex();
  }
  return into_logbook(std::move(kept), std::move(entry), files, bay, logbook, batch);
}

namespace {

Result<BackedUpSave> keep_state(const HeldState& state, BayView& bay, Logbook& logbook,
                                std::optional<std::int64_t>& batch) {
  BackedUpSave kept;
  kept.what = fmt::format("{}, state {}", state.game, to_text(state.slot));
  kept.path = bay.store().display_path(state.path);
  BAYSWAP_TRY(const Blob bytes, bay.store().read(state.path, max_state_bytes));
  kept.size_bytes = bytes.size();
  if (bytes.empty()) {
    kept.outcome = BackedUpSave::Outcome::empty;
    return kept;
  }
  const std::vector<FileChange> files{{bay.store().absolute_path(state.path), bytes, bytes, state.modified}};
  BAYSWAP_TRY(const bool known, is_kept_already(files, logbook));
  if (known) {
    kept.outcome = BackedUpSave::Outcome::same;
    return kept;
  }
  Entry entry;
  entry.reason = fmt::format("keep state {} of '{}' of {}", to_text(state.slot), state.game, bay.bay().name);
  if (state.rom != nullptr) entry.game = state.rom->facts.game;
  entry.place = fmt::format("state {}", to_text(state.slot));
  return into_logbook(std::move(kept), std::move(entry), files, bay, logbook, batch);
}

BackedUpSave not_kept(std::string what, std::string path, const Error& error) {
  BackedUpSave failed;
  failed.what = std::move(what);
  failed.path = std::move(path);
  failed.outcome = BackedUpSave::Outcome::failed;
  failed.why = error.message;
  return failed;
}

}  // namespace

Result<std::vector<BackedUpSave>> backup_saves(BayView& bay, Store& outside, const std::string& what,
                                               Logbook& logbook) {
  BAYSWAP_CHECK(check_root(bay.bay(), bay.store()));
  std::vector<const HeldSave*> saves;
  std::vector<HeldState> states;
  if (what.empty()) {
    BAYSWAP_TRY(const auto every, bay.saves());
    for (const HeldSave& save : *every) saves.push_back(&save);
    BAYSWAP_TRY(states, held_states(bay));
  } else {
    BAYSWAP_TRY(saves, find_saves(bay, outside, what));
    if (auto named = find_states(bay, what)) states = *std::move(named);
    if (saves.empty() && states.empty()) return tl::unexpected(no_such_save(bay, what));
  }
  BAYSWAP_CHECK(bay.check());
  std::vector<BackedUpSave> all;
  std::set<std::string> seen;  // a card once, however many saves are on it
  std::optional<std::int64_t> batch;
  for (const HeldSave* one : saves) {
    const HeldSave& save = *one;
    if (!seen.insert(save.path).second) continue;
    auto kept = keep_one(save, bay, logbook, batch);
    all.push_back(kept ? *std::move(kept)
                       : not_kept(kept_label(save), bay.store().display_path(save.path), kept.error()));
  }
  for (const HeldState& state : states) {
    if (!seen.insert(state.path).second) continue;
    auto kept = keep_state(state, bay, logbook, batch);
    all.push_back(kept ? *std::move(kept)
                       : not_kept(state.game, bay.store().display_path(state.path), kept.error()));
  }
  return all;
}

Result<Plan> plan_restore_batch(Logbook& logbook, std::int64_t version, Store& files,
                                const std::vector<std::string>& bay_roots) {
  BAYSWAP_TRY(const Entry first, logbook.entry(version));
  const std::int64_t batch = first.batch.value_or(first.id);
  BAYSWAP_TRY(const auto entries, logbook.entries_of_batch(batch));
  Plan all;
  all.kind = EntryKind::restore;
  all.reason = fmt::format("restore the {} saves of batch {}", entries.size(), batch);
  all.from_bay = all.to_bay = first.to_bay;
  for (const Entry& entry : entries) {
    BAYSWAP_TRY(Plan one, plan_restore(logbook, entry.id, false, files, bay_roots));
    all.root = one.root;
    std::ranges::move(one.changes, std::back_inserter(all.changes));
    std::ranges::move(one.steps, std::back_inserter(all.steps));
    for (PlanIssue& issue : one.issues)
      if (issue.code != IssueCode::same) all.add(std::move(issue));
  }
  return all;
}

}  // namespace bayswap
