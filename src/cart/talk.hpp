// The host's side of the line protocol: questions asked until they are answered.
#pragma once

#include <chrono>
#include <functional>

#include "cart/line.hpp"
#include "cart/protocol.hpp"

namespace bayswap::cart {

class Talk {
 public:
  /// Gets each piece of a read once, in no order.
  using Take = std::function<void(std::size_t at, ByteView bytes)>;

  explicit Talk(Line& line) : line_(&line), frames_(usual_max_body) {}

  /// Agrees on version and sizes. `session`: another number each time. Fails with `unsupported` if there is
  /// no common version, `io` if nobody answers.
  [[nodiscard]] Result<HelloAnswer> hello(std::uint32_t session);
  /// Asks until there is an answer, and returns its body. Fails as the reader says, and with `io` if it is
  /// silent, if it is still at it after `longest_work`, or once `is_cancelled` says so.
  [[nodiscard]] Result<std::vector<Byte>> ask(Byte kind, const std::vector<Byte>& body);
  /// Reads the whole range; what does not come through is asked for again. Fails as ask, and where less than
  /// 100 bytes a second come.
  [[nodiscard]] Result<void> read(const Range& range, const Take& take);
  /// How many bytes a write may carry.
  [[nodiscard]] std::size_t max_write_bytes() const { return max_body_ - 8; }

  std::function<bool()> is_cancelled = [] { return false; };
  std::chrono::milliseconds longest_work =
      std::chrono::minutes(5);  // of one question: a chip is erased in less
  /// How often something had to be asked again.
  [[nodiscard]] std::size_t repeats() const { return repeats_; }

 private:
  struct Gap {
    std::size_t at = 0;
    std::size_t end = 0;
  };
  using Time = std::chrono::steady_clock::time_point;
  /// The next frame with that number; nothing after a silence, or at `end`, whatever comes until then.
  [[nodiscard]] Result<std::optional<Frame>> receive(Byte number, Time end);
  /// One question of a read. Returns how many bytes came.
  [[nodiscard]] Result<std::size_t> read_once(const Range& range, std::vector<Gap>& gaps, const Take& take,
                                              Time until);
  [[nodiscard]] Result<void> check_cancelled() const;

  Line* line_;
  FrameReader frames_;
  std::size_t max_body_ = usual_max_body;
  int silence_ms_ = 250;
  Byte number_ = 0;
  std::size_t repeats_ = 0;
  bool is_silent_ = false;  // it has not answered any more
  int asked_in_vain_ = 0;   // since then
};

/// Of an answer that can't be understood.
[[nodiscard]] tl::unexpected<Error> nonsense();
/// What the reader refused, as an error with a remedy.
[[nodiscard]] Error error_of(const Refusal& refusal);

}  // namespace bayswap::cart
