// The demo world on disk, and the binary at work in it.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <bayswap/fs.hpp>

#include <ctime>
#include <nlohmann/json.hpp>

#include "support/builders.hpp"
#include "support/folder.hpp"
#include "support/process.hpp"

namespace bayswap::test {

class DemoArcade : public testing::Test {
 protected:
  DemoArcade() {
    const Outcome made = bayswap({"demo", "--out", folder_ / "w"});
    if (made.code != 0) throw std::runtime_error("no demo world: " + made.err);
  }
  Outcome bayswap(std::vector<std::string> words, const std::map<std::string, std::string>& environment = {},
                  const std::string& input = {}) const {
    words.insert(words.begin(), BAYSWAP_BINARY);
    std::map<std::string, std::string> all{{"BAYSWAP_HOME", folder_ / "w/home"}, {"TZ", "UTC"}};
    for (const auto& [name, value] : environment) all[name] = value;
    return run_process(words, folder_.path(), all, input);
  }
  nlohmann::json json(std::vector<std::string> words, int code = 0) const {
    words.emplace_back("--json");
    const Outcome outcome = bayswap(words);
    EXPECT_EQ(outcome.code, code) << outcome.err;
    return nlohmann::json::parse(outcome.out);
  }
  [[nodiscard]] std::string path(const std::string& name) const { return folder_ / ("w/" + name); }
  [[nodiscard]] bool exists(const std::string& name) const {
    return LocalStore().stat(path(name))->has_value();
  }
  [[nodiscard]] Blob read(const std::string& name) const {
    const auto blob = LocalStore().read(path(name));
    EXPECT_TRUE(blob) << name;
    return blob ? *blob : Blob();
  }
  /// Written a minute ago, as far as its time tells: what has just changed is in use.
  void write(const std::string& name, const Blob& bytes) const {
    EXPECT_TRUE(LocalStore().replace(path(name), bytes.view())) << name;
    const timespec then{std::time(nullptr) - 60, 0};
    const timespec times[2] = {then, then};
    utimensat(AT_FDCWD, path(name).c_str(), times, 0);
  }

  const std::string dump = "bench/dumps/N99P.sra";
  const std::string tv_save = "quay-tv/saves/Lantern Skiff (Europe).srm";
  Folder folder_;
};

/// `text` has `piece` in it; the whole text is shown where not.
inline testing::AssertionResult has(const std::string& text, std::string_view piece) {
  if (text.find(piece) != std::string::npos) return testing::AssertionSuccess();
  return testing::AssertionFailure() << "no '" << piece << "' in:\n" << text;
}

}  // namespace bayswap::test
