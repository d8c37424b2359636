// Changing files of the local disk: everything is written beside its place and compared, then put in place
// file by file.
#pragma once

#include <sys/stat.h>
#include <bayswap/fs.hpp>

#include <set>

#include "fs/handle.hpp"

namespace bayswap {

/// Changes of files, staged, then committed in order. What was not committed is removed by the destructor,
/// folders that were made for it included.
///
/// The temporary files have no name until they are put in place, where the file system can do that: a process
/// that dies leaves none behind. Otherwise, and where there are many, they are called `.bayswap-` and 16
/// random hex digits, and are created exclusively. They are readable by their owner alone while they are
/// written. They are synced, read back from the disk and compared before any file is replaced. A commit then
/// exchanges the two files and looks what came out, so that another program's bytes are noticed however late
/// they were written; where the file system can't exchange, the file is compared right before the rename.
class Staging {
 public:
  /// What a file must hold when it is replaced.
  enum class Expected { anything, nothing, these_bytes };
  struct File {
    std::string where;         // absolute, links resolved
    std::string display_path;  // for errors
    Expected expected{};
    const Blob* before = nullptr;                         // for Expected::these_bytes
    const Blob* after = nullptr;                          // not owned; null: the file is removed
    std::optional<std::int64_t> modified = std::nullopt;  // the time the file gets
  };

  /// `many`: more files follow than are worth a sync each.
  Staging(bool owner_only, bool many) : owner_only_(owner_only), many_(many) {}
  ~Staging();
  Staging(const Staging&) = delete;
  Staging& operator=(const Staging&) = delete;

  [[nodiscard]] Result<void> stage(File file);
  /// Syncs and compares what was staged.
  [[nodiscard]] Result<void> compare();
  /// Puts staged file `index` in its place; `placed` is set once the place has changed.
  [[nodiscard]] Result<void> commit(std::size_t index, bool& placed);
  [[nodiscard]] Result<void> sync_folders();

 private:
  struct Staged {
    File file;
    std::string folder;
    std::string name;
    std::string temporary;    // its name in the folder; empty if there is none
    bool is_unnamed = false;  // `handle` is all that leads to it
    Handle handle{-1};
    struct stat written {};
  };
  [[nodiscard]] Result<int> folder(const std::string& path, const std::string& display_path, bool make);
  [[nodiscard]] Result<void> write(Staged& one, const struct stat* old);
  [[nodiscard]] Result<void> give_name(Staged& one, int folder);
  [[nodiscard]] Result<void> replace(Staged& one, int folder, bool& placed);
  [[nodiscard]] Result<void> create(Staged& one, int folder, bool& placed);
  [[nodiscard]] Result<void> remove(Staged& one, int folder, bool& placed);

  bool owner_only_;
  bool many_;
  bool only_named_ = false;  // the file system makes files without a name, and gives them none later
  std::vector<Staged> staged_;
  std::vector<std::string> made_folders_;
  std::set<std::string> dirty_folders_;
  std::string folder_path_;  // the one that is open
  Handle folder_{-1};
};

/// Writes a new file where it is to be, `where` with links resolved, and makes the folders that are missing.
/// Not synced. A failed one is removed again. Fails with `unsafe` if it exists.
[[nodiscard]] Result<void> add_file(const std::string& where, const std::string& display_path, ByteView bytes,
                                    bool owner_only);
/// Syncs the whole file system that the folder is on.
[[nodiscard]] Result<void> sync_disk_of(const std::string& folder);

}  // namespace bayswap
