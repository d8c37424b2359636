#include "simport/cartridge.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>
#include <bayswap/fs.hpp>
#include <bayswap/save.hpp>

#include <cstdlib>
#include <ctime>
#include <limits>

#include "base/path.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap::simport {
namespace {

constexpr std::int64_t largest_chip = std::int64_t{16} << 20;

Result<ChipFaults> read_faults(TableReader& reader) {
  ChipFaults faults;
  BAYSWAP_TRY(auto table, reader.table("faults"));
  if (!table) return faults;
  BAYSWAP_TRY(const auto ignored, table->integer("ignored_writes"));
  BAYSWAP_TRY(const auto worn, table->integer("worn_cell"));
  BAYSWAP_TRY(const auto line, table->integer("dead_line"));
  BAYSWAP_TRY(const auto bit, table->integer("stuck_bit"));
  BAYSWAP_TRY(const auto flat, table->integer("flat_battery"));
  BAYSWAP_TRY(const auto decay, table->integer("decay"));
  if ((line && (*line < 0 || *line > 31)) || (bit && (*bit < 0 || *bit > 7)) || (worn && *worn < 0) ||
      ignored.value_or(0) < 0 || decay.value_or(0) < 0 ||
      std::max(ignored.value_or(0), decay.value_or(0)) > std::numeric_limits<int>::max())
    return table->error("faults", "lines are 0 to 31, bits 0 to 7, all else 0 or more");
  faults.ignored_writes = static_cast<int>(ignored.value_or(0));
  if (worn) faults.worn_cell = static_cast<std::size_t>(*worn);
  if (line) faults.dead_line = static_cast<unsigned>(*line);
  if (bit) faults.stuck_bit = static_cast<unsigned>(*bit);
  faults.flat_battery = flat.value_or(0) != 0;
  faults.decay = static_cast<int>(decay.value_or(0));
  BAYSWAP_CHECK(table->no_other_keys());
  return faults;
}

// What a chip holds it holds when the power fails: each change goes to the file at once.
void write_into(const std::string& path, std::size_t at, ByteView bytes) {
  const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
  if (fd < 0) return;
  while (!bytes.empty()) {
    const ssize_t done = pwrite(fd, bytes.data(), bytes.size(), static_cast<off_t>(at));
    if (done <= 0) break;
    at += static_cast<std::size_t>(done);
    bytes = bytes.subspan(static_cast<std::size_t>(done));
  }
  close(fd);
}

constexpr std::int64_t day_seconds = 86400;
constexpr std::int64_t max_days = 512;
constexpr Byte is_halted = 0x40;
constexpr Byte is_over = 0x80;

// The chip of the table "chip" or "pak", with an image in a file of its own.
Result<std::unique_ptr<Chip>> read_chip(TableReader& table, const std::string& platform,
                                        const std::string& folder, const std::string& usual_name,
                                        std::optional<ChipKind> only, const ChipFaults& faults) {
  LocalStore disk;
  ChipKind kind = only.value_or(ChipKind::sram);
  if (!only) {
    BAYSWAP_TRY(const std::string word, table.needed_text("kind"));
    const auto said = chip_kind_from_text(word);
    if (!said) return table.error("kind", "chips are sram, fram, eeprom, flash and pak");
    kind = *said;
  }
  BAYSWAP_TRY(const auto size, table.integer("size"));
  const std::int64_t bytes_there = size.value_or(kind == ChipKind::pak ? 32768 : 0);
  if (bytes_there < 16 || bytes_there > largest_chip)
    return table.error("size", "size is 16 bytes to 16 MiB");
  BAYSWAP_TRY(auto image, table.text("image"));
  const std::string path = join_path(folder, image.value_or(usual_name));
  BAYSWAP_TRY(const auto held, disk.read_if_there(path));
  std::vector<Byte> bytes(static_cast<std::size_t>(bytes_there), 0xff);
  if (held) std::copy_n(held->view().begin(), std::min(held->size(), bytes.size()), bytes.begin());
  return std::make_unique<Chip>(build_of(platform, kind, bytes.size()), std::move(bytes), faults,
                                [path](std::size_t at, ByteView changed) { write_into(path, at, changed); });
}

// The time since which the clock runs is in a file, in decimal.
Result<std::unique_ptr<RunningClock>> read_clock(const std::string& folder) {
  LocalStore disk;
  const std::string path = join_path(folder, "clock.txt");
  BAYSWAP_TRY(const auto held, disk.read_if_there(path, 64));
  std::int64_t start = std::time(nullptr);
  if (held) start = std::strtoll(std::string(held->view().begin(), held->view().end()).c_str(), nullptr, 10);
  return std::make_unique<RunningClock>(start, [path](std::int64_t since) {
    LocalStore own;
    const std::string text = std::to_string(since);
    (void)own.replace(path, {reinterpret_cast<const Byte*>(text.data()), text.size()});
  });
}

}  // namespace

std::array<Byte, RunningClock::bytes> RunningClock::registers(std::int64_t now) const {
  if (halted_) return *halted_;
  const std::int64_t seconds = std::max<std::int64_t>(now - start_, 0);
  const std::int64_t days = seconds / day_seconds;
  const auto high = static_cast<Byte>((days % max_days) / 256 + (days >= max_days ? is_over : 0));
  return {static_cast<Byte>(seconds % 60), static_cast<Byte>(seconds / 60 % 60),
          static_cast<Byte>(seconds / 3600 % 24), static_cast<Byte>(days % 256), high};
}

void RunningClock::set(const std::array<Byte, bytes>& registers, std::int64_t now) {
  const std::int64_t days =
      registers[3] + 256 * (registers[4] & 1) + ((registers[4] & is_over) != 0 ? max_days : 0);
  start_ = now - (registers[0] + 60 * registers[1] + 3600 * registers[2] + day_seconds * days);
  halted_ = (registers[4] & is_halted) != 0 ? std::optional(registers) : std::nullopt;
  if (changed_) changed_(start_);
}

Result<std::unique_ptr<Cartridge>> Cartridge::open(const std::string& folder) {
  LocalStore disk;
  const std::string file = join_path(folder, "cartridge.toml");
  BAYSWAP_TRY(const Blob text, disk.read(file, std::size_t{64} << 10));
  BAYSWAP_TRY(const TomlFile root,
              parse_toml({reinterpret_cast<const char*>(text.data()), text.size()}, file));
  TableReader reader(root, file);
  auto cartridge = std::make_unique<Cartridge>();
  cartridge->folder = folder;
  BAYSWAP_TRY(cartridge->platform, reader.needed_text("platform"));
  if (!platform_from_tag(cartridge->platform))
    return reader.error("platform", fmt::format("unknown platform '{}'", cartridge->platform));
  BAYSWAP_TRY(const auto rom, reader.text("rom"));
  if (rom) {
    cartridge->rom_name = *rom;
    BAYSWAP_TRY(cartridge->rom, disk.read(join_path(folder, *rom), std::size_t{256} << 20));
  }
  BAYSWAP_TRY(const auto millivolts, reader.integer("millivolts"));
  if (millivolts && (*millivolts < 1000 || *millivolts > 12000))
    return reader.error("millivolts", "millivolts are 1000 to 12000");
  cartridge->millivolts = static_cast<std::uint16_t>(millivolts.value_or(5000));
  BAYSWAP_TRY(const auto tells, reader.integer("tells_voltage"));
  cartridge->tells_voltage = tells.value_or(1) != 0;
  BAYSWAP_TRY(const ChipFaults faults, read_faults(reader));
  BAYSWAP_TRY(auto chip, reader.table("chip"));
  if (chip) {
    BAYSWAP_TRY(const auto lanes, chip->text("lanes"));
    if (lanes && *lanes != "odd" && *lanes != "even" && *lanes != "both")
      return chip->error("lanes", "lanes are odd, even and both");
    cartridge->lanes = lanes == "even" ? Lanes::even : lanes == "both" ? Lanes::both : Lanes::odd;
    BAYSWAP_TRY(cartridge->chip,
                read_chip(*chip, cartridge->platform, folder, "chip.bin", std::nullopt, faults));
    BAYSWAP_CHECK(chip->no_other_keys());
  }
  BAYSWAP_TRY(auto pak, reader.table("pak"));
  if (pak) {
    BAYSWAP_TRY(cartridge->pak,
                read_chip(*pak, cartridge->platform, folder, "pak.bin", ChipKind::pak, faults));
    BAYSWAP_CHECK(pak->no_other_keys());
  }
  BAYSWAP_TRY(const auto clock, reader.integer("clock"));
  if (clock.value_or(0) != 0) {
    BAYSWAP_TRY(cartridge->clock, read_clock(folder));
  }
  if (cartridge->rom.empty() && !(cartridge->chip && cartridge->chip->build().kind == ChipKind::pak))
    return reader.error("rom", "a cartridge has a rom; only a pak has none");
  BAYSWAP_CHECK(reader.no_other_keys());
  return cartridge;
}

}  // namespace bayswap::simport
