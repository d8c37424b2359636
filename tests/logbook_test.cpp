#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sqlite3.h>
#include <algorithm>
#include <bayswap/logbook.hpp>

#include "logbook/record.hpp"
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
  MemoryStore elsewhere_;
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
  EXPECT_EQ(book.entry(*id + 1).error().code, ErrorCode::not_found);
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

TEST_F(InMemory, RecordsAreNeverWrittenOverByAnIndexThatIsBehind) {
  {
    Logbook book = open();
    for (int i = 0; i < 3; ++i)
      ASSERT_TRUE(
          book.finish(*book.begin(carry("X"), {{"/a", {}, text_blob(std::to_string(i))}}), EntryState::done));
  }
  // An index that was rebuilt in part, as older versions could leave it: it knows of no entry.
  Logbook behind = *Logbook::open(elsewhere_, ":memory:", [this] { return now_++; });
  const auto all = blobs_.files();
  for (const auto& [path, bytes] : all) ASSERT_TRUE(elsewhere_.replace(path, bytes.view()));
  const auto id = behind.begin(carry("new"), {{"/a", text_blob("2"), text_blob("3")}});
  ASSERT_TRUE(id) << id.error().message;
  EXPECT_EQ(*id, 4) << "after the highest record";
  for (const auto& [path, bytes] : all) EXPECT_EQ(*elsewhere_.read(path), bytes) << path;
  EXPECT_EQ(behind.entries()->size(), 4U);
  std::vector<std::string> notes;
  EXPECT_TRUE(behind.check(notes)->empty());
}

TEST_F(InMemory, PruneFreesNothingThatOnlyARecordNeeds) {
  {
    Logbook book = open();
    ASSERT_TRUE(
        book.finish(*book.begin(carry("X"), {{"/a", text_blob("old"), text_blob("new")}}), EntryState::done));
  }
  Logbook behind = *Logbook::open(elsewhere_, ":memory:", [this] { return now_++; });
  for (const auto& [path, bytes] : blobs_.files()) ASSERT_TRUE(elsewhere_.replace(path, bytes.view()));
  ASSERT_TRUE(behind.prune(1, true));
  EXPECT_EQ(text_of(*behind.bytes(sha256(text_blob("old").view()))), "old");
  EXPECT_EQ(behind.entries()->size(), 1U);
}

TEST_F(InMemory, CheckComparesRecordsBlobsAndIndexInAllDirections) {
  Logbook book = open();
  const auto id = book.begin(carry("X"), {{"/a", {}, text_blob("1")}});
  ASSERT_TRUE(book.finish(*id, EntryState::done));
  Entry lost = *book.entry(*id);
  lost.id = 7;
  lost.reason = "of an index that is gone";
  ASSERT_TRUE(write_record(blobs_, lost));
  ASSERT_TRUE(blobs_.replace("blobs/00/0123", text_blob("orphan").view()));
  ASSERT_TRUE(blobs_.replace("blobs/00/.bayswap-1.tmp", text_blob("left over").view()));
  std::vector<std::string> notes;
  EXPECT_TRUE(book.check(notes)->empty());
  EXPECT_EQ(notes.size(), 2U) << "an entry only its record had, and two orphans in one sentence";
  EXPECT_EQ(book.entry(7)->reason, lost.reason);
  EXPECT_EQ(book.prune(5, true)->blobs, 2U);
  EXPECT_EQ(*book.bytes(*lost.changes[0].after), text_blob("1"));
}

// What version 1 wrote, as its schema had it.
TEST(LogbookOnDisk, OfTheFirstVersionIsConverted) {
  const Folder folder;
  LocalStore blobs(folder.path());
  const std::string index = folder / "index.sqlite";
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(index.c_str(), &db), SQLITE_OK);
  const auto sql = [&](const std::string& text) {
    char* error = nullptr;
    EXPECT_EQ(sqlite3_exec(db, text.c_str(), nullptr, nullptr, &error), SQLITE_OK)
        << (error != nullptr ? error : "");
  };
  sql(R"sql(
CREATE TABLE IF NOT EXISTS entry (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind INTEGER NOT NULL, state INTEGER NOT NULL, begun INTEGER NOT NULL,
  device TEXT NOT NULL, reason TEXT NOT NULL,
  platform TEXT, code TEXT, title TEXT, region INTEGER, revision INTEGER,
  from_bay TEXT NOT NULL, to_bay TEXT NOT NULL, undoes INTEGER);
CREATE TABLE IF NOT EXISTS source (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS change (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  before TEXT, before_bytes INTEGER NOT NULL, after TEXT, after_bytes INTEGER NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID;
PRAGMA user_version = 1;
)sql");
  const std::string digest = sha256(text_blob("new").view()).hex();
  sql("INSERT INTO entry VALUES (5, 0, 1, 1935655200, '" + host_name() +
      "', 'because', 'n64', 'N99P', 'LANTERN SKIFF', 4, 2, 'bench', 'tv', NULL)");
  sql("INSERT INTO source VALUES (5, 0, 'dumps/x.sra')");
  sql("INSERT INTO change VALUES (5, 0, '/tv/a', NULL, 0, '" + digest + "', 3)");
  sqlite3_close(db);
  ASSERT_TRUE(blobs.create("blobs/" + digest.substr(0, 2) + "/" + digest, text_blob("new").view()));
  for (int opened = 0; opened < 2; ++opened) {
    auto book = Logbook::open(blobs, index);
    ASSERT_TRUE(book) << book.error().message;
    const auto entries = *book->entries();
    ASSERT_EQ(entries.size(), 1U);
    EXPECT_EQ(entries[0].id, 5);
    EXPECT_EQ(entries[0].reason, "because");
    EXPECT_EQ(entries[0].game->region, Region::europe);
    EXPECT_EQ(entries[0].from_paths, std::vector<std::string>{"dumps/x.sra"});
    EXPECT_EQ(text_of(*book->bytes(*entries[0].changes[0].after)), "new");
    EXPECT_FALSE(is_foreign(entries[0])) << "this host made it";
    EXPECT_EQ((*book->newest())->id, 5);
  }
  auto book = Logbook::open(blobs, index);
  EXPECT_EQ(*book->begin(Entry{}, {}), 6) << "numbers go on";
}

TEST(LogbookOnDisk, AnIndexWithoutTimesOfFilesIsReadOn) {
  const Folder folder;
  LocalStore blobs(folder.path());
  const std::string index = folder / "index.sqlite";
  {
    auto book = Logbook::open(blobs, index);
    ASSERT_TRUE(book);
    const FileChange change{"/tv/a", text_blob("old"), text_blob("new"), 1935655200, 1935655100};
    ASSERT_TRUE(book->begin(Entry{}, {change}));
    EXPECT_EQ((*book->entries())[0].changes[0].before_modified, 1935655100);
    EXPECT_EQ((*book->entries())[0].changes[0].after_modified, 1935655200);
  }
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(index.c_str(), &db), SQLITE_OK);
  EXPECT_EQ(sqlite3_exec(db, R"sql(
ALTER TABLE change RENAME TO later;
CREATE TABLE change (
  entry INTEGER NOT NULL REFERENCES entry(id), position INTEGER NOT NULL, path TEXT NOT NULL,
  before TEXT, before_bytes INTEGER NOT NULL, after TEXT, after_bytes INTEGER NOT NULL,
  PRIMARY KEY (entry, position)) WITHOUT ROWID;
INSERT INTO change SELECT entry, position, path, before, before_bytes, after, after_bytes FROM later;
DROP TABLE later;
PRAGMA user_version = 2;
)sql",
                         nullptr, nullptr, nullptr),
            SQLITE_OK);
  sqlite3_close(db);
  auto book = Logbook::open(blobs, index);
  ASSERT_TRUE(book) << book.error().message;
  const Entry entry = (*book->entries()).at(0);
  EXPECT_EQ(entry.changes[0].path, "/tv/a");
  EXPECT_EQ(text_of(*book->bytes(*entry.changes[0].after)), "new");
  EXPECT_FALSE(entry.changes[0].before_modified);
}

TEST(LogbookOnDisk, AnIndexWithViewsOrOtherTablesIsNotOurs) {
  for (const char* more :
       {"CREATE VIEW x AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i FROM n) SELECT * FROM n",
        "CREATE TRIGGER x AFTER INSERT ON entry BEGIN DELETE FROM entry; END", "CREATE TABLE more (x)",
        "DROP TABLE change; CREATE TABLE change (entry, position, path, before, before_bytes, after, "
        "after_bytes AS (zeroblob(1000000000)))"}) {
    const Folder folder;
    LocalStore blobs(folder.path());
    ASSERT_TRUE(Logbook::open(blobs, folder / "index.sqlite"));
    sqlite3* db = nullptr;
    ASSERT_EQ(sqlite3_open((folder / "index.sqlite").c_str(), &db), SQLITE_OK);
    EXPECT_EQ(sqlite3_exec(db, more, nullptr, nullptr, nullptr), SQLITE_OK) << more;
    sqlite3_close(db);
    EXPECT_EQ(Logbook::open(blobs, folder / "index.sqlite").error().code, ErrorCode::damaged) << more;
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

// The words for what was done changed; the bytes that such entries keep did not.
TEST(Records, OfEarlierWordsAreRead) {
  for (const auto& [old, now] :
       {std::pair("keep", EntryKind::backup), std::pair("adopt", EntryKind::carry_file)}) {
    Entry entry;
    entry.id = 7;
    entry.kind = now;
    entry.state = EntryState::done;
    entry.begun = 1935673200;
    std::string text = record_text(entry);
    const std::string word = fmt::format("kind = \"{}\"", to_text(now));
    ASSERT_NE(text.find(word), std::string::npos);
    text.replace(text.find(word), word.size(), fmt::format("kind = \"{}\"", old));
    const auto read = entry_from_record(text, "a record");
    ASSERT_TRUE(read) << read.error().message;
    EXPECT_EQ(read->kind, now);
  }
}

}  // namespace
}  // namespace bayswap::test
