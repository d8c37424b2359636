// The promise through the public headers alone: the home is locked, what a dead process left is settled, the
// old bytes are kept first, and nothing is written while a program has the file.
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>
#include <bayswap/session.hpp>

#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/roms.hpp"

namespace bayswap::test {
namespace {

class Sessions : public testing::Test {
 protected:
  Sessions() {
    put("pc/roms/Cog Isle.nes", nes_rom(5));
    put("tv/roms/Cog Isle (Europe).nes", nes_rom(5));
    put("pc/saves/Cog Isle.srm", noise(8192, 1));
    put("tv/saves/Cog Isle (Europe).sav", noise(8192, 2));
    add("pc", ".srm");
    add("tv", ".sav");
  }
  void put(const std::string& path, const Blob& bytes) {
    ASSERT_TRUE(LocalStore().replace(folder_ / path, bytes.view())) << path;
    const timespec times[2] = {{1000000000, 0}, {1000000000, 0}};
    utimensat(AT_FDCWD, (folder_ / path).c_str(), times, 0);
  }
  void add(const std::string& name, const std::string& extension) {
    put("home/bays/" + name + ".toml",
        text_blob("root = \"" + (folder_ / name) + "\"\n[platform.nes]\npath = \"saves/{rom.stem}" +
                  extension + "\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n"));
  }
  [[nodiscard]] Blob read(const std::string& path) const { return *LocalStore().read(folder_ / path); }
  std::unique_ptr<Session> open() {
    SessionOptions options;
    options.lock_seconds = 0;
    auto session = Session::open(Home::under(folder_ / "home"), options);
    EXPECT_TRUE(session) << session.error().message;
    return session ? *std::move(session) : nullptr;
  }
  const std::string on_tv = "tv/saves/Cog Isle (Europe).sav";
  const Folder folder_;
};

TEST_F(Sessions, ACarryIsKeptRunAndTakenBack) {
  const auto session = open();
  CarryRequest request = session->request();
  request.what = "Cog Isle";
  auto plan = session->carry(request, "pc", "tv");
  ASSERT_TRUE(plan) << plan.error().message;
  plan->accept(IssueCode::newer);
  const auto entry = plan->run();
  ASSERT_TRUE(entry && *entry) << entry.error().message;
  EXPECT_EQ(read(on_tv), noise(8192, 1));
  // The same again is nothing to do, and leaves no entry.
  auto again = session->carry("Cog Isle", "pc", "tv");
  ASSERT_TRUE(again);
  EXPECT_EQ(*again->run(), std::nullopt);
  auto back = session->undo();
  ASSERT_TRUE(back && back->run());
  EXPECT_EQ(read(on_tv), noise(8192, 2)) << "the old bytes were kept";
  auto forth = session->restore(**entry);
  ASSERT_TRUE(forth && forth->run());
  EXPECT_EQ(read(on_tv), noise(8192, 1));
  EXPECT_EQ(session->logbook().entries("")->size(), 3U);
}

TEST_F(Sessions, ARefusedPlanAndAFileInUseAreNotWritten) {
  const auto session = open();
  const timespec later[2] = {{1100000000, 0}, {1100000000, 0}};
  ASSERT_EQ(utimensat(AT_FDCWD, (folder_ / on_tv).c_str(), later, 0), 0);
  auto plan = session->carry("Cog Isle", "pc", "tv");
  ASSERT_TRUE(plan);
  const auto newer = plan->run();
  ASSERT_FALSE(newer.has_value()) << "the target's save is newer";
  EXPECT_EQ(newer.error().code, ErrorCode::unsafe);
  plan->accept(IssueCode::newer);
  const int handle = ::open((folder_ / on_tv).c_str(), O_RDWR | O_CLOEXEC);
  const auto busy = plan->run();
  EXPECT_FALSE(busy.has_value());
  EXPECT_EQ(busy.error().code, ErrorCode::busy);
  EXPECT_EQ(read(on_tv), noise(8192, 2));
  ::close(handle);
  EXPECT_TRUE(plan->run());
  EXPECT_EQ(read(on_tv), noise(8192, 1));
}

TEST_F(Sessions, OneAtATimeAndPlacesWithoutANameAsWell) {
  {
    const auto first = open();
    SessionOptions options;
    options.lock_seconds = 0;
    const auto second = Session::open(Home::under(folder_ / "home"), options);
    ASSERT_FALSE(second.has_value());
    EXPECT_EQ(second.error().code, ErrorCode::busy);
  }
  const auto session = open();
  const auto place = session->look(folder_ / "pc/saves/Cog Isle.srm");
  ASSERT_TRUE(place) << place.error().message;
  EXPECT_EQ((*(*place)->view->saves())->size(), 1U);
  EXPECT_EQ(session->look("nowhere").error().code, ErrorCode::bad_usage);
}

// A look that was cancelled at any of its reads is an error; a batch that was, has written whole saves or
// none.
TEST_F(Sessions, WhatIsCancelledIsNeverHalfDone) {
  for (const int n : {6, 7}) {
    put(fmt::format("pc/roms/Game {}.nes", n), nes_rom(static_cast<Byte>(n)));
    put(fmt::format("tv/roms/Game {}.nes", n), nes_rom(static_cast<Byte>(n)));
    put(fmt::format("pc/saves/Game {}.srm", n), noise(8192, static_cast<unsigned>(n)));
  }
  const auto session = open();
  std::size_t reads = 0;
  const auto whole = session->look("pc", [&](const ProgressEvent&) { return ++reads > 0; });
  ASSERT_TRUE(whole);
  EXPECT_EQ((*(*whole)->saves())->size(), 3U);
  ASSERT_GT(reads, 3U);
  for (std::size_t at = 1; at <= reads; ++at) {
    std::size_t asked = 0;
    const auto place = session->look("pc", [&](const ProgressEvent&) { return ++asked < at; });
    ASSERT_TRUE(place);
    const auto saves = (*place)->saves();
    ASSERT_FALSE(saves.has_value()) << at;
    EXPECT_EQ(saves.error().code, ErrorCode::cancelled);
  }

  auto batch = session->carry_all(session->request(), "pc", "tv");
  ASSERT_TRUE(batch) << batch.error().message;
  const auto stopped =
      batch->run([](const ProgressEvent& event) { return event.what != ProgressEvent::What::writing; });
  ASSERT_FALSE(stopped.has_value());
  EXPECT_EQ(stopped.error().code, ErrorCode::cancelled);
  EXPECT_EQ(batch->batch().count(BatchRow::Outcome::failed), 3U);
  EXPECT_EQ(read(on_tv), noise(8192, 2));

  // One of them is in use: the others go.
  const int handle = ::open((folder_ / on_tv).c_str(), O_RDWR | O_CLOEXEC);
  auto again = session->carry_all(session->request(), "pc", "tv");
  ASSERT_TRUE(again && again->run());
  ::close(handle);
  EXPECT_EQ(again->batch().count(BatchRow::Outcome::carried), 2U);
  EXPECT_EQ(again->batch().count(BatchRow::Outcome::refused), 1U);
  EXPECT_EQ(read(on_tv), noise(8192, 2));
  EXPECT_EQ(read("tv/saves/Game 6.sav"), noise(8192, 6));
  auto back = session->undo();
  ASSERT_TRUE(back && back->run());
  EXPECT_FALSE(LocalStore().stat(folder_ / "tv/saves/Game 6.sav")->has_value());
}

TEST_F(Sessions, ABackupKeepsEachSaveOnce) {
  const auto session = open();
  const auto first = session->backup("tv");
  ASSERT_TRUE(first && first->size() == 1 && first->front().outcome == BackedUpSave::Outcome::kept);
  const auto second = session->backup("tv");
  ASSERT_TRUE(second && second->front().outcome == BackedUpSave::Outcome::same);
  put(on_tv, noise(8192, 9));
  auto restored = session->restore(*first->front().entry);
  ASSERT_TRUE(restored && restored->run());
  EXPECT_EQ(read(on_tv), noise(8192, 2));
  EXPECT_EQ(session->backup("tv", {}, [](const ProgressEvent&) { return false; }).error().code,
            ErrorCode::cancelled);
}

TEST_F(Sessions, AFileFromOutsideIsPlannedAsACarry) {
  put("download/Cog Isle.srm", noise(8192, 4));
  const auto session = open();
  CarryRequest request = session->request();
  request.what = folder_ / "download/Cog Isle.srm";
  request.accept = {IssueCode::newer};
  auto plan = session->carry_file(request, "tv", "Cog Isle");
  ASSERT_TRUE(plan) << plan.error().message;
  const auto entry = plan->run();
  ASSERT_TRUE(entry && *entry) << entry.error().message;
  EXPECT_EQ(read(on_tv), noise(8192, 4));
}

}  // namespace
}  // namespace bayswap::test
