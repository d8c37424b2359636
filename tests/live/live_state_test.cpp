// States that live cores make of a running program: the battery save found in them, maps learned, another
// save put in and taken by the core; snapshots of one core from program to program.
#include <gtest/gtest.h>
#include <bayswap/state.hpp>

#include <cstdlib>
#include <functional>

#include "live/core.hpp"
#include "live/programs.hpp"
#include "support/builders.hpp"

namespace bayswap::test {
namespace {

constexpr int state_frames = 20;
constexpr Byte seed = 0x31;

struct Subject {
  const char* core;
  Platform platform;
  std::function<Blob()> rom;
  const char* rom_name;
  bool reads = true;  // the program looks at its battery memory when it begins
  // A core can hold the memory of a loaded state apart from the one that becomes the save file, until the
  // game is started anew.
  enum class File { is_the_memory, is_apart } file = File::is_the_memory;
};
void PrintTo(const Subject& subject, std::ostream* out) {
  *out << subject.core << ' ' << subject.rom_name;
}

// One moment: the state, and what the chip held.
struct Moment {
  Blob state;
  Blob chip;
};

class LiveStates : public testing::TestWithParam<Subject> {
 protected:
  void SetUp() override {
    const auto found = Core::find(GetParam().core);
    if (!found && std::getenv("BAYSWAP_NEEDS_CORES") != nullptr) FAIL() << "no " << GetParam().core;
    if (!found) GTEST_SKIP() << "no " << GetParam().core;
    library_ = *found;
    rom_ = GetParam().rom();
  }

  // A chip of the game as it may be: what the program looks for at its head, or not, and something else
  // after.
  Blob chip(std::size_t size, std::uint32_t what, bool sought) const {
    std::vector<Byte> bytes(size, 0);
    const Blob rest = noise(size, what);
    for (std::size_t i = mark_at + 1; i < size * 3 / 4; ++i) bytes[i] = rest.view()[i] | (i % 3 == 0 ? 1 : 0);
    for (std::size_t i = 0; i < 256; ++i) bytes[i] = static_cast<Byte>(seed + 7 * i + (sought ? 0 : 3));
    if (!GetParam().reads) std::copy_n("HUBM\x00\x88\x10\x80", 8, bytes.begin());
    return Blob::copy_of(bytes);
  }

  Moment moment(std::uint32_t what) const {
    Core game(library_, rom_, GetParam().rom_name);
    EXPECT_TRUE(game.is_running());
    if (!game.is_running()) return {};
    const std::size_t size = game.memory(CoreMemory::battery).size();
    EXPECT_TRUE(game.load(CoreMemory::battery, chip(size, what, false)));
    game.run(state_frames + static_cast<int>(what % 7));
    return {game.state(), game.memory(CoreMemory::battery)};
  }

  Save save(const Blob& chip) const { return {GetParam().platform, {{{PartKind::sram, 0}, chip, true}}}; }

  std::string library_;
  Blob rom_;
};

TEST_P(LiveStates, AreLearnedReadAndGrafted) {
  const Moment first = moment(11);
  const Moment second = moment(22);
  const Moment third = moment(33);
  ASSERT_FALSE(first.state.empty());
  ASSERT_NE(first.chip, third.chip);
  const std::vector<StatePair> pairs{{first.state, save(first.chip)}, {second.state, save(second.chip)}};
  const auto learned = learn_state({pairs.front()}, std::string(tag(GetParam().platform)) + ".live");
  ASSERT_TRUE(learned) << learned.error().message;
  const std::vector<ChipFact> chips{{PartKind::sram, first.chip.size(), ""}};
  const auto battery = battery_in_state(learned->map, third.state, chips);
  ASSERT_TRUE(battery) << battery.error().message;
  EXPECT_EQ(battery->parts[0].bytes, third.chip) << "learned from one pair, and right in a later state";
  ASSERT_TRUE(learn_state(pairs, std::string(tag(GetParam().platform)) + ".more"));

  // With what the program looks for.
  const Blob wanted = chip(third.chip.size(), 44, true);
  const auto grafted = grafted_state(learned->map, third.state, save(wanted));
  ASSERT_TRUE(grafted) << grafted.error().message;
  Core game(library_, rom_, GetParam().rom_name);
  ASSERT_TRUE(game.is_running());
  game.run(3);
  ASSERT_TRUE(game.load_state(third.state));
  const Blob before = game.state();
  ASSERT_TRUE(game.load_state(*grafted)) << "the core itself takes it";
  EXPECT_EQ(game.state(), *grafted_state(learned->map, before, save(wanted))) << "nothing else changed";
  game.run(state_frames);
  EXPECT_EQ(battery_in_state(learned->map, game.state(), chips)->parts[0].bytes, wanted);
  if (GetParam().file != Subject::File::is_the_memory) return;
  EXPECT_EQ(game.memory(CoreMemory::battery), wanted);
  if (!GetParam().reads) return;
  game.reset();
  game.run(state_frames);
  EXPECT_EQ(game.memory(CoreMemory::battery).view()[mark_at] & 0x0f, saw_it) << "and so does the program";
}

TEST_P(LiveStates, AreSearchedWithoutAMap) {
  const Moment own = moment(55);
  const Catalog catalog;
  const StateMaps maps;
  BatterySearch what;
  what.platform = GetParam().platform;
  what.chips = {{PartKind::sram, own.chip.size(), ""}};
  what.maps = &maps;
  const BatteryFinds finds = find_batteries(catalog, own.state, what);
  ASSERT_FALSE(finds.candidates.empty());
  EXPECT_EQ(finds.candidates[0].save.parts[0].bytes, own.chip);
}

INSTANTIATE_TEST_SUITE_P(
    Cores, LiveStates,
    testing::Values(Subject{"gambatte", Platform::gb, [] { return gb_program(0x1b, seed); }, "log.gb"},
                    Subject{"mgba", Platform::gb, [] { return gb_program(0x1b, seed); }, "log.gb", true,
                            Subject::File::is_apart},
                    Subject{"mgba", Platform::gba, [] { return gba_program(seed); }, "moth.gba", true,
                            Subject::File::is_apart},
                    Subject{"nestopia", Platform::nes, [] { return nes_program(seed); }, "quay.nes"},
                    Subject{"bsnes_mercury_balanced", Platform::snes, [] { return snes_program(seed); },
                            "orchard.sfc"},
                    Subject{"bsnes_mercury_performance", Platform::snes, [] { return snes_program(seed); },
                            "orchard.sfc"},
                    Subject{"mednafen_pce_fast", Platform::pce, pce_program, "fog.pce", false}));

// The snapshot of a core goes into a picture file and back; what comes back is loaded and is the same moment.
TEST(LiveStateForms, ASnapshotGoesThroughAPictureFileAndIsLoaded) {
  const auto library = Core::find("mgba");
  if (!library && std::getenv("BAYSWAP_NEEDS_CORES") != nullptr) FAIL() << "no mgba";
  if (!library) GTEST_SKIP() << "no mgba";
  const StateMaps maps;
  for (const auto& [rom, name, tag] : {std::tuple{gb_program(0x1b, seed), "log.gb", "gb"},
                                       std::tuple{gba_program(seed), "moth.gba", "gba"}}) {
    Core game(*library, rom, name);
    ASSERT_TRUE(game.is_running());
    game.run(state_frames);
    const Blob state = game.state();
    const StateMap& plain = **maps.find(std::string(tag) + ".plain-a");
    const StateMap& picture = **maps.find(std::string(tag) + ".picture-a");
    ASSERT_TRUE(is_state_of(plain, state)) << tag << ' ' << state.size();
    const auto there = converted_state(plain, state, picture);
    ASSERT_TRUE(there) << there.error().message;
    game.run(state_frames);
    const auto back = converted_state(picture, there->file, plain);
    ASSERT_TRUE(back) << back.error().message;
    ASSERT_TRUE(game.load_state(back->file));
    EXPECT_EQ(game.state(), state) << "the very moment";
    // And as what the frontend's container has in it.
    const StateMap& chunked = **maps.find(std::string(tag) + ".chunked-a");
    const auto contained = converted_state(picture, there->file, chunked);
    ASSERT_TRUE(contained) << contained.error().message;
    const auto layer = open_envelope(contained->file, chunked.envelope);
    ASSERT_TRUE(layer);
    EXPECT_TRUE(game.load_state(*layer));
    EXPECT_EQ(game.state(), state);
  }
}

}  // namespace
}  // namespace bayswap::test
