// The battery save in a state of no known kind: by structure alone, by what is known of the game, and never
// where there is none.
#include <gtest/gtest.h>
#include <bayswap/state.hpp>

#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/core_states.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using Bytes = std::vector<Byte>;

BatterySearch chip_of(Platform platform, PartKind kind, std::size_t size) {
  BatterySearch what;
  what.platform = platform;
  what.chips = {{kind, size, ""}};
  what.tells_chips = true;
  return what;
}
Blob word(std::uint64_t value, std::size_t bytes, bool big = false) {
  Bytes out(bytes);
  for (std::size_t i = 0; i < bytes; ++i) out[big ? bytes - 1 - i : i] = static_cast<Byte>(value >> (8 * i));
  return Blob::copy_of(out);
}
// Memory as a program leaves it: stretches of this and that, most of it nothing.
Blob work_memory(std::size_t size, std::uint32_t seed) {
  Bytes bytes(size);
  for (std::size_t at = seed % 97; at + 40 < size; at += 200 + (seed = seed * 1103515245 + 12345) % 700)
    std::ranges::copy(noise(24 + seed % 16, seed).view(), bytes.begin() + static_cast<std::ptrdiff_t>(at));
  return Blob::copy_of(bytes);
}

TEST(StateSearch, StructureAloneFindsTheBatterySavesOfLiveCores) {
  const Catalog catalog;
  std::size_t certain = 0;
  std::size_t asked = 0;
  for (const auto& [core, states] : core_states())
    for (std::size_t i = 0; i < states.pairs.size(); ++i) {
      const auto& [state, battery] = states.pairs[i];
      BatterySearch what = chip_of(battery.platform, PartKind::sram, battery.parts.front().bytes.size());
      if (states.paths[i].find("rtc") != std::string::npos) what.chips.push_back({PartKind::rtc, 0, ""});
      const BatteryFinds finds = find_batteries(catalog, state, what);
      ++asked;
      ASSERT_FALSE(finds.candidates.empty()) << states.paths[i];
      const BatteryCandidate& first = finds.candidates.front();
      EXPECT_EQ(first.save.parts.front().bytes, battery.parts.front().bytes) << states.paths[i];
      certain += first.certain ? 1 : 0;
      // What was found is a way back in as well.
      const auto again = grafted_state(first.map, state, first.save);
      ASSERT_TRUE(again) << again.error().message;
      EXPECT_EQ(*again, state) << states.paths[i];
    }
  EXPECT_GE(asked, 28U);
  EXPECT_GE(certain + 1, asked);
}

// How programs set the memory apart.
enum class Way { named, named_big, chunk, table, length, borders };
Blob state_of(Way way, const Blob& chip, std::uint32_t seed) {
  const Blob before = work_memory(way == Way::table ? 9008 : 9000 + seed % 500, seed);
  const Blob behind = work_memory(20000, seed + 1);
  const std::size_t size = chip.size();
  switch (way) {
    case Way::named:
      return joined({text_blob("SNAP"), before, text_blob("\x05zoom0"), word(4, 4), word(seed, 4),
                     text_blob("\x04SRAM"), word(size, 4), chip, text_blob("\x05speed"), word(4, 4),
                     word(7, 4), behind});
    case Way::named_big:
      return joined({before, Blob::filled(16, 0), text_blob("eeprom"), word(size, 4, true), chip,
                     text_blob("voice"), word(2, 4, true), word(9, 2), behind});
    case Way::chunk:
      return joined({text_blob("MADE-UP\x01"), text_blob("WRAM"), word(before.size(), 4), before,
                     text_blob("BRAM"), word(size, 4), chip, text_blob("CPU0"), word(behind.size(), 4),
                     behind});
    case Way::table: {
      const std::size_t at = before.size();
      const std::size_t items = at + 48;
      return joined({before, word(2, 4), word(size, 4), word(items, 8), word(4, 4), word(16, 4),
                     word(items + size, 8), Blob::filled(16, 0), chip, noise(16, seed)});
    }
    case Way::length:
      return joined({before, Blob::filled(64, 0xff), word(size, 4), chip, Blob::filled(3000, 0), behind});
    case Way::borders:
      return joined({before, Blob::filled(32, 0), chip, Blob::filled(3000, 0xff), behind});
  }
  return {};
}

TEST(StateSearch, MadeUpProgramsAreReadAndOnesWithoutASaveAreNot) {
  const Catalog catalog;
  expect_property("of made-up snapshots", [&] {
    const auto seed = *rc::gen::inRange<std::uint32_t>(1, 100000);
    const Way way =
        *rc::gen::element(Way::named, Way::named_big, Way::chunk, Way::table, Way::length, Way::borders);
    const auto kind = way == Way::named_big ? PartKind::eeprom : PartKind::sram;
    const std::size_t size =
        kind == PartKind::eeprom ? *rc::gen::element<std::size_t>(512, 8192) : std::size_t{32768};
    const Platform platform = Platform::gba;
    const Blob chip = noise(size, seed + 7);
    const bool packed = *rc::gen::arbitrary<bool>();
    const auto closed = [&](const Blob& bytes) { return packed ? wrap(Compression::gzip, bytes) : bytes; };
    const Blob state = closed(state_of(way, chip, seed));
    const BatterySearch what = chip_of(platform, kind, size);
    const BatteryFinds finds = find_batteries(catalog, state, what);
    RC_LOG() << "way " << static_cast<int>(way) << " seed " << seed;
    RC_ASSERT(!finds.candidates.empty());
    // Memory whose own ends are like the filler beside them could begin a byte earlier or later.
    if (way == Way::borders && (chip.view().front() == 0 || chip.view().back() == 0xff)) return;
    RC_ASSERT(finds.candidates.front().save.parts.front().bytes == chip);
    RC_ASSERT(finds.candidates.front().certain);
    // The bytes go back into the very file, others change it there only.
    const auto& found = finds.candidates.front();
    const Save other{saves_as(platform), {{found.save.parts.front().role, noise(size, seed + 8), true}}};
    RC_ASSERT(*grafted_state(found.map, state, other) ==
              closed(state_of(way, other.parts.front().bytes, seed)));
    // The same program without a chip, and with one that is blank.
    const Blob without = closed(joined({work_memory(40000, seed + 3), work_memory(30000, seed + 4)}));
    for (const auto& one : find_batteries(catalog, without, what).candidates) RC_ASSERT(!one.certain);
    for (const auto& one :
         find_batteries(catalog, closed(state_of(way, Blob::filled(size, 0), seed)), what).candidates)
      RC_ASSERT(!one.certain);
    BatterySearch none;
    none.platform = platform;
    none.tells_chips = true;
    RC_ASSERT(find_batteries(catalog, state, none).candidates.empty());
  });
}

TEST(StateSearch, AnOlderBatterySaveLeadsToTheNewerOne) {
  const Catalog catalog;
  const Blob newer = noise(8192, 1);
  Bytes older = bytes_of(newer);
  std::ranges::copy(noise(1500, 2).view(), older.begin() + 3000);
  // No border, no name, no length: noise all around.
  const Blob state = joined({noise(30011, 3), newer, noise(50000, 4)});
  BatterySearch what = chip_of(Platform::snes, PartKind::sram, 8192);
  EXPECT_TRUE(find_batteries(catalog, state, what).candidates.empty());
  what.known.push_back(
      {Save{Platform::snes, {{{PartKind::sram, 0}, Blob::copy_of(older), true}}}, "old.srm"});
  const BatteryFinds finds = find_batteries(catalog, state, what);
  ASSERT_FALSE(finds.candidates.empty());
  EXPECT_TRUE(finds.candidates.front().certain);
  EXPECT_EQ(finds.candidates.front().save.parts.front().bytes, newer);
  EXPECT_NE(finds.candidates.front().evidence.front().find("old.srm"), std::string::npos);
  what.known.front().save.parts.front().bytes = noise(8192, 9);
  EXPECT_TRUE(find_batteries(catalog, state, what).candidates.empty()) << "of another game";
}

TEST(StateSearch, AMapOfAnotherGameAndOtherStatesSpeakForAPlace) {
  const Catalog catalog;
  const auto state_with = [](const Blob& chip, std::uint32_t seed) {
    return joined({text_blob("MADEUP-7"), noise(500, 5), noise(3000, seed), chip, noise(900, seed + 1)});
  };
  const auto save_of = [](const Blob& chip) {
    return Save{Platform::snes, {{{PartKind::sram, 0}, chip, true}}};
  };
  const auto learned = learn_state({{state_with(noise(2048, 1), 10), save_of(noise(2048, 1))},
                                    {state_with(noise(2048, 2), 20), save_of(noise(2048, 2))}},
                                   "snes.small");
  ASSERT_TRUE(learned) << learned.error().message;
  StateMaps maps;
  ASSERT_TRUE(maps.add(learned->map));
  BatterySearch what = chip_of(Platform::snes, PartKind::sram, 8192);
  const Blob larger = state_with(noise(8192, 3), 30);
  EXPECT_TRUE(find_batteries(catalog, larger, what).candidates.empty());
  what.maps = &maps;
  const BatteryFinds finds = find_batteries(catalog, larger, what);
  ASSERT_FALSE(finds.candidates.empty());
  EXPECT_TRUE(finds.candidates.front().certain);
  EXPECT_EQ(finds.candidates.front().save.parts.front().bytes, noise(8192, 3));
  // Two states agree on a place that one alone leaves open.
  const auto open_at = [](std::uint32_t seed) {
    return joined({noise(600, seed), Blob::filled(16, 0), noise(2048, seed + 1), Blob::filled(4, 0),
                   noise(700, seed + 2), Blob::filled(100 + seed, 0), noise(2048, seed + 3),
                   Blob::filled(8, 0), noise(400, seed)});
  };
  what = chip_of(Platform::snes, PartKind::sram, 2048);
  const double alone = find_batteries(catalog, open_at(50), what).candidates.front().score;
  what.others = {open_at(50), open_at(50)};
  EXPECT_GT(find_batteries(catalog, open_at(50), what).candidates.front().score, alone);
}

}  // namespace
}  // namespace bayswap::test
