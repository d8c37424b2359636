// Keeping the logbook sound: checked, made smaller, copied to another disk, and put together again.
#include <bayswap/logbook.hpp>

#include <fmt/format.h>
#include <sqlite3.h>

#include <algorithm>
#include <limits>
#include <map>
#include <set>

#include "base/path.hpp"
#include "base/try.hpp"
#include "logbook/record.hpp"
#include "logbook/sql.hpp"

namespace bayswap {
namespace {

constexpr std::size_t all_entries = std::numeric_limits<int>::max();

// Two logbooks never have the same entry under the same number: what it did tells.
std::string identity(const Entry& entry) {
  Entry bare = entry;
  bare.id = 1;
  bare.state = EntryState::done;
  bare.undoes.reset();
  bare.batch.reset();
  bare.imported = false;
  return record_text(bare);
}

std::set<std::string> blobs_of(const std::vector<Entry>& entries) {
  std::set<std::string> names;
  for (const Entry& entry : entries)
    for (const LoggedChange& change : entry.changes)
      for (const auto& digest : {change.before, change.after})
        if (digest) names.insert(digest->hex());
  return names;
}

struct KeptBlob {
  std::string path;
  std::string name;  // the digest's digits
  std::uint64_t size_bytes = 0;
};
Result<std::vector<KeptBlob>> list_blobs(Store& store) {
  std::vector<KeptBlob> found;
  BAYSWAP_TRY(const auto there, store.stat("blobs"));
  if (!there) return found;
  BAYSWAP_TRY(const auto folders, store.list("blobs"));
  for (const FileInfo& folder : folders) {
    if (folder.kind != FileInfo::Kind::folder) continue;
    const std::string path = join_path("blobs", folder.name);
    BAYSWAP_TRY(const auto files, store.list(path));
    for (const FileInfo& file : files)
      if (file.kind == FileInfo::Kind::file)
        found.push_back({join_path(path, file.name), std::string(stem_of(file.name)), file.size_bytes});
  }
  return found;
}

}  // namespace

Result<std::vector<std::string>> Logbook::check(std::vector<std::string>& notes) {
  std::vector<std::string> problems;
  BAYSWAP_TRY(Statement statement, Statement::prepare(db_.get(), "PRAGMA integrity_check"));
  BAYSWAP_TRY(const bool has_row, statement.step());
  if (has_row && statement.text(0) != "ok")
    problems.push_back(fmt::format("the index: {}", statement.text(0)));
  BAYSWAP_TRY(const std::size_t carried, take_over_records(problems));
  if (carried > 0)
    notes.push_back(fmt::format("{} entries were in the records alone, and are in the index now", carried));
  std::vector<std::string> said_before;
  BAYSWAP_TRY(const auto entries, this->entries({}, all_entries));
  BAYSWAP_TRY(const auto records, read_records(*blobs_, said_before));
  std::map<std::int64_t, const Entry*> by_id;
  for (const Entry& record : records) by_id[record.id] = &record;
  for (const Entry& entry : entries) {
    for (const LoggedChange& change : entry.changes)
      for (const auto& digest : {change.before, change.after})
        if (const auto blob = digest ? bytes(*digest) : Result<Blob>(Blob()); !blob)
          problems.push_back(fmt::format("entry {}, {}: {}", entry.id, change.path, blob.error().message));
    if (entry.state == EntryState::cancelled) continue;
    const auto record = by_id.find(entry.id);
    if (record == by_id.end())
      notes.push_back(fmt::format("entry {} has no record of its own; it gets one now", entry.id));
    else if (identity(*record->second) != identity(entry))
      problems.push_back(fmt::format("entry {} and its record differ", entry.id));
    if (record == by_id.end()) BAYSWAP_CHECK(write_record(*blobs_, entry));
  }
  const std::set<std::string> needed = blobs_of(entries);
  BAYSWAP_TRY(const auto kept, list_blobs(*blobs_));
  std::size_t orphans = 0;
  std::uint64_t orphan_bytes = 0;
  for (const KeptBlob& blob : kept) {
    if (needed.contains(blob.name)) continue;
    ++orphans;
    orphan_bytes += blob.size_bytes;
  }
  if (orphans > 0)
    notes.push_back(
        fmt::format("{} of {} bytes {} needed by no entry, as a command was interrupted: the next prune "
                    "removes {}",
                    orphans == 1 ? "1 kept file" : fmt::format("{} kept files", orphans), orphan_bytes,
                    orphans == 1 ? "is" : "are", orphans == 1 ? "it" : "them"));
  return problems;
}

Result<Logbook::Pruned> Logbook::prune(std::size_t keep, bool per_save, bool dry_run) {
  if (keep == 0) return fail(ErrorCode::bad_usage, "nothing would be kept", "keep at least one version");
  std::vector<std::string> problems;
  BAYSWAP_TRY(const auto records, read_records(*blobs_, problems));
  if (!problems.empty())
    return fail(ErrorCode::damaged, "the logbook is not sound: " + problems.front(),
                "nothing was removed; check the logbook first", {Remedy::Kind::check_logbook, {}});
  // What only records know of needs its bytes as well.
  BAYSWAP_CHECK(take_over_records(problems));
  BAYSWAP_TRY(const auto entries, this->entries({}, all_entries));  // newest first
  std::map<std::string, std::size_t> seen;
  std::set<std::int64_t> going;
  Pruned pruned;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    // A file's newest entry always stays; so does one that is not settled.
    bool needed = entries[i].state == EntryState::begun || entries[i].state == EntryState::cut_short;
    for (const LoggedChange& change : entries[i].changes) {
      const std::size_t newer = seen[change.path]++;
      needed = needed || newer == 0 || (per_save && newer < keep);
    }
    if (needed || (!per_save && i < keep)) continue;
    going.insert(entries[i].id);
  }
  if (dry_run) return would_prune(entries, going);
  // Records first: were the index first and the process killed, the next check would bring the entries back.
  for (const std::int64_t id : going) BAYSWAP_CHECK(remove_record(*blobs_, id));
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (const std::int64_t id : going) BAYSWAP_CHECK(erase_rows(id));
  BAYSWAP_CHECK(transaction.commit());
  pruned.entries = going.size();
  BAYSWAP_TRY(const auto left, this->entries({}, all_entries));
  const std::set<std::string> needed = blobs_of(left);
  BAYSWAP_TRY(const auto kept, list_blobs(*blobs_));
  // Every record was read, so a blob that no entry needs is of a run that failed.
  for (const KeptBlob& blob : kept) {
    if (needed.contains(blob.name)) continue;
    BAYSWAP_CHECK(blobs_->remove(blob.path));
    ++pruned.blobs;
    pruned.bytes += blob.size_bytes;
  }
  return pruned;
}

Result<Logbook::Pruned> Logbook::would_prune(const std::vector<Entry>& entries,
                                             const std::set<std::int64_t>& going) {
  Pruned pruned;
  pruned.entries = going.size();
  std::vector<Entry> left;
  for (const Entry& entry : entries)
    if (!going.contains(entry.id)) left.push_back(entry);
  const std::set<std::string> needed = blobs_of(left);
  BAYSWAP_TRY(const auto kept, list_blobs(*blobs_));
  for (const KeptBlob& blob : kept) {
    if (needed.contains(blob.name)) continue;
    ++pruned.blobs;
    pruned.bytes += blob.size_bytes;
  }
  return pruned;
}

Result<std::size_t> Logbook::merge(Logbook& other) {
  BAYSWAP_TRY(auto theirs, other.entries({}, all_entries));
  BAYSWAP_TRY(const auto ours, entries({}, all_entries));
  std::map<std::string, std::int64_t> known;
  for (const Entry& entry : ours) known.emplace(identity(entry), entry.id);
  BAYSWAP_TRY(std::int64_t highest, highest_record(*blobs_));
  if (!ours.empty()) highest = std::max(highest, ours.front().id);
  std::ranges::reverse(theirs);
  std::map<std::int64_t, std::int64_t> renumbered;
  std::size_t taken = 0;
  for (Entry& entry : theirs) {
    if (entry.state == EntryState::begun || entry.state == EntryState::cancelled) continue;
    const std::int64_t number = entry.id;
    // One that came in earlier keeps its number, by which later ones know it.
    const auto here = known.find(identity(entry));
    const bool is_new = here == known.end();
    if (!is_new) renumbered[number] = here->second;
    for (const LoggedChange& change : entry.changes)
      for (const auto& digest : {change.before, change.after}) {
        if (!digest || (!is_new && bytes(*digest))) continue;
        // Of an entry that is here already, what is missing or rotten comes back where the other has it.
        const auto blob = other.bytes(*digest);
        if (!blob && is_new) return tl::unexpected(blob.error());
        if (blob) BAYSWAP_CHECK(keep(*blob, *digest));
      }
    if (!is_new) continue;
    if (entry.undoes) {
      const auto found = renumbered.find(*entry.undoes);
      entry.undoes = found == renumbered.end() ? std::nullopt : std::optional(found->second);
    }
    entry.batch.reset();
    entry.imported = true;
    entry.id = ++highest;
    BAYSWAP_TRY(entry.id, insert(entry));
    BAYSWAP_CHECK(create_records(*blobs_, {entry}));
    renumbered[number] = entry.id;
    ++taken;
  }
  return taken;
}

}  // namespace bayswap
