#include <bayswap/carry.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr int max_tries = 3;

Result<std::optional<Blob>> current(Store& store, const std::string& path) {
  BAYSWAP_TRY(const auto info, store.stat(path));
  if (!info) return std::nullopt;
  BAYSWAP_TRY(Blob bytes, store.read(path));
  return bytes;
}

// Makes the file hold `bytes`, or not exist.
Result<void> put(Store& store, const std::string& path, const std::optional<Blob>& before,
                 const std::optional<Blob>& bytes) {
  if (!bytes) return before ? store.remove(path) : Result<void>{};
  // Where nothing was, nothing that came up meanwhile is written over.
  return before ? store.replace(path, bytes->view()) : store.create(path, bytes->view());
}

Result<void> put_and_compare(Store& store, const FileChange& change) {
  for (int tries = 0; tries < max_tries; ++tries) {
    BAYSWAP_CHECK(put(store, change.path, change.before, change.after));
    BAYSWAP_TRY(const auto now, current(store, change.path));
    if (now == change.after) return {};
    if (now != change.before) break;  // not kept anywhere: maybe somebody else's, so not written over
  }
  return fail(ErrorCode::io, fmt::format("{} reads back other than it was written", store.shown(change.path)),
              "the medium may be failing, or a game is using the file");
}

// Puts back what was there, in reverse order. The error that led here goes on.
Error put_back(Store& store, const std::vector<FileChange>& changes, std::size_t touched, Error error,
               Logbook& logbook, std::int64_t id) {
  bool all_back = true;
  for (std::size_t i = touched; i-- > 0;) {
    const auto now = current(store, changes[i].path);
    if (now && *now == changes[i].before) continue;
    // Bytes that are neither the old nor the new ones are somebody else's and kept nowhere: they stay.
    if (!now || *now != changes[i].after || !put(store, changes[i].path, *now, changes[i].before))
      all_back = false;
  }
  const auto logged = logbook.finish(id, all_back ? EntryState::cancelled : EntryState::cut_short);
  if (!all_back || !logged)
    error.hint = fmt::format("the old bytes are safe in the logbook: `bayswap undo {}` puts them back", id);
  else if (error.hint.empty())
    error.hint = "everything is as it was; try again";
  return error;
}

}  // namespace

void Plan::add(Danger danger) {
  const bool known = std::ranges::any_of(
      dangers, [&](const Danger& one) { return one.code == danger.code && one.text == danger.text; });
  if (!known) dangers.push_back(std::move(danger));
}

const Danger* Plan::refusal() const {
  const auto found = std::ranges::find(dangers, Danger::Level::refusal, &Danger::level);
  return found == dangers.end() ? nullptr : &*found;
}

std::string_view to_text(Danger::Level level) {
  switch (level) {
    case Danger::Level::note:
      return "note";
    case Danger::Level::warning:
      return "warning";
    case Danger::Level::refusal:
      return "refusal";
  }
  return "note";
}

Result<std::int64_t> run(const Plan& plan, Store& target, Logbook& logbook) {
  if (const Danger* refusal = plan.refusal()) return fail(ErrorCode::unsafe, refusal->text, refusal->hint);
  if (plan.changes.empty()) return fail(ErrorCode::bad_usage, "there is nothing to do");
  for (const FileChange& change : plan.changes) {
    BAYSWAP_TRY(const auto now, current(target, change.path));
    if (now != change.before)
      return fail(ErrorCode::busy,
                  fmt::format("{} has changed since the plan was made", target.shown(change.path)),
                  "close the game that uses it, and try again");
  }
  Entry entry;
  entry.kind = plan.kind;
  entry.reason = plan.reason;
  entry.game = plan.game;
  entry.from_bay = plan.from_bay;
  entry.to_bay = plan.to_bay;
  entry.from_paths = plan.from_files;
  entry.undoes = plan.undoes;
  std::vector<FileChange> logged = plan.changes;
  for (FileChange& change : logged) change.path = target.address(change.path);
  BAYSWAP_TRY(const std::int64_t id, logbook.begin(std::move(entry), logged));
  for (std::size_t i = 0; i < plan.changes.size(); ++i)
    if (auto placed = put_and_compare(target, plan.changes[i]); !placed)
      return tl::unexpected(put_back(target, plan.changes, i + 1, std::move(placed.error()), logbook, id));
  if (auto closed = logbook.finish(id, EntryState::done); !closed) {
    closed.error().hint =
        fmt::format("the files are in place, and entry {} is settled by the next command", id);
    return tl::unexpected(std::move(closed.error()));
  }
  return id;
}

}  // namespace bayswap
