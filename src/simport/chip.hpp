// Chips as they behave: what a write does to them, how long it takes, and what is wrong with them.
#pragma once

#include <bayswap/base.hpp>

#include <functional>
#include <memory>
#include <optional>
#include <random>
#include <string>
#include <vector>

namespace bayswap::simport {

enum class ChipKind { sram, fram, eeprom, flash, pak };
[[nodiscard]] std::optional<ChipKind> chip_kind_from_text(std::string_view text);
[[nodiscard]] std::string_view to_text(ChipKind kind);

/// How the chip is built.
struct ChipBuild {
  ChipKind kind = ChipKind::sram;
  std::size_t bytes = 0;
  std::size_t write_bytes = 1;   // a write is so long
  std::size_t sector_bytes = 0;  // of flash: is erased at once
  int write_ms = 0;              // a write keeps it busy for so long
  int erase_ms = 0;
};
/// Of the platform's chips of that kind and size; write and sector sizes as the hardware has them.
[[nodiscard]] ChipBuild build_of(std::string_view platform, ChipKind kind, std::size_t bytes);

/// What is wrong with it. All of it can be.
struct ChipFaults {
  int ignored_writes = 0;                // that many first writes do nothing
  std::optional<std::size_t> worn_cell;  // an address that no write changes any more
  std::optional<unsigned> dead_line;     // an address line that is always 0
  std::optional<unsigned> stuck_bit;     // a data bit that always reads as 1
  bool flat_battery = false;             // it kept nothing: reads blank until written
  int decay = 0;                         // so many bytes read wrong at each reading
};

class Chip {
 public:
  /// `image`: what it holds. `changed` gets every change of it, at once: a chip forgets nothing.
  Chip(const ChipBuild& build, std::vector<Byte> image, const ChipFaults& faults,
       std::function<void(std::size_t at, ByteView bytes)> changed);
  /// With a flat battery it keeps nothing.
  void lose_power();

  [[nodiscard]] const ChipBuild& build() const { return build_; }
  /// Beyond its end it begins again: address lines that it does not have say nothing.
  void read(std::size_t at, std::span<Byte> into);
  /// `at` and the length are multiples of write_bytes.
  void write(std::size_t at, ByteView bytes);
  /// Whole sectors.
  void erase(std::size_t at, std::size_t bytes);
  /// So many further writes do nothing.
  void ignore_writes(int count) { faults_.ignored_writes = count; }
  /// How long it has been kept busy since it was last asked.
  [[nodiscard]] int take_busy_ms();

 private:
  [[nodiscard]] std::size_t wired(std::size_t at) const;
  void put(std::size_t at, Byte value);
  [[nodiscard]] bool ignores();
  void notify(std::size_t at, std::size_t bytes) const;

  ChipBuild build_;
  std::vector<Byte> image_;
  ChipFaults faults_;
  std::function<void(std::size_t at, ByteView bytes)> changed_;
  int busy_ms_ = 0;
  std::mt19937 dice_{2031};
};

}  // namespace bayswap::simport
