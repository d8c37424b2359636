#include <bayswap/fs.hpp>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <thread>
#include <utility>

#include "base/path.hpp"

namespace bayswap {

namespace {

// Folders of the home are for their owner alone. If one can't be made, opening the file tells why.
void make_private_folders(const std::string& folder) {
  if (mkdir(folder.c_str(), 0700) == 0 || errno != ENOENT) return;
  make_private_folders(folder_of(folder));
  (void)mkdir(folder.c_str(), 0700);
}

}  // namespace

Result<FileLock> FileLock::acquire(const std::string& path, int wait_seconds,
                                   const std::function<void()>& on_wait) {
  make_private_folders(folder_of(path));
  const int fd = open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600);
  if (fd < 0)
    return fail(ErrorCode::io, fmt::format("{}: cannot be locked: {}", path, std::strerror(errno)),
                "check the permissions of that folder, or use another one", {Remedy::Kind::home, {}});
  FileLock lock(fd);
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(wait_seconds);
  for (bool waited = false;; waited = true) {
    if (flock(fd, LOCK_EX | LOCK_NB) == 0) return lock;
    if (errno == EINTR) continue;
    if (errno != EWOULDBLOCK)
      return fail(ErrorCode::io, fmt::format("{}: cannot be locked: {}", path, std::strerror(errno)),
                  "the file system has no locks, or none left: put the home folder on another one",
                  {Remedy::Kind::home, {}});
    if (!waited && on_wait) on_wait();
    if (std::chrono::steady_clock::now() >= until)
      return fail(ErrorCode::busy, "another Bay Swap is using this home folder",
                  "nothing was changed; try again when it has ended");
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
}

FileLock::FileLock(FileLock&& other) noexcept : handle_(std::exchange(other.handle_, -1)) {}
FileLock& FileLock::operator=(FileLock&& other) noexcept {
  std::swap(handle_, other.handle_);
  return *this;
}
FileLock::~FileLock() {
  if (handle_ >= 0) close(handle_);
}

}  // namespace bayswap
