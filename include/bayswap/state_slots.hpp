// The save states in a bay: their games and slots. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/state.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A slot: a numbered one, or the one that a program fills automatically.
struct StateSlot {
  bool automatic = false;
  int number = 0;
  [[nodiscard]] bool operator==(const StateSlot&) const = default;
  [[nodiscard]] bool operator<(const StateSlot& other) const {
    return std::pair(automatic, number) < std::pair(other.automatic, other.number);
  }
};
/// Returns e.g. "3" or "auto".
[[nodiscard]] std::string to_text(StateSlot slot);
/// Reads what to_text returns. Returns nothing for other texts and numbers over 999.
[[nodiscard]] std::optional<StateSlot> state_slot_from_text(std::string_view text);

/// A state in a bay, described by its name.
struct HeldState {
  std::string path;  // below the bay's root
  const PlatformRule* rule = nullptr;
  bool any_platform = false;       // rules of several platforms fit, and no ROM decides
  const NameRule* name = nullptr;  // one of rule->states
  StateSlot slot;
  std::string game;              // the ROM's stem, or the name's part for it
  const RomFile* rom = nullptr;  // nullptr if none fits
  NameRule::Words words;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970
};
/// Returns every file that a `states` rule of the bay fits, by game and slot. The view must outlive it. Fails
/// as BayView::saves.
[[nodiscard]] Result<std::vector<HeldState>> held_states(BayView& view);
/// Returns the states of one game, by the path of a state, a ROM's name, a title or a code; none if nothing
/// matches. Fails with `bad_usage` if several games match; its remedy has their names.
[[nodiscard]] Result<std::vector<HeldState>> find_states(BayView& view, const std::string& game);

/// Returns the slots of the states, each once and in order, with commas: "auto, 1, 2".
[[nodiscard]] std::string slots_in_words(const std::vector<HeldState>& states);

/// Returns the path of a slot for the game of `like`, by the rule of its name, or for the autosave by the
/// platform's rule for that. Fails with `not_found` if the bay has no name for it, `bad_usage` if the rule
/// can't express the slot.
[[nodiscard]] Result<std::string> path_of_slot(BayView& view, const HeldState& like, StateSlot slot);

}  // namespace bayswap
BAYSWAP_EXPORT_END
