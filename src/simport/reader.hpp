// The reader's side of the line protocol, over a slot for cartridges.
#pragma once

#include <functional>

#include "cart/protocol.hpp"

namespace bayswap::simport {

/// What a question comes to: nothing, or why it is refused.
using Refused = std::optional<cart::Refusal>;

/// A slot with a cartridge in it, or none.
class Slot {
 public:
  Slot() = default;
  Slot(const Slot&) = delete;
  Slot& operator=(const Slot&) = delete;
  virtual ~Slot() = default;
  [[nodiscard]] virtual cart::LookAnswer look() = 0;
  [[nodiscard]] virtual Refused power(std::uint16_t millivolts) = 0;
  [[nodiscard]] virtual Refused select(const cart::Select& what, cart::SelectAnswer& said) = 0;
  [[nodiscard]] virtual Refused read(std::uint32_t at, std::span<Byte> into) = 0;
  [[nodiscard]] virtual Refused write(std::uint32_t at, ByteView bytes) = 0;
  [[nodiscard]] virtual Refused erase(std::uint32_t at, std::uint32_t bytes) = 0;
  [[nodiscard]] virtual Refused settle() = 0;
};

class Reader {
 public:
  /// `send` gets the bytes for the line.
  Reader(Slot& slot, std::string name, std::function<void(const std::vector<Byte>&)> send)
      : slot_(&slot), name_(std::move(name)), send_(std::move(send)), frames_(cart::usual_max_body) {}

  /// Bytes off the line; answers what is whole.
  void take(ByteView bytes);
  /// The next piece of a read that goes on. False if there is none.
  bool go_on();
  [[nodiscard]] bool is_reading() const { return reading_.has_value(); }
  /// Tells the host that the question at hand takes a while.
  void still_at_it();

  std::uint32_t usual_rate = 0;
  std::uint16_t silence_ms = 250;

 private:
  void answer_to(const cart::Frame& question);
  [[nodiscard]] std::vector<Byte> act(const cart::Frame& question, Refused& refused);
  [[nodiscard]] Refused same_cartridge(std::uint32_t counter);
  void send(Byte kind, Byte number, std::vector<Byte> body);

  Slot* slot_;
  std::string name_;
  std::function<void(const std::vector<Byte>&)> send_;
  cart::FrameReader frames_;
  std::size_t max_body_ = cart::usual_max_body;
  std::optional<std::uint32_t> session_;
  std::optional<cart::Frame> last_question_;
  cart::Frame last_answer_;
  std::optional<cart::SelectAnswer> selected_;
  struct Reading {
    Byte number = 0;
    cart::Range left;
  };
  std::optional<Reading> reading_;
};

}  // namespace bayswap::simport
