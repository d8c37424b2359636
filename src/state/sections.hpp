// The sections of a state: the snapshot itself, and what a program keeps beside it.
#pragma once

#include <bayswap/state.hpp>

namespace bayswap {

struct StateItem {
  std::uint32_t number = 0;  // says what it is
  Blob bytes;
};
struct StateSections {
  Blob body;
  std::vector<StateItem> items;  // in their order
  Blob picture;                  // a PNG file, where the state is one; otherwise empty
};
/// Returns the items of a layer's table; their bytes are slices of the layer. Fails with `damaged` if one
/// leads out of it.
[[nodiscard]] Result<std::vector<StateItem>> items_of_table(const StateMap& map, const Blob& layer);
/// Fails with `not_recognised` if the file is no such state, `damaged` if an item leads out of it.
[[nodiscard]] Result<StateSections> read_sections(const StateMap& map, const Blob& file);
/// Returns `base` with these sections in the place of its own. Fails as close_envelope.
[[nodiscard]] Result<Blob> write_sections(const StateMap& map, const Blob& base,
                                          const StateSections& sections);
/// Returns a file of that kind made anew. Fails with `does_not_fit` if the map does not say all of it.
[[nodiscard]] Result<Blob> new_state(const StateMap& map, const StateSections& sections);

}  // namespace bayswap
