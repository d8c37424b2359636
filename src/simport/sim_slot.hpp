// The slot of the simulated reader: one cartridge at a time.
#pragma once

#include "simport/cartridge.hpp"
#include "simport/reader.hpp"

namespace bayswap::simport {

class SimSlot final : public Slot {
 public:
  /// Puts a cartridge in, in the place of the one that is there.
  Result<void> insert(const std::string& folder);
  void remove();
  /// It sits badly: what is read is wrong, and differs each time. The reader sees it, or does not.
  enum class Seat { well, badly, crooked };
  void seat(Seat how) { seat_ = how; }
  [[nodiscard]] Cartridge* cartridge() const { return cartridge_.get(); }

  [[nodiscard]] cart::LookAnswer look() override;
  [[nodiscard]] Refused power(std::uint16_t millivolts) override;
  [[nodiscard]] Refused select(const cart::Select& what, cart::SelectAnswer& said) override;
  [[nodiscard]] Refused read(std::uint32_t at, std::span<Byte> into) override;
  [[nodiscard]] Refused write(std::uint32_t at, ByteView bytes) override;
  [[nodiscard]] Refused erase(std::uint32_t at, std::uint32_t bytes) override;
  [[nodiscard]] Refused settle() override { return std::nullopt; }

  /// Called while a chip is busy, with how long it still is.
  std::function<void(int ms)> wait = [](int) {};

 private:
  [[nodiscard]] bool reads_badly() const;
  [[nodiscard]] Refused select_clock(cart::SelectAnswer& said);
  void read_lanes(std::uint32_t at, std::span<Byte> into);
  /// The chip's address of the byte that the host calls `at`; nothing where no data line is connected.
  [[nodiscard]] std::optional<std::size_t> on_lanes(std::size_t at) const;

  std::unique_ptr<Cartridge> cartridge_;
  Seat seat_ = Seat::well;
  std::uint32_t counter_ = 1;
  std::uint16_t millivolts_ = 0;
  cart::Select::Space space_ = cart::Select::Space::rom;
  Chip* chip_ = nullptr;  // that is selected
  Lanes asked_lanes_ = Lanes::odd;
  std::array<Byte, RunningClock::bytes> latched_{};
  std::mt19937 dice_{2031};
};

}  // namespace bayswap::simport
