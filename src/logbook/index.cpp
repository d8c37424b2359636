// The index of a logbook: an SQLite file of our own making, and of nothing else.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>
#include <bayswap/logbook.hpp>

#include <algorithm>
#include <array>
#include <fstream>

#include "base/text.hpp"
#include "base/try.hpp"
#include "logbook/record.hpp"
#include "logbook/sql.hpp"

namespace bayswap {
namespace {

constexpr std::int64_t schema_version = 3;

// SQLite keeps these texts as they are, so that a file can be told to have exactly our tables.
constexpr std::array<std::string_view, 3> tables{
    R"sql(CREATE TABLE entry (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind INTEGER NOT NULL, state INTEGER NOT NULL, begun INTEGER NOT NULL,
  device TEXT NOT NULL, machine TEXT NOT NULL, imported INTEGER NOT NULL, reason TEXT NOT NULL,
  platform TEXT, code TEXT, title TEXT, region INTEGER, revision INTEGER, title_id INTEGER, maker TEXT,
  account TEXT NOT NULL, place TEXT NOT NULL, slot INTEGER NOT NULL, content TEXT NOT NULL,
  from_bay TEXT NOT NULL, to_bay TEXT NOT NULL, root TEXT NOT NULL, undoes INTEGER, batch INTEGER))sql",
    R"sql(CREATE TABLE source (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID)sql",
    R"sql(CREATE TABLE change (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  before TEXT, before_bytes INTEGER NOT NULL, before_modified INTEGER,
  after TEXT, after_bytes INTEGER NOT NULL, after_modified INTEGER,
  PRIMARY KEY (entry, position)) WITHOUT ROWID)sql"};

// Up to version 2 no times of files were kept.
constexpr std::string_view changes_of_version_2 = R"sql(CREATE TABLE change (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  before TEXT, before_bytes INTEGER NOT NULL, after TEXT, after_bytes INTEGER NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID)sql";
constexpr std::array<std::string_view, 3> tables_of_version_2{tables[0], tables[1], changes_of_version_2};

constexpr std::array<std::string_view, 3> tables_of_version_1{
    R"sql(CREATE TABLE entry (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind INTEGER NOT NULL, state INTEGER NOT NULL, begun INTEGER NOT NULL,
  device TEXT NOT NULL, reason TEXT NOT NULL,
  platform TEXT, code TEXT, title TEXT, region INTEGER, revision INTEGER,
  from_bay TEXT NOT NULL, to_bay TEXT NOT NULL, undoes INTEGER))sql",
    tables[1], changes_of_version_2};

// A journal that names a further one makes SQLite delete files of that name: ours never does.
bool has_foreign_journal(const std::string& index) {
  constexpr std::array<unsigned char, 8> mark{0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7};
  std::ifstream journal(index + "-journal", std::ios::binary | std::ios::ate);
  if (!journal || journal.tellg() < static_cast<std::streamoff>(mark.size())) return false;
  journal.seekg(-static_cast<std::streamoff>(mark.size()), std::ios::end);
  std::array<char, 8> tail{};
  journal.read(tail.data(), tail.size());
  return std::equal(mark.begin(), mark.end(), tail.begin(),
                    [](unsigned char a, char b) { return a == static_cast<unsigned char>(b); });
}

tl::unexpected<Error> not_ours(const std::string& why) {
  return fail(ErrorCode::damaged, fmt::format("the logbook's index is not one that Bay Swap made: {}", why),
              "the kept bytes are still in the logbook's blobs folder; put index.sqlite aside and try again");
}

// The schema may run code when it is used (views, triggers, generated columns): it has to be ours to the
// letter.
Result<void> check_schema(sqlite3* db, const std::array<std::string_view, 3>& wanted) {
  BAYSWAP_TRY(Statement rows, Statement::prepare(db, "SELECT type, name, sql FROM sqlite_schema"));
  std::size_t found = 0;
  while (true) {
    BAYSWAP_TRY(const bool more, rows.step());
    if (!more) break;
    if (rows.text(0) == "table" && rows.text(1) == "sqlite_sequence") continue;
    const std::string sql = rows.text(2);
    if (rows.text(0) != "table" || std::ranges::find(wanted, sql) == wanted.end())
      return not_ours(fmt::format("it has a {} '{}' of its own", rows.text(0), rows.text(1)));
    ++found;
  }
  if (found != wanted.size()) return not_ours("a table is missing");
  return {};
}

Result<std::int64_t> version_of(sqlite3* db) {
  BAYSWAP_TRY(Statement version, Statement::prepare(db, "PRAGMA user_version"));
  BAYSWAP_TRY(const bool has_version, version.step());
  return has_version ? version.integer(0) : 0;
}

}  // namespace

namespace {

void fold_in_sql(sqlite3_context* context, int /*count*/, sqlite3_value** values) {
  const auto* text = reinterpret_cast<const char*>(sqlite3_value_text(values[0]));
  const std::string plain =
      text == nullptr
          ? std::string()
          : folded(std::string_view(text, static_cast<std::size_t>(sqlite3_value_bytes(values[0]))));
  sqlite3_result_text(context, plain.data(), static_cast<int>(plain.size()), SQLITE_TRANSIENT);
}

}  // namespace

Result<Logbook> Logbook::open(Store& blobs, const std::string& index, Clock clock) {
  const bool on_disk = index != ":memory:";
  if (on_disk && has_foreign_journal(index)) return not_ours("its journal names another file");
  // SQLite would make it readable as the umask says.
  if (on_disk)
    if (const int fd = ::open(index.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600); fd >= 0)
      close(fd);
  sqlite3* db = nullptr;
  const int code = sqlite3_open_v2(index.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr);
  Logbook book(blobs, db, std::move(clock));
  if (code != SQLITE_OK)
    return fail(ErrorCode::io,
                fmt::format("{}: the logbook's index can't be opened: {}", index, sqlite3_errmsg(db)),
                "no save was changed; check the permissions of the home folder, or use another one",
                {Remedy::Kind::home, {}});
  sqlite3_busy_timeout(db, 5000);
  if (sqlite3_create_function_v2(db, "folded", 1, SQLITE_UTF8 | SQLITE_DETERMINISTIC | SQLITE_DIRECTONLY,
                                 nullptr, fold_in_sql, nullptr, nullptr, nullptr) != SQLITE_OK)
    return fail(ErrorCode::io, fmt::format("{}: the logbook's index can't be searched", index), "try again");
  for (const auto& [option, value] : {std::pair{SQLITE_DBCONFIG_DEFENSIVE, 1},
                                      {SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0},
                                      {SQLITE_DBCONFIG_ENABLE_TRIGGER, 0},
                                      {SQLITE_DBCONFIG_ENABLE_VIEW, 0}})
    sqlite3_db_config(db, option, value, nullptr);
  // A commit must be on the disk when it returns: files are replaced on the strength of it. The journal stays
  // and is written over: to make and remove it each time takes the file system longer than all the rest.
  BAYSWAP_CHECK(sql_run(db,
                        "PRAGMA locking_mode = EXCLUSIVE; PRAGMA synchronous = EXTRA; PRAGMA foreign_keys = "
                        "ON; PRAGMA journal_mode = PERSIST;"));
  BAYSWAP_CHECK(book.prepare_index());
  return book;
}

// A change of the mode counts with the next statement that reads.
Result<void> Logbook::release() {
  return sql_run(db_.get(), "PRAGMA locking_mode = NORMAL; PRAGMA user_version;");
}
Result<void> Logbook::reacquire() {
  return sql_run(db_.get(), "PRAGMA locking_mode = EXCLUSIVE; PRAGMA user_version;");
}

Result<void> Logbook::prepare_index() {
  BAYSWAP_TRY(const std::int64_t found, version_of(db_.get()));
  if (found > schema_version)
    return fail(ErrorCode::unsupported,
                fmt::format("the logbook's index was written by a newer Bay Swap (form {})", found),
                "use that version, or another home folder");
  if (found == schema_version) return check_schema(db_.get(), tables);
  if (found > 0) return convert_index(found);
  // Whole or not at all: an index with a part of the entries would pass for sound.
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  for (const std::string_view table : tables) BAYSWAP_CHECK(sql_run(db_.get(), std::string(table).c_str()));
  std::vector<std::string> problems;
  BAYSWAP_TRY(auto records, read_records(*blobs_, problems));
  // The newest may be of a process that died, and those of its batch with it: `recover` looks what became of
  // them.
  const auto batch_of = [](const Entry& entry) { return entry.batch.value_or(entry.id); };
  std::size_t together = 0;
  for (auto record = records.rbegin(); record != records.rend() && ++together <= max_together; ++record) {
    constexpr std::int64_t at_once_seconds = 2;
    if (batch_of(*record) != batch_of(records.back())) break;
    // A group is opened at once; what was kept without a change has no end that could be missing.
    if (&*record != &records.back() &&
        (record->kind == EntryKind::backup || record->begun + at_once_seconds < records.back().begun))
      break;
    if (record->state == EntryState::done) record->state = EntryState::begun;
  }
  for (const Entry& record : records) BAYSWAP_CHECK(insert_rows(record));
  BAYSWAP_CHECK(sql_run(db_.get(), fmt::format("PRAGMA user_version = {}", schema_version).c_str()));
  BAYSWAP_CHECK(check_schema(db_.get(), tables));
  BAYSWAP_CHECK(transaction.commit());
  rebuilt_ = records.size();
  return {};
}

// Version 1 knew less of an entry. What has this host's name was made here.
Result<void> Logbook::convert_index(std::int64_t version) {
  BAYSWAP_CHECK(check_schema(db_.get(), version == 1 ? tables_of_version_1 : tables_of_version_2));
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db_.get()));
  BAYSWAP_CHECK(sql_run(db_.get(),
                        "ALTER TABLE entry RENAME TO old_entry; ALTER TABLE source RENAME TO old_source;"
                        "ALTER TABLE change RENAME TO old_change;"));
  for (const std::string_view table : tables) BAYSWAP_CHECK(sql_run(db_.get(), std::string(table).c_str()));
  if (version == 1) {
    BAYSWAP_TRY(
        Statement rows,
        Statement::prepare(
            db_.get(),
            "INSERT INTO entry SELECT id, kind, state, begun, device, iif(device = ?1, ?2, ''), 0, "
            "reason, platform, code, title, region, revision, 0, '', '', '', 0, '', from_bay, to_bay, "
            "'', undoes, NULL FROM old_entry"));
    rows.bind(1, std::string_view(host_name())).bind(2, std::string_view(this_machine()));
    BAYSWAP_CHECK(rows.step());
  } else {
    BAYSWAP_CHECK(sql_run(db_.get(), "INSERT INTO entry SELECT * FROM old_entry"));
  }
  BAYSWAP_CHECK(sql_run(
      db_.get(),
      fmt::format("INSERT INTO source SELECT * FROM old_source;"
                  "INSERT INTO change SELECT entry, position, path, before, before_bytes, NULL, after, "
                  "after_bytes, NULL FROM old_change;"
                  "DROP TABLE old_change; DROP TABLE old_source; DROP TABLE old_entry;"
                  "PRAGMA user_version = {}",
                  schema_version)
          .c_str()));
  BAYSWAP_CHECK(check_schema(db_.get(), tables));
  return transaction.commit();
}

Result<Logbook> Logbook::open_copy(Store& blobs) {
  BAYSWAP_TRY(Logbook book, open(blobs, ":memory:"));
  book.rebuilt_ = 0;  // nothing was lost
  // No process can be working on it: the newest record is of something that ended, too.
  BAYSWAP_CHECK(sql_run(book.db_.get(),
                        fmt::format("UPDATE entry SET state = {} WHERE state = {}",
                                    static_cast<int>(EntryState::done), static_cast<int>(EntryState::begun))
                            .c_str()));
  return book;
}

}  // namespace bayswap
