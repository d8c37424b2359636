#include <bayswap/logbook.hpp>

#include <fmt/format.h>
#include <unistd.h>
#include <bayswap/compression.hpp>

#include <algorithm>
#include <array>
#include <chrono>
#include <limits>
#include <thread>

#include "base/try.hpp"
#include "logbook/record.hpp"
#include "logbook/sql.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 6> kind_words{"carry", "convert", "undo", "card", "adopt", "restore"};
constexpr std::array<std::string_view, 4> state_words{"begun", "done", "cancelled", "cut short"};

constexpr const char* schema = R"sql(
CREATE TABLE IF NOT EXISTS entry (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind INTEGER NOT NULL, state INTEGER NOT NULL, begun INTEGER NOT NULL,
  device TEXT NOT NULL, reason TEXT NOT NULL,
  platform TEXT, code TEXT, title TEXT, region INTEGER, revision INTEGER,
  from_bay TEXT NOT NULL, to_bay TEXT NOT NULL, undoes INTEGER);
CREATE TABLE IF NOT EXISTS source (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS change (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  before TEXT, before_bytes INTEGER NOT NULL, after TEXT, after_bytes INTEGER NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID;
PRAGMA user_version = 1;
)sql";

constexpr std::size_t most_blob_bytes = std::size_t{256} << 20;

std::string blob_path(const Digest& digest) {
  const std::string hex = digest.hex();
  return fmt::format("blobs/{}/{}", hex.substr(0, 2), hex);
}

template <std::size_t N>
std::size_t in_range(std::int64_t value, const std::array<std::string_view, N>& words) {
  return value >= 0 && value < static_cast<std::int64_t>(words.size()) ? static_cast<std::size_t>(value) : 0;
}

std::string host_name() {
  std::array<char, 256> text{};
  return gethostname(text.data(), text.size() - 1) == 0 ? text.data() : "";
}

Result<std::optional<Digest>> digest_at(const Statement& row, int column) {
  if (row.is_null(column)) return std::nullopt;
  return digest_from_hex(row.text(column));
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

void Logbook::Closer::operator()(sqlite3* db) const {
  sqlite3_close(db);
}

Logbook::Logbook(Store& blobs, sqlite3* db, Clock clock)
    : blobs_(&blobs), db_(db), clock_(std::move(clock)) {}

Result<Logbook> Logbook::open(Store& blobs, const std::string& index, Clock clock) {
  sqlite3* db = nullptr;
  const int code = sqlite3_open_v2(index.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, nullptr);
  Logbook book(blobs, db, std::move(clock));
  if (code != SQLITE_OK)
    return fail(
        ErrorCode::io, fmt::format("{}: the logbook's index can't be opened: {}", index, sqlite3_errmsg(db)),
        "no save was changed; check the permissions of the home folder, or give another one with --home");
  sqlite3_busy_timeout(db, 5000);
  // A commit must be on the disk when it returns: files are replaced on the strength of it. The journal stays
  // and is written over: to make and remove it each time takes the file system longer than all the rest.
  BAYSWAP_CHECK(
      sql_run(db, "PRAGMA synchronous = EXTRA; PRAGMA foreign_keys = ON; PRAGMA journal_mode = PERSIST;"));
  BAYSWAP_TRY(Statement version, Statement::prepare(db, "PRAGMA user_version"));
  BAYSWAP_TRY(const bool has_version, version.step());
  const std::int64_t found = has_version ? version.integer(0) : 0;
  if (found > 1)
    return fail(ErrorCode::unsupported,
                fmt::format("{} was written by a newer Bay Swap (form {})", index, found),
                "use that version, or another home folder");
  if (found == 0) {
    BAYSWAP_TRY(Transaction transaction, Transaction::begin(db));
    BAYSWAP_CHECK(sql_run(db, schema));
    BAYSWAP_CHECK(transaction.commit());
    BAYSWAP_CHECK(book.rebuild());
  }
  return book;
}

namespace {

constexpr std::size_t sample_bytes = std::size_t{8} << 10;
constexpr std::string_view packed_suffix = ".z";

// Noise is not worth packing, and most of a save's bytes tell by its first ones.
bool packs_well(const Blob& bytes) {
  if (bytes.size() < 512) return false;
  const Blob sample = bytes.slice(0, sample_bytes);
  return wrap(Compression::zlib, sample).size() < sample.size() * 9 / 10;
}

}  // namespace

// Digests of large bytes take longer than writing them: two at a time.
std::pair<std::optional<Digest>, std::optional<Digest>> Logbook::digests_of(const FileChange& change) {
  constexpr std::size_t worth_a_thread = std::size_t{256} << 10;
  const auto digest = [](const std::optional<Blob>& bytes) {
    return bytes ? std::optional(sha256(bytes->view())) : std::nullopt;
  };
  if (!change.before || !change.after ||
      std::min(change.before->size(), change.after->size()) < worth_a_thread)
    return {digest(change.before), digest(change.after)};
  std::optional<Digest> before;
  std::jthread helper([&] { before = digest(change.before); });
  const std::optional<Digest> after = digest(change.after);
  helper.join();
  return {before, after};
}

Result<void> Logbook::keep(const Blob& bytes, const Digest& digest) {
  const std::string path = blob_path(digest);
  // Kept before; but a blob that rotted must not pass for a copy.
  BAYSWAP_TRY(const auto there, blobs_->stat(path));
  if (there && there->size_bytes == bytes.size()) {
    if (const auto kept = blobs_->read(path); kept && *kept == bytes) return {};
  } else if (const auto kept = this->bytes(digest); kept && *kept == bytes) {
    return {};
  }
  if (packs_well(bytes)) {
    BAYSWAP_CHECK(blobs_->replace(path + std::string(packed_suffix), wrap(Compression::zlib, bytes).view()));
    // One that is there and is not right would be read first.
    BAYSWAP_TRY(const auto plain, blobs_->stat(path));
    if (plain) BAYSWAP_CHECK(blobs_->remove(path));
    return {};
  }
  BAYSWAP_CHECK(blobs_->replace(path, bytes.view()));
  return {};
}

Result<std::int64_t> Logbook::begin(Entry entry, const std::vector<FileChange>& changes) {
  for (const FileChange& change : changes) {
    LoggedChange logged;
    logged.path = change.path;
    const auto [before, after] = digests_of(change);
    if (change.before) {
      logged.before = before;
      BAYSWAP_CHECK(keep(*change.before, *before));
      logged.before_bytes = change.before->size();
    }
    if (change.after) {
      logged.after = after;
      BAYSWAP_CHECK(keep(*change.after, *after));
      logged.after_bytes = change.after->size();
    }
    entry.changes.push_back(std::move(logged));
  }
  entry.begun = clock_();
  entry.device = host_name();
  entry.state = EntryState::begun;
  BAYSWAP_TRY(const std::int64_t id, insert(entry));
  entry.id = id;
  // The index alone would not do: were it lost, nobody would know whose bytes these are.
  BAYSWAP_CHECK(write_record(*blobs_, entry));
  return id;
}

Result<std::int64_t> Logbook::insert(const Entry& entry) {
  sqlite3* db = db_.get();
  BAYSWAP_TRY(Transaction transaction, Transaction::begin(db));
  BAYSWAP_TRY(Statement insert,
              Statement::prepare(
                  db,
                  "INSERT INTO entry (kind, state, begun, device, reason, platform, code, title, region, "
                  "revision, from_bay, to_bay, undoes, id) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?)"));
  insert.bind(1, static_cast<std::int64_t>(entry.kind)).bind(2, static_cast<std::int64_t>(entry.state));
  insert.bind(3, entry.begun).bind(4, std::string_view(entry.device)).bind(5, std::string_view(entry.reason));
  if (entry.game) {
    insert.bind(6, tag(entry.game->platform)).bind(7, std::string_view(entry.game->code));
    insert.bind(8, std::string_view(entry.game->title))
        .bind(9, static_cast<std::int64_t>(entry.game->region));
    insert.bind(10, std::int64_t{entry.game->revision});
  }
  insert.bind(11, std::string_view(entry.from_bay)).bind(12, std::string_view(entry.to_bay));
  if (entry.undoes) insert.bind(13, *entry.undoes);
  if (entry.id > 0) insert.bind(14, entry.id);  // as its record has it
  BAYSWAP_CHECK(insert.step());
  const std::int64_t id = sqlite3_last_insert_rowid(db);
  std::int64_t position = 0;
  for (const std::string& path : entry.from_paths) {
    BAYSWAP_TRY(Statement row, Statement::prepare(db, "INSERT INTO source VALUES (?,?,?)"));
    BAYSWAP_CHECK(row.bind(1, id).bind(2, position++).bind(3, std::string_view(path)).step());
  }
  position = 0;
  for (const LoggedChange& change : entry.changes) {
    const auto hex = [](const std::optional<Digest>& digest) {
      return digest ? std::optional(digest->hex()) : std::nullopt;
    };
    BAYSWAP_TRY(Statement row, Statement::prepare(db, "INSERT INTO change VALUES (?,?,?,?,?,?,?)"));
    row.bind(1, id).bind(2, position++).bind(3, std::string_view(change.path));
    row.bind(4, hex(change.before)).bind(5, static_cast<std::int64_t>(change.before_bytes));
    row.bind(6, hex(change.after)).bind(7, static_cast<std::int64_t>(change.after_bytes));
    BAYSWAP_CHECK(row.step());
  }
  BAYSWAP_CHECK(transaction.commit());
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

Result<std::vector<Entry>> Logbook::select(const std::string& where, const std::vector<std::string>& texts) {
  sqlite3* db = db_.get();
  BAYSWAP_TRY(Statement rows,
              Statement::prepare(db,
                                 "SELECT id, kind, state, begun, device, reason, platform, code, title, "
                                 "region, revision, from_bay, to_bay, undoes FROM entry " +
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
          *platform, rows.text(7), rows.text(8),
          static_cast<Region>(std::clamp<std::int64_t>(rows.integer(9), 0, static_cast<int>(Region::asia))),
          static_cast<int>(rows.integer(10))};
    entry.from_bay = rows.text(11);
    entry.to_bay = rows.text(12);
    if (!rows.is_null(13)) entry.undoes = rows.integer(13);
    BAYSWAP_TRY(Statement sources,
                Statement::prepare(db, "SELECT path FROM source WHERE entry = ? ORDER BY position"));
    sources.bind(1, entry.id);
    while (true) {
      BAYSWAP_TRY(const bool row, sources.step());
      if (!row) break;
      entry.from_paths.push_back(sources.text(0));
    }
    BAYSWAP_TRY(Statement changes,
                Statement::prepare(db,
                                   "SELECT path, before, before_bytes, after, after_bytes FROM change "
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
  // instr over lower(): no wildcards that a title could contain.
  return select(
      "WHERE instr(lower(ifnull(title,'') || char(10) || ifnull(code,'') || char(10) || from_bay || char(10) "
      "|| to_bay), "
      "lower(?1)) OR id IN (SELECT entry FROM change WHERE instr(lower(path), lower(?1))) "
      "OR id IN (SELECT entry FROM source WHERE instr(lower(path), lower(?1)))" +
          end,
      {what});
}

Result<Entry> Logbook::entry(std::int64_t id) {
  BAYSWAP_TRY(auto found, select(fmt::format("WHERE id = {}", id), {}));
  if (found.empty())
    return fail(ErrorCode::bad_usage, fmt::format("the logbook has no entry {}", id),
                "`bayswap logbook` shows those there are");
  return std::move(found.front());
}

Result<std::optional<Entry>> Logbook::newest() {
  BAYSWAP_TRY(auto found,
              select(fmt::format("WHERE state IN ({},{}) ORDER BY id DESC LIMIT 1",
                                 static_cast<int>(EntryState::done), static_cast<int>(EntryState::cut_short)),
                     {}));
  if (found.empty()) return std::nullopt;
  return std::move(found.front());
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

Result<Blob> Logbook::bytes(const Digest& digest) {
  const std::string path = blob_path(digest);
  BAYSWAP_TRY(const auto plain, blobs_->stat(path));
  if (plain) {
    BAYSWAP_TRY(Blob blob, blobs_->read(path));
    if (sha256(blob.view()) == digest) return blob;
  }
  const std::string packed = path + std::string(packed_suffix);
  BAYSWAP_TRY(const auto there, blobs_->stat(packed));
  if (!plain && !there)
    return fail(ErrorCode::not_found, fmt::format("{} is not in the logbook", blobs_->shown(path)),
                "look for another copy of the logbook: `bayswap logbook import`");
  if (there) {
    BAYSWAP_TRY(const Blob stream, blobs_->read(packed));
    if (const auto blob = read_stream(Compression::zlib, stream, most_blob_bytes);
        blob && sha256(blob->plain.view()) == digest)
      return blob->plain;
  }
  return fail(ErrorCode::damaged,
              fmt::format("{} in the logbook is damaged: its bytes have another digest", blob_path(digest)),
              "no save was changed; look for another copy of the logbook");
}

Result<std::vector<Entry>> Logbook::recover(Store& files) {
  BAYSWAP_TRY(auto open, select(fmt::format("WHERE state = {}", static_cast<int>(EntryState::begun)), {}));
  std::vector<Entry> cut_short;
  for (Entry& entry : open) {
    std::size_t as_before = 0;
    std::size_t as_after = 0;
    for (const LoggedChange& change : entry.changes) {
      BAYSWAP_TRY(const auto info, files.stat(change.path));
      std::optional<Digest> now;
      if (info) {
        BAYSWAP_TRY(const Blob bytes, files.read(change.path));
        now = sha256(bytes.view());
      }
      as_before += now == change.before ? 1 : 0;
      as_after += now == change.after ? 1 : 0;
    }
    entry.state = as_after == entry.changes.size()    ? EntryState::done
                  : as_before == entry.changes.size() ? EntryState::cancelled
                                                      : EntryState::cut_short;
    // Out of its record nothing tells whether the newest entry was finished. Bytes of somebody else's in its
    // files say so.
    if (rebuilt_ > 0 && as_before + as_after < entry.changes.size()) entry.state = EntryState::done;
    BAYSWAP_CHECK(finish(entry.id, entry.state));
    if (entry.state == EntryState::cut_short) cut_short.push_back(std::move(entry));
  }
  return cut_short;
}

}  // namespace bayswap
