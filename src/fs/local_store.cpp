#include <bayswap/fs.hpp>

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "base/try.hpp"
#include "fs/handle.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

tl::unexpected<Error> io_error(int number, const std::string& doing, const std::string& shown) {
  const std::string what = fmt::format("{}: {} failed: {}", shown, doing, std::strerror(number));
  switch (number) {
    case ENOENT:
      return fail(ErrorCode::not_found, fmt::format("{} does not exist", shown), "check the path");
    case ENOTDIR:
      return fail(ErrorCode::not_found,
                  fmt::format("{} does not exist: something on the way is a file, not a folder", shown),
                  "check the path");
    case EACCES:
    case EPERM:
      return fail(ErrorCode::io, fmt::format("{}: no permission ({})", shown, doing),
                  "check who owns it and its permissions");
    case EROFS:
      return fail(ErrorCode::io, fmt::format("{} is on a read-only file system", shown),
                  "nothing was changed; mount it writable (or unlock the card) and try again");
    case ENOSPC:
    case EDQUOT:
    case EFBIG:
      return fail(ErrorCode::io, fmt::format("{}: no space left ({})", shown, doing),
                  "nothing was changed; make room there and try again");
    case ENAMETOOLONG:
      return fail(ErrorCode::io, fmt::format("{}: the name is too long for this file system", shown),
                  "use a shorter name");
    case ELOOP:
      return fail(ErrorCode::io, fmt::format("{} is a link that leads in a circle", shown), "mend the link");
    default:
      return fail(ErrorCode::io, what, "nothing was changed; try again when the cause is mended");
  }
}

FileInfo info_from(std::string name, const struct stat& st) {
  FileInfo info;
  info.name = std::move(name);
  info.kind = S_ISREG(st.st_mode)   ? FileInfo::Kind::file
              : S_ISDIR(st.st_mode) ? FileInfo::Kind::folder
                                    : FileInfo::Kind::other;
  info.size_bytes = static_cast<std::uint64_t>(st.st_size);
  info.modified = st.st_mtim.tv_sec;
  info.modified_ns = static_cast<std::uint32_t>(st.st_mtim.tv_nsec);
  return info;
}

// The path with all links followed; nothing, and errno, where that fails.
std::optional<std::string> resolve(const std::string& path) {
  const std::unique_ptr<char, decltype(&std::free)> text(realpath(path.c_str(), nullptr), &std::free);
  return text ? std::optional<std::string>(text.get()) : std::nullopt;
}

int sync_folder(const std::string& folder) {
  const Handle handle(open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!handle.is_open()) return errno;
  // Some file systems can't sync a folder and say EINVAL: there the rename itself is all there is.
  return fsync(handle.get()) == 0 || errno == EINVAL ? 0 : errno;
}

// Makes a folder and those above it, each synced into its parent.
int make_folders(const std::string& folder) {
  struct stat st {};
  if (::stat(folder.c_str(), &st) == 0) return S_ISDIR(st.st_mode) ? 0 : ENOTDIR;
  if (errno != ENOENT) return errno;
  const std::string parent = folder_of(folder);
  if (parent != folder)
    if (const int error = make_folders(parent); error != 0) return error;
  if (mkdir(folder.c_str(), 0777) != 0 && errno != EEXIST) return errno;
  return sync_folder(parent);
}

int write_all(int fd, ByteView bytes) {
  while (!bytes.empty()) {
    const ssize_t n = ::write(fd, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return errno;
    if (n == 0) return ENOSPC;
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
  return 0;
}

std::uint64_t name_hash(
    std::string_view name) {  // FNV-1a: only to give each name a temporary name of its own
  std::uint64_t hash = 0xcbf29ce484222325U;
  for (const char c : name) hash = (hash ^ static_cast<Byte>(c)) * 0x100000001b3U;
  return hash;
}

// A temporary file beside its target, locked while we write it. Its name follows from the target's, so that
// what a killed process left is found and used again.
Result<Handle> open_temporary(const std::string& temporary, const std::string& shown) {
  for (int tries = 0; tries < 100; ++tries) {
    Handle handle(open(temporary.c_str(), O_RDWR | O_CREAT | O_NOFOLLOW | O_CLOEXEC, 0666));
    if (!handle.is_open()) return io_error(errno, "making a temporary file beside it", shown);
    if (flock(handle.get(), LOCK_EX | LOCK_NB) != 0)
      return fail(ErrorCode::busy, fmt::format("{} is being written by another process", shown),
                  "wait for it to end and try again");
    struct stat ours {};
    struct stat there {};
    // Whoever held the lock before may have renamed or removed the file: then it is not ours to write.
    if (fstat(handle.get(), &ours) == 0 && lstat(temporary.c_str(), &there) == 0 &&
        ours.st_ino == there.st_ino && ours.st_dev == there.st_dev && S_ISREG(ours.st_mode) &&
        ours.st_nlink == 1)
      return handle;
  }
  return fail(ErrorCode::busy, fmt::format("{} is being written by another process", shown),
              "wait for it to end and try again");
}

}  // namespace

LocalStore::LocalStore(std::string root) : root_(std::move(root)) {}

std::string LocalStore::shown(const std::string& path) const {
  return join_path(root_, path);
}

std::string LocalStore::address(const std::string& path) const {
  std::error_code ignored;
  return std::filesystem::absolute(shown(path), ignored).lexically_normal().string();
}

Result<std::optional<FileInfo>> LocalStore::stat(const std::string& path) {
  struct stat st {};
  if (::stat(shown(path).c_str(), &st) != 0) {
    if (errno == ENOENT || errno == ENOTDIR) return std::nullopt;
    return io_error(errno, "looking at it", shown(path));
  }
  return info_from(std::string(name_of(path)), st);
}

Result<std::vector<FileInfo>> LocalStore::list(const std::string& folder) {
  const std::string where = shown(folder);
  DIR* dir = opendir(where.empty() ? "." : where.c_str());
  if (dir == nullptr) return io_error(errno, "reading the folder", where);
  std::vector<FileInfo> entries;
  while (const dirent* entry = readdir(dir)) {
    const std::string_view entry_name = entry->d_name;
    if (entry_name == "." || entry_name == "..") continue;
    if (entry->d_type == DT_DIR) {
      entries.push_back({std::string(entry_name), FileInfo::Kind::folder});
      continue;
    }
    struct stat st {};
    if (fstatat(dirfd(dir), entry->d_name, &st, 0) != 0) continue;
    entries.push_back(info_from(std::string(entry_name), st));
    bool link = entry->d_type == DT_LNK;
    if (entry->d_type == DT_UNKNOWN)
      link = fstatat(dirfd(dir), entry->d_name, &st, AT_SYMLINK_NOFOLLOW) == 0 && S_ISLNK(st.st_mode);
    entries.back().link = link;
  }
  closedir(dir);
  std::ranges::sort(entries, {}, &FileInfo::name);
  return entries;
}

Result<Blob> LocalStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  const std::string where = shown(path);
  // O_NONBLOCK: a pipe or a device must not hold us up; on files it does nothing.
  const Handle handle(open(where.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  struct stat st {};
  if (!handle.is_open() || fstat(handle.get(), &st) != 0) return io_error(errno, "opening it", where);
  if (S_ISDIR(st.st_mode))
    return fail(ErrorCode::bad_usage, fmt::format("{} is a folder, not a file", where), "name a file in it");
  if (!S_ISREG(st.st_mode))
    return fail(ErrorCode::bad_usage, fmt::format("{} is no regular file", where), "name a file");
  const auto size = static_cast<std::uint64_t>(st.st_size);
  const auto want = static_cast<std::size_t>(std::min<std::uint64_t>(count, at < size ? size - at : 0));
  Buffer buffer(want);
  std::size_t have = 0;
  while (have < want) {
    const ssize_t n =
        pread(handle.get(), buffer.bytes().data() + have, want - have, static_cast<off_t>(at + have));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return io_error(errno, "reading it", where);
    if (n == 0) break;  // it became shorter meanwhile
    have += static_cast<std::size_t>(n);
  }
  return std::move(buffer).freeze(have);
}

// Where `path` leads once links are followed; a root that is not empty is never left.
Result<std::string> LocalStore::inside(const std::string& path) const {
  const std::string where = shown(path);
  if (!root_.empty() && !is_tame(path))
    return fail(ErrorCode::unsafe, fmt::format("'{}' leads out of {}", path, root_),
                "a path inside the folder is needed");
  // Resolve as much of the path as exists; what does not exist holds no links.
  std::string rest;
  std::string head = where;
  std::optional<std::string> resolved;
  while (!(resolved = resolve(head))) {
    if (errno != ENOENT) return io_error(errno, "following its path", where);
    struct stat st {};
    if (lstat(head.c_str(), &st) == 0 && S_ISLNK(st.st_mode))
      return fail(ErrorCode::unsafe, fmt::format("{} is a link to nowhere", head), "mend or remove the link");
    rest = rest.empty() ? std::string(name_of(head)) : join_path(name_of(head), rest);
    const std::string up = folder_of(head);
    if (up == head) return io_error(ENOENT, "following its path", where);
    head = up;
  }
  const std::string found = join_path(*resolved, rest);
  if (!root_.empty()) {
    const auto root = resolve(root_);
    if (!root) return found;  // the root itself is still to be made
    if (*root != "/" && !found.starts_with(*root + "/"))
      return fail(ErrorCode::unsafe, fmt::format("{} leads out of {} through a link", where, root_),
                  "Bay Swap writes only inside the folder; replace the link or use its target as the root");
  }
  return found;
}

Result<void> LocalStore::write(const std::string& path, ByteView bytes, Over over) {
  BAYSWAP_TRY(const std::string where, inside(path));
  const std::string folder = folder_of(where);
  if (const int error = make_folders(folder); error != 0)
    return io_error(error, "making its folder", shown(path));
  struct stat old {};
  const bool exists = ::stat(where.c_str(), &old) == 0;
  if (exists && !S_ISREG(old.st_mode))
    return fail(ErrorCode::bad_usage,
                fmt::format("{} is {}, not a file", shown(path),
                            S_ISDIR(old.st_mode) ? "a folder" : "a device or pipe"),
                "name a file");
  if (exists && over == Over::refused)
    return fail(ErrorCode::unsafe, fmt::format("{} exists already", shown(path)),
                "choose another name, or say --replace");

  const std::string temporary =
      join_path(folder, fmt::format(".bayswap-{:016x}.tmp", name_hash(name_of(where))));
  BAYSWAP_TRY(const Handle handle, open_temporary(temporary, shown(path)));
  const auto give_up = [&](int error, const char* doing) {
    unlink(temporary.c_str());
    return io_error(error, doing, shown(path));
  };
  if (ftruncate(handle.get(), 0) != 0) return give_up(errno, "writing it");
  if (exists) {
    // The new file belongs to whom the old one did, as far as we may.
    (void)!fchown(handle.get(), old.st_uid, old.st_gid);
    if (fchmod(handle.get(), old.st_mode & 07777) != 0 && errno != EPERM)
      return give_up(errno, "setting its permissions");
  }
  if (const int error = write_all(handle.get(), bytes); error != 0) return give_up(error, "writing it");
  if (fsync(handle.get()) != 0) return give_up(errno, "syncing it to the disk");
  if (over == Over::refused) {
    // Unlike rename, link never takes the place of a file that came up meanwhile.
    if (link(temporary.c_str(), where.c_str()) == 0) {
      unlink(temporary.c_str());
    } else if (errno == EEXIST) {
      unlink(temporary.c_str());
      return fail(ErrorCode::unsafe, fmt::format("{} exists already", shown(path)),
                  "choose another name, or say --replace");
    } else if (access(where.c_str(), F_OK) == 0 || rename(temporary.c_str(), where.c_str()) != 0) {
      return give_up(errno == 0 ? EEXIST : errno, "giving it its name");  // no hard links here (FAT)
    }
  } else if (rename(temporary.c_str(), where.c_str()) != 0) {
    return give_up(errno, "giving it its name");
  }
  if (const int error = sync_folder(folder); error != 0)
    return io_error(error, "syncing its folder", shown(path));
  return {};
}

Result<void> LocalStore::replace(const std::string& path, ByteView bytes) {
  return write(path, bytes, Over::allowed);
}
Result<void> LocalStore::create(const std::string& path, ByteView bytes) {
  return write(path, bytes, Over::refused);
}

bool LocalStore::may_write(const std::string& folder) {
  return access(shown(folder).c_str(), W_OK | X_OK) == 0;
}

Result<void> LocalStore::remove(const std::string& path) {
  BAYSWAP_TRY(const std::string where, inside(path));
  if (unlink(where.c_str()) != 0) return io_error(errno, "removing it", shown(path));
  if (const int error = sync_folder(folder_of(where)); error != 0)
    return io_error(error, "syncing its folder", shown(path));
  return {};
}

}  // namespace bayswap
