#include "simport/cartridge.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>
#include <bayswap/fs.hpp>
#include <bayswap/save.hpp>

#include <limits>

#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

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

}  // namespace

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
  BAYSWAP_TRY(cartridge->rom_name, reader.needed_text("rom"));
  BAYSWAP_TRY(cartridge->rom, disk.read(join_path(folder, cartridge->rom_name), std::size_t{256} << 20));
  BAYSWAP_TRY(const auto millivolts, reader.integer("millivolts"));
  if (millivolts && (*millivolts < 1000 || *millivolts > 12000))
    return reader.error("millivolts", "millivolts are 1000 to 12000");
  cartridge->millivolts = static_cast<std::uint16_t>(millivolts.value_or(5000));
  BAYSWAP_TRY(const auto tells, reader.integer("tells_voltage"));
  cartridge->tells_voltage = tells.value_or(1) != 0;
  BAYSWAP_TRY(const ChipFaults faults, read_faults(reader));
  BAYSWAP_TRY(auto chip, reader.table("chip"));
  if (chip) {
    BAYSWAP_TRY(const std::string word, chip->needed_text("kind"));
    const auto kind = chip_kind_from_text(word);
    if (!kind) return chip->error("kind", "chips are sram, fram, eeprom and flash");
    BAYSWAP_TRY(const auto size, chip->integer("size"));
    if (!size || *size < 16 || *size > largest_chip) return chip->error("size", "size is 16 bytes to 16 MiB");
    BAYSWAP_TRY(auto image, chip->text("image"));
    const std::string path = join_path(folder, image.value_or("chip.bin"));
    BAYSWAP_TRY(const auto held, disk.read_if_there(path));
    std::vector<Byte> bytes(static_cast<std::size_t>(*size), 0xff);
    if (held) std::copy_n(held->view().begin(), std::min(held->size(), bytes.size()), bytes.begin());
    cartridge->chip =
        std::make_unique<Chip>(build_of(cartridge->platform, *kind, bytes.size()), std::move(bytes), faults,
                               [path](std::size_t at, ByteView changed) { write_into(path, at, changed); });
    BAYSWAP_CHECK(chip->no_other_keys());
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return cartridge;
}

}  // namespace bayswap::simport
