#include <bayswap/fs.hpp>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <filesystem>
#include <thread>
#include <utility>

namespace bayswap {

Result<FileLock> FileLock::acquire(const std::string& path, int wait_seconds,
                                   const std::function<void()>& on_wait) {
  std::error_code ignored;  // if the folder can't be made, opening the file tells why
  std::filesystem::create_directories(std::filesystem::path(path).parent_path(), ignored);
  const int fd = open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  if (fd < 0)
    return fail(ErrorCode::io, fmt::format("{}: cannot be locked: {}", path, std::strerror(errno)),
                "check the permissions of that folder, or give another one with --home");
  FileLock lock(fd);
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(wait_seconds);
  for (bool waited = false;; waited = true) {
    if (flock(fd, LOCK_EX | LOCK_NB) == 0) return lock;
    if (errno != EWOULDBLOCK && errno != EINTR)
      return fail(ErrorCode::io, fmt::format("{}: cannot be locked: {}", path, std::strerror(errno)));
    if (!waited && on_wait) on_wait();
    if (std::chrono::steady_clock::now() >= until)
      return fail(ErrorCode::busy, "another Bay Swap is at work on this home folder",
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
