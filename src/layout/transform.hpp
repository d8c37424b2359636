// One part's bytes as its slot has them: byte order, form, spreading.
#pragma once

#include <bayswap/layout.hpp>

namespace bayswap {

/// From the file to the part. `part` has slot.part_size(file.size()) bytes; no overlap.
void read_slot(const Slot& slot, ByteView file, std::span<Byte> part);

/// From the part to the file. `shell` is what the target's own file has there: as long as `file`, or empty.
/// What means nothing there (fillers, upper half-bytes) is kept; without it fillers are as the slot says, and
/// upper half-bytes F, as an open bus reads.
void write_slot(const Slot& slot, ByteView part, std::span<Byte> file, ByteView shell);

}  // namespace bayswap
