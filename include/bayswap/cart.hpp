// The cartridge port: a reader of cartridges on a serial line (docs/cart-protocol.md), what is in it, and its
// save chip read and written. Nothing here is for several threads at once.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/title.hpp>

#include <functional>
#include <memory>
#include <utility>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct CartLook {
  enum class Seat { empty, in, badly } seat = Seat::empty;
  std::uint32_t counter = 0;           // another one for each cartridge that is put in
  std::uint16_t millivolts = 0;        // that it has now; 0: no power
  std::uint16_t wanted = 0;            // as the reader can tell; 0: it can't
  std::vector<std::uint16_t> offered;  // by the reader, in millivolts
  std::vector<Platform> platforms;     // that fit the slot
};

/// Whose cartridge it is.
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
  std::size_t write_bytes = 0;   // a write is so long; 0: it can't be written
  std::size_t sector_bytes = 0;  // has to be erased before it is written; 0: not at all
  bool needs_battery = false;
  std::string evidence;  // how it is known, a sentence
};

/// Returns the voltage that cartridges of the platform are made for, in millivolts.
[[nodiscard]] std::uint16_t volts_of(Platform platform);
/// Returns the serial devices of this machine that may be readers: their paths, and what they say they are.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> serial_ports();

/// What was read, twice.
struct CartDump {
  Blob bytes;                         // as the second reading had them
  std::vector<std::size_t> unstable;  // addresses that differed between the two; at most 4096 of them
  std::size_t unstable_count = 0;
};

/// How a write went.
struct CartWrite {
  std::vector<std::size_t> differing;  // before it, and after each attempt: how many bytes are not as wanted
  bool equal = false;                  // the last reading is what was to be written
  std::size_t first_wrong = 0;         // where it is not
};

struct CartProgress {
  std::string_view what;  // "reading", "erasing", "writing", "checking"
  std::uint64_t done = 0;
  std::uint64_t total = 0;  // bytes
};

class CartPort {
 public:
  /// Opens the line and finds out whether a reader is there. Fails with `not_found`, `busy`, `io`, or
  /// `unsupported` if it speaks another version of the protocol.
  [[nodiscard]] static Result<std::unique_ptr<CartPort>> open(const std::string& device);
  CartPort(const CartPort&) = delete;
  CartPort& operator=(const CartPort&) = delete;
  /// Takes the power away.
  ~CartPort();

  [[nodiscard]] const std::string& reader_name() const;
  /// Bytes a second that the reader usually has; 0: it does not say.
  [[nodiscard]] std::uint32_t usual_rate() const;

  [[nodiscard]] Result<CartLook> look();
  /// Gives the cartridge power: what the reader says it wants; where it can't tell `said`, otherwise the
  /// lowest voltage there is, which hurts none. Fails with `unsafe`, before any power, if `said` is another
  /// one than the reader can tell, `not_found` if no cartridge is in or it sits badly.
  [[nodiscard]] Result<void> power_up(std::optional<std::uint16_t> said = {});
  [[nodiscard]] Result<void> power_down();

  /// Reads as much of the ROM as tells whose it is. A controller pak has none, and pce cards no header: they
  /// have a platform and no name. Fails with `not_recognised` if nothing tells.
  [[nodiscard]] Result<CartIdentity> identify();
  /// Returns the chips that answer: those of `said`, otherwise those that the ROM tells of, otherwise of all
  /// kinds that the platform's cartridges can have. Clocks are not among them.
  [[nodiscard]] Result<std::vector<CartChip>> find_chips(const CartIdentity& game,
                                                         const std::vector<ChipFact>& said = {});
  /// Asks for the chip that the game has; of 0 bytes: the reader says how large it is. Fails with
  /// `unsupported` if none answers.
  [[nodiscard]] Result<CartChip> find_chip(const CartIdentity& game, const ChipFact& chip);

  /// Reads up to `count` bytes of the ROM from `at` on, once.
  [[nodiscard]] Result<Blob> read_rom(const CartIdentity& game, std::uint64_t at, std::size_t count);
  /// Returns when the cartridge's clock stood at zero: seconds since 1970, as this machine's clock has it;
  /// nothing if it has no clock.
  [[nodiscard]] Result<std::optional<std::int64_t>> clock_start(const CartIdentity& game);
  /// Sets it and reads it back. Fails with `io` if it does not hold, `unsupported` if there is none.
  [[nodiscard]] Result<void> set_clock_start(const CartIdentity& game, std::int64_t start);

  /// Reads the whole ROM once. `take` gets each piece once, in no order; what it fails with ends the reading.
  using TakeRom = std::function<Result<void>(std::uint64_t at, ByteView bytes)>;
  [[nodiscard]] Result<void> read_whole_rom(const CartIdentity& game, std::string_view what,
                                            const TakeRom& take);
  /// Reads the whole chip, twice.
  [[nodiscard]] Result<CartDump> dump(const CartIdentity& game, const CartChip& chip);
  /// Keeps no copy of the old bytes: the caller reads them with `dump` and stores them before it writes.
  /// Writes what differs, reads it back, and does so again while it is not equal, at most `attempts` times.
  /// With `only_if`, only where the chip holds that. Fails with `does_not_fit` for another size than the chip
  /// has, `unsupported` if it can't be written, `busy` if another cartridge is in or it holds something else,
  /// `io` once the line is gone; what the chip has then is not known.
  [[nodiscard]] Result<CartWrite> write(const CartIdentity& game, const CartChip& chip, const Blob& bytes,
                                        int attempts, const Blob* only_if = nullptr);

  std::function<void(const CartProgress&)> on_progress;
  /// Called after each attempt of a write: which one, and how many bytes are not as wanted; 0: before any.
  std::function<void(int attempt, std::size_t differing)> on_attempt;
  /// Asked often; a write ends only between two attempts.
  std::function<bool()> is_cancelled;

 private:
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
