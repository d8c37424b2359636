// Two bays of any form, in memory.
#pragma once

#include <gtest/gtest.h>
#include <bayswap/carry.hpp>

#include "support/builders.hpp"

namespace bayswap::test {

struct MemoryBay {
  Bay bay;
  MemoryStore store;

  MemoryBay(const std::string& name, const std::string& form) : bay(*bay_like(form, name, "/" + name)) {}
  MemoryBay(const std::string& name, const std::string& platform, const std::string& rest)
      : bay(*parse_bay("root = \"/" + name + "\"\n[platform." + platform + "]\n" + rest, name, name + ".toml",
                       "/")) {}
  void put(const std::string& path, const Blob& bytes) {
    EXPECT_TRUE(store.replace(path, bytes.view())) << path;
  }
  [[nodiscard]] Blob read(const std::string& path) {
    const auto bytes = store.read(path);
    EXPECT_TRUE(bytes) << path;
    return bytes ? *bytes : Blob();
  }
  [[nodiscard]] bool has(const std::string& path) const { return store.files().contains(path); }
  [[nodiscard]] OpenBay open() { return {&bay, &store}; }
  [[nodiscard]] std::unique_ptr<BayView> view(const Catalog& catalog, const TitleBook* titles = nullptr) {
    ViewOptions options;
    options.titles = titles;
    return std::make_unique<BayView>(catalog, bay, store, options);
  }
};

inline const PlanIssue* issue_of(const Plan& plan, IssueCode code) {
  for (const PlanIssue& issue : plan.issues)
    if (issue.code == code) return &issue;
  return nullptr;
}

inline TitleBook arcade_titles() {
  return *TitleBook::parse(R"(
[[title]]
platform = "3ds"
title = "Brine and Bellows"
code = "AB9P"
id = "00040000/0FF99200"
[[title]]
platform = "psp"
title = "Winter Mooring"
code = "ULES99031"
[[title]]
platform = "psp"
title = "Winter Mooring"
code = "ULUS99031"
[[title]]
platform = "wiiu"
title = "Harbour Light"
region = "Europe"
id = "00050000/1FF99300"
)",
                           "titles.toml");
}

}  // namespace bayswap::test
