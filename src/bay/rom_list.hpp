// The ROMs in a folder, and the digests in the names of their saves.
#pragma once

#include <bayswap/bay.hpp>

namespace bayswap {

/// Returns the ROMs of all platforms, told by their headers; folders are searched three deep. Fails with
/// `not_found` if the folder does not exist, `does_not_fit` over 50,000 files.
[[nodiscard]] Result<std::vector<RomFile>> list_all_roms(Store& store, const std::string& folder);

/// Sets the facts' digests of the ROM that the name uses, {rom.md5} and {rom.crc}: those that a file in place
/// has after the same stem, otherwise the ROM's own; empty if the ROM can't be read.
void set_rom_digests(NameFacts& facts, Store& store, const NameRule& name, Platform platform,
                     const RomFile& rom);

/// Returns the words of the name's rule that its digits after the ROM's stem are: "rom.md5" if they are 32,
/// "rom.crc" if they are eight and the ROM's. Empty if they are none.
[[nodiscard]] std::string digest_word(Store& store, const RomFile& rom, std::string_view digits);

}  // namespace bayswap
