// Cartridges as folders: `cartridge.toml`, the ROM, and the image of the save chip.
#pragma once

#include "simport/chip.hpp"

namespace bayswap::simport {

struct Cartridge {
  std::string folder;
  std::string platform;  // a tag
  std::uint16_t millivolts = 5000;
  Blob rom;
  std::string rom_name;
  std::unique_ptr<Chip> chip;  // nullptr if it has none
  bool tells_voltage = true;   // its shape or switch tells the reader

  /// Reads a folder. The chip's image is written to with every change. Fails with `bad_usage` for a file that
  /// makes no sense, with the line.
  [[nodiscard]] static Result<std::unique_ptr<Cartridge>> open(const std::string& folder);
};

}  // namespace bayswap::simport
