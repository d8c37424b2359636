// ROMs that lie in an archive.
#pragma once

#include <bayswap/fs.hpp>
#include <bayswap/title.hpp>

namespace bayswap {

struct PackedRom {
  Blob bytes;
  RomFacts facts;
};
/// Returns the one ROM in a zip or 7z file; nothing if the name is none of an archive, or it holds no ROM or
/// several. Fails with `io` if it can't be read.
[[nodiscard]] Result<std::optional<PackedRom>> packed_rom(Store& store, const std::string& path);

}  // namespace bayswap
