// Serial lines: through libserialport where the system lists the port; a pseudo-terminal, which it does not
// list, as the terminal it is.
#include <fcntl.h>
#include <fmt/format.h>
#include <libserialport.h>
#include <poll.h>
#include <sys/file.h>
#include <termios.h>
#include <unistd.h>
#include <bayswap/cart.hpp>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <optional>
#include <thread>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cart/line.hpp"

namespace bayswap::cart {
namespace {

constexpr int write_timeout_ms = 5000;
constexpr int usual_baud = 115200;

tl::unexpected<Error> gone(const std::string& device, const std::string& why) {
  return fail(ErrorCode::io, fmt::format("{}: the line is gone: {}", printable(device), why),
              "plug the reader in again; what was being written is in the logbook");
}

class PortLine final : public Line {
 public:
  PortLine(sp_port* port, std::string device) : port_(port), device_(std::move(device)) {}
  PortLine(const PortLine&) = delete;
  PortLine& operator=(const PortLine&) = delete;
  ~PortLine() override {
    sp_close(port_);
    sp_free_port(port_);
  }
  Result<void> write(ByteView bytes) override {
    const auto done = sp_blocking_write(port_, bytes.data(), bytes.size(), write_timeout_ms);
    if (done < 0 || static_cast<std::size_t>(done) != bytes.size())
      return gone(device_, "nothing is taken any more");
    return {};
  }
  Result<std::size_t> read(std::span<Byte> into, int timeout_ms) override {
    const auto came =
        sp_blocking_read_next(port_, into.data(), into.size(), static_cast<unsigned>(timeout_ms));
    if (came < 0) return gone(device_, "nothing can be read");
    return static_cast<std::size_t>(came);
  }

 private:
  sp_port* port_;
  std::string device_;
};

class TerminalLine final : public Line {
 public:
  TerminalLine(int fd, std::string device) : fd_(fd), device_(std::move(device)) {}
  TerminalLine(const TerminalLine&) = delete;
  TerminalLine& operator=(const TerminalLine&) = delete;
  // Puts the terminal's settings back: a user may be working in it.
  ~TerminalLine() override {
    if (before_) tcsetattr(fd_, TCSANOW, &*before_);
    close(fd_);
  }
  void restore(const termios& before) { before_ = before; }
  Result<void> write(ByteView bytes) override {
    while (!bytes.empty()) {
      BAYSWAP_TRY(const bool ready, is_ready(POLLOUT, write_timeout_ms));
      if (!ready) return gone(device_, "nothing is taken any more");
      const ssize_t done = ::write(fd_, bytes.data(), bytes.size());
      if (done < 0 && errno != EAGAIN && errno != EINTR) return gone(device_, std::strerror(errno));
      if (done > 0) bytes = bytes.subspan(static_cast<std::size_t>(done));
    }
    return {};
  }
  Result<std::size_t> read(std::span<Byte> into, int timeout_ms) override {
    BAYSWAP_TRY(const bool ready, is_ready(POLLIN, timeout_ms));
    if (!ready) return std::size_t{0};
    const ssize_t came = ::read(fd_, into.data(), into.size());
    if (came < 0 && (errno == EAGAIN || errno == EINTR)) return std::size_t{0};
    if (came < 0) return gone(device_, std::strerror(errno));
    if (came == 0) return gone(device_, "its other end is closed");
    return static_cast<std::size_t>(came);
  }

 private:
  Result<bool> is_ready(short what, int timeout_ms) const {
    pollfd waiting{fd_, what, 0};
    const int count = poll(&waiting, 1, timeout_ms);
    if (count < 0 && errno != EINTR) return gone(device_, std::strerror(errno));
    if (count > 0 && (waiting.revents & what) == 0) return gone(device_, "its other end is closed");
    return count > 0;
  }

  int fd_;
  std::string device_;
  std::optional<termios> before_;
};

Result<std::unique_ptr<Line>> open_terminal(const std::string& device) {
  const int fd = open(device.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
  if (fd < 0)
    return fail(errno == ENOENT  ? ErrorCode::not_found
                : errno == EBUSY ? ErrorCode::busy
                                 : ErrorCode::io,
                fmt::format("{} can't be opened: {}", printable(device), std::strerror(errno)),
                "is the reader plugged in? On most systems the group dialout may use serial lines");
  auto line = std::make_unique<TerminalLine>(fd, device);
  termios settings{};
  if (tcgetattr(fd, &settings) != 0)
    return fail(ErrorCode::bad_usage, fmt::format("{} is no serial line", printable(device)),
                "name the line that the reader is on");
  if (flock(fd, LOCK_EX | LOCK_NB) != 0)
    return fail(ErrorCode::busy, fmt::format("another program uses {}", printable(device)), "close it first");
  line->restore(settings);
  cfmakeraw(&settings);
  cfsetspeed(&settings, B115200);
  settings.c_cflag |= CLOCAL | CREAD;
  if (tcsetattr(fd, TCSANOW, &settings) != 0) return gone(device, std::strerror(errno));
  tcflush(fd, TCIOFLUSH);
  return std::unique_ptr<Line>(std::move(line));
}

Result<std::unique_ptr<Line>> open_once(const std::string& device) {
  sp_port* port = nullptr;
  if (sp_get_port_by_name(device.c_str(), &port) != SP_OK) return open_terminal(device);
  if (sp_open(port, SP_MODE_READ_WRITE) != SP_OK) {
    const int why = errno;
    sp_free_port(port);
    return fail(why == EBUSY ? ErrorCode::busy : ErrorCode::io,
                fmt::format("{} can't be opened: {}", printable(device), std::strerror(why)),
                "close other programs that use it; on most systems the group dialout may use serial lines");
  }
  auto line = std::make_unique<PortLine>(port, device);
  if (sp_set_baudrate(port, usual_baud) != SP_OK || sp_set_bits(port, 8) != SP_OK ||
      sp_set_parity(port, SP_PARITY_NONE) != SP_OK || sp_set_stopbits(port, 1) != SP_OK ||
      sp_set_flowcontrol(port, SP_FLOWCONTROL_NONE) != SP_OK)
    return gone(device, "it can't be set up");
  sp_flush(port, SP_BUF_BOTH);
  return std::unique_ptr<Line>(std::move(line));
}

}  // namespace

Result<std::unique_ptr<Line>> open_serial(const std::string& device) {
  // Systems look what a device is when it is plugged in, and other programs look what it holds.
  constexpr int tries = 30;
  constexpr auto between = std::chrono::milliseconds(100);
  auto line = open_once(device);
  for (int i = 1; i < tries && !line && line.error().code == ErrorCode::busy; ++i) {
    std::this_thread::sleep_for(between);
    line = open_once(device);
  }
  return line;
}

}  // namespace bayswap::cart

namespace bayswap {

std::vector<std::pair<std::string, std::string>> serial_ports() {
  std::vector<std::pair<std::string, std::string>> found;
  sp_port** ports = nullptr;
  if (sp_list_ports(&ports) != SP_OK) return found;
  for (sp_port** one = ports; *one != nullptr; ++one) {
    const char* about = sp_get_port_description(*one);
    found.emplace_back(sp_get_port_name(*one), about == nullptr ? "" : about);
  }
  sp_free_port_list(ports);
  return found;
}

}  // namespace bayswap
