// Plans that share their syncs: what one does, and what a disturbance leaves.
#include <gtest/gtest.h>
#include <bayswap/carry.hpp>

#include "fs/forwarding_store.hpp"
#include "support/builders.hpp"
#include "support/folder.hpp"

namespace bayswap::test {
namespace {

// Another program writes a file when several are about to be changed at once.
class Intruder final : public ForwardingStore {
 public:
  explicit Intruder(Store& below) : ForwardingStore(below), disk_(below) {}
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override {
    if (changes.size() > 1 && !path.empty()) {
      EXPECT_TRUE(disk_.replace(path, text_blob("another's").view()));
    }
    auto applied = disk_.apply(changes, placed);
    if (applied && changes.size() > 2 && fails_late)
      return fail(ErrorCode::io, "a folder could not be synced");
    return applied;
  }
  std::string path;
  bool fails_late = false;  // all is in place, and may not be on the disk

 private:
  Store& disk_;
};

class Together : public testing::Test {
 protected:
  static constexpr int count = 20;
  static std::string name(int i) { return "save " + std::to_string(i); }
  Together() {
    for (int i = 0; i < count; ++i) {
      const Blob old = pattern(3000, static_cast<unsigned>(i));
      EXPECT_TRUE(disk_.replace(name(i), old.view()));
      Plan plan;
      plan.kind = EntryKind::carry;
      plan.reason = "a test";
      plan.root = folder_.path();
      plan.changes.push_back({name(i), old, pattern(3000, static_cast<unsigned>(i + 100))});
      // One of them makes a file as well.
      if (i == 4) plan.changes.push_back({"new/one", std::nullopt, text_blob("new")});
      plans_.push_back(std::move(plan));
    }
    for (const Plan& plan : plans_) all_.push_back(&plan);
  }
  Blob now(int i) { return *disk_.read(name(i)); }
  void expect_sound(Logbook& book) {
    EXPECT_TRUE(book.unfinished()->empty());
    std::vector<std::string> notes;
    EXPECT_TRUE(book.check(notes)->empty());
  }
  Folder folder_;
  LocalStore disk_{folder_.path()};
  MemoryStore blobs_;
  std::vector<Plan> plans_;
  std::vector<const Plan*> all_;
};

TEST_F(Together, EachHasItsEntryAndAllAreOneBatch) {
  Logbook book = *Logbook::open(blobs_, ":memory:");
  const auto ids = run_together(all_, disk_, book);
  ASSERT_EQ(ids.size(), all_.size());
  for (int i = 0; i < count; ++i) {
    const auto& id = ids[static_cast<std::size_t>(i)];
    ASSERT_TRUE(id) << id.error().message;
    EXPECT_EQ(now(i), plans_[static_cast<std::size_t>(i)].changes.front().after);
    const Entry entry = *book.entry(*id);
    EXPECT_EQ(entry.state, EntryState::done);
    EXPECT_EQ(*book.bytes(*entry.changes.front().before),
              plans_[static_cast<std::size_t>(i)].changes.front().before);
  }
  EXPECT_EQ(book.entries_of_batch(*ids.front())->size(), all_.size());
  EXPECT_EQ(book.entry(*ids[4])->made_folders.size(), 1U);
  expect_sound(book);
}

TEST_F(Together, OneThatIsDisturbedStopsNoOther) {
  for (const int which : {0, 7, count - 1}) {
    SCOPED_TRACE(which);
    for (int i = 0; i < count; ++i)
      ASSERT_TRUE(disk_.replace(name(i), plans_[static_cast<std::size_t>(i)].changes.front().before->view()));
    (void)disk_.remove("new/one");
    MemoryStore blobs;
    Logbook book = *Logbook::open(blobs, ":memory:");
    Intruder store(disk_);
    store.path = name(which);
    const auto ids = run_together(all_, store, book);
    std::set<std::int64_t> batches;
    for (int i = 0; i < count; ++i) {
      const auto& id = ids[static_cast<std::size_t>(i)];
      if (i == which) {
        ASSERT_FALSE(id);
        EXPECT_EQ(id.error().code, ErrorCode::busy);
        EXPECT_EQ(now(i), text_blob("another's"));
        continue;
      }
      ASSERT_TRUE(id) << id.error().message;
      EXPECT_EQ(now(i), plans_[static_cast<std::size_t>(i)].changes.front().after);
      const Entry entry = *book.entry(*id);
      batches.insert(entry.batch.value_or(*id));
    }
    EXPECT_EQ(batches.size(), 1U) << "one undo takes all of them back";
    auto entries = *book.entries_of_batch(*batches.begin());
    std::erase_if(entries, [](const Entry& entry) { return entry.state == EntryState::cancelled; });
    EXPECT_EQ(entries.size(), all_.size() - 1);
    expect_sound(book);
  }
}

// What is in place and could not be synced is not called done: it is done once more, each on its own.
TEST_F(Together, WhatMayNotBeOnTheDiskIsDoneAgain) {
  Logbook book = *Logbook::open(blobs_, ":memory:");
  Intruder store(disk_);
  store.fails_late = true;
  const auto ids = run_together(all_, store, book);
  for (int i = 0; i < count; ++i) {
    const auto& id = ids[static_cast<std::size_t>(i)];
    ASSERT_TRUE(id) << id.error().message;
    EXPECT_GT(*id, count) << "not the entry of the group";
    EXPECT_EQ(book.entry(*id)->state, EntryState::done);
    EXPECT_EQ(book.entry(i + 1)->state, EntryState::cancelled);
    EXPECT_EQ(now(i), plans_[static_cast<std::size_t>(i)].changes.front().after);
  }
  expect_sound(book);
}

// The process dies with some of the files changed, and the index is lost as well.
TEST_F(Together, OutOfRecordsAloneEveryOpenEntryIsLookedAt) {
  constexpr int changed = 8;
  {
    Logbook book = *Logbook::open(blobs_, ":memory:");
    std::vector<Logbook::NewEntry> entries;
    for (const Plan& plan : plans_) {
      Entry entry;
      entry.kind = EntryKind::carry;
      entry.root = folder_.path();
      std::vector<FileChange> changes = plan.changes;
      for (FileChange& change : changes) change.path = disk_.absolute_path(change.path);
      entries.push_back({entry, std::move(changes)});
    }
    ASSERT_TRUE(book.begin_all(std::move(entries)));
  }
  for (int i = 0; i < changed; ++i)
    for (const FileChange& change : plans_[static_cast<std::size_t>(i)].changes)
      ASSERT_TRUE(disk_.replace(change.path, change.after->view()));
  Logbook book = *Logbook::open(blobs_, ":memory:");
  EXPECT_EQ(book.rebuilt(), plans_.size());
  LocalStore files;
  const auto recovered = book.recover(files);
  ASSERT_TRUE(recovered);
  ASSERT_EQ(recovered->size(), plans_.size());
  for (const Recovered& one : *recovered)
    EXPECT_EQ(one.outcome, one.entry.id <= changed ? Recovered::Outcome::done : Recovered::Outcome::cancelled)
        << one.entry.id << ": " << one.why;
  expect_sound(book);
}

}  // namespace
}  // namespace bayswap::test
