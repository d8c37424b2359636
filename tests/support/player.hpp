// A player's own folders: bays, ROMs and saves as the test has them, and the program run over them.
#pragma once

#include <gtest/gtest.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "support/archives.hpp"
#include "support/cards.hpp"
#include "support/demo_arcade.hpp"

namespace bayswap::test {

namespace fs = std::filesystem;

class Player : public testing::Test {
 protected:
  Player() {
    bay("pc", "nes", "path = \"saves/{rom.stem}.srm\"\nlayout = \"nes.raw\"\nroms = \"roms\"\n");
    bay("handheld", "nes", "path = \"{rom.folder}/{rom.stem}.sav\"\nlayout = \"nes.raw\"\nroms = \".\"\n");
  }
  void bay(const std::string& name, const std::string& platform, const std::string& rest) {
    fs::create_directories(folder_ / name);
    std::string& text = bays_[name];
    if (text.empty()) text = "root = \"" + (folder_ / name) + "\"\n";
    text += "[platform." + platform + "]\n" + rest;
    put("home/bays/" + name + ".toml", text_blob(text));
  }
  void put(const std::string& path, const Blob& bytes, std::int64_t modified = 1000000000) {
    ASSERT_TRUE(LocalStore().replace(folder_ / path, bytes.view())) << path;
    const timespec then{modified, 0};
    const timespec times[2] = {then, then};
    utimensat(AT_FDCWD, (folder_ / path).c_str(), times, 0);
  }
  [[nodiscard]] Blob read(const std::string& path) const {
    const auto blob = LocalStore().read(folder_ / path);
    EXPECT_TRUE(blob) << path;
    return blob ? *blob : Blob();
  }
  [[nodiscard]] bool exists(const std::string& path) const { return fs::exists(folder_ / path); }
  Outcome bayswap(std::vector<std::string> words) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    return run_process(words, folder_.path(), {{"BAYSWAP_HOME", folder_ / home_}, {"TZ", "UTC"}}, {});
  }
  nlohmann::json json(std::vector<std::string> words, int code = 0) const {
    words.emplace_back("--json");
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, code) << outcome.err;
    return nlohmann::json::parse(outcome.out, nullptr, false);
  }
  Outcome carry(const std::string& what, const std::string& from, const std::string& to,
                std::vector<std::string> more = {}) const {
    more.insert(more.begin(), {"carry", what, "--from", from, "--to", to, "--yes"});
    return bayswap(more);
  }
  // The outcome of each save of a carry of everything, by what it is called.
  std::map<std::string, std::string> outcomes(const nlohmann::json& batch) const {
    std::map<std::string, std::string> found;
    std::map<std::string, int> counts;
    for (const auto& row : batch["saves"]) {
      found[row["path"]] = row["outcome"];
      ++counts[row["outcome"]];
    }
    for (const char* outcome : {"carried", "same", "refused", "failed", "left"})
      EXPECT_EQ(batch[outcome], counts[outcome]) << "the numbers are those of the rows";
    EXPECT_EQ(found.size(), batch["saves"].size()) << "each save once";
    return found;
  }

  Folder folder_;
  std::string home_ = "home";
  std::map<std::string, std::string> bays_;
};

}  // namespace bayswap::test
