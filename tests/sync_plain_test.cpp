// Save states and configuration in step: whole files, between places of one program only.
#include "support/core_states.hpp"
#include "support/sync_devices.hpp"

namespace bayswap::test {
namespace {

using Outcome = SyncRow::Outcome;

std::size_t plain_count(const std::vector<SyncRow>& rows, Outcome outcome) {
  return static_cast<std::size_t>(std::ranges::count(rows, outcome, &SyncRow::outcome));
}
std::string plain_words(const std::vector<SyncRow>& rows) {
  std::string all;
  for (const SyncRow& row : rows)
    all += std::string(to_text(row.outcome)) + " " + row.bay + " " + row.path + ": " + row.why + "\n";
  return all;
}
Blob plain_core(const std::string& path) {
  const auto file = core_files().read(path);
  EXPECT_TRUE(file) << path;
  return file ? *file : Blob();
}
std::string gb(const std::string& states, const std::string& sync) {
  return "[platform.gb]\npath = \"saves/{rom.stem}.sav\"\nlayout = \"gb.raw\"\nroms = \"roms\"\nstates = [" +
         states + "]\n[sync]\n" + sync;
}

class PlainInStep : public testing::Test {
 protected:
  const std::string with_states = "kinds = [\"battery\", \"states\"]\n";
  const Blob rom = plain_core("roms/gb-mbc5-32k/A/Tideward (World).gb");
  const Blob state = plain_core("gb/gb-mbc5-32k/coreB/A/Tideward (World).state.auto");
  const Blob other_state = plain_core("gb/gb-mbc5-32k/coreB/B/Tideward (World).state.auto");
  const Blob picture = plain_core("gb/gb-mbc5-32k/coreL/A/Tideward (World).ss1");
  MemoryStore sea;
  SyncDevice pc{"pc", sea};
  SyncDevice box{"box", sea};
  SyncDevice pocket{"pocket", sea};
};

TEST_F(PlainInStep, StatesGoWhereStatesOfThatProgramAre) {
  TestBay& on_pc = pc.bay(
      "pc", gb(R"("states/{rom.stem}.state{slot.bare}", "states/{rom.stem}.state.auto")", with_states));
  TestBay& on_box = box.bay("box", gb(R"("{rom.stem}_{slot}.snap")", with_states));
  TestBay& on_pocket = pocket.bay("pocket", gb(R"("states/{rom.stem}.ss{slot}")", with_states));
  ASSERT_TRUE(on_pc.files.replace("roms/Tideward (World).gb", rom.view()));
  ASSERT_TRUE(on_box.files.replace("roms/tide.gb", rom.view()));
  ASSERT_TRUE(on_pocket.files.replace("roms/Tideward.gb", rom.view()));
  ASSERT_TRUE(on_pc.files.replace("states/Tideward (World).state2", state.view()));
  ASSERT_TRUE(on_pc.files.replace("states/Tideward (World).state3", noise(5000, 1).view()));
  ASSERT_TRUE(on_pocket.files.replace("states/Tideward.ss1", picture.view()));
  auto rows = pc.sync();
  EXPECT_EQ(plain_count(rows, Outcome::noted), 1U)
      << plain_words(rows) << "a file that no map describes stays where it is";
  rows = pocket.sync();
  EXPECT_EQ(plain_count(rows, Outcome::written), 0U) << plain_words(rows) << "another program's";
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::written), 0U)
      << plain_words(rows) << "nothing tells what could be loaded there";
  // Once the box has a state of that program, both have both, by their own names.
  ASSERT_TRUE(on_box.files.replace("tide_7.snap", other_state.view()));
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::written), 1U) << plain_words(rows);
  EXPECT_EQ(*on_box.files.read("tide_2.snap"), state);
  rows = pc.sync();
  EXPECT_EQ(plain_count(rows, Outcome::written), 1U) << plain_words(rows);
  EXPECT_EQ(*on_pc.files.read("states/Tideward (World).state7"), other_state);
  EXPECT_TRUE(pc.sync().empty());
  EXPECT_TRUE(box.sync().empty());
  // Saved anew, emptied, and in conflict.
  ASSERT_TRUE(on_box.files.replace("tide_2.snap", other_state.view()));
  box.sync();
  pc.sync();
  EXPECT_EQ(*on_pc.files.read("states/Tideward (World).state2"), other_state);
  ASSERT_TRUE(on_box.files.replace("tide_7.snap", {}));
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::asked), 1U) << plain_words(rows);
  pc.sync();
  EXPECT_EQ(*on_pc.files.read("states/Tideward (World).state7"), other_state)
      << "an empty one replaces nothing";
  ASSERT_TRUE(on_box.files.replace("tide_7.snap", other_state.view()));
  box.sync();
  ASSERT_TRUE(on_pc.files.replace("states/Tideward (World).state2", state.view()));
  pc.sync({}, false);
  Blob third = Blob::copy_of(state.view());
  std::vector<Byte> bytes(third.data(), third.data() + third.size());
  bytes[bytes.size() / 2] ^= 1;
  ASSERT_TRUE(on_box.files.replace("tide_2.snap", bytes));
  box.sync();
  rows = pc.sync();
  EXPECT_EQ(plain_count(rows, Outcome::conflict), 1U) << plain_words(rows);
  EXPECT_EQ(*on_pc.files.read("states/Tideward (World).state2"), state);
  ASSERT_EQ(pc.conflicts.size(), 1U);
  pc.keep(pc.conflicts.front().sides.front().version);
  for (int round = 0; round < 2; ++round) {
    pc.sync();
    box.sync();
  }
  EXPECT_EQ(*on_pc.files.read("states/Tideward (World).state2"), *on_box.files.read("tide_2.snap"));
  // It takes part no more: nothing is said to be deleted.
  on_box.bay.sync.kinds = {"battery"};
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::asked), 0U) << plain_words(rows);
  EXPECT_EQ(on_pocket.files.files().size(), 2U);
}

TEST_F(PlainInStep, ADeletedStateGoesOnlyWhenItIsMeant) {
  for (SyncDevice* device : {&pc, &box}) {
    TestBay& bay = device->bay("states", gb(R"("{rom.stem}.state{slot.bare}")", with_states));
    ASSERT_TRUE(bay.files.replace("roms/Tideward (World).gb", rom.view()));
    for (const char* slot : {"4", "5", "6"})
      ASSERT_TRUE(bay.files.replace(std::string("Tideward (World).state") + slot, state.view()));
    device->sync();
  }
  pc.sync();
  ASSERT_TRUE(pc.bay(0).files.remove("Tideward (World).state5"));
  auto rows = pc.sync();
  EXPECT_EQ(plain_count(rows, Outcome::asked), 1U) << plain_words(rows);
  box.sync();
  EXPECT_TRUE(box.bay(0).files.files().contains("Tideward (World).state5"));
  SyncRequest meant;
  meant.accept.insert(Loss::deleted);
  pc.sync(std::move(meant));
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::removed), 1U) << plain_words(rows);
  EXPECT_FALSE(box.bay(0).files.files().contains("Tideward (World).state5"));
  EXPECT_TRUE(box.bay(0).files.files().contains("Tideward (World).state4"));
}

TEST_F(PlainInStep, ConfigurationStaysWithinOneForm) {
  const auto sync = [](const std::string& form) {
    return "kinds = [\"config\"]\nconfig = [\"config/*.cfg\", \"config/*/*.opt\"]\nform = \"" + form + "\"\n";
  };
  TestBay& on_pc = pc.bay("pc", gb("\"x/{rom.stem}.state{slot}\"", sync("front")));
  TestBay& on_box = box.bay("box", gb("\"x/{rom.stem}.state{slot}\"", sync("front")));
  TestBay& on_pocket = pocket.bay("pocket", gb("\"x/{rom.stem}.state{slot}\"", sync("back")));
  ASSERT_TRUE(on_pc.files.replace("config/main.cfg", text_blob("volume = 7").view()));
  ASSERT_TRUE(on_pc.files.replace("config/gb/pads.opt", text_blob("a = b").view()));
  ASSERT_TRUE(on_pc.files.replace("config/gb/deep/no.cfg", text_blob("x").view()));
  ASSERT_TRUE(on_pc.files.replace("other/no.cfg", text_blob("x").view()));
  auto rows = pc.sync();
  EXPECT_EQ(plain_count(rows, Outcome::noted), 2U) << plain_words(rows);
  rows = box.sync();
  EXPECT_EQ(plain_count(rows, Outcome::written), 2U) << plain_words(rows);
  EXPECT_EQ(*on_box.files.read("config/gb/pads.opt"), text_blob("a = b"));
  pocket.sync();
  EXPECT_TRUE(on_pocket.files.files().empty());
  ASSERT_TRUE(on_box.files.replace("config/main.cfg", text_blob("volume = 8").view()));
  box.sync();
  pc.sync();
  EXPECT_EQ(*on_pc.files.read("config/main.cfg"), text_blob("volume = 8"));
  // What is there already, and is another, is not written over.
  SyncDevice late{"late", sea};
  TestBay& on_late = late.bay("late", gb("\"x/{rom.stem}.state{slot}\"", sync("front")));
  ASSERT_TRUE(on_late.files.replace("config/main.cfg", text_blob("volume = 1").view()));
  rows = late.sync();
  EXPECT_EQ(plain_count(rows, Outcome::conflict), 1U) << plain_words(rows);
  EXPECT_EQ(*on_late.files.read("config/main.cfg"), text_blob("volume = 1"));
  EXPECT_FALSE(parse_bay("root = \"/x\"\n" + gb("\"x\"", "kinds = [\"config\"]\n"), "x", "x", "/"))
      << "of what?";
  const std::string text = to_toml(on_pc.bay);
  EXPECT_EQ(to_toml(*parse_bay(text, "pc", "pc", "/")), text);
}

}  // namespace
}  // namespace bayswap::test
