// A pseudo-terminal whose other end a host opens as the reader's serial line.
#pragma once

#include <bayswap/base.hpp>

#include <string>

namespace bayswap::simport {

class Pty {
 public:
  [[nodiscard]] static Result<Pty> open();
  Pty(Pty&& other) noexcept;
  Pty& operator=(Pty&&) = delete;
  Pty(const Pty&) = delete;
  Pty& operator=(const Pty&) = delete;
  ~Pty();

  [[nodiscard]] const std::string& path() const { return path_; }
  [[nodiscard]] int fd() const { return fd_; }
  /// Everything, however long it takes. False once the line is gone.
  [[nodiscard]] bool write(ByteView bytes) const;
  /// What has come; nothing if nothing has.
  [[nodiscard]] std::vector<Byte> read() const;

 private:
  Pty(int fd, int other_end, std::string path) : fd_(fd), other_end_(other_end), path_(std::move(path)) {}
  int fd_;
  int other_end_;  // held open, so that a host may come and go
  std::string path_;
};

}  // namespace bayswap::simport
