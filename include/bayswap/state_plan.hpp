// Save states moved about: between slots, between bays, between programs.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/state_slots.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Plans to copy a state to another slot of the same game, or to move it there. Fails with `unsafe` if there
/// is one already, unless `replace`.
[[nodiscard]] Result<Plan> plan_slot_change(BayView& view, const HeldState& from, StateSlot to, bool move,
                                            bool replace);

/// Plans to take states of one game to another bay, named as that bay names them. Where the other bay's own
/// states are of another kind of the same family they are converted; where they are of another kind, or their
/// kind is not known, a warning says so. One there that is newer is a refusal, unless accepted. Fails with
/// `not_found` if the other bay has no names for states of the platform, or not the game's ROM.
[[nodiscard]] Result<Plan> plan_state_carry(BayView& from, BayView& to, const std::vector<HeldState>& states,
                                            const StateMaps& maps, const std::set<IssueCode>& accept);

/// A bay as it would be if the game had saved at the moment of a state: to be carried from.
struct StateSource {
  std::unique_ptr<Store> store;  // over the bay's own, which must outlive it
  std::string path;              // of the battery save in it
};
/// Fails with `unsupported` if the bay keeps the platform's saves in another way than as files.
[[nodiscard]] Result<StateSource> source_of_state(BayView& from, const HeldState& state, const Save& battery);

}  // namespace bayswap
BAYSWAP_EXPORT_END
