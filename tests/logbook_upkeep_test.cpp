// The logbook over the years: pruned, copied to another disk, checked, and made anew from its records.
#include <bayswap/carry.hpp>

#include <algorithm>
#include <map>
#include <set>

#include "bay/tracing_store.hpp"
#include "carry/version_store.hpp"
#include "logbook/record.hpp"
#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

std::int64_t ticking = 1935655200;

class Upkeep : public testing::Test {
 protected:
  Logbook open(Store& blobs, const std::string& index = ":memory:") {
    return *Logbook::open(blobs, index, [] { return ++ticking; });
  }
  static Entry entry(const std::string& title) {
    Entry made;
    made.kind = EntryKind::carry;
    made.reason = "carry '" + title + "' \"there\"\nand back \x01";
    made.game = GameId{Platform::n64, "N99P", title, Region::europe, 1};
    made.from_bay = "bench";
    made.to_bay = "tv";
    made.from_paths = {"/a", "/b with 'quotes'"};
    return made;
  }
  // Some history: entries about a few files, each from what it was to something else.
  std::map<std::string, std::optional<Blob>> live(Logbook& book, int entries) {
    std::map<std::string, std::optional<Blob>> files;
    for (int i = 0; i < entries; ++i) {
      std::vector<FileChange> changes;
      for (const char* path : {"/x", "/y", "/z"}) {
        if (*rc::gen::inRange(0, 2) == 0) continue;
        std::optional<Blob> after;
        if (*rc::gen::inRange(0, 5) != 0)
          after = *rc::gen::inRange(0, 2) == 0 ? noise(700, static_cast<unsigned>(i))
                                               : Blob::filled(9000, static_cast<Byte>(i));
        if (files[path] == after) continue;
        changes.push_back({path, files[path], after});
        files[path] = after;
      }
      if (changes.empty()) continue;
      const auto id = book.begin(entry("Skiff " + std::to_string(i)), changes);
      RC_ASSERT(id.has_value());
      RC_ASSERT(book.finish(*id, EntryState::done).has_value());
    }
    return files;
  }
  static void expect_sound(Logbook& book) {
    std::vector<std::string> notes;
    const auto problems = book.check(notes);
    RC_ASSERT(problems.has_value());
    for (const std::string& problem : *problems) RC_FAIL(problem);
  }
};

bool same_but_for_numbers(const Entry& a, const Entry& b) {
  if (a.reason != b.reason || a.begun != b.begun || a.device != b.device ||
      a.changes.size() != b.changes.size())
    return false;
  for (std::size_t i = 0; i < a.changes.size(); ++i)
    if (a.changes[i].path != b.changes[i].path || a.changes[i].before != b.changes[i].before ||
        a.changes[i].after != b.changes[i].after)
      return false;
  return a.game.has_value() == b.game.has_value() && (!a.game || a.game->title == b.game->title);
}

TEST_F(Upkeep, PruningKeepsTheNewestOfEverySaveAndNothingThatNobodyNeeds) {
  expect_property_of(60, "after a prune the newest entries of each file are there, whole", [this] {
    MemoryStore blobs;
    Logbook book = open(blobs);
    live(book, *rc::gen::inRange(1, 20));
    const auto before = *book.entries();
    const auto keep = *rc::gen::inRange<std::size_t>(1, 5);
    const bool per_save = *rc::gen::arbitrary<bool>();
    const auto pruned = book.prune(keep, per_save);
    RC_ASSERT(pruned.has_value());
    const auto left = *book.entries();
    RC_ASSERT(left.size() + pruned->entries == before.size());
    std::set<std::int64_t> ids;
    for (const Entry& one : left) ids.insert(one.id);
    std::map<std::string, std::size_t> seen;
    for (std::size_t i = 0; i < before.size(); ++i) {
      bool wanted = !per_save && i < keep;
      for (const LoggedChange& change : before[i].changes) {
        const std::size_t newer = seen[change.path]++;
        wanted = wanted || newer == 0 || (per_save && newer < keep);
      }
      RC_ASSERT(ids.contains(before[i].id) == wanted);
    }
    expect_sound(book);
    std::set<std::string> needed;
    for (const Entry& one : left)
      for (const LoggedChange& change : one.changes)
        for (const auto& digest : {change.before, change.after})
          if (digest) needed.insert(digest->hex());
    std::set<std::string> there;
    for (const auto& [path, bytes] : blobs.files())
      if (path.starts_with("blobs/")) there.insert(path.substr(9, 64));
    RC_ASSERT(there == needed);
  });
}

TEST_F(Upkeep, ALostIndexIsMadeAnewFromTheRecords) {
  expect_property_of(40, "every entry comes back as it was", [this] {
    MemoryStore blobs;
    std::vector<Entry> before;
    {
      Logbook book = open(blobs);
      live(book, *rc::gen::inRange(1, 12));
      before = *book.entries();
    }
    Logbook again = open(blobs);
    const auto after = *again.entries();
    RC_ASSERT(again.rebuilt() == before.size());
    RC_ASSERT(after.size() == before.size());
    for (std::size_t i = 0; i < after.size(); ++i) {
      RC_ASSERT(after[i].id == before[i].id);
      RC_ASSERT(same_but_for_numbers(after[i], before[i]));
      RC_ASSERT(after[i].game->region == Region::europe);
      RC_ASSERT(after[i].from_paths == before[i].from_paths);
    }
    expect_sound(again);
  });
}

TEST_F(Upkeep, MergingTakesOverWhatIsNewAndTwiceIsOnce) {
  expect_property_of(40, "two logbooks become one, whichever way", [this] {
    MemoryStore ours_blobs;
    MemoryStore theirs_blobs;
    Logbook ours = open(ours_blobs);
    Logbook theirs = open(theirs_blobs);
    live(ours, *rc::gen::inRange(0, 6));
    live(theirs, *rc::gen::inRange(0, 6));
    const std::size_t both = ours.entries()->size() + theirs.entries()->size();
    RC_ASSERT(*ours.merge(theirs) == theirs.entries()->size());
    RC_ASSERT(ours.entries()->size() == both);
    RC_ASSERT(*ours.merge(theirs) == 0U);
    RC_ASSERT(*theirs.merge(ours) == both - theirs.entries()->size() + 0U ||
              theirs.entries()->size() == both);
    RC_ASSERT(theirs.entries()->size() == both);
    expect_sound(ours);
    expect_sound(theirs);
  });
}

// What the newest entry about each file says it holds, read back from the blobs.
std::map<std::string, std::optional<Blob>> newest_of(Logbook& book) {
  std::map<std::string, std::optional<Blob>> files;
  const std::vector<Entry> entries = *book.entries();
  for (const Entry& one : entries)
    for (const LoggedChange& change : one.changes)
      if (!files.contains(change.path))
        files[change.path] = change.after ? std::optional(*book.bytes(*change.after)) : std::nullopt;
  return files;
}

TEST_F(Upkeep, WhateverIsDoneToItOverTheYearsTheNewestOfEveryFileStays) {
  expect_property_of(60, "carries, prunes, copies, lost indexes and rot in any order", [this] {
    MemoryStore blobs;
    MemoryStore copied;
    auto book = std::make_unique<Logbook>(open(blobs));
    auto copy = std::make_unique<Logbook>(open(copied));
    std::map<std::string, std::optional<Blob>> files;
    bool pruned = false;  // then the copy has older entries, which would come back with newer numbers
    for (int step = *rc::gen::inRange(2, 14); step > 0; --step) {
      switch (*rc::gen::inRange(0, 6)) {
        case 0:
        case 1: {  // somebody plays, and carries
          const std::string path = *rc::gen::element<std::string>("/x", "/y", "/z");
          const std::optional<Blob> after =
              *rc::gen::inRange(0, 4) == 0
                  ? std::nullopt
                  : std::optional(noise(*rc::gen::inRange<std::size_t>(0, 900), static_cast<unsigned>(step)));
          if (files[path] == after) break;
          const auto id = book->begin(entry("Skiff"), {{path, files[path], after}});
          RC_ASSERT(id.has_value());
          RC_ASSERT(book->finish(*id, EntryState::done).has_value());
          files[path] = after;
          break;
        }
        case 2:
          pruned = true;
          RC_ASSERT(
              book->prune(*rc::gen::inRange<std::size_t>(1, 4), *rc::gen::arbitrary<bool>()).has_value());
          break;
        case 3:  // a copy on another disk, and back from it
          RC_ASSERT(copy->merge(*book).has_value());
          expect_sound(*copy);
          break;
        case 4:  // the index is lost
          book.reset();
          book = std::make_unique<Logbook>(open(blobs));
          // The newest record may be of a process that died: looked into, it turns out to be done.
          if (const std::vector<Entry> newest = *book->entries({}, 1); !newest.empty())
            RC_ASSERT(book->finish(newest.front().id, EntryState::done).has_value());
          break;
        default: {  // a blob rots that the copy has as well
          if (pruned) break;
          RC_ASSERT(copy->merge(*book).has_value());
          std::vector<std::string> paths;
          for (const auto& [path, bytes] : blobs.files())
            if (path.starts_with("blobs/")) paths.push_back(path);
          if (paths.empty()) break;
          RC_ASSERT(blobs.remove(*rc::gen::elementOf(paths)).has_value());
          std::vector<std::string> notes;
          const auto named = book->check(notes);
          RC_ASSERT(named.has_value());
          RC_ASSERT(!named->empty() || !notes.empty());
          RC_ASSERT(book->merge(*copy).has_value());
          break;
        }
      }
      expect_sound(*book);
      const auto now = newest_of(*book);
      for (const auto& [path, bytes] : files)
        if (now.contains(path)) RC_ASSERT(now.at(path) == bytes);
    }
    for (const auto& [path, bytes] : files)
      if (bytes) RC_ASSERT(newest_of(*book).contains(path));
  });
}

TEST_F(Upkeep, WhatRottedIsNamedAndComesBackFromACopy) {
  MemoryStore blobs;
  Logbook book = open(blobs);
  const Blob packed = Blob::filled(9000, 7);
  ASSERT_TRUE(book.finish(*book.begin(entry("Skiff"), {{"/x", noise(700, 1), packed}}), EntryState::done));
  MemoryStore disk;
  Logbook copy = open(disk);
  ASSERT_EQ(*copy.merge(book), 1U);
  std::size_t small = 0;
  for (const auto& [path, bytes] : std::map(blobs.files())) {
    if (!path.starts_with("blobs/")) continue;
    small += path.ends_with(".z") && bytes.size() < 200 ? 1 : 0;
    std::vector<Byte> rotten = bytes_of(bytes);
    rotten[rotten.size() / 2] ^= 1;
    ASSERT_TRUE(blobs.replace(path, rotten));
  }
  EXPECT_EQ(small, 1U) << "what packs well is kept packed";
  std::vector<std::string> notes;
  EXPECT_EQ(book.check(notes)->size(), 2U);
  EXPECT_EQ(copy.check(notes)->size(), 0U);
  EXPECT_EQ(copy.bytes(sha256(packed.view())).value(), packed);
  EXPECT_EQ(*book.merge(copy), 0U) << "no new entry";
  EXPECT_EQ(book.check(notes)->size(), 0U) << "and every byte is back";
  // A damaged record stops a prune: what it speaks of is not known.
  for (const auto& [path, bytes] : std::map(disk.files()))
    if (path.starts_with("records/")) {
      ASSERT_TRUE(disk.replace(path, text_blob("id = 1\n").view()));
    }
  EXPECT_EQ(copy.prune(1, true).error().code, ErrorCode::damaged);
  EXPECT_EQ(copy.check(notes)->size(), 1U);
  EXPECT_EQ(copy.check(notes)->size(), 0U) << "the index had it, and has written it anew";
  EXPECT_EQ(copy.prune(0, true).error().code, ErrorCode::bad_usage);
}

TEST_F(Upkeep, ACancelledEntryLeavesNoRecordAndOneCutShortSaysSo) {
  MemoryStore blobs;
  {
    Logbook book = open(blobs);
    ASSERT_TRUE(book.finish(*book.begin(entry("a"), {{"/x", {}, noise(10, 1)}}), EntryState::cancelled));
    ASSERT_TRUE(book.finish(*book.begin(entry("b"), {{"/y", {}, noise(10, 2)}}), EntryState::cut_short));
    ASSERT_TRUE(book.finish(*book.begin(entry("c"), {{"z", {}, noise(10, 3)}}), EntryState::done));
  }
  Logbook again = open(blobs);
  const auto entries = *again.entries();
  ASSERT_EQ(entries.size(), 2U);
  EXPECT_EQ(entries[1].state, EntryState::cut_short);
  MemoryStore files;
  ASSERT_TRUE(files.replace("z", noise(10, 3).view()));
  ASSERT_TRUE(again.recover(files));
  EXPECT_EQ((*again.entries())[0].state, EntryState::done) << "its file holds what it wrote";
}

TEST(ChangeInWords, SizesSharesPlacesAndParts) {
  const Catalog catalog;
  EXPECT_EQ(change_in_words(catalog, {}, noise(30, 1)), "new, 30 bytes");
  EXPECT_EQ(change_in_words(catalog, noise(30, 1), {}), "removed, 30 bytes");
  std::vector<Byte> bytes(100);
  const Blob zeros = Blob::copy_of(bytes);
  bytes[0x10] = 1;
  bytes[0x1F] = 1;
  EXPECT_EQ(change_in_words(catalog, zeros, Blob::copy_of(bytes)), "100 bytes; 2 % differ, 10 to 1F");
  bytes.resize(110);
  EXPECT_EQ(change_in_words(catalog, zeros, Blob::copy_of(bytes)), "110 bytes, +10; 11 % differ, 10 to 6D");
  const auto combined = [&](unsigned seed) {
    return *pack(layout(catalog, "n64.combined"),
                 Save{Platform::n64, {{{PartKind::sram, 0}, noise(32768, seed), true}}});
  };
  EXPECT_NE(change_in_words(catalog, combined(1), combined(2)).find("in sram"), std::string::npos);
}

TEST(VersionStores, ShowABayAsItWas) {
  MemoryStore now;
  ASSERT_TRUE(now.replace("a/x", noise(10, 1).view()));
  ASSERT_TRUE(now.replace("a/y", noise(10, 2).view()));
  VersionStore then(now);
  EXPECT_TRUE(then.is_plain());
  then.set("a/x", noise(20, 3), 77);
  then.set("a/y", std::nullopt, 77);
  then.set("b/c/z", noise(5, 4), 77);
  EXPECT_EQ(*then.read("a/x"), noise(20, 3));
  EXPECT_EQ((*then.stat("a/x"))->modified, 77);
  EXPECT_FALSE(*then.stat("a/y"));
  EXPECT_FALSE(then.read("a/y"));
  EXPECT_EQ((*then.stat("b/c"))->kind, FileInfo::Kind::folder);
  EXPECT_EQ(then.list("a")->size(), 1U);
  EXPECT_EQ(then.list(".")->size(), 2U);
  EXPECT_EQ(then.list("b")->front().name, "c");
  EXPECT_EQ(then.list("b/c")->front().size_bytes, 5U);
  EXPECT_EQ(then.replace("a/x", {}).error().code, ErrorCode::unsupported);
  EXPECT_EQ(*now.read("a/x"), noise(10, 1));
}

TEST(Records, OfThousandsOfFilesWithAnyNamesAreReadBack) {
  Entry entry;
  entry.id = 7;
  entry.kind = EntryKind::carry;
  entry.begun = 1935655200;
  entry.from_paths = {"caf\xe9/\x01", "plain"};
  for (int i = 0; i < 20000; ++i) {
    LoggedChange change;
    change.path = "saves/\xff" + std::to_string(i);
    change.after = sha256(text_blob(std::to_string(i)).view());
    change.after_bytes = static_cast<std::uint64_t>(i);
    entry.changes.push_back(std::move(change));
  }
  const auto back = entry_from_record(record_text(entry), "7.toml");
  ASSERT_TRUE(back) << back.error().message;
  EXPECT_EQ(back->from_paths, entry.from_paths);
  ASSERT_EQ(back->changes.size(), entry.changes.size());
  EXPECT_EQ(back->changes.back().path, entry.changes.back().path);
  EXPECT_EQ(back->changes[777].after, entry.changes[777].after);
}

TEST(AccountBooks, HoldInBothDirections) {
  auto book = *AccountBook::parse("[[pair]]\nfrom = \"a\"\nto = \"b\"\naccount = \"1\"\nis = \"2\"\n", "x");
  EXPECT_EQ(book.between("a", "b"), (AccountMap{{"1", "2"}}));
  EXPECT_EQ(book.between("b", "a"), (AccountMap{{"2", "1"}}));
  EXPECT_TRUE(book.between("a", "c").empty());
  EXPECT_FALSE(book.learn("a", "b", "1", "2"));
  EXPECT_TRUE(book.learn("a", "b", "1", "3"));
  EXPECT_TRUE(book.learn("a", "c", "1", "4"));
  EXPECT_EQ(book.between("c", "a"), (AccountMap{{"4", "1"}}));
  EXPECT_EQ(AccountBook::parse("[[pair]]\nfrom = \"a\"\n", "x.toml").error().code, ErrorCode::bad_usage);
}

TEST(AccountBooks, ABayWithoutAccountsIsRememberedInBothDirections) {
  AccountBook book;
  EXPECT_TRUE(book.learn("card", "console", "", "80000006"));
  EXPECT_FALSE(book.learn("card", "console", "", "80000006"));
  EXPECT_EQ(book.between("card", "console"), (AccountMap{{"", "80000006"}}));
  EXPECT_EQ(book.between("console", "card"), (AccountMap{{"80000006", ""}})) << "that one's is meant";
  const Folder folder;
  const Home home = Home::under(folder.path());
  ASSERT_TRUE(book.save(home));
  EXPECT_EQ(AccountBook::load(home)->between("card", "console"), book.between("card", "console"));
}

TEST(Companions, AreRulesThatUsersCanRead) {
  const auto rules = companion_rules();
  ASSERT_TRUE(rules) << rules.error().message;
  EXPECT_GE(rules->size(), 3U);
  const auto more = companion_rules(
      "[[companion]]\nplatform = \"psp\"\ncodes = [\"ULES99031\"]\nwhat = \"x\"\npath = \"y\"\nwithout = "
      "\"z\"\n",
      "mine");
  ASSERT_TRUE(more);
  EXPECT_EQ(more->size(), rules->size() + 1);
  EXPECT_EQ(more->back().codes, std::vector<std::string>{"ULES99031"});
  for (const char* wrong :
       {"[[companion]]\nplatform = \"psq\"\nwhat = \"x\"\npath = \"y\"\nwithout = \"z\"\n",
        "[[companion]]\nplatform = \"psp\"\nwhat = \"x\"\npath = \"../y\"\nwithout = \"z\"\n",
        "[[companion]]\nplatform = \"psp\"\nwhat = \"x\"\npath = \"y\"\nwithout = \"z\"\ncheck = "
        "\"magic\"\n"})
    EXPECT_EQ(companion_rules(wrong, "mine").error().code, ErrorCode::bad_usage) << wrong;
}

TEST(WatchedStores, SayWhetherAllIsAsItWas) {
  expect_property("a change of names, sizes or folders is seen", [] {
    MemoryStore below;
    for (const char* path : {"a/1", "a/2", "b/c/3"})
      RC_ASSERT(below.replace(path, noise(10, 1).view()).has_value());
    TracingStore store(below);
    for (const char* folder : {".", "a", "b", "b/c", "gone"}) (void)store.list(folder);
    (void)store.stat("a/9");
    RC_ASSERT(TracingStore::is_as_then(below, store.trace()));
    switch (*rc::gen::inRange(0, 4)) {
      case 0:
        RC_ASSERT(below.replace("a/1", noise(11, 1).view()).has_value());
        break;
      case 1:
        RC_ASSERT(below.remove("b/c/3").has_value());
        break;
      case 2:
        RC_ASSERT(below.replace("a/9", noise(1, 1).view()).has_value());
        break;
      default:
        RC_ASSERT(below.replace("gone/x", noise(1, 1).view()).has_value());
        break;
    }
    RC_ASSERT(!TracingStore::is_as_then(below, store.trace()));
    const std::string& trace = store.trace();
    RC_ASSERT(!TracingStore::is_as_then(
        below, std::string_view(trace).substr(0, trace.size() - *rc::gen::inRange<std::size_t>(1, 13))));
  });
}

}  // namespace
}  // namespace bayswap::test
