// The ways in which the chips of a game, or of its platform, can be in memory.
#pragma once

#include <bayswap/state.hpp>

namespace bayswap {

/// One size of one chip, in one storage order.
struct Shape {
  Slot slot;            // with one file size
  bool of_rom = false;  // the game is known to have a chip of this size
  [[nodiscard]] std::size_t stored() const { return slot.file_sizes.front(); }
  [[nodiscard]] std::size_t part() const { return slot.part_size(stored()); }
};

/// Memory with a battery that a snapshot holds as a whole: no clocks, no controller paks.
[[nodiscard]] bool is_battery_memory(PartKind kind);
[[nodiscard]] bool same_shape(const Slot& a, const Slot& b);
/// All that the platform's layouts have, cut down to what is known of the game.
[[nodiscard]] std::vector<Shape> shapes_of(const Catalog& catalog, const BatterySearch& what);

}  // namespace bayswap
