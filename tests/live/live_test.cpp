// Saves that live emulation cores wrote, put through Bay Swap into the form of another core, and seen by the
// program there.
#include <gtest/gtest.h>
#include <bayswap/layout.hpp>
#include <bayswap/title.hpp>

#include <cstdlib>
#include <ctime>
#include <functional>

#include "live/core.hpp"
#include "live/programs.hpp"
#include "support/builders.hpp"

namespace bayswap::test {
namespace {

constexpr int frames = 30;

// Where cores must be there (scripts/test installs them and says so), a missing one is a failure.
#define LIVE_CORE(variable, name)                                                          \
  const auto variable = Core::find(name);                                                  \
  if (!variable && std::getenv("BAYSWAP_NEEDS_CORES") != nullptr) FAIL() << "no " << name; \
  if (!variable) GTEST_SKIP() << "no " << name

Result<RomFacts> rom_facts(const Blob& rom) {
  auto facts = identify_rom(rom.view());
  EXPECT_TRUE(facts);
  if (facts) find_chip_tags(rom_source(rom.view()), *facts);
  return facts;
}

// What a core's battery memory is, told from the ROM.
Save taken_apart(const Blob& file, const Blob& rom, std::string* layout = nullptr) {
  const Catalog catalog;
  const auto facts = rom_facts(rom);
  Hints hints;
  hints.game = facts->game;
  hints.chips = facts->chips;
  const Recognition recognition = recognise(catalog, file, hints);
  EXPECT_FALSE(recognition.matches.empty()) << file.size();
  if (recognition.matches.empty()) return {};
  if (layout != nullptr) *layout = recognition.matches.front().layout->id;
  const auto opened = open_save(*recognition.matches.front().layout, file, facts->chips);
  EXPECT_TRUE(opened);
  return opened->save;
}

// Into the form that a core's own, fresh memory has.
Blob into_form_of(const Blob& own, const Save& save, const Blob& rom, std::string* layout = nullptr) {
  const Catalog catalog;
  const auto facts = rom_facts(rom);
  Hints hints;
  hints.game = facts->game;
  hints.chips = facts->chips;
  const auto form = detect_layout(catalog, {save}, own, hints);
  EXPECT_TRUE(form) << form.error().message;
  if (!form) return {};
  if (layout != nullptr) *layout = form->layout.id;
  ConvertRequest request;
  request.inputs = {save};
  request.to = &form->layout;
  request.base = &own;
  request.chips = facts->chips;
  const auto converted = convert(catalog, request);
  EXPECT_TRUE(converted) << converted.error().message;
  return converted ? converted->files.front().bytes : Blob();
}

Blob played(const std::string& core, const Blob& rom, const std::string& name, const Blob* save = nullptr) {
  Core game(core, rom, name);
  EXPECT_TRUE(game.is_running()) << core;
  if (!game.is_running()) return {};
  EXPECT_TRUE(save == nullptr || game.load(CoreMemory::battery, *save));
  game.run(frames);
  return game.memory(CoreMemory::battery);
}

Byte mark_of(const Save& save) {
  const Part* part = save.find({PartKind::sram, 0});
  return part != nullptr && part->bytes.size() > mark_at ? part->bytes.view()[mark_at] & 0x0f : Byte{0xff};
}

// Core A writes; core B, which has another save of its own, gets A's in B's form and must see it.
void carry(const std::string& a, const std::string& b, const std::function<Blob(Byte seed)>& program,
           const std::string& name) {
  const Blob rom = program(0x31);
  const Blob written = played(a, rom, name);
  ASSERT_FALSE(written.empty());
  const Save save = taken_apart(written, rom);
  ASSERT_EQ(mark_of(save), wrote_it) << "the program ran in A, and found nothing";
  const Blob own = played(b, program(0x52), name);
  ASSERT_EQ(mark_of(taken_apart(own, rom)), wrote_it);
  ASSERT_EQ(mark_of(taken_apart(played(b, rom, name, &own), rom)), wrote_it) << "B's own save is another one";
  const Blob brought = into_form_of(own, save, rom);
  ASSERT_EQ(brought.size(), own.size());
  EXPECT_EQ(mark_of(taken_apart(played(b, rom, name, &brought), rom)), saw_it);
}

TEST(LiveCores, GbSaveOfOneIsSeenByTheOther) {
  LIVE_CORE(a, "gambatte");
  LIVE_CORE(b, "mgba");
  const auto plain = [](Byte seed) { return gb_program(0x1b, seed); };
  carry(*a, *b, plain, "log.gb");
  carry(*b, *a, plain, "log.gb");
}

TEST(LiveCores, GbHalfBytesGoFromOneFormToTheOther) {
  LIVE_CORE(a, "gambatte");
  LIVE_CORE(b, "mgba");
  const auto half = [](Byte seed) { return gb_program(0x06, seed); };
  carry(*a, *b, half, "log.gb");
  carry(*b, *a, half, "log.gb");
}

TEST(LiveCores, GbClockShowsTheSameDayInTheOther) {
  LIVE_CORE(a, "gambatte");
  LIVE_CORE(b, "mgba");
  const Blob rom = gb_clock_program(0x31);
  constexpr int days = 5;
  constexpr std::size_t day_at = 510;
  // Set back by five days in core A.
  std::vector<Byte> start(8);
  const auto zero = static_cast<std::uint64_t>(std::time(nullptr)) - days * 86400 - 3600;
  for (std::size_t i = 0; i < 8; ++i) start[i] = static_cast<Byte>(zero >> (8 * i));
  Blob clock_a;
  {
    Core game(*a, rom, "clock.gb");
    ASSERT_TRUE(game.is_running());
    ASSERT_TRUE(game.load(CoreMemory::clock, Blob::copy_of(start)));
    game.run(frames);
    EXPECT_EQ(game.memory(CoreMemory::battery).view()[day_at], days) << "that is what A's eight bytes mean";
    clock_a = game.memory(CoreMemory::clock);
  }
  const Catalog catalog;
  const auto clock = open_save(layout(catalog, "gb.clock8"), clock_a);
  ASSERT_TRUE(clock);
  const auto clock_b = pack(layout(catalog, "gb.clock48"), clock->save);
  ASSERT_TRUE(clock_b);
  Core game(*b, rom, "clock.gb");
  ASSERT_TRUE(game.is_running());
  const Blob own = game.memory(CoreMemory::clock);
  ASSERT_EQ(own.size(), clock_b->size());
  ASSERT_TRUE(game.load(CoreMemory::clock, *clock_b));
  game.run(frames);
  EXPECT_EQ(game.memory(CoreMemory::battery).view()[day_at], days);
}

TEST(LiveCores, NesSave) {
  LIVE_CORE(a, "nestopia");
  carry(*a, *a, nes_program, "quay.nes");
}

TEST(LiveCores, SnesSave) {
  LIVE_CORE(a, "bsnes_mercury_balanced");
  LIVE_CORE(b, "bsnes_mercury_performance");
  carry(*a, *b, snes_program, "orchard.sfc");
}

TEST(LiveCores, GbaSaveThroughTheFormThatOthersInsistOn) {
  LIVE_CORE(a, "mgba");
  carry(*a, *a, gba_program, "moth.gba");
  const Blob rom = gba_program(0x31);
  const Blob written = played(*a, rom, "moth.gba");
  const Catalog catalog;
  ConvertRequest there;
  there.inputs = {taken_apart(written, rom)};
  there.to = &layout(catalog, "gba.sram-64k");
  there.chips = {{PartKind::sram, 32768, ""}};
  const auto large = convert(catalog, there);
  ASSERT_TRUE(large) << large.error().message;
  EXPECT_EQ(large->files.front().bytes.size(), 65536U);
  const Blob back = into_form_of(written, taken_apart(large->files.front().bytes, rom), rom);
  EXPECT_EQ(mark_of(taken_apart(played(*a, rom, "moth.gba", &back), rom)), saw_it);
}

}  // namespace
}  // namespace bayswap::test
