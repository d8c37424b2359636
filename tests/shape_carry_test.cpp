// Carrying between bays of different shapes.
#include <algorithm>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "package/fresh_package.hpp"
#include "support/bays.hpp"
#include "support/cards.hpp"
#include "support/failing_store.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

class Shapes : public testing::Test {
 protected:
  Result<Plan> plan(MemoryBay& from, MemoryBay& to, CarryRequest request) {
    request.titles = &titles_;
    return plan_carry(catalog_, from.open(), to.open(), outside_, request);
  }
  // Planned and run.
  Plan carry(MemoryBay& from, MemoryBay& to, const CarryRequest& request) {
    auto made = plan(from, to, request);
    EXPECT_TRUE(made) << made.error().message;
    if (!made) return {};
    EXPECT_EQ(made->refusal(), nullptr) << made->refusal()->text;
    if (made->refusal() != nullptr || made->changes.empty()) return *made;
    const auto id = run(*made, to.store, book_);
    EXPECT_TRUE(id) << id.error().message;
    return *made;
  }
  static CarryRequest what(const std::string& words) {
    CarryRequest request;
    request.what = words;
    return request;
  }

  Catalog catalog_;
  TitleBook titles_ = arcade_titles();
  MemoryStore outside_;
  MemoryStore blobs_;
  Logbook book_ = *Logbook::open(blobs_, ":memory:");
};

const std::string brine = "title/00040000/0ff99200/data/00000001/";

TEST_F(Shapes, FoldersIntoAnotherTreeAndBackOutOfASlot) {
  MemoryBay sd("sd", "tree-3ds");
  MemoryBay locker("locker", "sd-slots");
  sd.put(brine + "a.bin", noise(500, 1));
  sd.put(brine + "deep/b.bin", noise(600, 2));
  CarryRequest request = what("brine and bellows");
  request.slot = 3;
  carry(sd, locker, request);
  EXPECT_EQ(locker.read("backups/3ds/0ff99200/slot-3/deep/b.bin"), noise(600, 2));
  MemoryBay other("other", "tree-3ds");
  CarryRequest back = what("0FF99200");
  back.slot = 1;
  carry(locker, other, back);
  EXPECT_EQ(other.store.files(), sd.store.files()) << "the upper half of the id comes from titles.toml";
}

TEST_F(Shapes, EveryWayToNameASave) {
  MemoryBay sd("sd", "tree-3ds");
  MemoryBay locker("locker", "sd-slots");
  sd.put(brine + "a.bin", noise(500, 1));
  sd.put("title/00040000/0ff99300/data/00000001/x", noise(500, 2));
  for (const char* words : {"Brine and Bellows", "brine", "AB9P", "00040000/0FF99200", "000400000ff99200",
                            "0ff99200", "title/00040000/0ff99200/data/00000001", "title/00040000/0ff99200"}) {
    const auto made = plan(sd, locker, what(words));
    ASSERT_TRUE(made) << words << ": " << made.error().message;
    ASSERT_EQ(made->changes.size(), 1U) << words;
    EXPECT_EQ(made->changes[0].after, noise(500, 1)) << words;
  }
  EXPECT_EQ(plan(sd, locker, what("0ff9")).error().code, ErrorCode::not_found);
  EXPECT_EQ(plan(sd, locker, what("title")).error().code, ErrorCode::bad_usage) << "two games";
}

TEST_F(Shapes, TwoSavesNeverTakeOnePlace) {
  MemoryBay sd("sd", "tree-3ds");
  MemoryBay locker("locker", "sd-slots");
  sd.put(brine + "a.bin", noise(500, 1));
  sd.put("title/00040000/0ff99200/data/00000002/a.bin", noise(500, 2));
  CarryRequest request = what("AB9P");
  request.slot = 3;  // neither of them is in slot 3
  const auto both = plan(sd, locker, request);
  ASSERT_TRUE(both);
  ASSERT_NE(both->refusal(), nullptr);
  EXPECT_EQ(both->refusal()->code, IssueCode::same_place);
  EXPECT_EQ(carry(sd, locker, what("AB9P")).changes.size(), 2U) << "each into its own slot";
}

TEST_F(Shapes, OverlayKeepsWhatOnlyTheTargetHasAndExactDoesNot) {
  expect_property("the target becomes the source, and with overlay its own besides", [this] {
    MemoryBay from("from", "tree-3ds");
    MemoryBay to("to", "tree-3ds");
    std::map<std::string, Blob> source;
    std::map<std::string, Blob> own;
    const auto some = [](std::map<std::string, Blob>& files) {
      for (int i = *rc::gen::inRange(1, 6); i > 0; --i)
        files[*rc::gen::element<std::string>("a", "b/c", "b/d", "E.bin", "f")] =
            noise(*rc::gen::inRange<std::size_t>(1, 40), *rc::gen::inRange(0U, 5U));
    };
    some(source);
    some(own);
    for (const auto& [name, bytes] : source) from.put(brine + name, bytes);
    for (const auto& [name, bytes] : own) to.put(brine + name, bytes);
    CarryRequest request = what("AB9P");
    request.exact = *rc::gen::arbitrary<bool>();
    const auto before = to.store.files();
    carry(from, to, request);
    std::map<std::string, Blob> wanted = source;
    if (!request.exact) wanted.insert(own.begin(), own.end());
    std::map<std::string, Blob> there;
    for (const auto& [path, bytes] : to.store.files()) there[path.substr(brine.size())] = bytes;
    RC_ASSERT(there == wanted);
    if (before == to.store.files()) return;
    const auto undo = plan_undo(book_, std::nullopt, to.store);
    RC_ASSERT(run(*undo, to.store, book_).has_value());
    RC_ASSERT(to.store.files() == before);
  });
}

TEST_F(Shapes, ARegionIsRefusedAndRestamped) {
  MemoryBay stick("stick", "tree-psp");
  MemoryBay pc("pc", "tree-psp");
  ParameterFile parameters;
  ASSERT_TRUE(parameters.set("SAVEDATA_DIRECTORY", std::string("ULES99031A"), 64));
  stick.put("PSP/SAVEDATA/ULES99031A/PARAM.SFO", parameters.encode());
  stick.put("PSP/SAVEDATA/ULES99031A/DATA.BIN", joined({noise(50, 1), text_blob("ULES99031")}));
  pc.put("PSP/SAVEDATA/ULUS99031A/DATA.BIN", noise(50, 2));
  const auto refused = plan(stick, pc, what("ULES99031"));
  ASSERT_NE(issue_of(*refused, IssueCode::wrong_region), nullptr);
  EXPECT_EQ(refused->refusal(), issue_of(*refused, IssueCode::wrong_region));
  EXPECT_EQ(refused->refusal()->remedy.kind, Remedy::Kind::region);
  EXPECT_EQ(refused->refusal()->remedy.values, std::vector<std::string>{"north-america"});
  CarryRequest accepted = what("ULES99031");
  accepted.accept.insert(IssueCode::wrong_region);
  EXPECT_EQ(plan(stick, pc, accepted)->changes[0].path, "PSP/SAVEDATA/ULES99031A/DATA.BIN") << "as it is";
  CarryRequest wanted = what("ULES99031");
  wanted.region = Region::north_america;
  const Plan done = carry(stick, pc, wanted);
  EXPECT_EQ(
      ParameterFile::parse(pc.read("PSP/SAVEDATA/ULUS99031A/PARAM.SFO").view())->text("SAVEDATA_DIRECTORY"),
      "ULUS99031A");
  EXPECT_EQ(pc.read("PSP/SAVEDATA/ULUS99031A/DATA.BIN"), stick.read("PSP/SAVEDATA/ULES99031A/DATA.BIN"));
  const auto doubts = std::ranges::count(done.issues, IssueCode::old_region, &PlanIssue::code);
  EXPECT_EQ(doubts, 2) << "the console's own hash, and the code that is still in the data";
  wanted.region = Region::japan;
  EXPECT_EQ(plan(stick, pc, wanted).error().code, ErrorCode::wrong_region);

  // Without a book of titles the parameter files tell that it is the same game.
  ParameterFile titled = parameters;
  ASSERT_TRUE(titled.set("TITLE", std::string("Fog Watch"), 128));
  stick.put("PSP/SAVEDATA/ULES99040A/PARAM.SFO", titled.encode());
  pc.put("PSP/SAVEDATA/ULUS99040A/PARAM.SFO", titled.encode());
  EXPECT_EQ(plan(stick, pc, what("ULES99040"))->refusal()->code, IssueCode::wrong_region);

  // wii: the id follows from the code.
  MemoryBay nand("nand", "tree-wii");
  MemoryBay copy("copy", "tree-wii");
  nand.put("title/00010000/485a3950/data/x", noise(9, 1));
  CarryRequest american = what("HZ9P");
  american.region = Region::north_america;
  carry(nand, copy, american);
  EXPECT_TRUE(copy.has("title/00010000/485a3945/data/x"));
}

TEST_F(Shapes, AccountsAreMappedAskedForAndNeverGuessed) {
  MemoryBay console("console", "tree-wiiu");
  MemoryBay other("other", "tree-wiiu");
  const std::string tree = "usr/save/00050000/1ff99300/user/";
  console.put(tree + "80000001/s", noise(10, 1));
  console.put(tree + "common/rank", noise(10, 3));
  EXPECT_EQ(carry(console, other, what("Harbour Light")).changes.size(), 2U);
  EXPECT_TRUE(other.has(tree + "80000001/s")) << "the tree is made";
  MemoryBay one("one", "tree-wiiu");
  one.put(tree + "80000005/s", noise(10, 9));
  carry(console, one, what("Harbour Light"));
  EXPECT_EQ(one.read(tree + "80000005/s"), noise(10, 1)) << "there is only one";
  MemoryBay two("two", "tree-wiiu");
  two.put(tree + "80000005/s", noise(10, 9));
  two.put(tree + "80000006/s", noise(10, 9));
  const auto asked = plan(console, two, what("Harbour Light"));
  EXPECT_EQ(asked->refusal()->code, IssueCode::which_account);
  ASSERT_TRUE(asked->account_question);
  EXPECT_FALSE(asked->account_question->at_source);
  EXPECT_EQ(asked->account_question->own, "80000001");
  EXPECT_EQ(asked->account_question->choices, (std::vector<std::string>{"80000005", "80000006"}));
  CarryRequest said = what("Harbour Light");
  said.accounts = {{"80000001", "80000006"}};
  carry(console, two, said);
  EXPECT_EQ(two.read(tree + "80000005/s"), noise(10, 9));
  EXPECT_EQ(two.read(tree + "80000006/s"), noise(10, 1));
  console.put(tree + "80000002/s", noise(10, 2));
  const auto whose = plan(console, other, what("Harbour Light"));
  ASSERT_TRUE(whose);
  EXPECT_EQ(whose->refusal()->code, IssueCode::which_account);
  EXPECT_TRUE(whose->account_question->at_source);
  EXPECT_EQ(whose->account_question->choices, (std::vector<std::string>{"80000001", "80000002"}));
  // One of the source's alone: the target has none of that name, but only one there is.
  said.accounts = {{"80000002", ""}};
  carry(console, one, said);
  EXPECT_EQ(one.read(tree + "80000005/s"), noise(10, 2));
  // And where the target has several, that is still asked, of that one.
  const auto again = plan(console, two, said);
  EXPECT_EQ(again->account_question->own, "80000002");
  EXPECT_FALSE(again->account_question->at_source);
}

TEST_F(Shapes, AFolderThatCanOnlyBeFoundByLooking) {
  MemoryBay console("console", "tree-wiiu");
  MemoryBay old("old", "hashed-wiiu");
  const std::string tree = "usr/save/00050000/1ff99300/user/80000001/";
  console.put(tree + "save.bin", noise(2500, 1));
  old.put("save/aaaa1111/user/80000001/scores.bin", noise(90, 1));
  const auto none = plan(console, old, what("Harbour Light"));
  ASSERT_TRUE(none);
  EXPECT_EQ(none->refusal()->code, IssueCode::base_needed);
  old.put("save/bbbb2222/user/80000001/save.bin", noise(2500, 2));
  carry(console, old, what("Harbour Light"));
  EXPECT_EQ(old.read("save/bbbb2222/user/80000001/save.bin"), noise(2500, 1));
}

TEST_F(Shapes, PackagesAndFoldersOfTheirFilesBothWays) {
  MemoryBay drive("drive", "tree-x360");
  MemoryBay pc("pc", "tree-x360");
  const std::string one = "content/E000A11D00000001/5A5A0993/00000001/jetty";
  const std::string two = "content/E000B22D00000002/5A5A0993/00000001/jetty";
  BlockPackage package = fresh_package({0x5A5A0993, 0xE000A11D00000001, "Stone Jetty", "x", 2});
  ASSERT_TRUE(package.put("jetty.sav", noise(9000, 1).view(), 0));
  ASSERT_TRUE(package.put("p/lamp", noise(90, 1).view(), 0));
  drive.put(one, package.image());
  pc.put(two + "/jetty.sav", noise(9, 2));
  carry(drive, pc, what("5A5A0993"));
  EXPECT_EQ(pc.read(two + "/jetty.sav"), noise(9000, 1)) << "the folder, under the account there is";
  EXPECT_EQ(pc.read(two + "/p/lamp"), noise(90, 1));
  pc.put(two + "/jetty.sav", noise(20000, 5));
  carry(pc, drive, what("5A5A0993"));
  auto back = BlockPackage::open(drive.read(one));
  EXPECT_EQ(*back->read("jetty.sav"), noise(20000, 5)) << "into the target's own package";
  EXPECT_EQ(back->profile_id(), 0xE000A11D00000001U);
  EXPECT_TRUE(back->check().empty());
  // To a drive with packages, but none of this save: only a console can make one.
  MemoryBay empty("empty", "tree-x360");
  empty.put("content/E000C33D00000003/5A5A0994/00000001/other", package.image());
  EXPECT_EQ(plan(pc, empty, what("5A5A0993"))->refusal()->code, IssueCode::base_needed);
  carry(drive, empty, what("5A5A0993"));
  const auto copy = BlockPackage::open(empty.read("content/E000C33D00000003/5A5A0993/00000001/jetty"));
  EXPECT_EQ(copy->profile_id(), 0xE000C33D00000003U)
      << "the source's package as the shell, for the profile there";
  EXPECT_TRUE(copy->check().empty());
}

TEST_F(Shapes, CardsSingleSavesAndBack) {
  MemoryBay club("club", "shared-card");
  MemoryBay tree("tree", "single-save-tree");
  const auto card = make_card(CardKind::gc);
  const CardSave one = made_save(CardKind::gc, 1, 2, 7);
  const CardSave two = made_save(CardKind::gc, 2, 3, 8);
  ASSERT_TRUE(card->put(one));
  ASSERT_TRUE(card->put(two));
  club.put("cards/gc-card-1.raw", card->image());
  for (const CardSave& save : {one, two}) carry(club, tree, what(save.name));
  EXPECT_EQ(tree.store.files().size(), 2U);
  for (const auto& [path, bytes] : tree.store.files()) EXPECT_TRUE(single_save_from(bytes)) << path;
  MemoryBay fresh("fresh", "shared-card");
  for (const CardSave& save : {one, two}) carry(tree, fresh, what(save.name));
  const auto made = open_card(fresh.read("cards/gc-card-1.raw"));
  ASSERT_TRUE(made);
  EXPECT_TRUE((*made)->check().empty());
  EXPECT_TRUE((*made)->read(one.name)->same_content(one));
  EXPECT_TRUE((*made)->read(two.name)->same_content(two));
  EXPECT_TRUE(plan(tree, fresh, what(one.name))->changes.empty()) << "the same already";
}

TEST_F(Shapes, CompanionsComeAlongAndNeverOverSomebodyElses) {
  MemoryBay nand("nand", "tree-wii");
  MemoryBay copy("copy", "tree-wii");
  const std::string avatars = "shared2/menu/FaceLib/RFL_DB.dat";
  std::vector<Byte> database(779968);
  std::ranges::copy(std::string_view("RNOD"), database.begin());
  put_be16(database, 0x1F1DE, crc16_ccitt(ByteView(database).first(0x1F1DE)));
  nand.put("title/00010000/485a3950/data/x", noise(9, 1));
  EXPECT_NE(issue_of(*plan(nand, copy, what("HZ9P")), IssueCode::companion_missing), nullptr);
  nand.put(avatars, Blob::copy_of(database));
  carry(nand, copy, what("HZ9P"));
  EXPECT_EQ(copy.read(avatars), Blob::copy_of(database));
  copy.put(avatars, noise(779968, 4));
  nand.put("title/00010000/485a3950/data/x", noise(9, 2));
  EXPECT_NE(issue_of(carry(nand, copy, what("HZ9P")), IssueCode::companion_kept), nullptr);
  EXPECT_EQ(copy.read(avatars), noise(779968, 4));
  database[100] ^= 1;
  nand.put(avatars, Blob::copy_of(database));
  CarryRequest all = what("HZ9P");
  all.replace_companions = true;
  EXPECT_NE(issue_of(*plan(nand, copy, all), IssueCode::companion_damaged), nullptr);
}

TEST_F(Shapes, WhatCantBeIsSaid) {
  MemoryBay nand("nand", "tree-wii");
  MemoryBay card("card", "sd-wii");
  nand.put("title/00010000/485a3950/data/x", noise(9, 1));
  EXPECT_EQ(plan(nand, card, what("HZ9P")).error().code, ErrorCode::unsupported);
  card.put("private/wii/title/HZ9P/data.bin", noise(900, 1));
  EXPECT_EQ(plan(card, nand, what("HZ9P")).error().code, ErrorCode::unsupported);
  MemoryBay other("other", "sd-wii");
  carry(card, other, what("HZ9P"));
  EXPECT_EQ(other.read("private/wii/title/HZ9P/data.bin"), noise(900, 1));
  nand.put("title/00010000/485a3951/data/x", Blob::filled(100, 0));
  EXPECT_EQ(plan(nand, card, what("title/00010000/485a3951/data"))->refusal()->code, IssueCode::empty);
}

// At every operation of the target and of the logbook's store, in every way: each file is the old or the new
// one, the logbook is sound, and the same again succeeds.
class EveryFailure : public Shapes, public testing::WithParamInterface<FailingStore::Mode> {};
INSTANTIATE_TEST_SUITE_P(Modes, EveryFailure,
                         testing::Values(FailingStore::Mode::error, FailingStore::Mode::error_late,
                                         FailingStore::Mode::silent));

TEST_P(EveryFailure, OfACarryAnUndoARestoreAndAPrune) {
  MemoryBay from("from", "tree-3ds");
  for (const char* name : {"a", "b/c", "d"})
    from.put(brine + name, noise(700, static_cast<unsigned>(name[0])));
  int most = 1;
  for (int at = 1; at <= most; ++at) {
    for (const bool in_logbook : {false, true}) {
      MemoryBay to("to", "tree-3ds");
      to.put(brine + "a", noise(700, 99));
      to.put(brine + "own", noise(50, 98));
      const auto old = to.store.files();
      MemoryStore blobs;
      FailingStore failing_blobs(blobs);
      FailingStore failing(to.store);
      auto book = *Logbook::open(failing_blobs, ":memory:");
      const auto step = [&](auto&& make_plan) {
        (in_logbook ? failing_blobs : failing).fail_at(at, GetParam());
        const auto before = to.store.files();
        const Result<Plan> made = make_plan();
        ASSERT_TRUE(made) << made.error().message;
        const auto wanted = made->changes;
        const auto id = run(*made, failing, book);
        const int used = std::max(failing.operations(), failing_blobs.operations());
        most = std::max(most, used + 1);
        failing.fail_at(0);
        failing_blobs.fail_at(0);
        for (const FileChange& change : wanted) {
          const auto file = to.store.files().find(change.path);
          const std::optional<Blob> now =
              file == to.store.files().end() ? std::nullopt : std::optional(file->second);
          ASSERT_TRUE(now == change.before || now == change.after) << at << change.path;
          if (!id) {
            EXPECT_EQ(now, change.before) << at << " " << change.path << ": " << id.error().message;
          }
        }
        // What the logbook says must be so before the same is tried again, which succeeds.
        const auto again = make_plan();
        ASSERT_TRUE(again);
        if (!again->changes.empty()) {
          ASSERT_TRUE(run(*again, failing, book)) << at;
        }
        for (const FileChange& change : wanted) {
          const auto file = to.store.files().find(change.path);
          EXPECT_EQ(file == to.store.files().end() ? std::nullopt : std::optional(file->second),
                    change.after);
        }
      };
      CarryRequest request = what("AB9P");
      request.titles = &titles_;
      request.exact = true;
      step([&] { return plan_carry(catalog_, from.open(), to.open(), outside_, request); });
      if (HasFatalFailure()) return;
      const std::int64_t carried = (*book.newest())->id;
      // Versions that a silent store lost are lost; nothing else may be.
      const bool may_miss = GetParam() == FailingStore::Mode::silent && in_logbook;
      if (may_miss) continue;
      step([&] { return plan_restore(book, carried, true, to.store); });
      if (HasFatalFailure()) return;
      EXPECT_EQ(to.store.files(), old) << at;
      (in_logbook ? failing_blobs : failing).fail_at(at, GetParam());
      (void)book.prune(1, true);
      failing_blobs.fail_at(0);
      failing.fail_at(0);
      ASSERT_TRUE(book.prune(1, true)) << at;
      std::vector<std::string> notes;
      EXPECT_TRUE(book.check(notes)->empty()) << at << ": " << book.check(notes)->front();
      for (const auto& [path, bytes] : to.store.files()) EXPECT_FALSE(bytes.empty()) << path;
    }
  }
  EXPECT_GT(most, 8);
}

}  // namespace
}  // namespace bayswap::test
