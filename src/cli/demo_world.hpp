// The lending arcade of Pell Harbour: bays, ROMs and saves for trying things on. All of it made up, from
// fixed seeds.
#pragma once

#include <bayswap/fs.hpp>

namespace bayswap::cli {

struct DemoFile {
  std::string path;  // below the world's folder
  Blob bytes;
  std::int64_t modified = 0;  // seconds since 1970, UTC
};

/// Every file of the world, the same on every machine.
[[nodiscard]] std::vector<DemoFile> demo_world();

}  // namespace bayswap::cli
