// The logbook: every version that was replaced or written, with its time, source and reason. Belongs to
// bayswap::bayswap.
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

enum class EntryKind { carry, convert, undo, card, carry_file, restore, backup, edit, sync };
enum class EntryState {
  begun,  // in progress, or its process ended early and recover() has not run since
  done,
  cancelled,  // nothing was changed
  cut_short,  // some of the files may have been changed; undo restores them all
};
[[nodiscard]] std::string_view to_text(EntryKind kind);
[[nodiscard]] std::string_view to_text(EntryState state);

/// A FileChange as the logbook stores it.
struct LoggedChange {
  std::string path;
  std::optional<Digest> before;
  std::optional<Digest> after;
  std::uint64_t before_bytes = 0;
  std::uint64_t after_bytes = 0;
  // When the file was last written, in seconds since 1970, if known.
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
  std::string account;   // the save's account; empty if the bay has no accounts
  std::string place;     // distinguishes several saves in one file or tree: a card's entry; may be empty
  int slot = 0;          // 0: none
  std::string content;   // hex digest of the save, the same in every container; empty if unknown
  std::string from_bay;  // empty if there was none
  std::string to_bay;
  std::string root;  // absolute path of the folder that must exist for the changes; empty in old logbooks
  std::vector<std::string> from_paths;
  std::optional<std::int64_t> undoes;  // id of the entry that this one undoes
  std::optional<std::int64_t> batch;   // id of the first entry of the batch it belongs to
  std::vector<LoggedChange> changes;
  /// Absolute paths of the folders that were made for the changes, the outermost first. An undo removes those
  /// that are empty.
  std::vector<std::string> made_folders;
};

/// The effect of one entry on one file.
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
/// Returns whether the entry came from elsewhere: imported, or written by another machine. Do not trust its
/// paths.
[[nodiscard]] bool is_foreign(const Entry& entry);

/// The outcome for an entry whose process ended early.
struct Recovered {
  enum class Outcome {
    done,         // all its files contain what it wrote
    cancelled,    // nothing was changed
    rolled_back,  // some files were changed, and were restored
    cut_short,    // some files may have been changed; undo restores them
    unfinished,   // a file that can tear (FileTraits) has neither the old nor the new bytes: stays open
    still_open    // could not be determined; the next recover() tries again
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
  /// ":memory:" for a temporary one made from the records. Makes a missing index from the records, completely
  /// or not at all, and converts one of an older version. Fails with `damaged` if the file is not such an
  /// index, `unsupported` if a newer Bay Swap wrote it.
  [[nodiscard]] static Result<Logbook> open(Store& blobs, const std::string& index,
                                            Clock clock = system_clock());
  /// Opens an exported or read-only logbook from records and blobs alone. Writes nothing to `blobs`, which
  /// must outlive it.
  [[nodiscard]] static Result<Logbook> open_copy(Store& blobs);
  Logbook(Logbook&&) noexcept = default;
  Logbook& operator=(Logbook&&) noexcept = default;

  /// Stores all bytes of `changes` durably and opens an entry. Change files only after this has returned.
  /// Sets id, state, begun, device, machine and changes of `entry`. Returns the id.
  [[nodiscard]] Result<std::int64_t> begin(Entry entry, const std::vector<FileChange>& changes);
  /// An entry that is to be opened, and its changes.
  struct NewEntry {
    Entry entry;
    std::vector<FileChange> changes;
  };
  /// As begin() for each of `entries`, in this order: all or none of them, with one commit. An entry without
  /// a `batch` after the first one gets the first one's id as its batch. Returns the ids.
  [[nodiscard]] Result<std::vector<std::int64_t>> begin_all(std::vector<NewEntry> entries);
  /// How many entries may be open at once: as many are looked at again if the index was lost.
  static constexpr std::size_t max_together = 128;
  /// Closes an entry with the given state.
  [[nodiscard]] Result<void> finish(std::int64_t id, EntryState state);
  /// Closes entries as done, with one commit.
  [[nodiscard]] Result<void> finish_all(const std::vector<std::int64_t>& ids);
  /// Closes an entry as cut short. Keeps only the changes of `paths`; the others were not made.
  [[nodiscard]] Result<void> cut_short(std::int64_t id, const std::vector<std::string>& paths);

  /// Returns the entries that are still open, the oldest first.
  [[nodiscard]] Result<std::vector<Entry>> unfinished();
  /// Returns entries, the newest first. `what` keeps those whose title, code, bays or paths contain it, in
  /// any letter case.
  [[nodiscard]] Result<std::vector<Entry>> entries(const std::string& what = {}, std::size_t limit = 1000);
  /// Returns an entry. Fails with `not_found` if it does not exist.
  [[nodiscard]] Result<Entry> entry(std::int64_t id);
  /// Returns the entries of a batch, the oldest first: those whose `batch` is `first`, and entry `first`
  /// itself.
  [[nodiscard]] Result<std::vector<Entry>> entries_of_batch(std::int64_t first);
  /// Returns the digest of the file (an absolute path) after its newest entry; nothing if there is no entry,
  /// or no file after it.
  [[nodiscard]] Result<std::optional<Digest>> newest_of(const std::string& path);
  /// Returns the writes of this machine by file (an absolute path), the newest first. Leaves out entries of
  /// kind `keep`.
  [[nodiscard]] Result<std::map<std::string, std::vector<FileWrite>>> writes();
  /// Returns the newest entry of this machine that changed a file; nothing if there is none. Ignores foreign
  /// entries and those of kind `keep`.
  [[nodiscard]] Result<std::optional<Entry>> newest();

  /// Returns whether the file still has the bytes that its newest entry wrote or restored.
  [[nodiscard]] Result<bool> is_last_written(const std::string& path);

  /// The number of entries, blobs and bytes that a prune removed.
  struct Pruned {
    std::size_t entries = 0;
    std::size_t blobs = 0;
    std::uint64_t bytes = 0;
  };
  /// Removes old entries: keeps the newest `keep` of each file (`per_save`) or of all, and at least one of
  /// each file. Also removes blobs that no entry needs, and temporary files of failed runs. With `dry_run`
  /// only returns what it would remove. Fails with `damaged`, and removes nothing, if a record can't be read.
  [[nodiscard]] Result<Pruned> prune(std::size_t keep, bool per_save, bool dry_run = false);
  /// Copies the entries of another logbook that this one does not have, marked as imported; verifies each
  /// blob by its digest. Returns how many.
  [[nodiscard]] Result<std::size_t> merge(Logbook& other);
  /// Returns every blob, record and index row that is missing, damaged or contradicts another, a sentence
  /// each. Adds entries that only have a record to the index, and writes missing records. Adds these, and
  /// orphans, which the next prune removes, to `notes`.
  [[nodiscard]] Result<std::vector<std::string>> check(std::vector<std::string>& notes);
  /// Returns how many entries open() restored from their records because the index was lost.
  [[nodiscard]] std::size_t rebuilt() const { return rebuilt_; }

  /// Lets another process open the logbook, until reacquire() has returned; nothing else may be called in
  /// between. Not while an entry is open. The FileLock is the caller's.
  [[nodiscard]] Result<void> release();
  [[nodiscard]] Result<void> reacquire();

  /// Returns the bytes with this digest. Fails with `damaged` if the stored bytes have another one.
  [[nodiscard]] Result<Blob> bytes(const Digest& digest);

  /// Closes entries whose process ended early: compares their files, and if only some were changed, restores
  /// those. Entries whose files can't be read, or whose medium is missing, stay open. Changes no files of a
  /// foreign entry. Returns one row for each open entry.
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
  [[nodiscard]] Result<void> insert_all(std::vector<NewEntry>& entries);
  [[nodiscard]] Result<void> erase_all(const std::vector<NewEntry>& entries);
  [[nodiscard]] Result<std::int64_t> insert_rows(const Entry& entry);
  [[nodiscard]] Result<void> erase_rows(std::int64_t id);
  [[nodiscard]] Result<std::size_t> take_over_records(std::vector<std::string>& problems);
  [[nodiscard]] Result<std::vector<Entry>> select(const std::string& where,
                                                  const std::vector<std::string>& texts);
  [[nodiscard]] Result<Recovered> recover_one(Entry entry, Store& files);
  [[nodiscard]] Result<void> roll_back(const Entry& entry, Store& files);

  Store* blobs_;
  std::unique_ptr<sqlite3, Closer> db_;
  Clock clock_;
  std::size_t rebuilt_ = 0;
};

/// The catalog of layouts: see layout.hpp.
class Catalog;
/// Returns a description of a change: sizes, the share of bytes that differ and where; of cards which saves,
/// of combined files which parts.
[[nodiscard]] std::string change_in_words(const Catalog& catalog, const std::optional<Blob>& before,
                                          const std::optional<Blob>& after);

}  // namespace bayswap
BAYSWAP_EXPORT_END
