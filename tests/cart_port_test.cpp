// The cartridge port over a pseudo-terminal, the simulated reader at its other end as a process of its own:
// every platform's chips against everything that can be wrong. A chip holds the old bytes, or the new ones,
// or it is said that it holds neither; "equal" is never said of anything else.
#include <bayswap/cart.hpp>
#include <bayswap/fs.hpp>

#include "live/programs.hpp"
#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/sim_reader.hpp"

namespace bayswap::test {
namespace {

struct Build {
  const char* platform;
  const char* kind;
  std::size_t bytes;
  PartKind part;
};

Blob gba_rom(std::string_view chip_tag) {
  std::vector<Byte> rom = bytes_of(gba_program(1));
  rom.resize(65536);
  // The program's own tag is for SRAM.
  const std::string own = "SRAM_V";
  for (auto at = std::search(rom.begin(), rom.end(), own.begin(), own.end()); at != rom.end();
       at = std::search(at, rom.end(), own.begin(), own.end()))
    std::fill_n(at, own.size(), Byte{0});
  std::copy(chip_tag.begin(), chip_tag.end(), rom.begin() + 0x8000);
  return Blob::copy_of(rom);
}

Blob rom_of(const Build& build) {
  const std::string platform = build.platform;
  const std::string kind = build.kind;
  if (platform == "gb") return gb_program(0x1b, 1);
  if (platform == "snes") return snes_program(1);
  if (platform == "n64") return n64_rom();
  return gba_rom(kind == "eeprom"                   ? "EEPROM_V124"
                 : kind == "sram" || kind == "fram" ? "SRAM_V113"
                 : build.bytes == 131072            ? "FLASH1M_V103"
                                                    : "FLASH_V126");
}

struct Cart {
  Folder folder;
  Build build;
  Cart(const Build& what, const std::string& faults, const Blob& chip) : build(what) {
    LocalStore disk;
    const std::string toml =
        "platform = \"" + std::string(what.platform) + "\"\nrom = \"rom\"\nmillivolts = " +
        (std::string(what.platform) == "gb" || std::string(what.platform) == "snes" ? "5000" : "3300") +
        "\n[chip]\nkind = \"" + what.kind + "\"\nsize = " + std::to_string(what.bytes) + "\n" +
        (faults.empty() ? "" : "[faults]\n" + faults + "\n");
    EXPECT_TRUE(disk.create(folder / "cartridge.toml", text_blob(toml).view()));
    EXPECT_TRUE(disk.create(folder / "rom", rom_of(what).view()));
    EXPECT_TRUE(disk.create(folder / "chip.bin", chip.view()));
  }
  [[nodiscard]] Blob chip() const {
    const auto held = LocalStore().read(folder / "chip.bin");
    EXPECT_TRUE(held);
    return held ? *held : Blob();
  }
};

const std::vector<Build>& builds() {
  static const std::vector<Build> all{
      {"gb", "sram", 8192, PartKind::sram},      {"gba", "sram", 32768, PartKind::sram},
      {"gba", "fram", 32768, PartKind::sram},    {"gba", "eeprom", 512, PartKind::eeprom},
      {"gba", "eeprom", 8192, PartKind::eeprom}, {"gba", "flash", 65536, PartKind::flash},
      {"gba", "flash", 131072, PartKind::flash}, {"snes", "sram", 8192, PartKind::sram},
      {"n64", "eeprom", 512, PartKind::eeprom},  {"n64", "eeprom", 2048, PartKind::eeprom},
      {"n64", "sram", 32768, PartKind::sram},    {"n64", "flash", 131072, PartKind::flash}};
  return all;
}

enum class Reads { true_bytes, wrong_bytes, otherwise_each_time };
struct Fault {
  const char* name;
  const char* in_cartridge;
  std::vector<std::string> of_line;
  bool mendable;  // what is written gets there in the end
  Reads reads = Reads::true_bytes;
};
const std::vector<Fault>& faults() {
  static const std::vector<Fault> all{
      {"none", "", {}, true},
      {"lost frames", "", {"--lost", "3"}, true},
      {"doubled frames", "", {"--doubled", "20"}, true},
      {"damaged frames", "", {"--corrupted", "3"}, true},
      {"a chip that ignores its first writes", "ignored_writes = 3", {}, true},
      {"a worn cell", "worn_cell = 33", {}, false},
      {"a dead address line", "dead_line = 4", {}, false, Reads::wrong_bytes},
      {"a stuck data bit", "stuck_bit = 6", {}, false, Reads::wrong_bytes},
      {"a battery that is nearly flat", "decay = 5", {}, false, Reads::otherwise_each_time},
  };
  return all;
}

Result<std::pair<CartIdentity, CartChip>> begin(CartPort& port, const Build& build) {
  auto up = port.power_up();
  if (!up) return tl::unexpected(up.error());
  auto game = port.identify();
  if (!game) return tl::unexpected(game.error());
  auto chip = port.find_chip(*game, {build.part, build.bytes, {}});
  if (!chip) return tl::unexpected(chip.error());
  return std::pair(*game, *chip);
}

class CartPortMatrix : public testing::TestWithParam<Build> {};

TEST_P(CartPortMatrix, SuccessIsSaidOnlyWhereTheChipHoldsIt) {
  const Build& build = GetParam();
  std::uint32_t seed = 1;
  for (const Fault& fault : faults()) {
    SCOPED_TRACE(fault.name);
    const Blob old = noise(build.bytes, ++seed);
    const Blob wanted = noise(build.bytes, ++seed);
    const Cart cart(build, fault.in_cartridge, old);
    std::vector<std::string> words = fault.of_line;
    words.insert(words.begin(), cart.folder.path());
    words.insert(words.end(), {"--seed", std::to_string(seed), "--silence", "60", "--hurry", "50"});
    const SimReader reader(words);
    auto port = CartPort::open(reader.path());
    ASSERT_TRUE(port) << port.error().message;
    const auto begun = begin(**port, build);
    ASSERT_TRUE(begun) << begun.error().message;
    const auto& [game, chip] = *begun;
    // Read first: what is unstable is named.
    const auto dump = (*port)->dump(game, chip);
    ASSERT_TRUE(dump) << dump.error().message;
    EXPECT_EQ(dump->unstable_count > 0, fault.reads == Reads::otherwise_each_time);
    EXPECT_EQ(dump->bytes == old, fault.reads == Reads::true_bytes);
    const auto written = (*port)->write(game, chip, wanted, 5);
    ASSERT_TRUE(written) << written.error().message;
    EXPECT_EQ(written->equal, fault.mendable);
    if (written->equal)
      EXPECT_EQ(cart.chip(), wanted);
    else
      EXPECT_EQ(written->differing.size(), 6U) << "before, and five attempts";
  }
}

void PrintTo(const Build& build, std::ostream* out) {
  *out << build.platform << ' ' << build.kind << ' ' << build.bytes;
}
INSTANTIATE_TEST_SUITE_P(Chips, CartPortMatrix, testing::ValuesIn(builds()));

TEST(CartPort, AChipThatIgnoresWritesTakesAsManyAttempts) {
  const Build build{"gba", "eeprom", 512, PartKind::eeprom};
  const Blob wanted = noise(512, 2);
  const Cart cart(build, "ignored_writes = 2", noise(512, 1));
  const SimReader reader({cart.folder.path(), "--hurry", "50"});
  auto port = CartPort::open(reader.path());
  ASSERT_TRUE(port);
  const auto begun = begin(**port, build);
  ASSERT_TRUE(begun) << begun.error().message;
  const auto written = (*port)->write(begun->first, begun->second, wanted, 5);
  ASSERT_TRUE(written);
  EXPECT_TRUE(written->equal);
  EXPECT_EQ(written->differing.size(), 4U) << "before, two in vain, and the third";
  EXPECT_EQ(cart.chip(), wanted);
  // The same again: nothing is written where nothing differs.
  const auto again = (*port)->write(begun->first, begun->second, wanted, 5);
  ASSERT_TRUE(again);
  EXPECT_EQ(again->differing, std::vector<std::size_t>{0});
}

TEST(CartPort, AnotherCartridgeIsNeverWritten) {
  const Build build{"gba", "sram", 32768, PartKind::sram};
  const Blob first = noise(32768, 1);
  const Cart a(build, "", first);
  const Cart b(build, "", noise(32768, 2));
  SimReader reader({a.folder.path()});
  auto port = CartPort::open(reader.path());
  ASSERT_TRUE(port);
  const auto begun = begin(**port, build);
  ASSERT_TRUE(begun);
  reader.command("insert " + b.folder.path());
  EXPECT_FALSE((*port)->write(begun->first, begun->second, noise(32768, 3), 5));
  EXPECT_FALSE((*port)->dump(begun->first, begun->second));
  EXPECT_EQ(b.chip(), noise(32768, 2));
  EXPECT_EQ(a.chip(), first);
  reader.command("remove");
  EXPECT_EQ((*port)->power_up().error().code, ErrorCode::not_found);
  reader.command("insert " + a.folder.path());
  reader.command("seat badly");
  EXPECT_EQ((*port)->power_up().error().code, ErrorCode::not_found);
  reader.command("seat well");
  EXPECT_EQ((*port)->power_up(5000).error().code, ErrorCode::unsafe) << "it wants 3.3 V";
  EXPECT_EQ((*port)->look()->millivolts, 0);
  EXPECT_FALSE(LocalStore().read(a.folder / "too-many-volts"));
  EXPECT_TRUE((*port)->power_up());
}

TEST(CartPort, APlugPulledIsSaid) {
  const Build build{"gba", "flash", 65536, PartKind::flash};
  for (const int after : {1000, 20000, 50000}) {
    const Cart cart(build, "", noise(65536, 1));
    SimReader reader({cart.folder.path()});
    auto port = CartPort::open(reader.path());
    ASSERT_TRUE(port);
    const auto begun = begin(**port, build);
    ASSERT_TRUE(begun);
    reader.command("hang-up-after " + std::to_string(after));
    const auto written = (*port)->write(begun->first, begun->second, noise(65536, 2), 5);
    ASSERT_FALSE(written);
    EXPECT_EQ(written.error().code, ErrorCode::io);
    // Plugged in again it goes on.
    const SimReader again({cart.folder.path()});
    auto other = CartPort::open(again.path());
    ASSERT_TRUE(other);
    const auto anew = begin(**other, build);
    ASSERT_TRUE(anew);
    const auto done = (*other)->write(anew->first, anew->second, noise(65536, 2), 5);
    ASSERT_TRUE(done);
    EXPECT_TRUE(done->equal);
    EXPECT_EQ(cart.chip(), noise(65536, 2));
  }
  EXPECT_EQ(CartPort::open("/dev/null").error().code, ErrorCode::bad_usage);
  EXPECT_EQ(CartPort::open("/dev/nowhere").error().code, ErrorCode::not_found);
}

}  // namespace
}  // namespace bayswap::test
