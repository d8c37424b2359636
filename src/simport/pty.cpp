#include "simport/pty.hpp"

#include <fcntl.h>
#include <poll.h>
#include <termios.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <utility>

namespace bayswap::simport {

Result<Pty> Pty::open() {
  const auto failed = [](int fd) {
    const std::string why = std::strerror(errno);
    if (fd >= 0) close(fd);
    return fail(ErrorCode::io, "no pseudo-terminal can be opened: " + why, "are there many open already?");
  };
  const int fd = posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
  std::array<char, 128> name{};
  if (fd < 0 || grantpt(fd) != 0 || unlockpt(fd) != 0 || ptsname_r(fd, name.data(), name.size()) != 0)
    return failed(fd);
  const int other_end = ::open(name.data(), O_RDWR | O_NOCTTY | O_CLOEXEC);
  if (other_end < 0) return failed(fd);
  termios settings{};
  tcgetattr(other_end, &settings);
  cfmakeraw(&settings);
  tcsetattr(other_end, TCSANOW, &settings);
  return Pty(fd, other_end, name.data());
}

Pty::Pty(Pty&& other) noexcept
    : fd_(std::exchange(other.fd_, -1)),
      other_end_(std::exchange(other.other_end_, -1)),
      path_(std::move(other.path_)) {}

Pty::~Pty() {
  if (other_end_ >= 0) close(other_end_);
  if (fd_ >= 0) close(fd_);
}

bool Pty::write(ByteView bytes) const {
  while (!bytes.empty()) {
    const ssize_t done = ::write(fd_, bytes.data(), bytes.size());
    if (done > 0) {
      bytes = bytes.subspan(static_cast<std::size_t>(done));
      continue;
    }
    if (errno != EAGAIN && errno != EINTR) return false;
    pollfd waiting{fd_, POLLOUT, 0};
    poll(&waiting, 1, 1000);
  }
  return true;
}

std::vector<Byte> Pty::read() const {
  std::vector<Byte> bytes(65536);
  const ssize_t came = ::read(fd_, bytes.data(), bytes.size());
  bytes.resize(came > 0 ? static_cast<std::size_t>(came) : 0);
  return bytes;
}

}  // namespace bayswap::simport
