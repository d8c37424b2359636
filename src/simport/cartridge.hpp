// Cartridges as folders: `cartridge.toml`, the ROM, and the image of the save chip.
#pragma once

#include <array>

#include "simport/chip.hpp"

namespace bayswap::simport {

/// Registers that run: seconds, minutes, hours and days of a gb board, and whether it is halted.
class RunningClock {
 public:
  static constexpr std::size_t bytes = 5;
  /// Stood at zero at `start` (seconds since 1970); `changed` gets that time whenever it is set.
  RunningClock(std::int64_t start, std::function<void(std::int64_t)> changed)
      : start_(start), changed_(std::move(changed)) {}
  /// Seconds, minutes, hours, the day's lower eight bits; its ninth, 40 halted, 80 over 511 days.
  [[nodiscard]] std::array<Byte, bytes> registers(std::int64_t now) const;
  void set(const std::array<Byte, bytes>& registers, std::int64_t now);

 private:
  std::int64_t start_;
  std::optional<std::array<Byte, bytes>> halted_;
  std::function<void(std::int64_t)> changed_;
};

/// Where the bytes of an md board's memory are on the 16 data lines.
enum class Lanes { odd, even, both };

struct Cartridge {
  std::string folder;
  std::string platform;  // a tag
  std::uint16_t millivolts = 5000;
  Blob rom;
  std::string rom_name;
  std::unique_ptr<Chip> chip;  // nullptr if it has none
  std::unique_ptr<Chip> pak;   // in the controller that is plugged in with it
  std::unique_ptr<RunningClock> clock;
  Lanes lanes = Lanes::odd;
  bool tells_voltage = true;  // its shape or switch tells the reader

  /// Reads a folder. The chip's image is written to with every change. Fails with `bad_usage` for a file that
  /// makes no sense, with the line.
  [[nodiscard]] static Result<std::unique_ptr<Cartridge>> open(const std::string& folder);
};

}  // namespace bayswap::simport
