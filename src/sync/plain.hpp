// Save states and configuration files in step: whole files, which nothing converts.
#pragma once

#include <bayswap/state_slots.hpp>

#include "sync/round.hpp"

namespace bayswap {

[[nodiscard]] inline bool is_plain(SaveKind kind) {
  return kind == SaveKind::state || kind == SaveKind::config;
}
[[nodiscard]] inline bool is_plain(Version::Kind kind) {
  return kind == Version::Kind::state || kind == Version::Kind::config;
}

/// The states and configuration files of a bay as saves of these kinds, as far as its bay file names them;
/// not read yet. A save is known by its path, which nothing else in the bay has.
[[nodiscard]] Result<std::vector<HeldSave>> plain_saves(BayView& view);

/// The save states of a bay, whether or not its bay file has them take part.
[[nodiscard]] Result<std::vector<HeldSave>> state_saves(BayView& view);
/// Nothing if the save takes part, as far as its name, kind and size tell.
[[nodiscard]] std::optional<LeftOut::Why> why_left_out(const BaySync& sync, const HeldSave& save);

struct PlainFile {
  SaveIdentity identity;
  Content content;  // a tree of one file, whose name is the same in every bay
};
/// Reads one. Nothing for a state that no map describes, where the bay file does not say what writes it:
/// which programs could load it is not known.
[[nodiscard]] Result<std::optional<PlainFile>> read_plain(BayView& view, const HeldSave& save,
                                                          const StateMaps* maps);
/// Where such a version goes in a bay; nothing if the bay has no place for it: for a state, where states of
/// the same map are, or its bay file names what writes them, and the game's ROM is; for a configuration file,
/// one of the same form.
[[nodiscard]] Result<std::optional<std::string>> plain_path(BayView& view, const Version& version,
                                                            const StateMaps* maps);

}  // namespace bayswap
