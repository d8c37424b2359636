// Stores: the only way to a disk. A file is replaced whole or not at all.
#pragma once

#include <bayswap/base.hpp>

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace bayswap {

struct FileInfo {
  enum class Kind { file, folder, other };
  std::string name;  // the last component
  Kind kind = Kind::file;
  std::uint64_t size_bytes = 0;   // of a file, as are the dates: a list leaves a folder's out
  std::int64_t modified = 0;      // seconds since 1970, UTC
  std::uint32_t modified_ns = 0;  // and nanoseconds, where the disk keeps them
  bool link = false;              // the name is a symbolic link; the rest is of what it names
};

/// A tree of files. Paths are relative to the store's root, their components joined by '/'. Errors name the
/// file by `shown(path)`.
class Store {
 public:
  Store() = default;
  Store(const Store&) = delete;
  Store& operator=(const Store&) = delete;
  virtual ~Store() = default;

  /// Nothing where there is no such file; an error where that could not be found out.
  [[nodiscard]] virtual Result<std::optional<FileInfo>> stat(const std::string& path) = 0;
  /// The entries of a folder by name; `not_found` where there is no such folder.
  [[nodiscard]] virtual Result<std::vector<FileInfo>> list(const std::string& folder) = 0;
  /// Up to `count` bytes from `at` on; fewer, or none, where the file ends before. `not_found`, `io`;
  /// `bad_usage` for a folder.
  [[nodiscard]] virtual Result<Blob> read_range(const std::string& path, std::uint64_t at,
                                                std::size_t count) = 0;
  /// Writes a file whole, in place of the old one if there is one, durably; folders on the way are made. On
  /// any failure the old file is as it was. `busy` where another process is writing that file.
  [[nodiscard]] virtual Result<void> replace(const std::string& path, ByteView bytes) = 0;
  /// The same, but `unsafe` where the file exists.
  [[nodiscard]] virtual Result<void> create(const std::string& path, ByteView bytes) = 0;
  /// Removes a file, durably.
  [[nodiscard]] virtual Result<void> remove(const std::string& path) = 0;
  /// Whether files can be made and replaced in a folder, as far as permissions tell.
  [[nodiscard]] virtual bool may_write(const std::string& folder) = 0;
  /// The path as the user knows it.
  [[nodiscard]] virtual std::string shown(const std::string& path) const = 0;

  /// The path that names the file from anywhere; the logbook remembers it.
  [[nodiscard]] virtual std::string address(const std::string& path) const { return shown(path); }

  /// The first `count` bytes of a file, all of them where it is shorter.
  [[nodiscard]] Result<Blob> read_head(const std::string& path, std::size_t count) {
    return read_range(path, 0, count);
  }
  /// The whole file; `does_not_fit` where it is over `limit`.
  [[nodiscard]] Result<Blob> read(const std::string& path, std::size_t limit = std::size_t{80} << 20);
};

/// A folder of the local disk. With an empty root, paths are the system's own. Symbolic links are followed to
/// the file they name, and never out of a root that is not empty (`unsafe`).
class LocalStore final : public Store {
 public:
  explicit LocalStore(std::string root = {});
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& folder) override;
  std::string shown(const std::string& path) const override;
  std::string address(const std::string& path) const override;

 private:
  enum class Over { allowed, refused };
  Result<void> write(const std::string& path, ByteView bytes, Over over);
  Result<std::string> inside(const std::string& path) const;

  std::string root_;
};

/// Files in memory, for tests and dry runs. Folders are there when a file in them is.
class MemoryStore final : public Store {
 public:
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return true; }
  std::string shown(const std::string& path) const override { return path; }

  [[nodiscard]] const std::map<std::string, Blob>& files() const { return files_; }

 private:
  std::map<std::string, Blob> files_;
};

/// One holder at a time, across processes; let go when destroyed or when the process dies.
class FileLock {
 public:
  /// Makes the folder of `path` if need be. Waits up to `wait_seconds`; calls `on_wait` once before it starts
  /// waiting. `busy` after that.
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

/// Where Bay Swap keeps its own things.
struct Home {
  std::string bays;      // folder of bay files
  std::string layouts;   // folder of the user's layout files
  std::string data;      // folder of the logbook
  std::string chips;     // file of what was learned about games' chips
  std::string titles;    // file of titles by id and code
  std::string accounts;  // file of which account is whose in another bay

  /// Everything under `folder`.
  [[nodiscard]] static Home under(const std::string& folder);
  /// From BAYSWAP_HOME, else the XDG folders; `bad_usage` where neither these nor HOME are set.
  [[nodiscard]] static Result<Home> of_user();
};

}  // namespace bayswap
