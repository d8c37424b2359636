// Entries whose process died: finished, rolled back, or left open until their files can be looked at.
#include <fmt/format.h>
#include <bayswap/logbook.hpp>

#include <algorithm>
#include <functional>
#include <numeric>
#include <set>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

enum class Holds { before, after, both, other };

// Whether anything can be said of the file at all: its medium may be away.
bool is_reachable(const Entry& entry, const LoggedChange& change, Store& files) {
  const std::string wanted = !entry.root.empty() ? entry.root : change.before ? folder_of(change.path) : "";
  if (wanted.empty()) return true;
  const auto there = files.stat(wanted);
  return there && *there;
}

// What a killed process left beside the files: copies of the entry's own bytes, whole or in part. Other bytes
// stay.
void remove_leftovers(const Entry& entry, Logbook& logbook, Store& files) {
  std::vector<Blob> own;
  std::set<std::string> folders;
  for (const LoggedChange& change : entry.changes) {
    folders.insert(folder_of(change.path));
    for (const auto& digest : {change.before, change.after})
      if (digest)
        if (auto bytes = logbook.bytes(*digest)) own.push_back(*std::move(bytes));
  }
  for (const std::string& folder : folders) {
    const auto there = files.list(folder);
    if (!there) continue;
    for (const FileInfo& info : *there) {
      if (!is_own_temporary(info.name) || info.kind != FileInfo::Kind::file || info.link) continue;
      const std::string path = join_path(folder, info.name);
      const auto bytes = files.read(path);
      const bool ours = bytes && std::ranges::any_of(own, [&](const Blob& one) {
                          return bytes->size() <= one.size() && *bytes == one.slice(0, bytes->size());
                        });
      if (ours) (void)files.remove(path);
    }
  }
}

}  // namespace

Result<std::vector<Entry>> Logbook::unfinished() {
  return select(fmt::format("WHERE state = {}", static_cast<int>(EntryState::begun)), {});
}

Result<std::vector<Recovered>> Logbook::recover(Store& files) {
  BAYSWAP_TRY(auto open, unfinished());
  std::vector<Recovered> recovered;
  for (Entry& entry : open) {
    BAYSWAP_TRY(Recovered one, recover_one(std::move(entry), files));
    recovered.push_back(std::move(one));
  }
  return recovered;
}

Result<Recovered> Logbook::recover_one(Entry entry, Store& files) {
  using Outcome = Recovered::Outcome;
  Recovered result;
  if (!entry.root.empty()) files.stay_within(entry.root);
  std::vector<Holds> holds;
  bool may_tear = false;
  std::string torn;  // how far a write came
  for (const LoggedChange& change : entry.changes) {
    // Whatever another machine's logbook names as a line is not opened.
    if (is_foreign(entry) && files.file_traits(change.path).may_tear) {
      holds.assign(entry.changes.size(), Holds::other);
      break;
    }
    if (!is_reachable(entry, change, files)) {
      result.why =
          fmt::format("{} is not there: plug in the medium it is on", files.display_path(change.path));
      break;
    }
    const FileTraits traits = files.file_traits(change.path);
    may_tear = may_tear || traits.may_tear;
    if (traits.runs_on && entry.changes.size() > 1) {
      holds.push_back(Holds::both);  // the other files tell
      continue;
    }
    const auto bytes = files.read_if_there(change.path);
    if (!bytes) {
      result.why = bytes.error().message;
      break;
    }
    if (traits.may_tear && !*bytes) {
      // Another cartridge is in the reader.
      result.why = fmt::format("{} is not there: put its cartridge in", files.display_path(change.path));
      break;
    }
    const auto now = *bytes ? std::optional(sha256((*bytes)->view())) : std::nullopt;
    if (traits.may_tear && *bytes && now != change.before && now != change.after && change.after)
      if (const auto wanted = this->bytes(*change.after); wanted && wanted->size() == (*bytes)->size())
        torn = fmt::format("{} of its {} bytes are the new ones",
                           std::inner_product(wanted->view().begin(), wanted->view().end(),
                                              (*bytes)->view().begin(), std::size_t{0}, std::plus<>(),
                                              [](Byte a, Byte b) { return std::size_t{a == b}; }),
                           wanted->size());
    holds.push_back(now == change.before && now == change.after ? Holds::both
                    : now == change.before                      ? Holds::before
                    : now == change.after                       ? Holds::after
                                                                : Holds::other);
  }
  const auto count = [&](Holds wanted) { return std::ranges::count(holds, wanted); };
  const bool all_new = count(Holds::before) == 0 && count(Holds::other) == 0;
  const bool all_old = count(Holds::after) == 0 && count(Holds::other) == 0;
  if (!result.why.empty()) {
    result.outcome = Outcome::still_open;
  } else if (may_tear && !all_new && !all_old) {
    result.outcome = Outcome::unfinished;
    result.why = torn.empty() ? "one of its files holds the new bytes, another the old ones" : torn;
  } else if (all_new || (rebuilt_ > 0 && count(Holds::other) > 0)) {
    // Out of its record nothing tells whether the newest entry was finished. Bytes in its files that are
    // neither the old nor the new ones say so.
    result.outcome = Outcome::done;
  } else if (all_old) {
    result.outcome = Outcome::cancelled;
  } else if (count(Holds::other) == 0 && !is_foreign(entry)) {
    const auto back = roll_back(entry, files);
    result.outcome = back ? Outcome::rolled_back : Outcome::cut_short;
    if (!back) result.why = back.error().message;
  } else {
    result.outcome = Outcome::cut_short;
    result.why = "other bytes than the old and the new ones are in its files";
  }
  if (result.outcome != Outcome::still_open && result.outcome != Outcome::unfinished) {
    entry.state = result.outcome == Outcome::done        ? EntryState::done
                  : result.outcome == Outcome::cut_short ? EntryState::cut_short
                                                         : EntryState::cancelled;
    if (!is_foreign(entry) && !may_tear) remove_leftovers(entry, *this, files);
    // A file that was not there and holds other bytes is another program's: an undo must not remove it.
    std::vector<std::string> paths;
    for (std::size_t i = 0; i < holds.size(); ++i)
      if (holds[i] != Holds::other || entry.changes[i].before) paths.push_back(entry.changes[i].path);
    BAYSWAP_CHECK(entry.state == EntryState::cut_short ? cut_short(entry.id, paths)
                                                       : finish(entry.id, entry.state));
  }
  result.entry = std::move(entry);
  return result;
}

// All files hold the old or the new bytes: the new ones go, the last first.
Result<void> Logbook::roll_back(const Entry& entry, Store& files) {
  std::vector<FileChange> changes;
  for (std::size_t i = entry.changes.size(); i-- > 0;) {
    const LoggedChange& logged = entry.changes[i];
    if (files.absolute_path(logged.path) != logged.path)
      return fail(ErrorCode::damaged, fmt::format("'{}' is not an absolute path", logged.path));
    FileChange change{logged.path, {}, {}};
    BAYSWAP_TRY(change.before, files.read_if_there(logged.path));
    if (logged.before) {
      BAYSWAP_TRY(change.after, bytes(*logged.before));
    }
    change.modified = logged.before_modified;
    if (change.before != change.after) changes.push_back(std::move(change));
  }
  std::vector<bool> placed;
  return changes.empty() ? Result<void>{} : files.apply(changes, placed);
}

}  // namespace bayswap
