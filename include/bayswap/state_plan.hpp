// Save states moved about: between slots, between bays, between programs.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/state_slots.hpp>

namespace bayswap {

/// Plans to copy a state to another slot of the same game, or to move it there. Fails with `unsafe` if there
/// is one already, unless `replace`.
[[nodiscard]] Result<Plan> plan_slot_change(BayView& view, const HeldState& from, StateSlot to, bool move,
                                            bool replace);

}  // namespace bayswap
