// Plans to move save states between slots, bays and programs. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/state_slots.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Plans to copy or move a state to another slot of the same game. Fails with `unsafe` if the slot has one,
/// unless `replace` is set.
[[nodiscard]] Result<Plan> plan_slot_change(BayView& view, const HeldState& from, StateSlot to, bool move,
                                            bool replace);

/// Plans to carry states of one game to another bay, under that bay's names. Converts them if the other bay's
/// states are of another kind of the same family; warns if they are of an unrelated or unknown kind. A newer
/// one there is a refusal unless accepted. Fails with `not_found` if the other bay has no names for states of
/// the platform, or no ROM of the game.
[[nodiscard]] Result<Plan> plan_state_carry(BayView& from, BayView& to, const std::vector<HeldState>& states,
                                            const StateMaps& maps, const std::set<IssueCode>& accept);

/// A bay as if the game had saved at the moment of a state, to carry from.
struct StateSource {
  std::unique_ptr<Store> store;  // over the bay's own, which must outlive it
  std::string path;              // of the battery save in it
};
/// Makes such a bay. Fails with `unsupported` if the bay does not store the platform's saves as files.
[[nodiscard]] Result<StateSource> source_of_state(BayView& from, const HeldState& state, const Save& battery);

}  // namespace bayswap
BAYSWAP_EXPORT_END
