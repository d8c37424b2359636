#include <bayswap/fs.hpp>

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/try.hpp"
#include "fs/beneath.hpp"
#include "fs/os_error.hpp"
#include "fs/staging.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_synced_one_by_one = 16;

FileInfo info_from(std::string name, const struct stat& st) {
  FileInfo info;
  info.name = std::move(name);
  info.kind = S_ISREG(st.st_mode)   ? FileInfo::Kind::file
              : S_ISDIR(st.st_mode) ? FileInfo::Kind::folder
                                    : FileInfo::Kind::other;
  info.size_bytes = static_cast<std::uint64_t>(st.st_size);
  info.modified = st.st_mtim.tv_sec;
  info.modified_ns = static_cast<std::uint32_t>(st.st_mtim.tv_nsec);
  info.hard_links = static_cast<std::uint32_t>(st.st_nlink);
  return info;
}

tl::unexpected<Error> leads_out(const std::string& display_path, const std::string& root) {
  return fail(ErrorCode::unsafe, fmt::format("{} leads out of {} through a link", display_path, root),
              "Bay Swap stays inside the folder; replace the link or use its target as the root");
}

}  // namespace

LocalStore::LocalStore(std::string root, Privacy privacy) : root_(std::move(root)), privacy_(privacy) {}

LocalStore::~LocalStore() {
  if (const int handle = root_handle_; handle >= 0) close(handle);
}

std::string LocalStore::display_path(const std::string& path) const {
  return join_path(root_, path);
}

std::string LocalStore::absolute_path(const std::string& path) const {
  std::error_code ignored;
  return std::filesystem::absolute(display_path(path), ignored).lexically_normal().string();
}

std::string LocalStore::root() const {
  return root_.empty() ? "" : normalized(absolute_path("."));
}

// ---- Reading ------------------------------------------------------------------------------------

Result<int> LocalStore::root_handle() const {
  if (const int known = root_handle_; known >= 0) return known;
  int opened = open(root_.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC);
  if (opened < 0 && (errno == ENOENT || errno == ENOTDIR))
    return fail(ErrorCode::not_found, fmt::format("the folder {} does not exist", root_),
                "plug in the medium it is on, or check the path");
  if (opened < 0) return os_error(errno, "opening it", root_);
  int none = -1;
  if (root_handle_.compare_exchange_strong(none, opened)) return opened;
  close(opened);  // another thread was faster
  return none;
}

Result<int> LocalStore::open_below(const std::string& path, int flags) const {
  const std::string where = display_path(path);
  int fd = -1;
  if (root_.empty()) {
    fd = open(where.empty() ? "." : where.c_str(), flags | O_CLOEXEC);
  } else {
    BAYSWAP_TRY(const int root, root_handle());
    fd = path.starts_with('/') ? -1 : open_beneath(root, path, flags);
    if (fd < 0 && (path.starts_with('/') || errno == EXDEV || errno == ENOSYS || errno == EPERM)) {
      // A link with an absolute target may lead back inside, and older kernels can't tell: the long way.
      const auto real_root = resolved_path(root_);
      const auto real = resolved_path(where);
      if (!real || !real_root) return os_error(errno, "opening it", where);
      if (*real_root != "/" && *real != *real_root && !real->starts_with(*real_root + "/"))
        return leads_out(where, root_);
      fd = open(real->c_str(), flags | O_NOFOLLOW | O_CLOEXEC);
    }
  }
  if (fd < 0) return os_error(errno, "opening it", where);
  return fd;
}

Result<std::optional<FileInfo>> LocalStore::stat(const std::string& path) {
  struct stat st {};
  if (::stat(display_path(path).c_str(), &st) != 0) {
    if (errno == ENOENT || errno == ENOTDIR) return std::nullopt;
    return os_error(errno, "looking at it", display_path(path));
  }
  return info_from(std::string(name_of(path)), st);
}

Result<std::vector<FileInfo>> LocalStore::list(const std::string& folder) {
  return entries_of(folder, nullptr);
}

Result<std::vector<FileInfo>> LocalStore::list_stem(const std::string& folder, std::string_view stem) {
  return entries_of(folder, &stem);
}

// All, or those of one stem.
Result<std::vector<FileInfo>> LocalStore::entries_of(const std::string& folder,
                                                     const std::string_view* stem) {
  const std::string where = display_path(folder);
  BAYSWAP_TRY(const int fd, open_below(folder, O_RDONLY | O_DIRECTORY));
  const std::unique_ptr<DIR, int (*)(DIR*)> dir(fdopendir(fd), &closedir);
  if (!dir) {
    close(fd);
    return os_error(errno, "reading the folder", where);
  }
  std::vector<FileInfo> entries;
  while (true) {
    errno = 0;
    const dirent* entry = readdir(dir.get());
    if (entry == nullptr && errno == EINTR) continue;
    if (entry == nullptr && errno != 0) return os_error(errno, "reading the folder", where);
    if (entry == nullptr) break;
    const std::string_view name = entry->d_name;
    if (name == "." || name == ".." || (stem != nullptr && stem_of(name) != *stem)) continue;
    if (entry->d_type == DT_DIR) {
      entries.push_back({std::string(name), FileInfo::Kind::folder});
      continue;
    }
    struct stat st {};
    bool link = entry->d_type == DT_LNK;
    if (fstatat(fd, entry->d_name, &st, AT_SYMLINK_NOFOLLOW) != 0) {
      if (errno == ENOENT) continue;  // gone meanwhile
      return os_error(errno, "looking at it", join_path(where, name));
    }
    link = S_ISLNK(st.st_mode);
    if (link && fstatat(fd, entry->d_name, &st, 0) != 0) {
      entries.push_back({std::string(name), FileInfo::Kind::other});
    } else {
      entries.push_back(info_from(std::string(name), st));
      if (entries.back().kind == FileInfo::Kind::folder)
        entries.back() = {std::string(name), FileInfo::Kind::folder};
    }
    entries.back().link = link;
  }
  sort_by(entries, &FileInfo::name);
  return entries;
}

Result<Blob> LocalStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  const std::string where = display_path(path);
  // O_NONBLOCK: a pipe or a device must not hold us up; on files it does nothing.
  BAYSWAP_TRY(const int fd, open_below(path, O_RDONLY | O_NONBLOCK));
  const Handle handle(fd);
  struct stat st {};
  if (fstat(handle.get(), &st) != 0) return os_error(errno, "opening it", where);
  if (S_ISDIR(st.st_mode))
    return fail(ErrorCode::bad_usage, fmt::format("{} is a folder, not a file", where), "name a file in it");
  if (!S_ISREG(st.st_mode))
    return fail(ErrorCode::bad_usage, fmt::format("{} is not a regular file", where), "name a file");
  const auto size = static_cast<std::uint64_t>(st.st_size);
  const auto want = static_cast<std::size_t>(std::min<std::uint64_t>(count, at < size ? size - at : 0));
  Buffer buffer(want);
  std::size_t have = 0;
  while (have < want) {
    const ssize_t n =
        pread(handle.get(), buffer.bytes().data() + have, want - have, static_cast<off_t>(at + have));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return os_error(errno, "reading it", where);
    if (n == 0)
      return fail(ErrorCode::io, fmt::format("{} ended after {} of {} bytes", where, at + have, size),
                  "another program is writing it, or the medium is failing; try again");
    have += static_cast<std::size_t>(n);
  }
  return std::move(buffer).freeze(have);
}

// ---- Changing -----------------------------------------------------------------------------------

// Where `path` leads once links are followed; a root that is not empty is never left, and never made.
Result<std::string> LocalStore::inside(const std::string& path) const {
  const std::string where = display_path(path);
  if (!root_.empty()) {
    if (!is_safe_relative(path))
      return fail(ErrorCode::unsafe, fmt::format("'{}' leads out of {}", path, root_),
                  "use a path inside the folder");
    BAYSWAP_CHECK(root_handle());
  }
  // Resolve as much of the path as exists; what does not exist holds no links.
  std::string rest;
  std::string head = where;
  std::optional<std::string> resolved;
  while (!(resolved = resolved_path(head))) {
    if (errno != ENOENT) return os_error(errno, "following its path", where);
    struct stat st {};
    if (lstat(head.c_str(), &st) == 0 && S_ISLNK(st.st_mode))
      return fail(ErrorCode::unsafe, fmt::format("{} is a link to nowhere", head),
                  "repair or remove the link");
    rest = rest.empty() ? std::string(name_of(head)) : join_path(name_of(head), rest);
    const std::string up = folder_of(head);
    if (up == head) return os_error(ENOENT, "following its path", where);
    head = up;
  }
  const std::string found = join_path(*resolved, rest);
  if (!root_.empty()) {
    const auto root = resolved_path(root_);
    if (!root) return os_error(errno, "following its path", root_);
    if (*root != "/" && !found.starts_with(*root + "/")) return leads_out(where, root_);
  }
  for (const std::string& fence : fences_) {
    if (!absolute_path(path).starts_with(fence + "/")) continue;
    const auto root = resolved_path(fence);
    if (!root) return os_error(errno, "looking at it", fence);
    if (!found.starts_with(*root + "/")) return leads_out(where, fence);
  }
  return found;
}

Result<void> LocalStore::apply(std::span<const FileChange> changes, std::vector<bool>& placed) {
  placed.assign(changes.size(), false);
  Staging staging(privacy_ == Privacy::owner_only, changes.size() > max_synced_one_by_one);
  // Files of one folder need their way followed once: a name that is no link leads nowhere else.
  std::string folder;
  std::string real_folder;
  for (const FileChange& change : changes) {
    struct stat st {};
    std::string where;
    const bool is_plain =
        lstat(display_path(change.path).c_str(), &st) != 0 ? errno == ENOENT : S_ISREG(st.st_mode);
    if (is_plain && !real_folder.empty() && folder_of(change.path) == folder &&
        (root_.empty() || is_safe_relative(change.path))) {
      where = join_path(real_folder, name_of(change.path));
    } else {
      BAYSWAP_TRY(where, inside(change.path));
      folder = folder_of(change.path);
      real_folder = is_plain ? folder_of(where) : "";
    }
    BAYSWAP_CHECK(staging.stage({std::move(where), display_path(change.path),
                                 change.before ? Staging::Expected::these_bytes : Staging::Expected::nothing,
                                 change.before ? &*change.before : nullptr,
                                 change.after ? &*change.after : nullptr, change.modified}));
  }
  BAYSWAP_CHECK(staging.compare());
  for (std::size_t i = 0; i < changes.size(); ++i) {
    bool done = false;
    auto committed = staging.commit(i, done);
    placed[i] = done;
    if (!committed) {
      (void)staging.sync_folders();
      return committed;
    }
  }
  return staging.sync_folders();
}

namespace {

Result<void> change_one(bool owner_only, Staging::File file) {
  Staging staging(owner_only, false);
  bool placed = false;
  BAYSWAP_CHECK(staging.stage(std::move(file)));
  BAYSWAP_CHECK(staging.compare());
  BAYSWAP_CHECK(staging.commit(0, placed));
  return staging.sync_folders();
}

}  // namespace

Result<void> LocalStore::replace(const std::string& path, ByteView bytes) {
  BAYSWAP_TRY(std::string where, inside(path));
  const Blob after = Blob::copy_of(bytes);
  return change_one(privacy_ == Privacy::owner_only,
                    {std::move(where), display_path(path), Staging::Expected::anything, nullptr, &after});
}
Result<void> LocalStore::create(const std::string& path, ByteView bytes) {
  BAYSWAP_TRY(std::string where, inside(path));
  const Blob after = Blob::copy_of(bytes);
  return change_one(privacy_ == Privacy::owner_only,
                    {std::move(where), display_path(path), Staging::Expected::nothing, nullptr, &after});
}
Result<void> LocalStore::add(const std::string& path, ByteView bytes) {
  BAYSWAP_TRY(const std::string where, inside(path));
  // One that is there may have been added by a process that was killed before it settled.
  added_ = folder_of(where);
  return add_file(where, display_path(path), bytes, privacy_ == Privacy::owner_only);
}

Result<void> LocalStore::settle() {
  if (added_.empty()) return {};
  BAYSWAP_CHECK(sync_disk_of(added_));
  added_.clear();
  return {};
}

Result<void> LocalStore::remove(const std::string& path) {
  BAYSWAP_TRY(std::string where, inside(path));
  return change_one(false,
                    {std::move(where), display_path(path), Staging::Expected::anything, nullptr, nullptr});
}

Result<bool> LocalStore::remove_empty_folder(const std::string& path) {
  BAYSWAP_TRY(const std::string where, inside(path));
  if (path.empty() || path == "." || where == normalized(root_)) return false;
  return rmdir(where.c_str()) == 0;
}

bool LocalStore::may_write(const std::string& folder) {
  return access(display_path(folder).c_str(), W_OK | X_OK) == 0;
}

}  // namespace bayswap
