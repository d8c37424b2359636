// The logbook: every version ever replaced or written, with when, where from and why.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/save.hpp>

#include <functional>
#include <map>
#include <memory>
#include <set>

struct sqlite3;

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Seconds since 1970, UTC.
using Clock = std::function<std::int64_t()>;
[[nodiscard]] Clock system_clock();

/// Returns the host's name; empty if it has none.
[[nodiscard]] std::string host_name();

enum class EntryKind { carry, convert, undo, card, adopt, restore, keep, edit, sync };
enum class EntryState {
  begun,  // under way, or its process died before anyone looked
  done,
  cancelled,  // nothing was changed
  cut_short,  // some of the files may have been changed; undo puts them all back
};
[[nodiscard]] std::string_view to_text(EntryKind kind);
[[nodiscard]] std::string_view to_text(EntryState state);

/// A FileChange as the logbook remembers it.
struct LoggedChange {
  std::string path;
  std::optional<Digest> before;
  std::optional<Digest> after;
  std::uint64_t before_bytes = 0;
  std::uint64_t after_bytes = 0;
  // When the file was last written, in seconds since 1970, as far as it was known.
  std::optional<std::int64_t> before_modified = std::nullopt;
  std::optional<std::int64_t> after_modified = std::nullopt;
};

struct Entry {
  std::int64_t id = 0;
  EntryKind kind{};
  EntryState state{};
  std::int64_t begun = 0;  // seconds since 1970, UTC
  std::string device;      // the host's name
  std::string machine;     // this_machine() of the machine that made it; empty in old logbooks
  bool imported = false;   // came from another logbook
  std::string reason;      // the command, in words
  std::optional<GameId> game;
  std::string account;   // whose save; empty if the bay has no accounts
  std::string place;     // which of several saves in one file or tree: a card's entry; may be empty
  int slot = 0;          // 0: none
  std::string content;   // hex digest of the save, the same in every container; empty if unknown
  std::string from_bay;  // empty if there was none
  std::string to_bay;
  std::string root;  // absolute path of the folder that must exist for the changes; empty in old logbooks
  std::vector<std::string> from_paths;
  std::optional<std::int64_t> undoes;  // id of the entry that this one takes back
  std::optional<std::int64_t> batch;   // id of the first entry of the batch it belongs to
  std::vector<LoggedChange> changes;
  /// Absolute paths of the folders that were made for the changes, the outermost first. Taken back with them,
  /// if they are empty then.
  std::vector<std::string> made_folders;
};

/// What one entry did to one file.
struct FileWrite {
  std::int64_t entry = 0;
  std::int64_t begun = 0;       // seconds since 1970, UTC
  std::string from_bay;         // as in Entry
  std::string place;            // as in Entry
  std::string content;          // as in Entry
  std::optional<Digest> after;  // of the whole file; nothing: it was removed
};

/// Returns a token for the machine this process runs on: a digest of /etc/machine-id, or empty if that file
/// can't be read.
[[nodiscard]] const std::string& this_machine();
/// Returns whether the entry was made elsewhere: imported, or written by another machine. Its paths are not
/// to be trusted.
[[nodiscard]] bool is_foreign(const Entry& entry);

/// What became of an entry whose process died.
struct Recovered {
  enum class Outcome {
    done,         // all its files hold what it wrote
    cancelled,    // nothing was changed
    rolled_back,  // some files were changed, and put back
    cut_short,    // some files may have been changed; undo puts them back
    unfinished,   // neither the old nor the new bytes are in a file that can tear (FileTraits): stays open
    still_open    // could not be found out; the next command tries again
  };
  Entry entry;
  Outcome outcome{};
  std::string why;  // for cut_short, unfinished and still_open: a sentence
};

/// Blobs under their SHA-256 (`blobs/ab/abcdef...`) and records (`records/0000000001.toml`) in a store, and
/// an SQLite index of them. One process at a time: hold a FileLock. Not for several threads at once.
class Logbook {
 public:
  /// Opens the logbook in `blobs`, which must outlive it. `index` is the path of the SQLite file, or
  /// ":memory:" for one that is made from the records and thrown away. An index that does not exist is made
  /// from the records, whole or not at all; one of an older version is converted. Fails with `damaged` if the
  /// index is not one of ours, `unsupported` if a newer Bay Swap wrote it.
  [[nodiscard]] static Result<Logbook> open(Store& blobs, const std::string& index,
                                            Clock clock = system_clock());
  /// Opens an exported logbook, or one that can't be written: from records and blobs alone. Nothing is
  /// written to `blobs`.
  [[nodiscard]] static Result<Logbook> open_copy(Store& blobs);
  Logbook(Logbook&&) noexcept = default;
  Logbook& operator=(Logbook&&) noexcept = default;

  /// Puts all bytes of `changes` into the logbook, durably, and opens an entry. Only after this may files be
  /// changed. Sets id, state, begun, device, machine and changes of `entry`. Returns the id.
  [[nodiscard]] Result<std::int64_t> begin(Entry entry, const std::vector<FileChange>& changes);
  [[nodiscard]] Result<void> finish(std::int64_t id, EntryState state);
  /// Ends an entry as cut short. Only the changes of `paths` stay in it: the others were not made.
  [[nodiscard]] Result<void> cut_short(std::int64_t id, const std::vector<std::string>& paths);

  /// Returns the entries that are still open, the oldest first.
  [[nodiscard]] Result<std::vector<Entry>> unfinished();
  /// Returns entries, the newest first. `what` keeps those whose title, code, bays or paths contain it, in
  /// any letter case.
  [[nodiscard]] Result<std::vector<Entry>> entries(const std::string& what = {}, std::size_t limit = 1000);
  /// Fails with `not_found` if it does not exist.
  [[nodiscard]] Result<Entry> entry(std::int64_t id);
  /// Returns the entries of a batch, the oldest first: those whose `batch` is `first`, and entry `first`
  /// itself.
  [[nodiscard]] Result<std::vector<Entry>> entries_of_batch(std::int64_t first);
  /// Returns what the newest entry about the file (an absolute path) left in it; nothing if there is none, or
  /// it left no file.
  [[nodiscard]] Result<std::optional<Digest>> newest_of(const std::string& path);
  /// Returns what this machine wrote, by file (an absolute path), the newest first. Entries that only keep do
  /// not count.
  [[nodiscard]] Result<std::map<std::string, std::vector<FileWrite>>> writes();
  /// Returns the newest entry of this machine that changed something; nothing if there is none. Foreign
  /// entries and those that only keep do not count.
  [[nodiscard]] Result<std::optional<Entry>> newest();

  /// Returns whether the file holds what the newest entry about it wrote, or put back: then it was us.
  [[nodiscard]] Result<bool> is_last_written(const std::string& path);

  /// Makes the logbook smaller: of each file the newest `keep` entries about it stay (`per_save`), or the
  /// newest `keep` of all; of every file at least one in any case. Blobs that no entry needs and temporary
  /// files of failed runs go, too. Fails with `damaged`, and removes nothing, if a record can't be read.
  struct Pruned {
    std::size_t entries = 0;
    std::size_t blobs = 0;
    std::uint64_t bytes = 0;
  };
  /// `dry_run`: says what would go, and removes nothing.
  [[nodiscard]] Result<Pruned> prune(std::size_t keep, bool per_save, bool dry_run = false);
  /// Takes over every entry of another logbook that is not here yet, marked as imported, each blob verified
  /// by its digest. Returns how many.
  [[nodiscard]] Result<std::size_t> merge(Logbook& other);
  /// Returns every blob, record and row of the index that is missing, damaged or contradicts another, a
  /// sentence each. Entries that only a record has are put into the index, entries without a record get one.
  /// Both, and orphans, which the next prune removes, go to `notes`.
  [[nodiscard]] Result<std::vector<std::string>> check(std::vector<std::string>& notes);
  /// Returns how many entries were put back from their records because the index was lost.
  [[nodiscard]] std::size_t rebuilt() const { return rebuilt_; }

  /// Returns the bytes with this digest. Fails with `damaged` if they are no longer what was put in.
  [[nodiscard]] Result<Blob> bytes(const Digest& digest);

  /// Settles entries whose process died: looks what their files hold now, and puts back those that were
  /// changed if others were not. Entries whose files can't be read, or whose medium is away, stay open.
  /// Nothing of a foreign entry is changed. Returns one row for each entry found open.
  [[nodiscard]] Result<std::vector<Recovered>> recover(Store& files);

 private:
  [[nodiscard]] Result<Pruned> would_prune(const std::vector<Entry>& entries,
                                           const std::set<std::int64_t>& going);
  struct Closer {
    void operator()(sqlite3* db) const;
  };
  Logbook(Store& blobs, sqlite3* db, Clock clock);
  [[nodiscard]] Result<void> prepare_index();
  [[nodiscard]] Result<void> convert_index(std::int64_t version);
  [[nodiscard]] Result<void> keep(const Blob& bytes, const Digest& digest);
  [[nodiscard]] Result<void> keep_all(const std::vector<std::pair<Digest, Blob>>& blobs);
  [[nodiscard]] Result<bool> is_kept(const Blob& bytes, const Digest& digest);
  [[nodiscard]] Result<std::int64_t> insert(const Entry& entry);
  [[nodiscard]] Result<std::int64_t> insert_rows(const Entry& entry);
  [[nodiscard]] Result<void> erase_rows(std::int64_t id);
  [[nodiscard]] Result<std::size_t> adopt_records(std::vector<std::string>& problems);
  [[nodiscard]] Result<std::vector<Entry>> select(const std::string& where,
                                                  const std::vector<std::string>& texts);
  [[nodiscard]] Result<Recovered> recover_one(Entry entry, Store& files);
  [[nodiscard]] Result<void> roll_back(const Entry& entry, Store& files);

  Store* blobs_;
  std::unique_ptr<sqlite3, Closer> db_;
  Clock clock_;
  std::size_t rebuilt_ = 0;
};

/// What a change did, in words: sizes, the share of bytes that differ and where; of cards which saves, of
/// combined files which parts.
class Catalog;
[[nodiscard]] std::string change_in_words(const Catalog& catalog, const std::optional<Blob>& before,
                                          const std::optional<Blob>& after);

}  // namespace bayswap
BAYSWAP_EXPORT_END
