// Save states, told by their maps, or by the containers that only they have.
#pragma once

#include <bayswap/inspect.hpp>

namespace bayswap {

/// A state that a map describes. False if there is none; `finding` is unchanged then.
[[nodiscard]] bool find_mapped_state(const Blob& bytes, const Hints& hints, Finding& finding);
/// A container of a snapshot's kind that no map describes: chunks from one end to the other, a picture with
/// more in it, memory of the game's size that is set apart. The same.
[[nodiscard]] bool find_other_state(const Catalog& catalog, const Blob& bytes, const Hints& hints,
                                    Finding& finding);

/// Adds whether the state contains a digest of the ROM beside it: its CRC-32, MD5 or SHA-1.
void name_rom_inside(Store& store, const std::string& path, const Blob& bytes, Finding& finding);

/// Adds what the battery saves beside the state say of the one in it.
void compare_with_saves_beside(Store& store, const std::string& path, const Catalog& catalog,
                               const Hints& hints, const Blob& bytes, Finding& finding);

}  // namespace bayswap
