#include <bayswap/logbook.hpp>

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <fstream>
#include <limits>
#include <set>

#include "base/parallel.hpp"
#include "base/try.hpp"
#include "logbook/record.hpp"
#include "logbook/sql.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 9> kind_words{"carry",   "convert", "undo", "card", "carry-file",
                                                     "restore", "backup",  "edit", "sync"};
constexpr std::array<std::string_view, 4> state_words{"begun", "done", "cancelled", "cut short"};

template <std::size_t N>
std::size_t in_range(std::int64_t value, const std::array<std::string_view, N>& words) {
  return value >= 0 && value < static_cast<std::int64_t>(words.size()) ? static_cast<std::size_t>(value) : 0;
}

Result<std::optional<Digest>> digest_at(const Statement& row, int column) {
  if (row.is_null(column)) return std::nullopt;
  return digest_from_hex(row.text(column));
}

// Digests of large bytes take longer than writing them: two at a time.
std::pair<std::optional<Digest>, std::optional<Digest>> digests_of(const FileChange& change) {
  constexpr std::size_t worth_a_thread = std::size_t{256} << 10;
  const auto digest = [](const std::optional<Blob>& bytes) {
    return bytes ? std::optional(sha256(bytes->view())) : std::nullopt;
  };
  if (!change.before || !change.after ||
      std::min(change.before->size(), change.after->size()) < worth_a_thread)
    return {digest(change.before), digest(change.after)};
  std::array<std::optional<Digest>, 2> digests;
  std::atomic<std::size_t> next{0};
  in_parallel(1, [&] {
    for (std::size_t i = next++; i < digests.size(); i = next++)
      digests.at(i) = digest(i == 0 ? change.before : change.after);
  });
  return {digests[0], digests[1]};
}

}  // namespace

Clock system_clock() {
  return [] {
    return std::chrono::duration_cast<std::chrono::seconds>(
               std::chrono::system_clock::now().time_since_epoch())
        .count();
  };
}

std::string_view to_text(EntryKind kind) {
  return kind_words.at(static_cast<std::size_t>(kind));
}
std::string_view to_text(EntryState state) {
  return state_words.at(static_cast<std::size_t>(state));
}

std::string host_name() {
  std::array<char, 256> text{};
  return gethostname(text.data(), text.size() - 1) == 0 ? text.data() : "";
}

const std::string& this_machine() {
  static const std::string token = [] {
    std::ifstream file("/etc/machine-id");
    std::string id;
    std::getline(file, id);
    if (id.empty()) return id;
    // The id itself must not leave the machine.
    const std::string text = "bayswap logbook on " + id;
    return sha256({reinterpret_cast<const Byte*>(text.data()), text.size()}).hex().substr(0, 16);
  }();
  return token;
}

bool is_foreign(const Entry& entry) {
  return entry.imported || entry.machine != this_machine();
}

void Logbook::Closer::operator()(sqlite3* db) const {
  sqlite3_close(db);
}

Logbook::Logbook(Store& blobs, sqlite3* db, Clock clock)
    : blobs_(&blobs), db_(db), clock_(std::move(clock)) {}

Result<std::int64_t> Logbook::begin(Entry entry, const std::vector<FileChange>& changes) {
  std::vector<NewEntry> one;
  one.push_back({std::move(entry), changes});
  BAYSWAP_TRY(const auto ids, begin_all(std::move(one)));
  return ids.front();
}

Result<std::vector<std::int64_t>> Logbook::begin_all(std::vector<NewEntry> entries) {
  std::vector<std::pair<Digest, Blob>> kept;
  for (auto& [entry, changes] : entries) {
    for (const FileChange& change : changes) {
      LoggedChange logged;
      logged.path = change.path;
      std::tie(logged.before, logged.after) = digests_of(change);
      if (change.before) {
        kept.emplace_back(*logged.before, *change.before);
        logged.before_bytes = change.before->size();
        logged.before_modified = change.before_modified;
      }
      if (change.after) {
        kept.emplace_back(*logged.after, *change.after);
        logged.after_bytes = change.after->size();
        logged.after_modified = change.modified;
      }
      entry.changes.push_back(std::move(logged));
    }
    entry.begun = clock_();
    entry.device = host_name();
    entry.machine = this_machine();
    entry.state = EntryState::begun;
    entry.id = 0;
  }
  BAYSWAP_CHECK(keep_all(kept));
  BAYSWAP_CHECK(insert_all(entries));
  // The index alone would not do: were it lost, nobody would know whose bytes these are.
  const auto record = [&] {
    std::vector<Entry> records;
    records.reserve(entries.size());
    for (const NewEntry& one : entries) records.push_back(one.entry);
    return create_records(*blobs_, records);
  };
  auto recorded = record();
  if (!recorded && recorded.error().code == ErrorCode::unsafe) {
    // The index is after the records: the entries it lacks come in, and ours go after them.
    BAYSWAP_CHECK(erase_all(entries));
    std::vector<std::string> problems;
    BAYSWAP_CHECK(take_over_records(problems));
    BAYSWAP_TRY(std::int64_t last, highest_record(*blobs_));
    BAYSWAP_TRY(const auto newest, this->entries({}, 1));
    if (!newest.empty()) last = std::max(last, newest.front().id);
    const std::int64_t old_first = entries.front().entry.id;
    for (NewEntry& one : entries) {
      one.entry.id = ++last;
      if (one.entry.batch == old_first) one.entry.batch.reset();
    }
    BAYSWAP_CHECK(insert_all(entries));
    recorded = record();
  }
  if (!recorded) {
    (void)erase_all(entries);
    return tl::unexpected(std::move(recorded.error()));
  }
  std::vector<std::int64_t> ids;
  ids.reserve(entries.size());
  for (const NewEntry& one : entries) ids.push_back(one.entry.id);
  return ids;
}

Result<std::int64_t> Logbook::insert(const Entry& entry) {
  std::vector<NewEntry> one;
  one.push_back({entry, {}});
  BAYSWAP_CHECK(insert_all(one));
  return one.front().entry.id;
}

// Sets the ids of those that have none.
Result<void> Logbook::insert_all(std::vector<NewEntry>& entries) {
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (NewEntry& one : entries) {
    if (&one != &entries.front() && !one.entry.batch) one.entry.batch = entries.front().entry.id;
    BAYSWAP_TRY(one.entry.id, insert_rows(one.entry));
  }
  return transaction.commit();
}

Result<void> Logbook::erase_all(const std::vector<NewEntry>& entries) {
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (const NewEntry& one : entries) BAYSWAP_CHECK(erase_rows(one.entry.id));
  return transaction.commit();
}

Result<void> Logbook::finish_all(const std::vector<std::int64_t>& ids) {
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (const std::int64_t id : ids) BAYSWAP_CHECK(finish(id, EntryState::done));
  return transaction.commit();
}

Result<void> Logbook::erase_rows(std::int64_t id) {
  for (const char* statement : {"DELETE FROM change WHERE entry = ?", "DELETE FROM source WHERE entry = ?",
                                "DELETE FROM entry WHERE id = ?"}) {
    BAYSWAP_TRY(Statement row, Statement::prepare(db_.get(), statement));
    BAYSWAP_CHECK(row.bind(1, id).step());
  }
  return {};
}

// Entries that only records know of.
Result<std::size_t> Logbook::take_over_records(std::vector<std::string>& problems) {
  BAYSWAP_TRY(const auto records, read_records(*blobs_, problems));
  BAYSWAP_TRY(const auto known, entries({}, std::numeric_limits<int>::max()));
  std::set<std::int64_t> ids;
  for (const Entry& entry : known) ids.insert(entry.id);
  std::size_t carried = 0;
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (const Entry& record : records) {
    if (ids.contains(record.id)) continue;
    BAYSWAP_CHECK(insert_rows(record));
    ++carried;
  }
  BAYSWAP_CHECK(transaction.commit());
  return carried;
}

// Within a transaction of the caller's.
Result<std::int64_t> Logbook::insert_rows(const Entry& entry) {
  sqlite3* db = db_.get();
  BAYSWAP_TRY(Statement insert,
              Statement::prepare(
                  db,
                  "INSERT INTO entry (kind, state, begun, device, reason, platform, code, title, region, "
                  "revision, from_bay, to_bay, undoes, id, machine, imported, title_id, maker, account, "
                  "place, slot, content, root, batch) "
                  "VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"));
  insert.bind(1, static_cast<std::int64_t>(entry.kind)).bind(2, static_cast<std::int64_t>(entry.state));
  insert.bind(3, entry.begun).bind(4, std::string_view(entry.device)).bind(5, std::string_view(entry.reason));
  if (entry.game) {
    insert.bind(6, tag(entry.game->platform)).bind(7, std::string_view(entry.game->code));
    insert.bind(8, std::string_view(entry.game->title))
        .bind(9, static_cast<std::int64_t>(entry.game->region));
    insert.bind(10, std::int64_t{entry.game->revision});
    insert.bind(17, static_cast<std::int64_t>(entry.game->title_id));
    insert.bind(18, std::string_view(entry.game->maker));
  }
  insert.bind(11, std::string_view(entry.from_bay)).bind(12, std::string_view(entry.to_bay));
  if (entry.undoes) insert.bind(13, *entry.undoes);
  if (entry.id > 0) insert.bind(14, entry.id);  // as its record has it
  insert.bind(15, std::string_view(entry.machine)).bind(16, std::int64_t{entry.imported ? 1 : 0});
  insert.bind(19, std::string_view(entry.account)).bind(20, std::string_view(entry.place));
  insert.bind(21, std::int64_t{entry.slot}).bind(22, std::string_view(entry.content));
  insert.bind(23, std::string_view(entry.root));
  if (entry.batch) insert.bind(24, *entry.batch);
  BAYSWAP_CHECK(insert.step());
  const std::int64_t id = sqlite3_last_insert_rowid(db);
  std::int64_t position = 0;
  for (const std::string& path : entry.from_paths) {
    BAYSWAP_TRY(Statement row, Statement::prepare(db, "INSERT INTO source VALUES (?,?,?)"));
    BAYSWAP_CHECK(row.bind(1, id).bind(2, position++).bind(3, std::string_view(path)).step());
  }
  // Below zero: the folders that were made.
  position = 0;
  for (const std::string& path : entry.made_folders) {
    BAYSWAP_TRY(Statement row, Statement::prepare(db, "INSERT INTO source VALUES (?,?,?)"));
    BAYSWAP_CHECK(row.bind(1, id).bind(2, --position).bind(3, std::string_view(path)).step());
  }
  position = 0;
  for (const LoggedChange& change : entry.changes) {
    const auto hex = [](const std::optional<Digest>& digest) {
      return digest ? std::optional(digest->hex()) : std::nullopt;
    };
    BAYSWAP_TRY(Statement row, Statement::prepare(db, "INSERT INTO change VALUES (?,?,?,?,?,?,?,?,?)"));
    row.bind(1, id).bind(2, position++).bind(3, std::string_view(change.path));
    row.bind(4, hex(change.before)).bind(5, static_cast<std::int64_t>(change.before_bytes));
    if (change.before_modified) row.bind(6, *change.before_modified);
    row.bind(7, hex(change.after)).bind(8, static_cast<std::int64_t>(change.after_bytes));
    if (change.after_modified) row.bind(9, *change.after_modified);
    BAYSWAP_CHECK(row.step());
  }
  return id;
}

Result<void> Logbook::finish(std::int64_t id, EntryState state) {
  BAYSWAP_TRY(Statement update, Statement::prepare(db_.get(), "UPDATE entry SET state = ? WHERE id = ?"));
  BAYSWAP_CHECK(update.bind(1, static_cast<std::int64_t>(state)).bind(2, id).step());
  // Records say "done" by being there: the other ends are rare, and written down.
  if (state == EntryState::cancelled) return remove_record(*blobs_, id);
  if (state != EntryState::cut_short) return {};
  BAYSWAP_TRY(const Entry entry, this->entry(id));
  return write_record(*blobs_, entry);
}

Result<void> Logbook::cut_short(std::int64_t id, const std::vector<std::string>& paths) {
  BAYSWAP_TRY(Entry entry, this->entry(id));
  std::erase_if(entry.changes, [&](const LoggedChange& change) {
    return std::ranges::find(paths, change.path) == paths.end();
  });
  entry.state = EntryState::cut_short;
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  BAYSWAP_CHECK(erase_rows(id));
  BAYSWAP_CHECK(insert_rows(entry));
  BAYSWAP_CHECK(transaction.commit());
  return write_record(*blobs_, entry);
}

Result<std::vector<Entry>> Logbook::select(const std::string& where, const std::vector<std::string>& texts) {
  sqlite3* db = db_.get();
  BAYSWAP_TRY(
      Statement rows,
      Statement::prepare(db,
                         "SELECT id, kind, state, begun, device, reason, platform, code, title, "
                         "region, revision, from_bay, to_bay, undoes, machine, imported, title_id, maker, "
                         "account, place, slot, content, root, batch FROM entry " +
                             where));
  for (std::size_t i = 0; i < texts.size(); ++i)
    rows.bind(static_cast<int>(i + 1), std::string_view(texts[i]));
  std::vector<Entry> entries;
  while (true) {
    BAYSWAP_TRY(const bool more, rows.step());
    if (!more) break;
    Entry entry;
    entry.id = rows.integer(0);
    entry.kind = static_cast<EntryKind>(in_range(rows.integer(1), kind_words));
    entry.state = static_cast<EntryState>(in_range(rows.integer(2), state_words));
    entry.begun = rows.integer(3);
    entry.device = rows.text(4);
    entry.reason = rows.text(5);
    if (const auto platform = platform_from_tag(rows.text(6)))
      entry.game = GameId{
          *platform,
          rows.text(7),
          rows.text(8),
          static_cast<Region>(std::clamp<std::int64_t>(rows.integer(9), 0, static_cast<int>(Region::asia))),
          static_cast<int>(rows.integer(10)),
          static_cast<std::uint64_t>(rows.integer(16)),
          rows.text(17)};
    entry.from_bay = rows.text(11);
    entry.to_bay = rows.text(12);
    if (!rows.is_null(13)) entry.undoes = rows.integer(13);
    entry.machine = rows.text(14);
    entry.imported = rows.integer(15) != 0;
    entry.account = rows.text(18);
    entry.place = rows.text(19);
    entry.slot = static_cast<int>(rows.integer(20));
    entry.content = rows.text(21);
    entry.root = rows.text(22);
    if (!rows.is_null(23)) entry.batch = rows.integer(23);
    BAYSWAP_TRY(
        Statement sources,
        Statement::prepare(db, "SELECT path, position FROM source WHERE entry = ? ORDER BY position"));
    sources.bind(1, entry.id);
    while (true) {
      BAYSWAP_TRY(const bool row, sources.step());
      if (!row) break;
      (sources.integer(1) < 0 ? entry.made_folders : entry.from_paths).push_back(sources.text(0));
    }
    std::ranges::reverse(entry.made_folders);
    BAYSWAP_TRY(Statement changes,
                Statement::prepare(db,
                                   "SELECT path, before, before_bytes, after, after_bytes, before_modified, "
                                   "after_modified FROM change "
                                   "WHERE entry = ? ORDER BY position"));
    changes.bind(1, entry.id);
    while (true) {
      BAYSWAP_TRY(const bool row, changes.step());
      if (!row) break;
      LoggedChange change;
      change.path = changes.text(0);
      BAYSWAP_TRY(change.before, digest_at(changes, 1));
      change.before_bytes = static_cast<std::uint64_t>(changes.integer(2));
      BAYSWAP_TRY(change.after, digest_at(changes, 3));
      change.after_bytes = static_cast<std::uint64_t>(changes.integer(4));
      if (!changes.is_null(5)) change.before_modified = changes.integer(5);
      if (!changes.is_null(6)) change.after_modified = changes.integer(6);
      entry.changes.push_back(std::move(change));
    }
    entries.push_back(std::move(entry));
  }
  return entries;
}

Result<std::vector<Entry>> Logbook::entries(const std::string& what, std::size_t limit) {
  const std::string end = fmt::format(" ORDER BY id DESC LIMIT {}",
                                      std::min<std::size_t>(limit, std::numeric_limits<int>::max()));
  if (what.empty()) return select(end, {});
  // instr over folded(): no wildcards that a title could contain.
  return select(
      "WHERE instr(folded(ifnull(title,'') || char(10) || ifnull(code,'') || char(10) || from_bay || "
      "char(10) "
      "|| to_bay), "
      "folded(?1)) OR id IN (SELECT entry FROM change WHERE instr(folded(path), folded(?1))) "
      "OR id IN (SELECT entry FROM source WHERE instr(folded(path), folded(?1)))" +
          end,
      {what});
}

Result<Entry> Logbook::entry(std::int64_t id) {
  BAYSWAP_TRY(auto found, select(fmt::format("WHERE id = {}", id), {}));
  if (found.empty())
    return fail(ErrorCode::not_found, fmt::format("the logbook has no entry {}", id), "",
                {Remedy::Kind::show_logbook, {}});
  return std::move(found.front());
}

Result<std::optional<Entry>> Logbook::newest() {
  BAYSWAP_TRY(auto found,
              select(fmt::format("WHERE state IN ({},{}) AND kind != {} AND imported = 0 AND machine = ?1 "
                                 "ORDER BY id DESC LIMIT 1",
                                 static_cast<int>(EntryState::done), static_cast<int>(EntryState::cut_short),
                                 static_cast<int>(EntryKind::backup)),
                     {this_machine()}));
  if (found.empty()) return std::nullopt;
  return std::move(found.front());
}

Result<std::vector<Entry>> Logbook::entries_of_batch(std::int64_t first) {
  return select(fmt::format("WHERE batch = {0} OR id = {0} ORDER BY id", first), {});
}

Result<std::optional<Digest>> Logbook::newest_of(const std::string& path) {
  BAYSWAP_TRY(
      Statement row,
      Statement::prepare(db_.get(), "SELECT after FROM change WHERE path = ? ORDER BY entry DESC LIMIT 1"));
  row.bind(1, std::string_view(path));
  BAYSWAP_TRY(const bool found, row.step());
  if (!found) return std::nullopt;
  return digest_at(row, 0);
}

Result<std::map<std::string, std::vector<FileWrite>>> Logbook::writes() {
  BAYSWAP_TRY(
      Statement rows,
      Statement::prepare(
          db_.get(),
          fmt::format("SELECT change.path, entry.id, begun, from_bay, place, content, after FROM change JOIN "
                      "entry ON entry.id = change.entry WHERE imported = 0 AND machine IN ('', ?1) AND state "
                      "= {} AND kind != {} ORDER BY entry.id DESC",
                      static_cast<int>(EntryState::done), static_cast<int>(EntryKind::backup))));
  rows.bind(1, std::string_view(this_machine()));
  std::map<std::string, std::vector<FileWrite>> writes;
  while (true) {
    BAYSWAP_TRY(const bool more, rows.step());
    if (!more) break;
    FileWrite write{rows.integer(1), rows.integer(2), rows.text(3), rows.text(4), rows.text(5), {}};
    BAYSWAP_TRY(write.after, digest_at(rows, 6));
    writes[rows.text(0)].push_back(std::move(write));
  }
  return writes;
}

Result<bool> Logbook::is_last_written(const std::string& path) {
  BAYSWAP_TRY(Statement row, Statement::prepare(db_.get(),
                                                "SELECT before, after FROM change WHERE path = ? "
                                                "ORDER BY entry DESC LIMIT 1"));
  row.bind(1, std::string_view(path));
  BAYSWAP_TRY(const bool found, row.step());
  if (!found) return false;
  BAYSWAP_TRY(const auto before, digest_at(row, 0));
  BAYSWAP_TRY(const auto after, digest_at(row, 1));
  LocalStore disk;
  const auto bytes = disk.read(path);
  if (!bytes) return false;
  const Digest now = sha256(bytes->view());
  return now == after || now == before;  // the old bytes may have been put back
}

}  // namespace bayswap
