// The cartridge port: a cartridge reader on a serial line (docs/cart-protocol.md), and the cartridge in it,
// whose save chip is read and written. Nothing here is for several threads at once. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/title.hpp>

#include <functional>
#include <memory>
#include <utility>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// What the reader reports of its slot.
struct CartLook {
  enum class Seat { empty, in, badly } seat = Seat::empty;
  std::uint32_t counter = 0;           // changes with each cartridge that is inserted
  std::uint16_t millivolts = 0;        // voltage it has now; 0: no power
  std::uint16_t wanted = 0;            // voltage that the reader detects; 0: it can't
  std::vector<std::uint16_t> offered;  // by the reader, in millivolts
  std::vector<Platform> platforms;     // that fit the slot
};

/// The game on a cartridge.
struct CartIdentity {
  std::uint32_t counter = 0;  // of CartLook
  RomFacts rom;
  std::uint64_t rom_bytes = 0;
};

/// A save chip that answered.
struct CartChip {
  std::uint32_t counter = 0;
  PartKind kind{};
  std::size_t bytes = 0;
  std::size_t write_bytes = 0;   // size of one write; 0: it can't be written
  std::size_t sector_bytes = 0;  // erased before it is written; 0: needs no erasing
  bool needs_battery = false;
  std::string evidence;  // how it is known, a sentence
};

/// Returns the voltage that cartridges of the platform are made for, in millivolts.
[[nodiscard]] std::uint16_t volts_of(Platform platform);
/// Returns the serial devices of this machine that may be readers: their paths and descriptions.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> serial_ports();

/// The bytes of a chip that was read twice.
struct CartDump {
  Blob bytes;                         // of the second reading
  std::vector<std::size_t> unstable;  // addresses that differed between the two; at most 4096 of them
  std::size_t unstable_count = 0;
};

/// The result of a write.
struct CartWrite {
  std::vector<std::size_t> differing;  // number of wrong bytes, before it and after each attempt
  bool equal = false;                  // the last reading equals the bytes to write, after the power was off
  bool forgets = false;                // it was equal before the power was off, and not after
  std::size_t first_wrong = 0;         // offset of the first difference, if not equal
};

struct CartProgress {
  std::string_view what;  // "reading", "erasing", "writing", "checking"
  std::uint64_t done = 0;
  std::uint64_t total = 0;  // bytes
};

/// A serial line to a reader. Not for several threads at once.
class CartPort {
 public:
  /// Opens the line and finds out whether a reader is there. Fails with `not_found`, `busy`, `io`, or
  /// `unsupported` if it speaks another version of the protocol.
  [[nodiscard]] static Result<std::unique_ptr<CartPort>> open(const std::string& device);
  CartPort(const CartPort&) = delete;
  CartPort& operator=(const CartPort&) = delete;
  /// Turns the power off.
  ~CartPort();

  [[nodiscard]] const std::string& reader_name() const;
  /// Returns the reader's usual rate in bytes per second; 0: unknown.
  [[nodiscard]] std::uint32_t usual_rate() const;

  [[nodiscard]] Result<CartLook> look();
  /// Turns the power on, with the voltage that the reader detects; if it can't detect one, with `said`, or
  /// else the lowest voltage, which damages no cartridge. Fails with `unsafe`, before any power, if `said`
  /// differs from the detected voltage, `not_found` if no cartridge is inserted or it has bad contact.
  [[nodiscard]] Result<void> power_up(std::optional<std::uint16_t> said = {});
  [[nodiscard]] Result<void> power_down();

  /// Identifies the game by its ROM. Controller paks have no ROM and pce cards no header: they get a platform
  /// and no name. Fails with `not_recognised` if nothing identifies the cartridge.
  [[nodiscard]] Result<CartIdentity> identify();
  /// Returns the chips that answer: those of `said`, or else those that the ROM names, or else any of the
  /// kinds that the platform's cartridges can have. Clocks are not included.
  [[nodiscard]] Result<std::vector<CartChip>> find_chips(const CartIdentity& game,
                                                         const std::vector<ChipFact>& said = {});
  /// Looks for one chip; with a size of 0 the reader detects its size. Fails with `unsupported` if it does
  /// not answer.
  [[nodiscard]] Result<CartChip> find_chip(const CartIdentity& game, const ChipFact& chip);

  /// Reads up to `count` bytes of the ROM from `at` on, once.
  [[nodiscard]] Result<Blob> read_rom(const CartIdentity& game, std::uint64_t at, std::size_t count);
  /// Returns the time at which the cartridge's clock was zero, in seconds since 1970 by this machine's clock;
  /// nothing if it has no clock.
  [[nodiscard]] Result<std::optional<std::int64_t>> clock_start(const CartIdentity& game);
  /// Sets the clock and reads it back. Fails with `io` if it reads back wrong, `unsupported` if there is no
  /// clock.
  [[nodiscard]] Result<void> set_clock_start(const CartIdentity& game, std::int64_t start);

  /// Receives one piece of a ROM; an error ends the reading.
  using TakeRom = std::function<Result<void>(std::uint64_t at, ByteView bytes)>;
  /// Reads the whole ROM once. Calls `take` once for each piece, in any order, and fails with its error.
  [[nodiscard]] Result<void> read_whole_rom(const CartIdentity& game, std::string_view what,
                                            const TakeRom& take);
  /// Reads the whole chip, twice.
  [[nodiscard]] Result<CartDump> dump(const CartIdentity& game, const CartChip& chip);
  /// Writes what differs, reads it back, and repeats that at most `attempts` times until it is equal. Keeps
  /// no copy of the old bytes: the caller reads them with `dump` and stores them first. With `only_if`,
  /// writes only if the chip contains those bytes. Fails with `does_not_fit` if the size is not the chip's,
  /// `unsupported` if the chip can't be written, `busy` if another cartridge is inserted or the chip contains
  /// something else, `io` if the line is lost; the chip's content is unknown then.
  [[nodiscard]] Result<CartWrite> write(const CartIdentity& game, const CartChip& chip, const Blob& bytes,
                                        int attempts, const Blob* only_if = nullptr);

  std::function<void(const CartProgress&)> on_progress;
  /// Called after each attempt of a write with its number and the number of wrong bytes; attempt 0: before
  /// the first.
  std::function<void(int attempt, std::size_t differing)> on_attempt;
  /// Polled often. A write can only be cancelled between two attempts.
  std::function<bool()> is_cancelled;

 private:
  // The chip after the power was off and on again.
  [[nodiscard]] Result<Blob> read_after_power_off(const CartIdentity& game, const CartChip& chip);
  struct Inside;
  explicit CartPort(std::unique_ptr<Inside> inside);
  [[nodiscard]] Result<void> select_chip(const CartIdentity& game, const CartChip& chip);
  [[nodiscard]] Result<Blob> read_selected(std::uint32_t counter, std::uint64_t bytes, std::string_view what);
  [[nodiscard]] Result<CartDump> twice(std::uint32_t counter, std::uint64_t bytes);
  [[nodiscard]] Result<Blob> read_here(std::uint32_t counter, std::uint64_t end, std::uint64_t at,
                                       std::size_t count);
  [[nodiscard]] Result<void> write_once(const CartChip& chip, const Blob& now, const Blob& wanted);
  void report_progress(std::string_view what, std::uint64_t done, std::uint64_t total) const;

  std::unique_ptr<Inside> inside_;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
