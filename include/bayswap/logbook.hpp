// The logbook: every version ever replaced or written, with when, where from and why.
#pragma once

#include <bayswap/fs.hpp>
#include <bayswap/save.hpp>

#include <functional>
#include <memory>

struct sqlite3;

namespace bayswap {

/// Seconds since 1970, UTC.
using Clock = std::function<std::int64_t()>;
[[nodiscard]] Clock system_clock();

enum class EntryKind { carry, convert, undo, card, adopt, restore };
enum class EntryState {
  begun,  // under way, or its process died before anyone looked
  done,
  cancelled,  // nothing was changed
  cut_short,  // some of the files may have been changed; undo puts them all back
};
[[nodiscard]] std::string_view to_text(EntryKind kind);
[[nodiscard]] std::string_view to_text(EntryState state);

/// One file that an entry changes. An absent blob means: no such file.
struct FileChange {
  std::string path;  // as the store knows it; absolute for the local disk
  std::optional<Blob> before;
  std::optional<Blob> after;
};

/// The same, as the logbook remembers it.
struct LoggedChange {
  std::string path;
  std::optional<Digest> before;
  std::optional<Digest> after;
  std::uint64_t before_bytes = 0;
  std::uint64_t after_bytes = 0;
};

struct Entry {
  std::int64_t id = 0;
  EntryKind kind{};
  EntryState state{};
  std::int64_t begun = 0;  // seconds since 1970, UTC
  std::string device;      // the host's name
  std::string reason;      // the command, in words
  std::optional<GameId> game;
  std::string from_bay;  // empty where there was none
  std::string to_bay;
  std::vector<std::string> from_paths;
  std::optional<std::int64_t> undoes;  // id of the entry that this one takes back
  std::vector<LoggedChange> changes;
};

/// Blobs under their SHA-256 (`blobs/ab/abcdef...`) in a store, and an SQLite index of entries. One process
/// at a time: hold a FileLock.
class Logbook {
 public:
  /// `index` is the path of the SQLite file, or ":memory:". `blobs` must outlive the logbook.
  [[nodiscard]] static Result<Logbook> open(Store& blobs, const std::string& index,
                                            Clock clock = system_clock());
  Logbook(Logbook&&) noexcept = default;
  Logbook& operator=(Logbook&&) noexcept = default;

  /// Puts all bytes of `changes` into the logbook, durably, and opens an entry. Only after this may files be
  /// changed. id, state, begun and changes of `entry` are set here. Gives the id.
  [[nodiscard]] Result<std::int64_t> begin(Entry entry, const std::vector<FileChange>& changes);
  [[nodiscard]] Result<void> finish(std::int64_t id, EntryState state);

  /// Newest first; `what` keeps those whose title, code, bays or paths contain it, in any letter case.
  [[nodiscard]] Result<std::vector<Entry>> entries(const std::string& what = {}, std::size_t limit = 1000);
  /// `not_found` where there is none.
  [[nodiscard]] Result<Entry> entry(std::int64_t id);
  /// The newest entry that changed something; nothing in an empty logbook.
  [[nodiscard]] Result<std::optional<Entry>> newest();

  /// Whether the file holds what the newest entry about it wrote, or put back: then it was us.
  [[nodiscard]] Result<bool> is_last_written(const std::string& path);

  /// Makes the logbook smaller: of each file the newest `keep` entries about it stay (`per_save`), or the
  /// newest `keep` of all; of every file at least one, whatever is said. Bytes that only the removed ones
  /// needed go, too. `damaged`, and nothing removed, where a record can't be read. Gives what was.
  struct Pruned {
    std::size_t entries = 0;
    std::size_t blobs = 0;
    std::uint64_t bytes = 0;
  };
  [[nodiscard]] Result<Pruned> prune(std::size_t keep, bool per_save);
  /// Takes over every entry of another logbook that is not here yet, each blob verified by its digest. Gives
  /// how many.
  [[nodiscard]] Result<std::size_t> merge(Logbook& other);
  /// Every blob and record that is missing or damaged, a sentence each; orphans, which the next prune
  /// removes, go to `notes`.
  [[nodiscard]] Result<std::vector<std::string>> check(std::vector<std::string>& notes);
  /// How many entries were put back from their records, because the index was lost.
  [[nodiscard]] std::size_t rebuilt() const { return rebuilt_; }

  /// The bytes with this digest; `damaged` where they are no longer what was put in.
  [[nodiscard]] Result<Blob> bytes(const Digest& digest);

  /// Settles entries whose process died: looks what their files hold now. Gives those that were cut short.
  [[nodiscard]] Result<std::vector<Entry>> recover(Store& files);

 private:
  struct Closer {
    void operator()(sqlite3* db) const;
  };
  Logbook(Store& blobs, sqlite3* db, Clock clock);
  static std::pair<std::optional<Digest>, std::optional<Digest>> digests_of(const FileChange& change);
  Result<void> keep(const Blob& bytes, const Digest& digest);
  Result<std::int64_t> insert(const Entry& entry);
  Result<void> rebuild();
  Result<std::vector<Entry>> select(const std::string& where, const std::vector<std::string>& texts);

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
