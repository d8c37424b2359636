// Files that live emulation cores wrote, with the programs they ran: tests/data/cores.tar.xz.
#pragma once

#include <gtest/gtest.h>

#include "fs/archive_store.hpp"

namespace bayswap::test {

/// Lives as long as the tests do. Paths are those below `fixtures/`.
inline ArchiveStore& core_files() {
  static const std::unique_ptr<ArchiveStore> store = [] {
    const auto bytes = LocalStore().read(std::string(BAYSWAP_SOURCE_DIR) + "/tests/data/cores.tar.xz");
    EXPECT_TRUE(bytes);
    ArchiveLimits limits;
    auto opened = ArchiveStore::open(bytes ? *bytes : Blob(), "cores.tar.xz", limits);
    EXPECT_TRUE(opened) << (opened ? "" : opened.error().message);
    return opened ? *std::move(opened) : nullptr;
  }();
  return *store;
}

/// The n-th component of a path, counted from its end: 0 is the file's name.
inline std::string component(const std::string& path, std::size_t from_end) {
  std::string rest = path;
  for (std::size_t i = 0; i < from_end; ++i) rest = rest.substr(0, rest.rfind('/'));
  return rest.substr(rest.rfind('/') + 1);
}

}  // namespace bayswap::test
