// Which saves are meant, and how to say so.
#pragma once

#include <bayswap/bay_view.hpp>

namespace bayswap {

/// Returns what to type to mean this save and no other: its path, with a card's entry "path: entry".
[[nodiscard]] std::string designator(const HeldSave& save);
[[nodiscard]] std::string in_words(const HeldSave& save);
/// Whether a further place holds more of the same save.
[[nodiscard]] bool is_extra_place_of(const HeldSave& part, const HeldSave& whole);
/// Returns the error for words that name nothing, with the nearest name.
[[nodiscard]] Error no_such_save(BayView& view, const std::string& what);

}  // namespace bayswap
