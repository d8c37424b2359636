// A program in a live core keeps a record with a checksum: a value is set by a sheet, and the program accepts
// it.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <bayswap/sheet_draft.hpp>

#include <cstdlib>

#include "live/core.hpp"
#include "live/programs.hpp"

namespace bayswap::test {
namespace {

constexpr int sheet_frames = 30;
constexpr std::size_t coins_seen_at = 508;

Blob sheet_played(const std::string& core, const Blob* save) {
  Core game(core, gb_ledger_program(), "ledger.gb");
  EXPECT_TRUE(game.is_running());
  EXPECT_TRUE(save == nullptr || game.load(CoreMemory::battery, *save));
  game.run(sheet_frames);
  return game.memory(CoreMemory::battery);
}

unsigned coins_seen(const Blob& save) {
  return save.view()[coins_seen_at] | unsigned{save.view()[coins_seen_at + 1]} << 8;
}

TEST(LiveSheets, TheProgramAcceptsWhatASheetSet) {
  const auto core = Core::find("gambatte");
  if (!core && std::getenv("BAYSWAP_NEEDS_CORES") != nullptr) FAIL() << "no gambatte";
  if (!core) GTEST_SKIP() << "no gambatte";
  const Blob fresh = sheet_played(*core, nullptr);
  ASSERT_GE(fresh.size(), 512U);
  ASSERT_EQ(fresh.view()[mark_at], wrote_it);
  const auto sheet = Sheet::parse(R"(
sheet = 1
id = "gb.ledger"
[game]
platform = "gb"
[[game.magic]]
at = 0
text = "LG"
[[field]]
name = "coins"
at = 2
type = "u16"
[[checksum]]
id = "sum"
kind = "sum"
bits = 8
at = 14
over = [[0, 14]]
[[checksum]]
id = "sum-turned"
complement-of = "sum"
at = 15
)",
                                  "ledger.toml");
  ASSERT_TRUE(sheet) << sheet.error().message;
  const SheetSave save(*sheet, {{"sram", fresh}});
  EXPECT_EQ(save.show("coins")->value, "1250");
  const auto edit = save.change({{"coins", "9999"}});
  ASSERT_TRUE(edit) << edit.error().message;
  const Blob seen = sheet_played(*core, &edit->files.front().bytes);
  EXPECT_EQ(seen.view()[mark_at], saw_it);
  EXPECT_EQ(coins_seen(seen), 9999U);
  // Without the checksums the program throws the ledger away: the test can fail.
  std::vector<Byte> raw(fresh.view().begin(), fresh.view().end());
  raw[2] = 9999 & 0xff;
  raw[3] = 9999 >> 8;
  const Blob not_recomputed = Blob::copy_of(raw);
  EXPECT_EQ(sheet_played(*core, &not_recomputed).view()[mark_at], wrote_it);
}

}  // namespace
}  // namespace bayswap::test
