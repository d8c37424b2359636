// Folders as a player has them, without a bay file, and the program run over them.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <bayswap/card.hpp>

#include <filesystem>

#include "support/archives.hpp"
#include "support/cards.hpp"
#include "support/demo_arcade.hpp"
#include "support/roms.hpp"

namespace bayswap::test {

namespace fs = std::filesystem;

class FirstDay : public testing::Test {
 protected:
  void put(const std::string& path, const Blob& bytes) {
    ASSERT_TRUE(LocalStore().replace(folder_ / path, bytes.view())) << path;
    // Saved some time ago: a game that is running has written just now.
    fs::last_write_time(folder_ / path, fs::file_time_type::clock::now() - std::chrono::hours(20));
  }
  // When it was last written, in seconds since 1970.
  void written(const std::string& path, std::int64_t when) const {
    const timespec then{when, 0};
    const timespec times[2] = {then, then};
    ASSERT_EQ(utimensat(AT_FDCWD, (folder_ / path).c_str(), times, 0), 0);
  }
  [[nodiscard]] Blob read(const std::string& path) const {
    const auto bytes = LocalStore().read(folder_ / path);
    EXPECT_TRUE(bytes) << path;
    return bytes ? *bytes : Blob();
  }
  Outcome bayswap(std::vector<std::string> words) const { return on("settings", std::move(words)); }
  // With the home folder of another device.
  Outcome on(const std::string& home, std::vector<std::string> words) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    return run_process(words, folder_.path(),
                       {{"BAYSWAP_HOME", folder_ / home}, {"HOME", folder_ / "person"}, {"TZ", "UTC"}}, {});
  }
  // Looks, carries, and expects these bytes there.
  void walk(const std::string& what, const std::string& to, const std::string& expected, const Blob& bytes) {
    const Outcome look = bayswap({"bay", "look", to});
    EXPECT_EQ(look.code, 0) << look.err;
    EXPECT_TRUE(has(look.err, "bayswap bay add")) << look.out;
    const Outcome carried = bayswap({"carry", what, "--to", to, "--yes"});
    EXPECT_EQ(carried.code, 0) << carried.err << carried.out;
    EXPECT_EQ(read(expected), bytes);
    EXPECT_FALSE(fs::exists(folder_ / "settings/bays")) << "no bay is made by that";
    const Outcome undone = bayswap({"undo", "--yes"});
    EXPECT_EQ(undone.code, 0) << undone.err;
    EXPECT_FALSE(fs::exists(folder_ / expected));
  }
  Folder folder_;
};

}  // namespace bayswap::test
