// Save states: maps learned from pairs, battery saves out of states and into them, nothing else changed.
#include <gtest/gtest.h>
#include <bayswap/state.hpp>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/core_states.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

using Bytes = std::vector<Byte>;

std::vector<ChipFact> chips_of(const Save& save) {
  return {{PartKind::sram, save.parts.front().bytes.size(), ""}};
}

TEST(States, OfLiveCoresAreLearnedFromOnePairAndReadByIt) {
  const auto cores = core_states();
  ASSERT_EQ(cores.size(), 7U);
  for (const auto& [core, states] : cores) {
    // One program's A, then its B: another content at another moment.
    for (std::size_t i = 0; i + 1 < states.pairs.size(); i += 2) {
      const auto learned =
          learn_state({states.pairs[i]}, std::string(tag(states.pairs[i].battery.platform)) + ".learned");
      ASSERT_TRUE(learned) << states.paths[i] << ": " << learned.error().message;
      EXPECT_FALSE(learned->certain.empty() || learned->open.empty());
      const auto again = parse_state_map(to_toml(learned->map), "again");
      ASSERT_TRUE(again) << again.error().message << to_toml(learned->map);
      EXPECT_EQ(to_toml(*again), to_toml(learned->map));
      const StatePair& later = states.pairs[i + 1];
      const auto save = battery_in_state(*again, later.state, chips_of(later.battery));
      ASSERT_TRUE(save) << states.paths[i + 1] << ": " << save.error().message;
      EXPECT_EQ(save->parts.front().bytes, later.battery.parts.front().bytes) << states.paths[i + 1];
      // The earlier save into the later state, and out again: and with its own it is the very file.
      const auto grafted = grafted_state(*again, later.state, states.pairs[i].battery);
      ASSERT_TRUE(grafted) << grafted.error().message;
      EXPECT_EQ(battery_in_state(*again, *grafted, chips_of(later.battery))->parts.front().bytes,
                states.pairs[i].battery.parts.front().bytes);
      EXPECT_EQ(*grafted_state(*again, *grafted, later.battery), later.state);
    }
  }
}

TEST(States, SeveralGamesOfACoreMakeOneMap) {
  for (const auto& [core, states] : core_states()) {
    const auto learned = learn_state(
        states.pairs, states.pairs.front().battery.platform == Platform::gb ? "gb.all" : "snes.all");
    ASSERT_TRUE(learned) << core << ": " << learned.error().message;
    for (std::size_t i = 0; i < states.pairs.size(); ++i) {
      const auto save =
          battery_in_state(learned->map, states.pairs[i].state, chips_of(states.pairs[i].battery));
      ASSERT_TRUE(save) << states.paths[i] << ": " << save.error().message;
      EXPECT_EQ(save->parts.front().bytes, states.pairs[i].battery.parts.front().bytes) << states.paths[i];
    }
    if (std::getenv("BAYSWAP_SHOW_MAPS") != nullptr)
      std::printf("### %s\n%s\n", core.c_str(), to_toml(learned->map).c_str());
    // No battery save is a state of that kind, and no other core's state.
    for (const auto& [other, theirs] : core_states()) {
      if (other == core) continue;
      for (const StatePair& pair : theirs.pairs)
        EXPECT_FALSE(is_state_of(learned->map, pair.state)) << core << other;
    }
    for (const auto& [path, file] : core_files().files()) {
      if (!path.ends_with(".sav") && !path.ends_with(".srm")) continue;
      EXPECT_FALSE(is_state_of(learned->map, file.bytes)) << path;
    }
  }
}

// Made-up programs: the memory in some order somewhere in a layer, a checksum over it, the whole in an
// envelope.
TEST(States, GraftsChangeTheBytesTheirChecksumsAndNothingElse) {
  expect_property("of states with checksums, in envelopes", [] {
    const auto seed = *rc::gen::inRange<std::uint32_t>(1, 100000);
    const Blob chip = noise(512, seed);
    const auto order = *rc::gen::element(ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32);
    const std::size_t at = 64 + seed % 50 * 4;
    const auto kind = *rc::gen::element(IntegrityField::Kind::crc32, IntegrityField::Kind::adler32,
                                        IntegrityField::Kind::sum32, IntegrityField::Kind::md5);
    const int wrapper = *rc::gen::inRange(0, 3);
    const auto state_with = [&](const Blob& memory) {
      Bytes layer = bytes_of(noise(at + 512 + 300, seed + 5));
      const std::size_t word = order == ByteOrder::chip ? 1 : order == ByteOrder::swap16 ? 2 : 4;
      for (std::size_t i = 0; i < 512; ++i)
        layer[at + i] = memory.view()[(i / word + 1) * word - 1 - i % word];
      const std::size_t width = kind == IntegrityField::Kind::md5 ? 16 : 4;
      Bytes body(layer.begin() + 8 + static_cast<std::ptrdiff_t>(width), layer.end());
      Bytes value;
      if (kind == IntegrityField::Kind::md5) {
        const auto digest = md5(body);
        value.assign(digest.begin(), digest.end());
      } else {
        std::uint32_t sum = kind == IntegrityField::Kind::crc32 ? crc32(body) : 0;
        std::uint32_t a = 1;
        std::uint32_t b = 0;
        for (const Byte one : body) {
          if (kind == IntegrityField::Kind::sum32) sum += one;
          a = (a + one) % 65521;
          b = (b + a) % 65521;
        }
        if (kind == IntegrityField::Kind::adler32) sum = b << 16 | a;
        for (int i = 0; i < 4; ++i) value.push_back(static_cast<Byte>(sum >> 8 * i));
      }
      std::ranges::copy(value, layer.begin() + 8);
      const Blob bytes = Blob::copy_of(layer);
      return wrapper == 0   ? bytes
             : wrapper == 1 ? wrap(Compression::gzip, bytes)
                            : joined({text_blob("STATE-FILE\x01\x02"), wrap(Compression::zlib, bytes)});
    };
    const auto save_of = [](const Blob& memory) {
      return Save{Platform::nes, {{{PartKind::sram, 0}, memory, true}}};
    };
    const auto learned = learn_state({{state_with(chip), save_of(chip)},
                                      {state_with(noise(512, seed + 1)), save_of(noise(512, seed + 1))}},
                                     "nes.made-up");
    if (!learned) RC_LOG() << learned.error().message;
    RC_ASSERT(learned.has_value());
    RC_ASSERT(learned->map.integrity.size() >= 1U);
    const Blob other = noise(512, seed + 2);
    const auto grafted = grafted_state(learned->map, state_with(chip), save_of(other));
    RC_ASSERT(grafted.has_value());
    RC_ASSERT(*grafted == state_with(other));
    RC_ASSERT(grafted_state(learned->map, state_with(chip), save_of(noise(1024, 1))).error().code ==
              ErrorCode::does_not_fit);
  });
}

TEST(States, WhatCannotBeLearnedIsSaid) {
  const Save save{Platform::nes, {{{PartKind::sram, 0}, noise(8192, 1), true}}};
  EXPECT_EQ(learn_state({{noise(50000, 2), save}}, "nes.x").error().code, ErrorCode::not_recognised);
  const Save blank{Platform::nes, {{{PartKind::sram, 0}, Blob::filled(8192, 0), true}}};
  EXPECT_EQ(learn_state({{Blob::filled(50000, 0), blank}}, "nes.x").error().code, ErrorCode::not_recognised);
  const Blob one = joined({noise(100, 3), save.parts[0].bytes, noise(50, 4)});
  const Blob two = joined({noise(300, 5), save.parts[0].bytes, noise(50, 6)});
  EXPECT_FALSE(learn_state({{one, save}, {two, save}}, "nes.x")) << "in two places";
  EXPECT_FALSE(learn_state({}, "nes.x"));
}

TEST(StateMaps, BuiltInOnesReadTheStatesTheyAreFor) {
  StateMaps maps;
  std::size_t read = 0;
  for (const StateMap* map : maps.all()) {
    EXPECT_EQ(to_toml(*parse_state_map(to_toml(*map), "again")), to_toml(*map)) << map->id;
    EXPECT_FALSE(map->about.empty()) << map->id;
  }
  for (const auto& [core, states] : core_states())
    for (std::size_t i = 0; i < states.pairs.size(); ++i) {
      const StatePair& pair = states.pairs[i];
      std::vector<const StateMap*> fitting;
      for (const StateMap* map : maps.all(pair.battery.platform))
        if (is_state_of(*map, pair.state)) fitting.push_back(map);
      ASSERT_EQ(fitting.size(), 1U) << states.paths[i];
      const auto save = battery_in_state(*fitting.front(), pair.state, chips_of(pair.battery));
      ASSERT_TRUE(save) << states.paths[i] << ": " << save.error().message;
      EXPECT_EQ(save->parts.front().bytes, pair.battery.parts.front().bytes) << states.paths[i];
      ++read;
    }
  EXPECT_GE(read, 24U);
  EXPECT_FALSE(maps.add(*maps.all().front()));
  EXPECT_NE(maps.find("gb.chunked-").error().hint.find("gb.chunked-a"), std::string::npos);
}

TEST(StateMaps, MistakesAreNamedWithTheirLine) {
  const std::string good = to_toml(*StateMaps().all().front());
  for (const char* bad : {"id = 3\n", "[[envelope]]\nstep = \"rar\"\n", "[[mark]]\nat = -1\nhex = \"00\"\n",
                          "[[integrity]]\nkind = \"crc64\"\n",
                          "[[part]]\nrole = \"sram\"\nbehind = 3\nsize = 8\n", "x = 1\n"}) {
    const auto map =
        parse_state_map(std::string(bad) + (std::string(bad).starts_with("[") ? "" : good), "m.toml");
    ASSERT_FALSE(map) << bad;
    EXPECT_EQ(map.error().code, ErrorCode::bad_usage) << bad;
  }
  EXPECT_FALSE(parse_state_map("id = \"gb.x\"\nplatform = \"gb\"\n", "m.toml")) << "no part";
}

}  // namespace
}  // namespace bayswap::test
