// Rounds of devices whose bays keep the same saves in other forms, over a sync folder in memory.
#include "support/sync_devices.hpp"

namespace bayswap::test {
namespace {

std::size_t count(const std::vector<SyncRow>& rows, SyncRow::Outcome outcome) {
  return static_cast<std::size_t>(std::ranges::count(rows, outcome, &SyncRow::outcome));
}
std::string in_words(const std::vector<SyncRow>& rows) {
  std::string all;
  for (const SyncRow& row : rows)
    all += std::string(to_text(row.outcome)) + " " + row.bay + " " + row.save + ": " + row.why + "\n";
  return all;
}

Blob rom() {
  return n64_rom({"LANTERN SKIFF", "N99P"});
}
Blob sram_of(std::uint32_t seed) {
  return noise(32768, seed);
}

// A TV box with combined files, and a flash cartridge's card with bare SRAM files, which has the ROM under
// another name.
class InStep : public testing::Test {
 protected:
  MemoryStore sea;
  SyncDevice box{"box", sea};
  SyncDevice handheld{"handheld", sea};
  TestBay& tv = box.bay(
      "tv", "[platform.n64]\npath = \"saves/{rom.stem}.srm\"\nlayout = \"n64.combined\"\nroms = \"roms\"\n");
  TestBay& card = handheld.bay(
      "card", "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
  const std::string on_tv = "saves/Lantern Skiff (Europe).srm";
  const std::string on_card = "skiff.sra";

  InStep() {
    EXPECT_TRUE(tv.files.replace("roms/Lantern Skiff (Europe).z64", rom().view()));
    EXPECT_TRUE(card.files.replace("skiff.z64", rom().view()));
  }
  void play_on_card(const Blob& save) { ASSERT_TRUE(card.files.replace(on_card, save.view())); }
  Blob part_on_tv() {
    const auto file = tv.files.read(on_tv);
    const auto layout = catalog().find("n64.combined");
    const auto save = file ? unpack(**layout, *file) : tl::unexpected(file.error());
    const Part* part = save ? save->find({PartKind::sram, 0}) : nullptr;
    return part != nullptr ? part->bytes : Blob();
  }
};

TEST_F(InStep, OneSaveInTwoFormsStaysInStep) {
  play_on_card(sram_of(1));
  auto rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::noted), 1U) << in_words(rows);
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(part_on_tv(), sram_of(1));
  EXPECT_TRUE(box.sync().empty()) << "what was written here is no change";
  EXPECT_TRUE(handheld.sync().empty());
  // Played on the TV box: back to the card, as bare SRAM.
  auto file = *tv.files.read(on_tv);
  const auto combined = catalog().find("n64.combined");
  Save save = *unpack(**combined, file);
  for (Part& part : save.parts)
    if (part.role.kind == PartKind::sram) part.bytes = sram_of(2);
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view()));
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::noted), 1U) << in_words(rows);
  rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(*card.files.read(on_card), sram_of(2));
  EXPECT_EQ(box.versions(), 2U);
}

// A program saves between the writing of a round and its reading back: what it wrote stays, and is news.
TEST_F(InStep, WhatAProgramWritesMeanwhileStays) {
  play_on_card(sram_of(1));
  handheld.sync();
  const auto combined = catalog().find("n64.combined");
  Save save;
  save.platform = Platform::n64;
  save.parts.push_back({{PartKind::sram, 0}, sram_of(2), true});
  box.after_writing = [&] { EXPECT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view())); };
  auto rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::waits), 1U) << in_words(rows);
  EXPECT_EQ(part_on_tv(), sram_of(2));
  box.after_writing = nullptr;
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::noted), 1U) << in_words(rows);
  rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(*card.files.read(on_card), sram_of(2));
}

// What a bay file leaves out is not written there either.
TEST_F(InStep, WhatIsLeftOutDoesNotComeIn) {
  play_on_card(sram_of(1));
  handheld.sync();
  const BaySync usual = tv.bay.sync;
  for (const int way : {0, 1, 2}) {
    tv.bay.sync = usual;
    if (way == 0) tv.bay.sync.kinds = {"card"};
    if (way == 1) tv.bay.sync.max_bytes = 100;
    if (way == 2) tv.bay.sync.leave = {"saves/Lantern*"};
    const auto rows = box.sync();
    EXPECT_EQ(count(rows, SyncRow::Outcome::written), 0U) << way << in_words(rows);
    EXPECT_FALSE(tv.files.files().contains(on_tv)) << way;
  }
  tv.bay.sync = usual;
  box.sync();
  EXPECT_EQ(part_on_tv(), sram_of(1)) << "the test can fail";
}

// Both had the save when they joined, neither knowing of the other.
TEST_F(InStep, WhoHadTheSameSaveIsInNoConflict) {
  play_on_card(sram_of(1));
  const auto combined = catalog().find("n64.combined");
  Save save;
  save.platform = Platform::n64;
  save.parts.push_back({{PartKind::sram, 0}, sram_of(1), true});
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view()));
  handheld.sync();
  box.sync();
  handheld.sync();
  EXPECT_EQ(box.versions(), 2U);
  for (std::uint32_t evening = 2; evening < 6; ++evening) {
    SyncDevice& player = evening % 2 == 0 ? handheld : box;
    SyncDevice& other = evening % 2 == 0 ? box : handheld;
    if (&player == &handheld) {
      play_on_card(sram_of(evening));
    } else {
      save.parts.front().bytes = sram_of(evening);
      ASSERT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view()));
    }
    auto rows = player.sync();
    EXPECT_EQ(count(rows, SyncRow::Outcome::conflict), 0U) << in_words(rows);
    rows = other.sync();
    EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
    EXPECT_EQ(part_on_tv(), sram_of(evening));
    EXPECT_EQ(*card.files.read(on_card), sram_of(evening));
  }
  // Both play on from there, apart: that is one.
  play_on_card(sram_of(20));
  handheld.sync({}, false);
  save.parts.front().bytes = sram_of(21);
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view()));
  box.sync();
  EXPECT_EQ(count(handheld.sync(), SyncRow::Outcome::conflict), 1U);
}

TEST_F(InStep, AConflictIsShownAndResolvedOnceForAll) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  play_on_card(sram_of(2));
  Save save;
  save.platform = Platform::n64;
  save.parts.push_back({{PartKind::sram, 0}, sram_of(3), true});
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**catalog().find("n64.combined"), save)->view()));
  handheld.sync();
  auto rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::conflict), 1U) << in_words(rows);
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 0U);
  EXPECT_EQ(part_on_tv(), sram_of(3)) << "nothing is written";
  ASSERT_EQ(box.conflicts.size(), 1U);
  const SyncConflict& conflict = box.conflicts.front();
  EXPECT_EQ(conflict.sides[0].version.device_name, "box");
  EXPECT_EQ(conflict.sides[1].version.device_name, "handheld");
  EXPECT_TRUE(conflict.ancestor);
  EXPECT_NE(conflict.difference.find("bytes differ"), std::string::npos);
  box.keep(conflict.sides[1].version);
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(part_on_tv(), sram_of(2));
  EXPECT_TRUE(box.conflicts.empty());
  handheld.sync();
  EXPECT_TRUE(handheld.conflicts.empty());
  EXPECT_EQ(*card.files.read(on_card), sram_of(2));
}

// Who answers and plays on before the next round has played on from the answer.
TEST_F(InStep, PlayingOnAfterAnAnswerIsNoNewConflict) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  play_on_card(sram_of(2));
  handheld.sync({}, false);
  const auto combined = catalog().find("n64.combined");
  Save save = *unpack(**combined, *tv.files.read(on_tv));
  for (Part& part : save.parts)
    if (part.role.kind == PartKind::sram) part.bytes = sram_of(3);
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**combined, save)->view()));
  box.sync();
  handheld.sync();
  ASSERT_EQ(handheld.conflicts.size(), 1U);
  for (const SyncConflict::Side& side : handheld.conflicts.front().sides)
    if (side.version.device_name == "handheld") handheld.keep(side.version);
  play_on_card(sram_of(4));
  auto rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::conflict), 0U) << in_words(rows);
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(part_on_tv(), sram_of(4));
}

TEST_F(InStep, TwoAnswersAreANewConflictAndNoLoss) {
  play_on_card(sram_of(1));
  Save save;
  save.platform = Platform::n64;
  save.parts.push_back({{PartKind::sram, 0}, sram_of(3), true});
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**catalog().find("n64.combined"), save)->view()));
  handheld.sync();
  box.sync();
  handheld.sync();
  ASSERT_EQ(handheld.conflicts.size(), 1U);
  ASSERT_EQ(box.conflicts.size(), 1U);
  EXPECT_FALSE(box.conflicts.front().ancestor) << "first contact";
  box.keep(box.conflicts.front().sides[0].version);
  handheld.keep(handheld.conflicts.front().sides[1].version);
  box.sync();
  handheld.sync();
  box.sync();
  EXPECT_EQ(box.conflicts.size(), 1U);
  EXPECT_EQ(part_on_tv(), sram_of(3));
  EXPECT_EQ(*card.files.read(on_card), sram_of(1));
}

TEST_F(InStep, LossesAreAskedAboutAndNeverFollowedUnasked) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  // Gone, then empty, then damaged: each is asked about, each time, and the TV box keeps its own.
  ASSERT_TRUE(card.files.remove(on_card));
  for (int i = 0; i < 2; ++i) {
    const auto rows = handheld.sync();
    ASSERT_EQ(count(rows, SyncRow::Outcome::asked), 1U) << in_words(rows);
    EXPECT_EQ(*rows.front().loss, Loss::deleted);
  }
  play_on_card(Blob::filled(32768, 0xFF));
  auto rows = handheld.sync();
  ASSERT_EQ(count(rows, SyncRow::Outcome::asked), 1U) << in_words(rows);
  EXPECT_EQ(*rows.front().loss, Loss::empty);
  play_on_card(sram_of(1).slice(0, 20000));
  rows = handheld.sync();
  ASSERT_EQ(count(rows, SyncRow::Outcome::asked), 1U) << in_words(rows);
  EXPECT_EQ(*rows.front().loss, Loss::damaged);
  EXPECT_TRUE(box.sync().empty());
  EXPECT_EQ(part_on_tv(), sram_of(1));
  // Back as it was, it is no question any more.
  play_on_card(sram_of(1));
  EXPECT_TRUE(handheld.sync().empty());
  // Meant: it goes elsewhere as well, and stays in the history.
  ASSERT_TRUE(card.files.remove(on_card));
  SyncRequest request;
  request.accept.insert(Loss::deleted);
  rows = handheld.sync(request);
  EXPECT_EQ(count(rows, SyncRow::Outcome::noted), 1U) << in_words(rows);
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::removed), 1U) << in_words(rows);
  EXPECT_FALSE(tv.files.files().contains(on_tv));
  EXPECT_EQ(box.versions(), 2U);
  EXPECT_TRUE(box.sync().empty());
  // A new beginning.
  play_on_card(sram_of(9));
  handheld.sync();
  box.sync();
  EXPECT_EQ(part_on_tv(), sram_of(9));
  EXPECT_TRUE(box.conflicts.empty());
}

TEST_F(InStep, ABusyBayIsReadAndNotWritten) {
  play_on_card(sram_of(1));
  handheld.sync();
  tv.busy = "the emulator runs";
  auto rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 0U);
  EXPECT_FALSE(tv.files.files().contains(on_tv));
  tv.busy.reset();
  rows = box.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  // Not plugged in is not deleted.
  card.away = true;
  EXPECT_TRUE(handheld.sync().empty());
  EXPECT_EQ(part_on_tv(), sram_of(1));
}

TEST_F(InStep, WithoutAWireTheBaysOfADeviceStayInStep) {
  TestBay& raw =
      box.bay("raw", "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
  ASSERT_TRUE(raw.files.replace("Lantern.z64", rom().view()));
  ASSERT_TRUE(raw.files.replace("Lantern.sra", sram_of(4).view()));
  const auto rows = box.sync({}, false);
  EXPECT_EQ(count(rows, SyncRow::Outcome::written), 1U) << in_words(rows);
  EXPECT_EQ(part_on_tv(), sram_of(4));
  box.sync();
  handheld.sync();
  EXPECT_EQ(*card.files.read(on_card), sram_of(4));
}

TEST_F(InStep, MostOfABayGoneStopsTheRound) {
  for (int i = 0; i < 5; ++i) {
    const std::string code = "N" + std::to_string(80 + i) + "P";
    ASSERT_TRUE(card.files.replace("game" + std::to_string(i) + ".z64", n64_rom({"GAME", code}).view()));
    ASSERT_TRUE(card.files.replace("game" + std::to_string(i) + ".sra",
                                   sram_of(10 + static_cast<unsigned>(i)).view()));
  }
  handheld.sync();
  box.sync();
  for (int i = 0; i < 2; ++i) ASSERT_TRUE(card.files.remove("game" + std::to_string(i) + ".sra"));
  for (int i = 0; i < 2; ++i) {
    handheld.sync();
    EXPECT_EQ(handheld.stopped_by, "card") << "until there is an answer";
  }
  SyncRequest request;
  request.accept.insert(Loss::deleted);
  EXPECT_EQ(count(handheld.sync(request), SyncRow::Outcome::noted), 0U) << "it can be the wrong card";
  EXPECT_EQ(handheld.stopped_by, "card");
  request = {};
  request.accept_many = true;
  handheld.sync(request);
  EXPECT_EQ(handheld.stopped_by, "");
  const auto rows = handheld.sync();
  EXPECT_EQ(handheld.stopped_by, "");
  EXPECT_EQ(count(rows, SyncRow::Outcome::asked), 2U) << "each is asked about";
  request = {};
  request.accept.insert(Loss::deleted);
  handheld.sync(request);
  EXPECT_EQ(handheld.stopped_by, "");
}

TEST_F(InStep, WhatTakesNoPartAnyMoreIsNoLoss) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  for (const std::string rest : {"leave = [\"*.sra\"]\n", "kinds = [\"card\"]\n", "max_bytes = 100\n"}) {
    const Bay before = card.bay;
    card.bay = *parse_bay(to_toml(before) + "\n[sync]\n" + rest, "card", "card.toml", "/");
    EXPECT_EQ(to_toml(card.bay), to_toml(*parse_bay(to_toml(card.bay), "card", "card.toml", "/")));
    EXPECT_TRUE(handheld.sync().empty()) << rest;
    box.sync();
    EXPECT_EQ(part_on_tv(), sram_of(1)) << rest;
    card.bay = before;
    handheld.sync();
  }
}

TEST_F(InStep, ARenamedSaveStaysTheSame) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  ASSERT_TRUE(card.files.remove(on_card));
  ASSERT_TRUE(card.files.remove("skiff.z64"));
  ASSERT_TRUE(card.files.replace("Skiff 2.z64", rom().view()));
  ASSERT_TRUE(card.files.replace("Skiff 2.sra", sram_of(1).view()));
  auto rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::renamed), 1U) << in_words(rows);
  ASSERT_TRUE(card.files.replace("Skiff 2.sra", sram_of(2).view()));
  handheld.sync();
  box.sync();
  EXPECT_EQ(part_on_tv(), sram_of(2));
}

// Played on and renamed with its ROM between two rounds: one save that was played, under another name.
TEST_F(InStep, PlayedAndRenamedIsNoLossAndNoConflict) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  ASSERT_TRUE(card.files.remove(on_card));
  ASSERT_TRUE(card.files.remove("skiff.z64"));
  ASSERT_TRUE(card.files.replace("Skiff 2.z64", rom().view()));
  ASSERT_TRUE(card.files.replace("Skiff 2.sra", sram_of(2).view()));
  const auto rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::asked) + count(rows, SyncRow::Outcome::conflict), 0U)
      << in_words(rows);
  box.sync();
  EXPECT_EQ(part_on_tv(), sram_of(2));
  EXPECT_TRUE(box.conflicts.empty());
}

// What is put back after a deletion came after it, whatever bytes it has.
TEST_F(InStep, WhatWasDeletedCanComeBack) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  SyncRequest meant;
  meant.accept.insert(Loss::deleted);
  for (const bool on_the_other : {false, true}) {
    ASSERT_TRUE(card.files.remove(on_card));
    handheld.sync(meant);
    box.sync();
    ASSERT_FALSE(tv.files.files().contains(on_tv));
    if (on_the_other) {
      Save save;
      save.platform = Platform::n64;
      save.parts.push_back({{PartKind::sram, 0}, sram_of(1), true});
      ASSERT_TRUE(tv.files.replace(on_tv, pack(**catalog().find("n64.combined"), save)->view()));
    } else {
      play_on_card(sram_of(1));
    }
    for (int round = 0; round < 2; ++round) {
      handheld.sync();
      box.sync();
    }
    handheld.sync();
    EXPECT_EQ(part_on_tv(), sram_of(1));
    ASSERT_TRUE(card.files.files().contains(on_card));
    EXPECT_EQ(*card.files.read(on_card), sram_of(1));
  }
}

// A forgotten device still has versions that were pruned, and returns. What it has is older, and is replaced;
// what was played there since is a conflict; and where nothing tells, it is one as well, until it is
// answered.
TEST_F(InStep, WhoWasForgottenComesBack) {
  const auto combined = catalog().find("n64.combined");
  for (const std::string way : {"as it was", "played", "unknown"}) {
    SCOPED_TRACE(way);
    MemoryStore stick;
    SyncDevice tv_box("box", stick);
    SyncDevice console("console", stick);
    const std::string rule =
        "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n";
    TestBay& here = tv_box.bay("here", rule);
    TestBay& there = console.bay("there", rule);
    for (TestBay* bay : {&here, &there}) ASSERT_TRUE(bay->files.replace("a.z64", rom().view()));
    ASSERT_TRUE(there.files.replace("a.sra", sram_of(1).view()));
    console.sync();
    tv_box.sync();
    for (std::uint32_t evening = 2; evening < 7; ++evening) {
      ASSERT_TRUE(here.files.replace("a.sra", sram_of(evening).view()));
      tv_box.sync();
    }
    if (way == "unknown")
      tv_box.prune_without_a_trace();
    else
      tv_box.forget_and_prune("console", 1);
    tv_box.sync();
    ASSERT_EQ(tv_box.versions(), 1U);
    if (way == "played") {
      ASSERT_TRUE(there.files.replace("a.sra", sram_of(20).view()));
    }
    for (int round = 0; round < 3; ++round) {
      const auto rows = console.sync();
      if (way == "as it was") continue;
      EXPECT_GE(count(rows, SyncRow::Outcome::conflict) + count(rows, SyncRow::Outcome::asked), 1U)
          << round << in_words(rows);
      EXPECT_EQ(*there.files.read("a.sra"), sram_of(way == "played" ? 20 : 1));
    }
    tv_box.sync();
    EXPECT_EQ(*here.files.read("a.sra"), sram_of(6)) << "nothing is decided by itself";
    if (way == "as it was") {
      EXPECT_EQ(*there.files.read("a.sra"), sram_of(6));
      continue;
    }
    ASSERT_EQ(tv_box.conflicts.size(), 1U);
    const auto& sides = tv_box.conflicts.front().sides;
    const auto own =
        std::ranges::find(sides, "console", [](const auto& side) { return side.version.device_name; });
    ASSERT_NE(own, sides.end());
    tv_box.keep(own->version);
    for (int round = 0; round < 2; ++round) {
      tv_box.sync();
      console.sync();
    }
    EXPECT_EQ(*here.files.read("a.sra"), sram_of(way == "played" ? 20 : 1));
  }
}

// A bay that has the game and can't take its save says why.
TEST_F(InStep, WhatCannotBePlacedIsARow) {
  ASSERT_TRUE(tv.files.remove("roms/Lantern Skiff (Europe).z64"));
  ASSERT_TRUE(tv.files.replace("roms/Lantern Skiff (Japan).z64", n64_rom({"LANTERN SKIFF", "N99J"}).view()));
  play_on_card(sram_of(1));
  handheld.sync();
  for (int round = 0; round < 2; ++round) {
    const auto rows = box.sync();
    ASSERT_EQ(count(rows, SyncRow::Outcome::failed), 1U) << in_words(rows);
    EXPECT_NE(rows.front().why.find("region"), std::string::npos) << rows.front().why;
  }
  // Where it does not have the game, it is none of its saves.
  ASSERT_TRUE(tv.files.remove("roms/Lantern Skiff (Japan).z64"));
  EXPECT_TRUE(box.sync().empty());
}

// A device that has the game and no save of it yet sees the conflict of the others.
TEST_F(InStep, AConflictIsShownWhereTheSaveIsStillMissing) {
  play_on_card(sram_of(1));
  handheld.sync();
  box.sync();
  play_on_card(sram_of(2));
  handheld.sync();
  Save save;
  save.platform = Platform::n64;
  save.parts.push_back({{PartKind::sram, 0}, sram_of(3), true});
  ASSERT_TRUE(tv.files.replace(on_tv, pack(**catalog().find("n64.combined"), save)->view()));
  box.sync();
  SyncDevice third("third", sea);
  TestBay& other =
      third.bay("other", "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n");
  EXPECT_TRUE(third.sync().empty()) << "it does not have the game";
  ASSERT_TRUE(other.files.replace("x.z64", rom().view()));
  const auto rows = third.sync();
  ASSERT_EQ(count(rows, SyncRow::Outcome::conflict), 1U) << in_words(rows);
  EXPECT_EQ(rows.front().path, "x.sra");
}

// Many deletions at once, made on another device, can be a mistake.
TEST_F(InStep, ManyDeletionsFromElsewhereAreAskedAbout) {
  constexpr std::size_t many = 4;
  const auto name = [](std::size_t i) { return "game " + std::to_string(i); };
  for (std::size_t i = 0; i < many; ++i) {
    const Blob game = n64_rom({"GAME " + std::to_string(i), "N" + std::to_string(70 + i) + "P"});
    ASSERT_TRUE(tv.files.replace("roms/" + name(i) + ".z64", game.view()));
    ASSERT_TRUE(card.files.replace(name(i) + ".z64", game.view()));
    ASSERT_TRUE(card.files.replace(name(i) + ".sra", sram_of(static_cast<std::uint32_t>(i) + 1).view()));
  }
  handheld.sync();
  box.sync();
  for (std::size_t i = 0; i < many; ++i) ASSERT_TRUE(card.files.remove(name(i) + ".sra"));
  SyncRequest meant;
  meant.accept = {Loss::deleted};
  meant.accept_many = true;
  handheld.sync(meant);
  for (int round = 0; round < 2; ++round) {
    const auto rows = box.sync();
    EXPECT_EQ(count(rows, SyncRow::Outcome::asked), many) << in_words(rows);
    for (std::size_t i = 0; i < many; ++i)
      EXPECT_TRUE(tv.files.files().contains("saves/" + name(i) + ".srm"));
  }
  SyncRequest many_meant;
  many_meant.accept_many = true;
  const auto rows = box.sync(many_meant);
  EXPECT_EQ(count(rows, SyncRow::Outcome::removed), many) << in_words(rows);
}

// A program opens a save while a round is at work on others.
TEST_F(InStep, InUseIsAskedAgainBeforeAWrite) {
  play_on_card(sram_of(1));
  handheld.sync();
  int asked = 0;
  SyncRequest request;
  request.in_use = [&](const std::vector<std::string>& paths) -> std::optional<std::string> {
    const bool is_it =
        std::ranges::any_of(paths, [&](const std::string& path) { return path.ends_with(on_tv); });
    return is_it && ++asked > 0 ? std::optional<std::string>("an emulator has it open") : std::nullopt;
  };
  const auto rows = box.sync(request);
  ASSERT_EQ(count(rows, SyncRow::Outcome::waits), 1U) << in_words(rows);
  EXPECT_GT(asked, 0);
  EXPECT_FALSE(tv.files.files().contains(on_tv));
  box.sync();
  EXPECT_EQ(part_on_tv(), sram_of(1));
}

// Killed at any write of a round, and of the next one: what follows ends where it would have ended.
TEST(InStepKilled, ARoundGoesOnFromWhereverItWasCutOff) {
  const std::string card_rule =
      "[platform.n64]\npath = \"{rom.stem}.sra\"\nlayout = \"n64.sram\"\nroms = \".\"\n";
  int cuts = 0;
  for (int at = 1;; ++at) {
    MemoryStore sea;
    SyncDevice box("box", sea);
    SyncDevice handheld("handheld", sea);
    TestBay& tv = box.bay("tv", card_rule);
    TestBay& card = handheld.bay("card", card_rule);
    for (TestBay* bay : {&tv, &card}) ASSERT_TRUE(bay->files.replace("skiff.z64", rom().view()));
    ASSERT_TRUE(card.files.replace("skiff.sra", sram_of(1).view()));
    handheld.sync();
    box.sync();
    ASSERT_TRUE(card.files.replace("skiff.sra", sram_of(2).view()));
    handheld.power.left = at;
    handheld.sync();
    const bool first_cut = handheld.power.left == 0;
    handheld.power.left = -1;
    if (at % 2 == 0) handheld.sync();
    box.power.left = at;
    box.sync();
    const bool second_cut = box.power.left == 0;
    box.power.left = -1;
    for (int i = 0; i < 2; ++i) {
      handheld.sync();
      box.sync();
    }
    ASSERT_EQ(*tv.files.read("skiff.sra"), sram_of(2)) << "cut at " << at;
    ASSERT_EQ(*card.files.read("skiff.sra"), sram_of(2)) << "cut at " << at;
    ASSERT_TRUE(box.conflicts.empty() && handheld.conflicts.empty()) << "cut at " << at;
    ASSERT_EQ(box.versions(), 2U) << "cut at " << at;
    if (!first_cut && !second_cut) break;
    ++cuts;
  }
  EXPECT_GT(cuts, 10);
}

TEST_F(InStep, TwoDumpsOfOneGameAreAskedAbout) {
  ASSERT_TRUE(card.files.replace("skiff (other).z64", rom().view()));
  ASSERT_TRUE(card.files.replace("skiff (other).sra", sram_of(2).view()));
  play_on_card(sram_of(1));
  const auto rows = handheld.sync();
  EXPECT_EQ(count(rows, SyncRow::Outcome::asked), 2U) << in_words(rows);
  box.sync();
  EXPECT_FALSE(tv.files.files().contains(on_tv));
}

}  // namespace
}  // namespace bayswap::test
