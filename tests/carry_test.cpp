#include <gtest/gtest.h>
#include <bayswap/carry.hpp>

#include <algorithm>

#include "save/pak.hpp"
#include "support/builders.hpp"
#include "support/failing_store.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

constexpr const char* dump = "dumps/N99P.sra";
constexpr const char* tv_save = "saves/Skiff (EU).srm";

// The bench has a cartridge dump, the TV box one file for every chip; all of it in memory.
class Arcade : public testing::Test {
 protected:
  Arcade() {
    put(bench_, "roms/Skiff.z64", n64_rom());
    put(tv_, "roms/Skiff (EU).v64", n64_rom({.order = RomOrder::swap16}));
    put(bench_, dump, save_);
  }
  static void put(Store& store, const std::string& path, const Blob& bytes) {
    EXPECT_TRUE(store.replace(path, bytes.view()));
  }
  Result<Plan> plan(const CarryRequest& request = {.what = "Skiff"}) {
    return plan_carry(catalog_, {&bench_bay_, &bench_}, {&tv_bay_, &tv_}, outside_, request);
  }
  Result<Plan> plan_back(const CarryRequest& request = {.what = "N99P"}) {
    return plan_carry(catalog_, {&tv_bay_, &tv_}, {&bench_bay_, &bench_}, outside_, request);
  }
  static const PlanIssue* issue(const Plan& plan, IssueCode code) {
    for (const PlanIssue& issue : plan.issues)
      if (issue.code == code) return &issue;
    return nullptr;
  }
  Blob combined(const Blob& sram) {
    return *pack(layout(catalog_, "n64.combined"), Save{Platform::n64, {{{PartKind::sram, 0}, sram, true}}});
  }

  Catalog catalog_;
  Bay bench_bay_ = *parse_bay(
      "root = \"/b\"\n[platform.n64]\npath = \"dumps/{game.code}{ext}\"\nlayout = \"n64.separate\"\nroms = "
      "\"roms\"\n",
      "bench", "bench.toml", "/");
  Bay tv_bay_ = *parse_bay(
      "root = \"/t\"\n[platform.n64]\npath = \"saves/{rom.stem}{ext}\"\nlayout = \"n64.combined\"\nroms = "
      "\"roms\"\n",
      "tv", "tv.toml", "/");
  MemoryStore bench_;
  MemoryStore tv_;
  MemoryStore outside_;
  MemoryStore blobs_;
  Logbook book_ = *Logbook::open(blobs_, ":memory:");
  Blob save_ = noise(32768, 42);
};

TEST_F(Arcade, ThereAndBackWithTheProgress) {
  const auto there = plan();
  ASSERT_TRUE(there) << there.error().message;
  EXPECT_EQ(there->refusal(), nullptr);
  EXPECT_FALSE(tv_.files().contains(tv_save)) << "a plan writes nothing";
  ASSERT_TRUE(run(*there, tv_, book_));
  EXPECT_EQ(tv_.files().at(tv_save), combined(save_));

  const Blob progress = noise(32768, 43);  // somebody plays on the TV box
  put(tv_, tv_save, combined(progress));
  const auto back = plan_back();
  ASSERT_TRUE(back);
  ASSERT_TRUE(run(*back, bench_, book_));
  EXPECT_EQ(bench_.files().at(dump), progress);
  EXPECT_EQ(bench_.files().size(), 2U) << "blank parts make no files";
  const auto nothing = plan_back();
  ASSERT_TRUE(nothing);
  EXPECT_TRUE(nothing->changes.empty());
  EXPECT_NE(issue(*nothing, IssueCode::same), nullptr);
}

TEST_F(Arcade, StepsSayWhatAndWhy) {
  put(tv_, tv_save, noise(296960, 1));
  const auto made = plan();
  std::vector<std::string> actions;
  for (const Step& step : made->steps)
    if (actions.empty() || actions.back() != step.action) actions.push_back(step.action);
  EXPECT_EQ(actions, (std::vector<std::string>{"keep", "convert", "graft", "name", "place", "verify"}));
  EXPECT_EQ(made->game->code, "N99P");
  EXPECT_EQ(made->from_files, std::vector<std::string>{dump});
}

TEST_F(Arcade, GraftKeepsTheTargetsOtherParts) {
  const Blob own = noise(296960, 1);
  put(tv_, tv_save, own);
  ASSERT_TRUE(run(*plan(), tv_, book_));
  EXPECT_EQ(tv_.files().at(tv_save),
            joined({own.slice(0, 133120), words_reversed(save_), own.slice(165888, 131072)}));
}

TEST_F(Arcade, GamesAreFoundByRomTitleStemAndCode) {
  put(outside_, "home/any name.n64", n64_rom({.order = RomOrder::swap32}));
  for (const char* what :
       {"Skiff", "skiff", "LANTERN SKIFF", "lantern", "N99P", "n99p", "home/any name.n64", "Skiff.z64"})
    EXPECT_TRUE(plan({.what = what})) << what;
  EXPECT_EQ(plan({.what = "Moth Courier"}).error().code, ErrorCode::not_found);
  EXPECT_EQ(plan({.what = ""}).error().code, ErrorCode::bad_usage);
  put(outside_, "home/x.txt", text_blob("no ROM at all"));
  EXPECT_EQ(plan({.what = "home/x.txt"}).error().code, ErrorCode::not_recognised);
  put(bench_, "roms/Skiff Two.z64", n64_rom({.title = "SKIFF TWO", .code = "N98P"}));
  EXPECT_TRUE(plan({.what = "ski"})) << "the other has no save";
  put(bench_, "dumps/N98P.sra", noise(32768, 4));
  EXPECT_TRUE(plan({.what = "Skiff"})) << "an exact name wins";
  const auto several = plan({.what = "ski"});
  ASSERT_FALSE(several);
  EXPECT_NE(several.error().message.find("N98P.sra"), std::string::npos);
}

TEST_F(Arcade, WrongRegionIsRefusedUnlessAccepted) {
  ASSERT_TRUE(tv_.remove("roms/Skiff (EU).v64"));
  put(tv_, "roms/Skiff (US).z64", n64_rom({.code = "N99E"}));
  const auto refused = plan();
  ASSERT_TRUE(refused);
  ASSERT_NE(refused->refusal(), nullptr);
  EXPECT_EQ(refused->refusal()->code, IssueCode::wrong_region);
  EXPECT_EQ(run(*refused, tv_, book_).error().code, ErrorCode::unsafe);
  EXPECT_EQ(tv_.files().size(), 1U);
  const auto accepted = plan({.what = "Skiff", .accept = {IssueCode::wrong_region}});
  EXPECT_EQ(accepted->refusal(), nullptr);
  EXPECT_EQ(issue(*accepted, IssueCode::wrong_region)->level, PlanIssue::Level::warning);
  EXPECT_TRUE(run(*accepted, tv_, book_));
  EXPECT_FALSE(issue_code_from_text("wrong-regon"));
}

TEST_F(Arcade, TheSameRegionsRomIsPreferred) {
  put(tv_, "roms/A Skiff (US).z64", n64_rom({.code = "N99E"}));
  put(tv_, "roms/Skiff.z64", n64_rom({.title = "OTHER", .code = "N11P"}));
  const auto made = plan();
  EXPECT_EQ(made->refusal(), nullptr);
  EXPECT_EQ(made->changes.front().path, tv_save);
}

TEST_F(Arcade, AnotherGameOfTheSameNameIsRefused) {
  ASSERT_TRUE(tv_.remove("roms/Skiff (EU).v64"));
  put(tv_, "roms/Skiff.z64", n64_rom({.title = "OTHER", .code = "N11P"}));
  EXPECT_EQ(plan()->refusal()->code, IssueCode::wrong_game);
  EXPECT_NE(plan({.what = "Skiff", .accept = {IssueCode::wrong_region}})->refusal(), nullptr)
      << "a region is not a game";
  EXPECT_EQ(plan({.what = "Skiff", .accept = {IssueCode::wrong_game}})->refusal(), nullptr);
}

TEST_F(Arcade, OtherRevisionsAndMissingRomsAreOnlySaid) {
  ASSERT_TRUE(tv_.remove("roms/Skiff (EU).v64"));
  const auto without = plan();
  ASSERT_TRUE(without) << without.error().message;
  EXPECT_NE(issue(*without, IssueCode::one_rom), nullptr);
  EXPECT_EQ(without->changes.front().path, "saves/Skiff.srm") << "named after the source's ROM";
  put(tv_, "roms/Skiff (EU).v64", n64_rom({.revision = 1}));
  EXPECT_EQ(issue(*plan(), IssueCode::other_revision)->level, PlanIssue::Level::warning);
}

TEST_F(Arcade, AnEmptySaveIsRefused) {
  for (const Byte fill : {Byte{0x00}, Byte{0xff}}) {
    put(bench_, dump, Blob::filled(32768, fill));
    const auto refused = plan();
    ASSERT_TRUE(refused);
    ASSERT_NE(refused->refusal(), nullptr);
    EXPECT_EQ(refused->refusal()->code, IssueCode::empty);
    EXPECT_NE(refused->refusal()->text.find("this save is empty"), std::string::npos);
    EXPECT_NE(refused->refusal()->hint.find("battery"), std::string::npos);
    EXPECT_TRUE(refused->changes.empty());
  }
}

TEST_F(Arcade, AMemoryThatWasNeverWrittenIsRefusedAMirrorOnlyNamed) {
  std::vector<Byte> bytes(32768);
  for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = i / 64 % 2 == 0 ? 0x00 : 0xff;
  put(bench_, dump, Blob::copy_of(bytes));
  const auto unwritten = plan();
  ASSERT_NE(unwritten->refusal(), nullptr);
  EXPECT_EQ(unwritten->refusal()->code, IssueCode::unwritten);
  EXPECT_EQ(plan({.what = "Skiff", .accept = {IssueCode::unwritten}})->refusal(), nullptr);
  put(bench_, dump, joined({noise(16384, 1), noise(16384, 1)}));
  const auto mirrored = plan();
  EXPECT_EQ(mirrored->refusal(), nullptr);
  EXPECT_NE(issue(*mirrored, IssueCode::mirrored), nullptr);
}

TEST_F(Arcade, DamagedAndMissingSourcesAreErrors) {
  ASSERT_TRUE(bench_.remove(dump));
  const auto missing = plan();
  ASSERT_FALSE(missing);
  EXPECT_EQ(missing.error().code, ErrorCode::not_found);
  EXPECT_NE(missing.error().message.find(dump), std::string::npos) << "says where it looked";
  for (const std::size_t size : {0U, 100U, 32767U, 32769U}) {
    put(bench_, dump, noise(size, 1));
    EXPECT_EQ(plan().error().code, ErrorCode::damaged) << size;
  }
}

TEST_F(Arcade, AnOddFileAtTheTargetIsNotSimplyReplaced) {
  put(tv_, tv_save, noise(1000, 1));
  EXPECT_EQ(plan()->refusal()->code, IssueCode::odd_target);
  const auto accepted = plan({.what = "Skiff", .accept = {IssueCode::odd_target}});
  ASSERT_EQ(accepted->refusal(), nullptr);
  const auto id = run(*accepted, tv_, book_);
  ASSERT_TRUE(id);
  EXPECT_EQ(*book_.bytes(*book_.entry(*id)->changes[0].before), noise(1000, 1)) << "and is kept";
  put(tv_, tv_save, Blob());
  EXPECT_EQ(plan()->refusal(), nullptr) << "an empty file holds nothing to lose";
}

TEST_F(Arcade, TheBaysLayoutIsDoubtedWhereTheContentSpeaksAgainstIt) {
  put(bench_, dump, pattern(32768, 0x31));
  const auto as_said = plan();
  EXPECT_EQ(issue(*as_said, IssueCode::other_layout), nullptr);
  // The words have the other byte order, by one kind of evidence: it is asked.
  put(bench_, dump, words_reversed(pattern(32768, 0x31)));
  const auto asked = plan();
  ASSERT_NE(asked->refusal(), nullptr);
  EXPECT_EQ(asked->refusal()->code, IssueCode::byte_order);
  // By texts and numbers: the file is read in it, and the plan says so.
  std::vector<Byte> told(32768);
  for (std::size_t at = 0; at + 64 <= told.size(); at += 64) {
    const std::string_view text = "The harbour lamp 007919";
    std::ranges::copy(text, told.begin() + static_cast<std::ptrdiff_t>(at + 1 + at / 64 % 3));
    for (std::size_t i = 36; i < 60; i += 4) told[at + i + 3] = static_cast<Byte>(1 + at / 64 + i);
  }
  put(bench_, dump, Blob::copy_of(told));
  const auto straight = plan();
  EXPECT_EQ(issue(*straight, IssueCode::other_layout), nullptr);
  put(bench_, dump, words_reversed(Blob::copy_of(told)));
  const auto doubtful = plan();
  ASSERT_NE(issue(*doubtful, IssueCode::other_layout), nullptr);
  EXPECT_EQ(doubtful->refusal(), nullptr);
  EXPECT_EQ(doubtful->changes[0].after, straight->changes[0].after);
}

// A ROM of 64 KiB with an md header that names `chip` battery bytes at odd addresses.
Blob md_rom() {
  std::vector<Byte> rom = bytes_of(noise(65536, 5));
  const auto put = [&](std::size_t at, std::string_view text) {
    std::copy(text.begin(), text.end(), rom.begin() + static_cast<std::ptrdiff_t>(at));
  };
  std::fill(rom.begin() + 0x100, rom.begin() + 0x200, Byte{' '});
  put(0x100, "\x53\x45\x47\x41");
  put(0x150, "ROPE WALK");
  put(0x180, "GM 00099999-00");
  put(0x1b0, std::string_view("RA\xf8\x20\0\x20\0\1\0\x20\x3f\xff", 12));
  put(0x1f0, "E");
  return Blob::copy_of(rom);
}

// A bay that is wrong about the form of its files: the bytes decide, on both sides.
TEST(LookingBeforeBelieving, AFileOfAnotherFormThanTheBaySaysIsReadAsWhatItIs) {
  const Catalog catalog;
  const auto bay = [](const std::string& name, const std::string& layout) {
    return *parse_bay("root = \"/" + name +
                          "\"\n[platform.md]\npath = \"saves/{rom.stem}.srm\"\nlayout = \"" + layout +
                          "\"\nroms = \"roms\"\n",
                      name, name + ".toml", "/");
  };
  const Bay wrong = bay("wrong", "md.packed");
  const Bay right = bay("right", "md.packed");
  MemoryStore from;
  MemoryStore to;
  MemoryStore outside;
  for (MemoryStore* store : {&from, &to}) ASSERT_TRUE(store->replace("roms/Ropewalk.md", md_rom().view()));
  const Blob chip = noise(8192, 3);
  std::vector<Byte> spread;
  for (const Byte b : bytes_of(chip)) spread.insert(spread.end(), {Byte{0xff}, b});
  ASSERT_TRUE(from.replace("saves/Ropewalk.srm", spread));
  const auto plan = plan_carry(catalog, {&wrong, &from}, {&right, &to}, outside, {.what = "Ropewalk"});
  ASSERT_TRUE(plan) << plan.error().message;
  EXPECT_EQ(plan->refusal(), nullptr) << plan->refusal()->text;
  ASSERT_EQ(plan->changes.size(), 1U);
  EXPECT_EQ(plan->changes[0].after, chip) << "the whole save, not half of it spread";
  EXPECT_TRUE(std::ranges::any_of(
      plan->issues, [](const PlanIssue& issue) { return issue.code == IssueCode::other_layout; }));
}

// Two cartridges whose headers have neither code nor title: each save stays with the ROM of its own name.
TEST(GamesWithoutNames, AreToldByTheirRomsNames) {
  const Catalog catalog;
  const auto bay = [](const std::string& name) {
    return *parse_bay(
        "root = \"/" + name +
            "\"\n[platform.nes]\npath = \"saves/{rom.stem}.srm\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n",
        name, name + ".toml", "/");
  };
  const auto rom = [](std::uint32_t seed) {
    std::vector<Byte> bytes = bytes_of(noise(16 + 32768 + 8192, seed));
    const std::vector<Byte> header{0x4e, 0x45, 0x53, 0x1a, 2, 1, 0x12, 0, 1, 0, 0, 0, 0, 0, 0, 0};
    std::ranges::copy(header, bytes.begin());
    return Blob::copy_of(bytes);
  };
  const Bay here = bay("here");
  const Bay there = bay("there");
  MemoryStore from;
  MemoryStore to;
  MemoryStore outside;
  for (const auto& [name, seed] : {std::pair{"Anchor & Chain", 1U}, {"Buoy", 2U}, {"Cinder Quay", 3U}}) {
    ASSERT_TRUE(from.replace(std::string("roms/") + name + ".nes", rom(seed).view()));
    ASSERT_TRUE(from.replace(std::string("saves/") + name + ".srm", noise(8192, seed).view()));
  }
  for (const auto& [name, seed] :
       {std::pair{"Anchor and Chain (Europe)", 1U}, {"Buoy (World)", 2U}, {"Cinder Quay", 3U}})
    ASSERT_TRUE(to.replace(std::string("roms/") + name + ".nes", rom(seed).view()));
  for (const auto& [what, path, seed] :
       {std::tuple{"Anchor & Chain", "saves/Anchor and Chain (Europe).srm", 1U},
        {"Buoy", "saves/Buoy (World).srm", 2U},
        {"Cinder Quay", "saves/Cinder Quay.srm", 3U}}) {
    const auto plan = plan_carry(catalog, {&here, &from}, {&there, &to}, outside, {.what = what});
    ASSERT_TRUE(plan) << plan.error().message;
    ASSERT_EQ(plan->refusal(), nullptr) << plan->refusal()->text;
    ASSERT_EQ(plan->changes.size(), 1U) << what;
    EXPECT_EQ(plan->changes[0].path, path);
    EXPECT_EQ(plan->changes[0].after, noise(8192, seed));
  }
}

TEST_F(Arcade, NothingIsCutNothingNewerIsReplacedAndNoRomIsMissedUnasked) {
  // Bytes that would not arrive.
  Bay small_bay = *parse_bay(
      "root = \"/t\"\n[platform.n64]\npath = \"saves/{rom.stem}{ext}\"\nlayout = \"n64.sram\"\nroms = "
      "\"roms\"\n",
      "tv", "tv.toml", "/");
  put(bench_, "dumps/N99P.eep", noise(512, 9));
  const auto cut = [&](const CarryRequest& request) {
    return plan_carry(catalog_, {&bench_bay_, &bench_}, {&small_bay, &tv_}, outside_, request);
  };
  ASSERT_NE(cut({.what = "Skiff"})->refusal(), nullptr);
  EXPECT_EQ(cut({.what = "Skiff"})->refusal()->code, IssueCode::cut);
  EXPECT_EQ(cut({.what = "Skiff", .accept = {IssueCode::cut}})->refusal(), nullptr);
  // A target without the ROM that would name the file.
  ASSERT_TRUE(tv_.remove("roms/Skiff (EU).v64"));
  ASSERT_NE(plan()->refusal(), nullptr);
  EXPECT_EQ(plan()->refusal()->code, IssueCode::no_rom);
  EXPECT_EQ(plan({.what = "Skiff", .accept = {IssueCode::no_rom}})->refusal(), nullptr);
}

TEST_F(Arcade, UndoPutsTheExactBytesBackAndCanBeUndone) {
  expect_property("undo is the inverse of carry, and of undo", [&] {
    const Blob own =
        *rc::gen::arbitrary<bool>() ? noise(296960, *rc::gen::arbitrary<std::uint32_t>()) : Blob();
    if (own.empty())
      (void)tv_.remove(tv_save);
    else
      RC_ASSERT(tv_.replace(tv_save, own.view()).has_value());
    const auto before = tv_.files();
    RC_ASSERT(run(*plan(), tv_, book_).has_value());
    const auto after = tv_.files();
    RC_ASSERT(after != before);
    const auto undo = run(*plan_undo(book_, {}, tv_), tv_, book_);
    RC_ASSERT(undo.has_value());
    RC_ASSERT(tv_.files() == before);
    RC_ASSERT(run(*plan_undo(book_, *undo, tv_), tv_, book_).has_value());
    RC_ASSERT(tv_.files() == after);
  });
}

TEST_F(Arcade, UndoOfAnOlderEntryKeepsWhatCameSince) {
  const auto first = run(*plan(), tv_, book_);
  put(tv_, tv_save, combined(noise(32768, 77)));  // played on
  const auto undo = plan_undo(book_, *first, tv_);
  ASSERT_TRUE(undo);
  EXPECT_EQ(issue(*undo, IssueCode::changed_since)->level, PlanIssue::Level::warning);
  const auto id = run(*undo, tv_, book_);
  ASSERT_TRUE(id);
  EXPECT_FALSE(tv_.files().contains(tv_save));
  EXPECT_EQ(*book_.bytes(*book_.entry(*id)->changes[0].before), combined(noise(32768, 77)));
  EXPECT_EQ(book_.entry(*id)->undoes, first.value());
  EXPECT_TRUE(plan_undo(book_, *first, tv_)->changes.empty()) << "already as it was";
  EXPECT_EQ(plan_undo(book_, 99, tv_).error().code, ErrorCode::not_found);
}

TEST_F(Arcade, AFileThatChangedSinceThePlanIsLeftAlone) {
  const auto made = plan();
  put(tv_, tv_save, noise(296960, 5));
  const auto refused = run(*made, tv_, book_);
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error().code, ErrorCode::busy);
  EXPECT_EQ(tv_.files().at(tv_save), noise(296960, 5));
}

TEST_F(Arcade, AFileThatSomebodyElseMakesMeanwhileStays) {
  FailingStore failing(tv_);
  failing.fail_at(1, FailingStore::Mode::intruder);
  ASSERT_FALSE(run(*plan(), failing, book_));
  EXPECT_EQ(tv_.files().at(tv_save), Blob::filled(5, 7)) << "it is kept nowhere else";
}

// Whatever fails, and whenever: each file is the old or the new one, whole, and the old bytes are to be had.
class Failures : public Arcade, public testing::WithParamInterface<FailingStore::Mode> {};

TEST_P(Failures, LoseNothing) {
  // Back to the bench as several files, so that a failure can hit in between.
  Save save{Platform::n64,
            {{{PartKind::sram, 0}, noise(32768, 1), true},
             {{PartKind::flash, 0}, noise(131072, 2), true},
             {{PartKind::pak, 1}, noise(32768, 3), true}}};
  put(tv_, tv_save, *pack(layout(catalog_, "n64.combined"), save));
  put(bench_, "dumps/N99P.fla", noise(131072, 9));
  const auto before = bench_.files();
  const auto made = plan_back();
  ASSERT_EQ(made->changes.size(), 3U);
  std::map<std::string, Blob> wanted = before;
  for (const FileChange& change : made->changes) wanted[change.path] = *change.after;

  bool succeeded = false;
  for (int n = 1; !succeeded && n < 40; ++n) {
    for (const bool in_logbook : {false, true}) {
      MemoryStore bench;
      for (const auto& [path, bytes] : before) put(bench, path, bytes);
      MemoryStore blobs;
      FailingStore failing_bench(bench);
      FailingStore failing_blobs(blobs);
      Logbook book = *Logbook::open(failing_blobs, ":memory:");
      (in_logbook ? failing_blobs : failing_bench).fail_at(n, GetParam());
      const auto id = run(*made, failing_bench, book);
      EXPECT_TRUE(!id || bench.files() == wanted);
      for (const auto& [path, bytes] : bench.files())
        EXPECT_TRUE(bytes == wanted.at(path) || (before.contains(path) && bytes == before.at(path)))
            << path << " is neither old nor new";
      EXPECT_TRUE(bench.files().contains(dump));
      if (!id) {
        EXPECT_FALSE(id.error().hint.empty());
        EXPECT_EQ(bench.files(), before) << "put back after failure " << n;
        // The same carry works once the disk does.
        failing_bench.fail_at(0);
        failing_blobs.fail_at(0);
        ASSERT_TRUE(book.recover(bench));
        EXPECT_TRUE(run(*made, failing_bench, book));
        EXPECT_EQ(bench.files(), wanted);
      }
      // Nothing is ever placed before the old bytes are in the logbook.
      if (GetParam() != FailingStore::Mode::silent && bench.files() != before) {
        EXPECT_TRUE(book.bytes(sha256(before.at(dump).view()))) << n;
      }
      if (!in_logbook && failing_bench.operations() < n) succeeded = true;
    }
  }
  EXPECT_TRUE(succeeded) << "every operation was made to fail once";
}

INSTANTIATE_TEST_SUITE_P(Modes, Failures,
                         testing::Values(FailingStore::Mode::error, FailingStore::Mode::error_late,
                                         FailingStore::Mode::silent),
                         [](const auto& row) {
                           return std::string(row.param == FailingStore::Mode::error    ? "error"
                                              : row.param == FailingStore::Mode::silent ? "silent"
                                                                                        : "late");
                         });

// ---- Forms that the bay does not pass --------------------------------------------------------------------

TEST_F(Arcade, ACompressedTargetStaysCompressed) {
  const Blob own = combined(noise(32768, 7));
  for (const Compression kind : {Compression::gzip, Compression::zlib, Compression::chunks}) {
    put(tv_, tv_save, wrap(kind, own));
    const auto made = plan();
    ASSERT_TRUE(made) << made.error().message;
    ASSERT_TRUE(run(*made, tv_, book_));
    const auto there = unwrap(tv_.files().at(tv_save));
    ASSERT_TRUE(there);
    EXPECT_EQ(there->kind, kind);
    EXPECT_EQ(there->plain, combined(save_));
    put(bench_, dump, noise(32768, 8));
    ASSERT_TRUE(run(*plan_back(), bench_, book_)) << "and it is read through on the way back";
    EXPECT_EQ(bench_.files().at(dump), save_);
  }
}

TEST_F(Arcade, AWrapperAtTheTargetIsKept) {
  Bay box = *parse_bay(
      "root = \"/t\"\n[platform.n64]\npath = \"saves/{rom.stem}.box\"\nlayout = \"n64.sram\"\nroms = "
      "\"roms\"\n",
      "box", "box.toml", "/");
  std::vector<Byte> old = bytes_of(save_);
  for (std::size_t i = 0; i < 4000; ++i) old[i * 3] ^= static_cast<Byte>(i);
  const auto boxed = [](const Blob& chip) {
    return joined({text_blob("BOX of the quay "), words_reversed(chip), text_blob("end")});
  };
  put(tv_, "saves/Skiff (EU).box", boxed(Blob::copy_of(old)));
  const auto made = plan_carry(catalog_, {&bench_bay_, &bench_}, {&box, &tv_}, outside_, {.what = "Skiff"});
  ASSERT_TRUE(made) << made.error().message;
  EXPECT_EQ(made->refusal(), nullptr);
  ASSERT_NE(issue(*made, IssueCode::odd_target), nullptr);
  ASSERT_TRUE(run(*made, tv_, book_));
  EXPECT_EQ(tv_.files().at("saves/Skiff (EU).box"), boxed(save_));
}

TEST_F(Arcade, AShortSourceIsAnErrorUntilItIsMeant) {
  put(bench_, dump, noise(20000, 1));
  EXPECT_EQ(plan().error().code, ErrorCode::damaged);
  const std::vector<ChipFact> sram{{PartKind::sram, 32768, "you said so"}};
  const auto still = plan({.what = "Skiff", .chips = sram});
  ASSERT_FALSE(still);
  EXPECT_EQ(still.error().remedy.kind, Remedy::Kind::accept);
  EXPECT_EQ(still.error().remedy.values, std::vector<std::string>{"short"});
  const auto meant = plan({.what = "Skiff", .chips = sram, .accept = {IssueCode::short_file}});
  ASSERT_TRUE(meant) << meant.error().message;
  EXPECT_NE(issue(*meant, IssueCode::short_file), nullptr);
}

TEST_F(Arcade, ChipsAreLearnedFromSavesInPlaceAndRemembered) {
  ASSERT_TRUE(bench_.remove(dump));
  put(bench_, "dumps/N99P.eep", noise(512, 3));
  EXPECT_TRUE(plan()->learned.empty()) << "one file alone is a guess";
  const auto made = plan({.what = "Skiff", .chips = {{PartKind::eeprom, 512, "you said so"}}});
  ASSERT_TRUE(made) << made.error().message;
  ASSERT_EQ(made->learned.size(), 1U);
  EXPECT_EQ(made->learned[0].kind, PartKind::eeprom);
  EXPECT_EQ(made->learned[0].size_bytes, 512U);
  ASSERT_TRUE(run(*made, tv_, book_));

  // On a fresh card the combined file alone can't tell 512 from 2048 bytes that look full: the book can.
  ChipBook book;
  EXPECT_TRUE(book.learn(*made->game, made->learned[0]));
  EXPECT_FALSE(book.learn(*made->game, made->learned[0]));
  const auto again = ChipBook::parse(book.to_toml(), "chips.toml");
  ASSERT_TRUE(again) << again.error().message;
  ASSERT_EQ(again->chips_of(*made->game).size(), 1U);
  EXPECT_TRUE(again->chips_of({Platform::n64, "N98P", "", Region::unknown, 0}).empty());
  std::vector<Byte> full = bytes_of(tv_.files().at(tv_save));
  std::copy_n(bytes_of(noise(2048, 9)).begin(), 2048, full.begin());
  put(tv_, tv_save, Blob::copy_of(full));
  ASSERT_TRUE(bench_.remove("dumps/N99P.eep"));
  const auto back = plan_back({.what = "N99P", .book = &*again});
  ASSERT_TRUE(back) << back.error().message;
  ASSERT_EQ(back->changes.size(), 1U);
  EXPECT_EQ(back->changes[0].after->size(), 512U);
  const auto guessed = plan_back({.what = "N99P"});
  EXPECT_EQ(guessed->changes[0].after->size(), 2048U);
  const auto asked = plan_back({.what = "N99P", .ask_others = [](const GameId&) {
                                  return std::vector<ChipFact>{{PartKind::eeprom, 512, "seen elsewhere"}};
                                }});
  EXPECT_EQ(asked->changes[0].after->size(), 512U);
}

TEST(ChipBook, MistakesNameTheLine) {
  for (const auto& [toml, expected] : std::vector<std::pair<std::string, std::string>>{
           {"[[game]]\nplatform = \"n65\"\ncode = \"X\"\n", "line 2"},
           {"[[game]]\nplatform = \"n64\"\n", "code or its title"},
           {"[[game]]\nplatform = \"n64\"\ncode = \"X\"\nchips = [\"eeprom\"]\n", "line 4"},
           {"[[game]]\nplatform = \"n64\"\ncode = \"X\"\nchips = [\"eeprom -1\"]\n", "line 4"},
           {"[[game]]\nplatform = \"n64\"\ncode = \"X\"\nchip = 1\n", "unknown word 'chip'"}}) {
    const auto book = ChipBook::parse(toml, "chips.toml");
    ASSERT_FALSE(book) << toml;
    EXPECT_NE(book.error().message.find(expected), std::string::npos) << book.error().message;
  }
}

}  // namespace
}  // namespace bayswap::test
