// The save states in a bay: which game's, which slot's, what is in them.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/state.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A slot: its number, or the one that a program fills by itself.
struct StateSlot {
  bool automatic = false;
  int number = 0;
  [[nodiscard]] bool operator==(const StateSlot&) const = default;
  [[nodiscard]] bool operator<(const StateSlot& other) const {
    return std::pair(automatic, number) < std::pair(other.automatic, other.number);
  }
};
/// "3" or "auto".
[[nodiscard]] std::string to_text(StateSlot slot);
/// From these words; nothing for other ones and for numbers over 999.
[[nodiscard]] std::optional<StateSlot> state_slot_from_text(std::string_view text);

/// A state in a bay, as its name tells.
struct HeldState {
  std::string path;  // below the bay's root
  const PlatformRule* rule = nullptr;
  bool any_platform = false;       // rules of several platforms fit, and no ROM tells which
  const NameRule* name = nullptr;  // one of rule->states
  StateSlot slot;
  std::string game;              // the ROM's stem, or what the name has in its place
  const RomFile* rom = nullptr;  // nullptr if none fits
  NameRule::Words words;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970
};
/// Returns every file that a `states` rule of the bay fits, by game and slot. The view must outlive it. Fails
/// as BayView::saves.
[[nodiscard]] Result<std::vector<HeldState>> held_states(BayView& view);
/// Returns those of one game, by the path of a state, a ROM's name, a title or a code. Fails with `bad_usage`
/// if several games are meant; its remedy has their names. Empty if there is none.
[[nodiscard]] Result<std::vector<HeldState>> find_states(BayView& view, const std::string& game);

/// The path of a state's slot in the bay, by the rule that `like` has its name of: or, for the autosave, by
/// that of the same platform's autosave. Fails with `not_found` if the bay has no name for it, `bad_usage` if
/// the rule has no such slot.
[[nodiscard]] Result<std::string> path_of_slot(BayView& view, const HeldState& like, StateSlot slot);

}  // namespace bayswap
BAYSWAP_EXPORT_END
