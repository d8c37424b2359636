// Frames of the cartridge readers' line protocol (docs/cart-protocol.md).
#pragma once

#include <bayswap/base.hpp>

#include <optional>
#include <vector>

namespace bayswap::cart {

constexpr std::size_t frame_overhead = 6;  // kind, number, CRC-32

struct Frame {
  Byte kind = 0;
  Byte number = 0;
  std::vector<Byte> body;
  [[nodiscard]] bool operator==(const Frame&) const = default;
};

/// Returns the frame as it goes over the line, with the 00 before and after it.
[[nodiscard]] std::vector<Byte> encoded(const Frame& frame);

/// Takes bytes as they come, in pieces of any size, and gives back the frames that came through whole. What
/// did not is counted and dropped.
class FrameReader {
 public:
  /// Bodies over `max_body` bytes are dropped.
  explicit FrameReader(std::size_t max_body) : max_body_(max_body) {}
  void set_max_body(std::size_t bytes) { max_body_ = bytes; }
  void take(ByteView bytes);
  /// The next whole frame; nothing if there is none yet.
  [[nodiscard]] std::optional<Frame> next();
  /// How many frames did not come through.
  [[nodiscard]] std::size_t dropped() const { return dropped_; }

 private:
  void end_frame();

  std::size_t max_body_;
  std::vector<Byte> stuffed_;
  bool too_long_ = false;
  std::vector<Frame> frames_;
  std::size_t given_ = 0;
  std::size_t dropped_ = 0;
};

}  // namespace bayswap::cart
