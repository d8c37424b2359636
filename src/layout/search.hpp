// Finding one part's bytes in a file of unknown form.
#pragma once

#include <bayswap/layout.hpp>

namespace bayswap {

/// Every place where the whole part is in `file`, and how: slots of one size, at a fixed offset. The
/// plainest way comes first. A part with filler at its endmay be there, shortened to a half, a quarter,
/// ...; one that the file's end cuts off is not found.
[[nodiscard]] std::vector<Slot> find_part(const Part& part, ByteView file);

/// What is beside each byte of a spread slot: 00, FF, the same byte again, or (none) something else.
[[nodiscard]] Interleave spread_of(const Slot& slot, ByteView place);

}  // namespace bayswap
