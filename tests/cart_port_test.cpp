// The cartridge port over a pseudo-terminal, the simulated reader at its other end as a process of its own.
#include <bayswap/cart.hpp>
#include <bayswap/fs.hpp>

#include "support/sim_cart.hpp"

namespace bayswap::test {
namespace {

Result<std::pair<CartIdentity, CartChip>> begin(CartPort& port, const CartBuild& build) {
  auto up = port.power_up();
  if (!up) return tl::unexpected(up.error());
  auto game = port.identify();
  if (!game) return tl::unexpected(game.error());
  auto chip = port.find_chip(*game, {build.part, build.bytes, {}});
  if (!chip) return tl::unexpected(chip.error());
  return std::pair(*game, *chip);
}

TEST(CartPort, AChipThatIgnoresWritesTakesAsManyAttempts) {
  const CartBuild build{"gba", "eeprom", 512, PartKind::eeprom};
  const Blob wanted = noise(512, 2);
  const SimCart cart(build, "ignored_writes = 2", noise(512, 1));
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
  const CartBuild build{"gba", "sram", 32768, PartKind::sram};
  const Blob first = noise(32768, 1);
  const SimCart a(build, "", first);
  const SimCart b(build, "", noise(32768, 2));
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
  const CartBuild build{"gba", "flash", 65536, PartKind::flash};
  for (const int after : {1000, 20000, 50000}) {
    const SimCart cart(build, "", noise(65536, 1));
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

TEST(CartPort, AClockRunsOnAndCanBeSet) {
  const SimCart cart({"gb", "sram", 8192, PartKind::sram}, "", noise(8192, 1), "clock = 1\n");
  const SimReader reader({cart.folder.path()});
  auto port = CartPort::open(reader.path());
  ASSERT_TRUE(port);
  const auto begun = begin(**port, cart.build);
  ASSERT_TRUE(begun) << begun.error().message;
  const std::int64_t now = std::time(nullptr);
  for (const std::int64_t days : {0, 3, 300, 700}) {
    const std::int64_t wanted = now - days * 86400 - 12345;
    const auto set = (*port)->set_clock_start(begun->first, wanted);
    ASSERT_TRUE(set) << days << ": " << set.error().message;
    const auto start = (*port)->clock_start(begun->first);
    ASSERT_TRUE(start);
    ASSERT_TRUE(*start);
    EXPECT_LE(std::abs(**start - wanted), 2) << days;
  }
}

TEST(CartPort, ChipsAreFoundWhereNothingTellsOfThem) {
  for (const CartBuild& build : cart_builds()) {
    SCOPED_TRACE(std::string(build.platform) + " " + build.kind);
    const SimCart cart(build, "", noise(build.bytes, 1));
    const SimReader reader({cart.folder.path()});
    auto port = CartPort::open(reader.path());
    ASSERT_TRUE(port);
    ASSERT_TRUE((*port)->power_up());
    const auto game = (*port)->identify();
    ASSERT_TRUE(game) << game.error().message;
    const auto chips = (*port)->find_chips(*game);
    ASSERT_TRUE(chips) << chips.error().message;
    ASSERT_EQ(chips->size(), 1U);
    EXPECT_EQ(chips->front().bytes, build.bytes);
    EXPECT_EQ(chips->front().kind, build.part);
    const auto dump = (*port)->dump(*game, chips->front());
    ASSERT_TRUE(dump);
    EXPECT_EQ(dump->bytes, noise(build.bytes, 1));
  }
}

}  // namespace
}  // namespace bayswap::test
