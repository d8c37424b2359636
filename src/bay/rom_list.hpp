// The ROMs in a folder, and the digests in the names of their saves.
#pragma once

#include <bayswap/bay.hpp>

namespace bayswap {

/// Returns the ROMs of all platforms, told by their headers; folders are searched three deep. Fails with
/// `not_found` if the folder does not exist, `does_not_fit` over 50,000 files.
[[nodiscard]] Result<std::vector<RomFile>> list_all_roms(Store& store, const std::string& folder);

/// Returns the MD5 in the name of the ROM's save: that of a save in place, otherwise of the ROM itself; empty
/// if the ROM can't be read.
[[nodiscard]] std::string rom_md5_for(Store& store, const PlatformRule& rule, const RomFile& rom);

}  // namespace bayswap
