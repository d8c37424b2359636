#include <gtest/gtest.h>
#include <sqlite3.h>
#include <algorithm>
#include <bayswap/logbook.hpp>

#include "support/builders.hpp"
#include "support/failing_store.hpp"
#include "support/folder.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

class InMemory : public testing::Test {
 protected:
  Logbook open() {
    return *Logbook::open(blobs_, ":memory:", [this] { return now_++; });
  }
  static Entry carry(std::string title, std::string from = "bench", std::string to = "tv") {
    Entry entry;
    entry.kind = EntryKind::carry;
    entry.reason = "because";
    entry.game = GameId{Platform::n64, "N99P", std::move(title), Region::europe, 2};
    entry.from_bay = std::move(from);
    entry.to_bay = std::move(to);
    entry.from_paths = {"dumps/x.sra", "dumps/x.mpk"};
    return entry;
  }
  MemoryStore blobs_;
  std::int64_t now_ = 1935655200;
};

TEST_F(InMemory, RemembersAllOfAnEntry) {
  Logbook book = open();
  const auto id = book.begin(carry("LANTERN SKIFF"), {{"/tv/a", text_blob("old"), text_blob("new bytes")},
                                                      {"/tv/b", {}, text_blob("new")},
                                                      {"/tv/c", text_blob("gone"), {}}});
  ASSERT_TRUE(id) << id.error().message;
  ASSERT_TRUE(book.finish(*id, EntryState::done));
  const Entry entry = *book.entry(*id);
  EXPECT_EQ(entry.kind, EntryKind::carry);
  EXPECT_EQ(entry.state, EntryState::done);
  EXPECT_EQ(entry.begun, 1935655200);
  EXPECT_EQ(entry.reason, "because");
  EXPECT_EQ(entry.game->title, "LANTERN SKIFF");
  EXPECT_EQ(entry.game->region, Region::europe);
  EXPECT_EQ(entry.game->revision, 2);
  EXPECT_EQ(entry.from_bay, "bench");
  EXPECT_EQ(entry.from_paths, (std::vector<std::string>{"dumps/x.sra", "dumps/x.mpk"}));
  ASSERT_EQ(entry.changes.size(), 3U);
  EXPECT_EQ(entry.changes[0].before_bytes, 3U);
  EXPECT_EQ(text_of(*book.bytes(*entry.changes[0].before)), "old");
  EXPECT_EQ(text_of(*book.bytes(*entry.changes[0].after)), "new bytes");
  EXPECT_FALSE(entry.changes[1].before);
  EXPECT_FALSE(entry.changes[2].after);
  EXPECT_EQ(book.entry(*id + 1).error().code, ErrorCode::bad_usage);
}

TEST_F(InMemory, SameBytesAreKeptOnce) {
  Logbook book = open();
  for (int i = 0; i < 3; ++i)
    ASSERT_TRUE(book.begin(carry("X"), {{"/a", text_blob("same"), text_blob("same")}}));
  EXPECT_EQ(std::ranges::count_if(blobs_.files(),
                                  [](const auto& file) { return file.first.starts_with("blobs/"); }),
            1);
}

TEST_F(InMemory, ABlobThatRottedIsWrittenAnewAndNeverGivenOut) {
  Logbook book = open();
  const auto id = book.begin(carry("X"), {{"/a", text_blob("precious"), {}}});
  const std::string path = blobs_.files().begin()->first;
  ASSERT_TRUE(blobs_.replace(path, text_blob("pre_ious").view()));
  const Digest digest = *book.entry(*id)->changes[0].before;
  EXPECT_EQ(book.bytes(digest).error().code, ErrorCode::damaged);
  ASSERT_TRUE(book.begin(carry("X"), {{"/a", text_blob("precious"), {}}}));
  EXPECT_EQ(text_of(*book.bytes(digest)), "precious");
}

TEST_F(InMemory, IsSearchedByTitleCodeBayAndPath) {
  Logbook book = open();
  ASSERT_TRUE(book.begin(carry("LANTERN SKIFF", "bench", "tv"), {{"/tv/skiff.srm", {}, text_blob("1")}}));
  ASSERT_TRUE(book.begin(carry("100% _PIER", "pc", "ferry"), {{"/ferry/pier.sra", {}, text_blob("2")}}));
  EXPECT_EQ(book.entries()->size(), 2U);
  EXPECT_EQ(book.entries()->front().game->title, "100% _PIER") << "newest first";
  for (const char* what : {"lantern", "BENCH", "skiff.srm"}) {
    ASSERT_EQ(book.entries(what)->size(), 1U) << what;
    EXPECT_EQ(book.entries(what)->front().game->title, "LANTERN SKIFF");
  }
  EXPECT_EQ(book.entries("0% _p")->size(), 1U) << "no wildcards";
  EXPECT_TRUE(book.entries("%")->size() == 1 && book.entries("nothing")->empty());
  EXPECT_EQ(book.entries("", 1)->size(), 1U);
}

TEST_F(InMemory, NewestIsTheNewestThatChangedSomething) {
  Logbook book = open();
  EXPECT_FALSE(*book.newest());
  const auto first = book.begin(carry("A"), {{"/a", {}, text_blob("1")}});
  EXPECT_FALSE(*book.newest()) << "still under way";
  ASSERT_TRUE(book.finish(*first, EntryState::done));
  const auto second = book.begin(carry("B"), {{"/b", {}, text_blob("1")}});
  ASSERT_TRUE(book.finish(*second, EntryState::cancelled));
  EXPECT_EQ((*book.newest())->id, *first);
}

TEST_F(InMemory, AnEntryLeftOpenIsSettledByWhatTheFilesHold) {
  Logbook book = open();
  MemoryStore files;
  const std::vector<FileChange> both{{"a", text_blob("a0"), text_blob("a1")}, {"b", {}, text_blob("b1")}};
  const auto settle = [&](std::optional<std::string> a, std::optional<std::string> b) {
    const auto id = book.begin(carry("X"), both);
    for (const auto& [path, text] : {std::pair{"a", a}, std::pair{"b", b}}) {
      if (text)
        EXPECT_TRUE(files.replace(path, text_blob(*text).view()));
      else
        (void)files.remove(path);
    }
    const auto recovered = book.recover(files);
    EXPECT_EQ(recovered.value().size(), 1U);
    EXPECT_NE(book.entry(*id)->state, EntryState::begun);
    return recovered->front().outcome;
  };
  using Outcome = Recovered::Outcome;
  EXPECT_EQ(settle("a0", {}), Outcome::cancelled);
  EXPECT_EQ(settle("a1", "b1"), Outcome::done);
  EXPECT_EQ(settle("a1", {}), Outcome::rolled_back);
  EXPECT_EQ(text_of(*files.read("a")), "a0");
  EXPECT_EQ(settle("a0", "b1"), Outcome::rolled_back);
  EXPECT_FALSE(*files.stat("b"));
  EXPECT_EQ(settle("a2", "b1"), Outcome::cut_short) << "another program's bytes";
  EXPECT_EQ(settle("a0", "b2"), Outcome::cut_short);
  EXPECT_EQ(book.entries()->front().changes.size(), 1U) << "an undo must not remove b: it never was ours";
  EXPECT_TRUE(book.recover(files)->empty()) << "settled once";
}

TEST_F(InMemory, NothingIsBegunWhenBytesCannotBeKept) {
  FailingStore failing(blobs_);
  Logbook book = *Logbook::open(failing, ":memory:");
  for (int n = 1; n <= 2; ++n) {
    failing.fail_at(n);
    const auto id = book.begin(
        carry("X"), {{"/a", text_blob("old" + std::to_string(n)), text_blob("new" + std::to_string(n))}});
    ASSERT_FALSE(id);
    EXPECT_EQ(id.error().code, ErrorCode::io);
    EXPECT_TRUE(book.entries()->empty());
  }
}

TEST(LogbookOnDisk, SurvivesClosingAndRefusesWhatItCannotRead) {
  const Folder folder;
  LocalStore blobs(folder.path());
  const std::string index = folder / "index.sqlite";
  {
    auto book = Logbook::open(blobs, index);
    ASSERT_TRUE(book) << book.error().message;
    ASSERT_TRUE(book->begin(Entry{}, {{"/a", text_blob("old"), {}}}));
  }
  {
    auto book = Logbook::open(blobs, index);
    ASSERT_EQ(book->entries()->size(), 1U);
    EXPECT_EQ(text_of(*book->bytes(*book->entries()->front().changes[0].before)), "old");
  }
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(index.c_str(), &db), SQLITE_OK);
  sqlite3_exec(db, "PRAGMA user_version = 99", nullptr, nullptr, nullptr);
  sqlite3_close(db);
  EXPECT_EQ(Logbook::open(blobs, index).error().code, ErrorCode::unsupported);
  ASSERT_TRUE(blobs.replace("index.sqlite", noise(4096, 1).view()));
  const auto damaged = Logbook::open(blobs, index);
  ASSERT_FALSE(damaged);
  EXPECT_EQ(damaged.error().code, ErrorCode::damaged);
  EXPECT_EQ(Logbook::open(blobs, folder / "no/such/folder/index").error().code, ErrorCode::io);
}

}  // namespace
}  // namespace bayswap::test
