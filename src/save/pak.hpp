// The controller pak's own file system, as far as a save must know it: is this one, is it empty, and what
// does a freshly formatted one hold. The fields are in docs/formats/n64.md.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap {

inline constexpr std::size_t pak_size_bytes = 32768;

/// How many of the four ID sectors are sound (checksum pair right), 0 to 4. 0 unless `pak` is 32768 bytes.
[[nodiscard]] int sound_pak_ids(ByteView pak);
/// Whether an ID sector whose two sums agree begins at any multiple of 16 bytes.
[[nodiscard]] bool has_pak_id(ByteView file);

/// A pak with a sound ID sector, no note, no page in use and nothing left of an older note.
[[nodiscard]] bool is_unused_pak(ByteView pak);

/// A freshly formatted pak; `number` (1 to 4) goes into its serial number, since a console tells paks apart
/// by it. The same bytes for the same number, always.
[[nodiscard]] Blob fresh_pak(int number);

}  // namespace bayswap
