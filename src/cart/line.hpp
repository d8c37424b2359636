// A line to a reader: bytes that go out and come in, perhaps not all of them, perhaps not whole.
#pragma once

#include <bayswap/base.hpp>

#include <memory>

namespace bayswap::cart {

class Line {
 public:
  Line() = default;
  Line(const Line&) = delete;
  Line& operator=(const Line&) = delete;
  virtual ~Line() = default;
  /// Fails with `io` if the line is gone.
  [[nodiscard]] virtual Result<void> write(ByteView bytes) = 0;
  /// Waits until something comes, at most so long. Returns how many bytes came: 0 if the time is over. Fails
  /// as write.
  [[nodiscard]] virtual Result<std::size_t> read(std::span<Byte> into, int timeout_ms) = 0;
};

/// Opens a serial device, "/dev/ttyACM0", or a pseudo-terminal: 8N1, raw, alone. Fails with `not_found` if it
/// is not there, `busy` if another program still has it after three seconds, `io` otherwise.
[[nodiscard]] Result<std::unique_ptr<Line>> open_serial(const std::string& device);

}  // namespace bayswap::cart
