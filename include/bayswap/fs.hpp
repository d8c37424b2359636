// Stores: every access to files goes through one. A file is replaced whole or not at all. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <atomic>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// What a store knows of a file or folder without reading it.
struct FileInfo {
  enum class Kind { file, folder, other };
  std::string name;  // the last component
  Kind kind = Kind::file;
  std::uint64_t size_bytes = 0;   // of a file; like the times, 0 for a folder in a list
  std::int64_t modified = 0;      // seconds since 1970, UTC
  std::uint32_t modified_ns = 0;  // and nanoseconds, if the disk stores them
  bool link = false;              // the name is a symbolic link; the other fields describe its target
  std::uint32_t hard_links = 1;   // number of hard links, its names
};

/// The content of one file before and after a change. Without a blob the file does not exist.
struct FileChange {
  std::string path;  // as the store knows it; absolute in the logbook
  std::optional<Blob> before;
  std::optional<Blob> after;
  // Seconds since 1970: the time to set on the file, and the one it had, if the disk stores times.
  std::optional<std::int64_t> modified = std::nullopt;
  std::optional<std::int64_t> before_modified = std::nullopt;
  /// What the logbook keeps as `before`, where that is a file whose write was cut off: the bytes from before
  /// that write.
  std::optional<Blob> before_cut = std::nullopt;
};

/// The abilities of a store.
struct StoreTraits {
  bool writable = true;         // false for archives, and for past states of bays
  bool atomic_replace = false;  // apply() changes many files the way the local disk does
  bool slow = false;            // as a serial line: not read unasked
  bool one_thread = false;      // it has one connection: not read by several threads at once
};

/// The peculiarities of one file.
struct FileTraits {
  bool may_tear = false;  // an interrupted write can leave neither the old nor the new bytes
  bool runs_on = false;   // a clock, 8 bytes: the time at which it was zero, to within two seconds
};

/// A tree of files. Paths are relative to the store's root, their components joined by '/'. Errors name the
/// file by `display_path(path)`. Several threads may read at once, unless its traits say `one_thread`;
/// changes are for one thread.
class Store {
 public:
  Store() = default;
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;
  virtual ~Store() = default;

  /// Returns what is known of a file or folder; nothing if it does not exist. Fails with `io` if that can't
  /// be determined.
  [[nodiscard]] virtual Result<std::optional<FileInfo>> stat(const std::string& path) = 0;
  /// Returns the entries of a folder, ordered by name; all of them, or an error. Fails with `not_found` if
  /// the folder does not exist. A link whose target does not exist, or is not readable, is an entry of kind
  /// `other`.
  [[nodiscard]] virtual Result<std::vector<FileInfo>> list(const std::string& folder) = 0;
  /// Returns the entries of a folder whose names are `stem`, or `stem` and an extension; as list() does. The
  /// base version lists the folder; where that is dear, only the entries that are returned are looked at.
  [[nodiscard]] virtual Result<std::vector<FileInfo>> list_stem(const std::string& folder,
                                                                std::string_view stem);
  /// Returns up to `count` bytes from offset `at` on; fewer, or none, if the file ends before. Fails with
  /// `not_found`, `io`, `unsafe` for a path out of the root, `bad_usage` for a folder.
  [[nodiscard]] virtual Result<Blob> read_range(const std::string& path, std::uint64_t at,
                                                std::size_t count) = 0;
  /// Writes a whole file durably, replacing an existing one. Makes missing folders below the root, but never
  /// the root. After a failure the old file is unchanged.
  [[nodiscard]] virtual Result<void> replace(const std::string& path, ByteView bytes) = 0;
  /// Writes a new file. Fails with `unsafe` if the file exists.
  [[nodiscard]] virtual Result<void> create(const std::string& path, ByteView bytes) = 0;
  /// Writes a new file whose reader can tell whether it is complete. An interrupted call can leave a part of
  /// it, and it need not be durable before settle() has returned. Fails with `unsafe` if the file exists. The
  /// base version calls create().
  [[nodiscard]] virtual Result<void> add(const std::string& path, ByteView bytes) {
    return create(path, bytes);
  }
  /// Returns when everything that was added is durable.
  [[nodiscard]] virtual Result<void> settle() { return {}; }
  /// Removes a file, durably.
  [[nodiscard]] virtual Result<void> remove(const std::string& path) = 0;
  /// Removes a folder if it is empty; the root never. Returns whether it is gone. The base version removes
  /// nothing.
  [[nodiscard]] virtual Result<bool> remove_empty_folder(const std::string& path) {
    (void)path;
    return false;
  }
  /// Changes each file from its `before` to its `after`, in order, durably. Everything is written and
  /// compared before the first file changes. Fails with `busy` at the first file that has changed in the
  /// meantime, and leaves that one alone. `placed` gets one flag per change: whether the file was changed.
  /// The base version uses the operations above, one file after the other.
  [[nodiscard]] virtual Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed);
  /// Returns whether files can be made and replaced in a folder, as far as permissions show.
  [[nodiscard]] virtual bool may_write(const std::string& folder) = 0;
  [[nodiscard]] virtual StoreTraits traits() const { return {}; }
  [[nodiscard]] virtual FileTraits file_traits(const std::string& path) const {
    (void)path;
    return {};
  }
  /// Returns the path as the user knows it.
  [[nodiscard]] virtual std::string display_path(const std::string& path) const = 0;

  /// Returns a path that identifies the file independent of this store; the logbook uses it.
  [[nodiscard]] virtual std::string absolute_path(const std::string& path) const {
    return display_path(path);
  }
  /// Returns the absolute path of the folder that must exist before anything is written; empty if the store
  /// has no such folder.
  [[nodiscard]] virtual std::string root() const { return {}; }

  /// Confines later changes below the folder `root` (absolute), for a store without a root of its own: a path
  /// that leads out of it through a link is not changed, and `root` is not made. The base version does
  /// nothing.
  virtual void stay_within(const std::string& root) { (void)root; }

  /// Returns the first `count` bytes of a file, all of them if it is shorter.
  [[nodiscard]] Result<Blob> read_head(const std::string& path, std::size_t count) {
    return read_range(path, 0, count);
  }
  /// Returns the whole file. Fails with `does_not_fit` if it is larger than `limit` bytes.
  [[nodiscard]] Result<Blob> read(const std::string& path, std::size_t limit = std::size_t{80} << 20);
  /// Returns the whole file, or nothing if it does not exist.
  [[nodiscard]] Result<std::optional<Blob>> read_if_there(const std::string& path,
                                                          std::size_t limit = std::size_t{80} << 20);
};

/// A folder of the local disk. With an empty root, paths are the system's own, relative to the working
/// folder. Symbolic links are followed to their target, but never out of a root that is not empty (`unsafe`),
/// for reading and for writing. A root that does not exist gives `not_found`; it is never made. The root
/// stays open from its first use on.
class LocalStore final : public Store {
 public:
  /// Who may read new files and folders: as the umask says, or only their owner.
  enum class Privacy { usual, owner_only };
  explicit LocalStore(std::string root = {}, Privacy privacy = Privacy::usual);
  ~LocalStore() override;
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<std::vector<FileInfo>> list_stem(const std::string& folder, std::string_view stem) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> add(const std::string& path, ByteView bytes) override;
  Result<void> settle() override;
  Result<void> remove(const std::string& path) override;
  Result<bool> remove_empty_folder(const std::string& path) override;
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override;
  bool may_write(const std::string& folder) override;
  StoreTraits traits() const override { return {true, true}; }
  std::string display_path(const std::string& path) const override;
  std::string absolute_path(const std::string& path) const override;
  std::string root() const override;
  void stay_within(const std::string& root) override { fences_.push_back(root); }

 private:
  [[nodiscard]] Result<int> open_below(const std::string& path, int flags) const;
  [[nodiscard]] Result<std::vector<FileInfo>> entries_of(const std::string& folder,
                                                         const std::string_view* stem);
  [[nodiscard]] Result<int> root_handle() const;
  [[nodiscard]] Result<std::string> inside(const std::string& path) const;

  std::string root_;
  Privacy privacy_;
  std::vector<std::string> fences_;
  std::string added_;  // the folder of a file that was added and not settled; empty: none
  mutable std::atomic<int> root_handle_{-1};
};

/// Files in memory, for tests and dry runs. A folder exists if a file in it does. Not for several threads at
/// once while one changes it.
class MemoryStore final : public Store {
 public:
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  std::string display_path(const std::string& path) const override { return path; }

  [[nodiscard]] const std::map<std::string, Blob>& files() const { return files_; }

 private:
  std::map<std::string, Blob> files_;
};

/// A lock with one holder at a time across processes. Released by the destructor, and when the process ends.
class FileLock {
 public:
  /// Acquires the lock. Makes the folder of `path` if it does not exist, readable by its owner only. Waits up
  /// to `wait_seconds`, and calls `on_wait` once before it waits. Fails with `busy` if another process still
  /// holds the lock, `io` if the file system has no locks.
  [[nodiscard]] static Result<FileLock> acquire(const std::string& path, int wait_seconds,
                                                const std::function<void()>& on_wait = {});
  FileLock(FileLock&& other) noexcept;
  FileLock& operator=(FileLock&& other) noexcept;
  FileLock(const FileLock&) = delete;
  FileLock& operator=(const FileLock&) = delete;
  ~FileLock();

 private:
  explicit FileLock(int handle) : handle_(handle) {}
  int handle_ = -1;
};

/// The paths of Bay Swap's own files.
struct Home {
  std::string bays;      // folder of bay files
  std::string layouts;   // folder of the user's layout files
  std::string data;      // folder of the logbook
  std::string chips;     // file of known chips of games
  std::string titles;    // file of titles by id and code
  std::string accounts;  // file of corresponding accounts of bays
  std::string pairs;     // file of saves paired with ROMs
  std::string states;    // folder of the user's state maps
  std::string sheets;    // folder of the user's sheets

  /// Returns the paths with everything under `folder`.
  [[nodiscard]] static Home under(const std::string& folder);
  /// Returns the paths of this user: under BAYSWAP_HOME, or else in the XDG folders. Fails with `bad_usage`
  /// if neither these nor HOME are set.
  [[nodiscard]] static Result<Home> of_user();
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
