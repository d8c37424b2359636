#include "fs/staging.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/random.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <fstream>

#include "base/path.hpp"
#include "base/try.hpp"
#include "fs/beneath.hpp"
#include "fs/os_error.hpp"

namespace bayswap {
namespace {

std::string random_name() {
  std::uint64_t number = 0;
  while (getrandom(&number, sizeof number, 0) < 0 && errno == EINTR) continue;
  return fmt::format(".bayswap-{:016x}.tmp", number);
}

// The name of an open file that has none of its own.
std::string path_of_handle(const Handle& handle) {
  return fmt::format("/proc/self/fd/{}", handle.get());
}

bool can_name_later() {
  static const bool can = access("/proc/self/fd", X_OK) == 0;
  return can;
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

template <class Call>
auto retried(Call&& call) -> decltype(call()) {
  auto result = call();
  while (result < 0 && errno == EINTR) result = call();
  return result;
}

// Whether the open file holds exactly these bytes; nothing, and errno, if it can't be read.
std::optional<bool> holds(int fd, ByteView bytes) {
  struct stat st {};
  if (fstat(fd, &st) != 0) return std::nullopt;
  if (!S_ISREG(st.st_mode) || static_cast<std::uint64_t>(st.st_size) != bytes.size()) return false;
  std::vector<Byte> piece(std::min<std::size_t>(bytes.size(), std::size_t{256} << 10));
  for (std::size_t at = 0; at < bytes.size();) {
    const std::size_t want = std::min(piece.size(), bytes.size() - at);
    const ssize_t n = retried([&] { return pread(fd, piece.data(), want, static_cast<off_t>(at)); });
    if (n < 0) return std::nullopt;
    if (n == 0) return false;  // it became shorter meanwhile
    const ByteView got = ByteView(piece).first(static_cast<std::size_t>(n));
    if (!std::ranges::equal(got, bytes.subspan(at, got.size()))) return false;
    at += got.size();
  }
  return true;
}

// The same for a name in a folder; false if it is not there, or a link.
std::optional<bool> holds(int folder, const std::string& name, ByteView bytes) {
  const Handle handle(openat(folder, name.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK));
  if (!handle.is_open() && (errno == ENOENT || errno == ELOOP)) return false;
  if (!handle.is_open()) return std::nullopt;
  return holds(handle.get(), bytes);
}

// Whether a program has the file open for writing, or mapped so: what it writes later would be in a file that
// no name leads to. A lease for reading is given only if there is none. False where the system can't tell.
bool is_written_by_others(int folder, const std::string& name) {
  const Handle handle(openat(folder, name.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK));
  if (!handle.is_open()) return false;
  // Who opens it in this very moment makes the kernel send a signal: one that does nothing.
  if (fcntl(handle.get(), F_SETSIG, SIGURG) != 0) return false;
  if (fcntl(handle.get(), F_SETLEASE, F_RDLCK) != 0) return errno == EAGAIN;
  (void)fcntl(handle.get(), F_SETLEASE, F_UNLCK);
  return false;
}

// File systems without these flags answer in several ways.
bool is_no_such_rename(int error) {
  return error == EINVAL || error == ENOSYS || error == EOPNOTSUPP || error == ENOTTY;
}

mode_t usual_mode() {
  static const mode_t mask = [] {
    std::ifstream status("/proc/self/status");  // asking umask() itself would change it for a moment
    for (std::string line; std::getline(status, line);)
      if (line.starts_with("Umask:")) return static_cast<mode_t>(std::strtoul(line.c_str() + 6, nullptr, 8));
    return mode_t{077};
  }();
  return 0666U & ~mask;
}

// Owner, permissions, ACLs and further attributes of the file that is replaced, as far as we may.
int copy_attributes(int folder, const std::string& name, const struct stat& old, int to) {
  (void)!fchown(to, old.st_uid, old.st_gid);
  if (fchmod(to, old.st_mode & 07777) != 0 && errno != EPERM) return errno;
  const Handle from(openat(folder, name.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK));
  if (!from.is_open()) return 0;  // unreadable: the caller has no `before` of it either
  std::vector<char> names(std::size_t{64} << 10);
  const ssize_t size = flistxattr(from.get(), names.data(), names.size());
  for (const char* at = names.data(); at < names.data() + std::max<ssize_t>(size, 0);) {
    const std::string attribute(at);
    at += attribute.size() + 1;
    std::vector<char> value(std::size_t{64} << 10);
    const ssize_t bytes = fgetxattr(from.get(), attribute.c_str(), value.data(), value.size());
    // Not every file system takes every attribute, and some only root may set.
    if (bytes >= 0 &&
        fsetxattr(to, attribute.c_str(), value.data(), static_cast<std::size_t>(bytes), 0) != 0 &&
        (errno == ENOSPC || errno == EDQUOT || errno == EIO))
      return errno;
  }
  return 0;
}

tl::unexpected<Error> changed(const std::string& display_path) {
  return fail(ErrorCode::busy, fmt::format("{} has changed since the plan was made", display_path),
              "close the game that uses it, and try again");
}

tl::unexpected<Error> open_elsewhere(const std::string& display_path) {
  return fail(ErrorCode::busy, fmt::format("another program has {} open to write it", display_path),
              "close the game that uses it, and try again");
}

tl::unexpected<Error> exists_already(const std::string& display_path) {
  return fail(ErrorCode::unsafe, fmt::format("{} exists already", display_path), "choose another name",
              {Remedy::Kind::replace, {}});
}

}  // namespace

Staging::~Staging() {
  for (const Staged& one : staged_)
    if (!one.temporary.empty())
      if (const Handle there = open_folder(one.folder, nullptr, 0); there.is_open())
        unlinkat(there.get(), one.temporary.c_str(), 0);
  // Only those that are empty go.
  for (std::size_t i = made_folders_.size(); i-- > 0;) rmdir(made_folders_[i].c_str());
}

Result<int> Staging::folder(const std::string& path, const std::string& display_path, bool make) {
  if (folder_.is_open() && folder_path_ == path) return folder_.get();
  std::vector<std::string> made;
  Handle opened = open_folder(path, make ? &made : nullptr, owner_only_ ? 0700 : 0777);
  for (const std::string& one : made) dirty_folders_.insert(folder_of(one));
  made_folders_.insert(made_folders_.end(), made.begin(), made.end());
  if (!opened.is_open() && errno == ELOOP)
    return fail(ErrorCode::unsafe, fmt::format("{}: its folder has become a link", display_path),
                "another program is changing that folder; end it and try again");
  if (!opened.is_open()) return os_error(errno, "opening its folder", display_path);
  folder_ = std::move(opened);
  folder_path_ = path;
  return folder_.get();
}

Result<void> Staging::stage(File file) {
  Staged one;
  one.folder = folder_of(file.where);
  one.name = name_of(file.where);
  one.file = std::move(file);
  const std::string& shown = one.file.display_path;
  BAYSWAP_TRY(const int there, folder(one.folder, shown, one.file.after != nullptr));
  struct stat old {};
  const bool exists = fstatat(there, one.name.c_str(), &old, AT_SYMLINK_NOFOLLOW) == 0;
  if (!exists && errno != ENOENT) return os_error(errno, "looking at it", shown);
  if (exists && S_ISLNK(old.st_mode)) return changed(shown);
  if (exists && !S_ISREG(old.st_mode))
    return fail(
        ErrorCode::bad_usage,
        fmt::format("{} is {}, not a file", shown, S_ISDIR(old.st_mode) ? "a folder" : "a device or pipe"),
        "name a file");
  if (exists && one.file.expected == Expected::nothing) return exists_already(shown);
  if (!exists && one.file.expected == Expected::these_bytes) return changed(shown);
  if (one.file.after != nullptr) {
    BAYSWAP_CHECK(write(one, exists ? &old : nullptr));
  }
  staged_.push_back(std::move(one));
  return {};
}

Result<void> Staging::write(Staged& one, const struct stat* old) {
  const std::string& shown = one.file.display_path;
  std::string temporary;
  if (!many_ && !only_named_ && can_name_later())
    one.handle = Handle(openat(folder_.get(), ".", O_RDWR | O_TMPFILE | O_CLOEXEC, 0600));
  one.is_unnamed = one.handle.is_open();
  if (!one.is_unnamed) {
    temporary = random_name();
    constexpr int flags = O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC;
    one.handle = Handle(openat(folder_.get(), temporary.c_str(), flags, 0600));
  }
  if (!one.handle.is_open()) return os_error(errno, "making a temporary file beside it", shown);
  const int fd = one.handle.get();
  const auto give_up = [&](int error, const char* doing) {
    if (!temporary.empty()) unlinkat(folder_.get(), temporary.c_str(), 0);
    return os_error(error, doing, shown);
  };
  if (const int error = write_all(fd, one.file.after->view()); error != 0)
    return give_up(error, "writing it");
  if (old != nullptr) {
    if (const int error = copy_attributes(folder_.get(), one.name, *old, fd); error != 0)
      return give_up(error, "setting its permissions");
  } else if (!owner_only_ && fchmod(fd, usual_mode()) != 0 && errno != EPERM) {
    return give_up(errno, "setting its permissions");
  }
  if (one.file.modified) {
    const timespec time{*one.file.modified, 0};
    const std::array<timespec, 2> times{time, time};
    (void)futimens(fd, times.data());  // not every file system keeps every time
  }
  if (fstat(fd, &one.written) != 0) return give_up(errno, "looking at it");
  one.temporary = temporary;
  if (many_) one.handle = Handle(-1);  // there are fewer descriptors than files
  return {};
}

Result<void> Staging::compare() {
  std::set<dev_t> synced;
  for (Staged& one : staged_) {
    if (one.temporary.empty() && !one.is_unnamed) continue;
    const std::string& shown = one.file.display_path;
    BAYSWAP_TRY(const int there, folder(one.folder, shown, false));
    // One pass over the file system costs less than hundreds of files do.
    const bool done =
        many_ ? !synced.insert(one.written.st_dev).second || retried([&] { return syncfs(there); }) == 0
              : retried([&] { return fsync(one.handle.get()); }) == 0;
    if (!done) return os_error(errno, "syncing it to the disk", shown);
    if (many_) one.handle = Handle(openat(there, one.temporary.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC));
    struct stat now {};
    if (!one.handle.is_open() || fstat(one.handle.get(), &now) != 0)
      return os_error(errno, "reading it back", shown);
    // What the page cache has is what we wrote; what the medium has is the question.
    (void)posix_fadvise(one.handle.get(), 0, 0, POSIX_FADV_DONTNEED);
    const auto same = holds(one.handle.get(), one.file.after->view());
    if (!same) return os_error(errno, "reading it back", shown);
    if (!*same || now.st_ino != one.written.st_ino || now.st_dev != one.written.st_dev)
      return fail(ErrorCode::io, fmt::format("{}: what was read back differs from what was written", shown),
                  "the old file is untouched; the medium may be failing: copy its files elsewhere");
    if (!one.is_unnamed) one.handle = Handle(-1);
  }
  return {};
}

// It gets the name that is asked for, or a temporary one for an exchange.
Result<void> Staging::give_name(Staged& one, int folder) {
  const std::string itself = path_of_handle(one.handle);
  const bool is_new = one.file.expected == Expected::nothing;
  const std::string name = is_new ? one.name : random_name();
  const int error =
      linkat(AT_FDCWD, itself.c_str(), folder, name.c_str(), AT_SYMLINK_FOLLOW) == 0 ? 0 : errno;
  if (error == EEXIST) return exists_already(one.file.display_path);
  one.is_unnamed = false;
  if (error == 0) {
    one.handle = Handle(-1);
    if (!is_new) one.temporary = name;
    return {};
  }
  // Not every file system can: it is written once more, under a name.
  only_named_ = true;
  struct stat old {};
  const bool exists = fstatat(folder, one.name.c_str(), &old, AT_SYMLINK_NOFOLLOW) == 0;
  BAYSWAP_CHECK(write(one, exists ? &old : nullptr));
  if (retried([&] { return fsync(one.handle.get()); }) != 0)
    return os_error(errno, "syncing it to the disk", one.file.display_path);
  (void)posix_fadvise(one.handle.get(), 0, 0, POSIX_FADV_DONTNEED);
  if (!holds(one.handle.get(), one.file.after->view()).value_or(false))
    return fail(ErrorCode::io,
                fmt::format("{}: what was read back differs from what was written", one.file.display_path),
                "the old file is untouched; the medium may be failing: copy its files elsewhere");
  one.handle = Handle(-1);
  return {};
}

Result<void> Staging::commit(std::size_t index, bool& placed) {
  Staged& one = staged_[index];
  BAYSWAP_TRY(const int there, folder(one.folder, one.file.display_path, false));
  dirty_folders_.insert(one.folder);
  made_folders_.clear();  // from now on they are needed
  if (one.file.after == nullptr) return remove(one, there, placed);
  if (one.is_unnamed) {
    BAYSWAP_CHECK(give_name(one, there));
    placed = one.temporary.empty();  // it had no need of another one
    if (placed) return {};
  }
  return one.file.expected == Expected::nothing ? create(one, there, placed) : replace(one, there, placed);
}

// A rename that never takes the place of a file that came up meanwhile.
Result<void> Staging::create(Staged& one, int folder, bool& placed) {
  const char* from = one.temporary.c_str();
  const char* to = one.name.c_str();
  int error = renameat2(folder, from, folder, to, RENAME_NOREPLACE) == 0 ? 0 : errno;
  if (is_no_such_rename(error)) {
    error = linkat(folder, from, folder, to, 0) == 0 ? 0 : errno;
    if (error == 0) {
      placed = true;
      if (unlinkat(folder, from, 0) == 0) one.temporary.clear();
      return {};
    }
    // No hard links either (FAT): look, then rename.
    if (error != EEXIST) {
      struct stat st {};
      error = fstatat(folder, to, &st, AT_SYMLINK_NOFOLLOW) == 0 ? EEXIST
              : renameat(folder, from, folder, to) == 0          ? 0
                                                                 : errno;
    }
  }
  if (error == EEXIST) return exists_already(one.file.display_path);
  if (error != 0) return os_error(error, "giving it its name", one.file.display_path);
  placed = true;
  one.temporary.clear();
  return {};
}

Result<void> Staging::replace(Staged& one, int folder, bool& placed) {
  const char* temporary = one.temporary.c_str();
  const char* name = one.name.c_str();
  const std::string& shown = one.file.display_path;
  if (one.file.expected == Expected::these_bytes) {
    if (renameat2(folder, temporary, folder, name, RENAME_EXCHANGE) == 0) {
      // From here on nothing else can open it: who has it open now is asked first, then what is in it.
      const bool is_used = is_written_by_others(folder, one.temporary);
      const auto was = is_used ? std::optional(false) : holds(folder, one.temporary, one.file.before->view());
      if (was.value_or(false)) {
        placed = true;
        if (unlinkat(folder, temporary, 0) == 0) one.temporary.clear();
        return {};
      }
      // Another program wrote it since the plan was made, or will, or it can't be read: it goes back.
      const int unreadable = was ? 0 : errno;
      if (renameat2(folder, temporary, folder, name, RENAME_EXCHANGE) == 0)
        return is_used           ? open_elsewhere(shown)
               : unreadable == 0 ? changed(shown)
                                 : os_error(unreadable, "reading it", shown);
      placed = true;
      one.temporary.clear();  // never removed: it holds bytes that are nowhere else
      return fail(ErrorCode::io,
                  fmt::format("{} was changed by another program, whose bytes are now in {}", shown,
                              join_path(folder_of(shown), temporary)),
                  "look at both files, and keep the one you want");
    }
    if (errno == ENOENT) return changed(shown);
    if (!is_no_such_rename(errno)) return os_error(errno, "giving it its name", shown);
    const auto as_planned = holds(folder, one.name, one.file.before->view());
    if (!as_planned) return os_error(errno, "reading it", shown);
    if (!*as_planned) return changed(shown);
    if (is_written_by_others(folder, one.name)) return open_elsewhere(shown);
  }
  if (renameat(folder, temporary, folder, name) != 0) return os_error(errno, "giving it its name", shown);
  placed = true;
  one.temporary.clear();
  return {};
}

Result<void> Staging::remove(Staged& one, int folder, bool& placed) {
  const char* name = one.name.c_str();
  const std::string& shown = one.file.display_path;
  if (one.file.expected == Expected::these_bytes) {
    const std::string aside = random_name();
    if (renameat2(folder, name, folder, aside.c_str(), RENAME_NOREPLACE) == 0) {
      const bool is_used = is_written_by_others(folder, aside);
      if (!is_used && holds(folder, aside, one.file.before->view()).value_or(false)) {
        placed = true;
        one.temporary = unlinkat(folder, aside.c_str(), 0) == 0 ? "" : aside;
        return {};
      }
      if (renameat2(folder, aside.c_str(), folder, name, RENAME_NOREPLACE) == 0)
        return is_used ? open_elsewhere(shown) : changed(shown);
      placed = true;
      return fail(ErrorCode::io,
                  fmt::format("{} was changed by another program, whose bytes are now in {}", shown,
                              join_path(folder_of(shown), aside)),
                  "look at both files, and keep the one you want");
    }
    if (errno == ENOENT) return changed(shown);
    if (!is_no_such_rename(errno)) return os_error(errno, "removing it", shown);
    const auto as_planned = holds(folder, one.name, one.file.before->view());
    if (!as_planned) return os_error(errno, "reading it", shown);
    if (!*as_planned) return changed(shown);
    if (is_written_by_others(folder, one.name)) return open_elsewhere(shown);
  }
  if (unlinkat(folder, name, 0) != 0) return os_error(errno, "removing it", shown);
  placed = true;
  return {};
}

Result<void> add_file(const std::string& where, const std::string& display_path, ByteView bytes,
                      bool owner_only) {
  const Handle folder = open_folder(folder_of(where), nullptr, 0);
  std::vector<std::string> made;
  const Handle own =
      folder.is_open() ? Handle(-1) : open_folder(folder_of(where), &made, owner_only ? 0700 : 0777);
  const int there = folder.is_open() ? folder.get() : own.get();
  if (there < 0) return os_error(errno, "opening its folder", display_path);
  const std::string name(name_of(where));
  const Handle file(openat(there, name.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600));
  if (!file.is_open() && errno == EEXIST) return exists_already(display_path);
  if (!file.is_open()) return os_error(errno, "making it", display_path);
  int error = write_all(file.get(), bytes);
  if (error == 0 && !owner_only && fchmod(file.get(), usual_mode()) != 0 && errno != EPERM) error = errno;
  if (error == 0) return {};
  unlinkat(there, name.c_str(), 0);
  return os_error(error, "writing it", display_path);
}

Result<void> sync_disk_of(const std::string& folder) {
  const Handle there = open_folder(folder, nullptr, 0);
  if (!there.is_open() || retried([&] { return syncfs(there.get()); }) != 0)
    return os_error(errno, "syncing its disk", folder);
  return {};
}

Result<void> Staging::sync_folders() {
  for (const std::string& path : dirty_folders_) {
    const Handle there = open_folder(path, nullptr, 0);
    if (!there.is_open()) return os_error(errno, "syncing its folder", path);
    // Some file systems can't sync a folder and say EINVAL: there the rename itself has to do.
    if (retried([&] { return fsync(there.get()); }) != 0 && errno != EINVAL)
      return os_error(errno, "syncing its folder", path);
  }
  dirty_folders_.clear();
  return {};
}

}  // namespace bayswap
