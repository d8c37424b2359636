#include "sync/plain.hpp"

#include <fmt/format.h>
#include <fnmatch.h>
#include <bayswap/state.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_plain_depth = 16;
constexpr std::size_t max_configs = 10000;

bool wants(const BaySync& sync, std::string_view kind) {
  return std::ranges::find(sync.kinds, kind) != sync.kinds.end();
}

std::string place_of_map(std::string_view map) {
  return fmt::format("states of {}", map);
}
std::string place_of_form(const BaySync& sync) {
  return fmt::format("config of {}", sync.form);
}

bool is_config(const BaySync& sync, const std::string& path) {
  return std::ranges::any_of(sync.config, [&](const std::string& pattern) {
    return fnmatch(pattern.c_str(), path.c_str(), FNM_PATHNAME) == 0;
  });
}

// Only folders that a pattern leads into: configuration lies beside large things.
bool leads_into(const BaySync& sync, const std::string& folder) {
  const auto depth = static_cast<std::size_t>(std::ranges::count(folder, '/')) + 1;
  return std::ranges::any_of(sync.config, [&](const std::string& pattern) {
    std::size_t end = 0;
    for (std::size_t i = 0; i < depth && end != std::string::npos; ++i)
      end = pattern.find('/', end == 0 && i == 0 ? 0 : end + 1);
    return end != std::string::npos &&
           fnmatch(pattern.substr(0, end).c_str(), folder.c_str(), FNM_PATHNAME) == 0;
  });
}

Result<void> add_configs(BayView& view, const std::string& folder, std::size_t depth,
                         std::vector<HeldSave>& all) {
  const BaySync& sync = view.bay().sync;
  BAYSWAP_TRY(const auto entries, view.store().list(folder));
  for (const FileInfo& info : entries) {
    const std::string path = folder == "." ? info.name : join_path(folder, info.name);
    if (info.kind == FileInfo::Kind::folder && depth < max_plain_depth && leads_into(sync, path))
      BAYSWAP_CHECK(add_configs(view, path, depth + 1, all));
    if (info.kind != FileInfo::Kind::file || is_own_temporary(info.name) || !is_config(sync, path)) continue;
    if (all.size() >= max_configs)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("over {} files of {} are configuration", max_configs, view.bay().name),
                  "name fewer in its bay file");
    HeldSave save;
    save.rule = &view.bay().rules.front();
    save.kind = SaveKind::config;
    save.path = save.label = path;
    save.size_bytes = info.size_bytes;
    save.modified = info.modified;
    all.push_back(std::move(save));
  }
  return {};
}

// The id of the map that describes it, else what its bay file says of its states; may be empty.
std::string map_of(const Bay& bay, const HeldState& state, const Blob& bytes, const StateMaps* maps) {
  static const StateMaps built_in;
  std::string map =
      look_at_state(maps != nullptr ? *maps : built_in, StateFile(bytes), state.rule->platform, {}).map;
  return map.empty() ? bay.sync.states_of : map;
}

std::string name_of_state(StateSlot slot) {
  return slot.automatic ? "autosave state" : fmt::format("state {}", slot.number);
}

SaveIdentity identity_of(BayView& view, const HeldState& state, const std::string& map) {
  SaveIdentity identity;
  identity.has_rom = state.rom != nullptr;
  identity.facts.game.platform = state.rule->platform;
  identity.facts.rom_path = state.game + ".rom";
  if (state.rom != nullptr) {
    identity.facts.game = view.facts_of(*state.rom).game;
    identity.facts.rom_path = std::string(name_of(state.rom->path));
  }
  identity.name = name_of_state(state.slot);
  identity.place = place_of_map(map);
  return identity;
}

}  // namespace

Result<std::vector<HeldSave>> plain_saves(BayView& view) {
  std::vector<HeldSave> all;
  const BaySync& sync = view.bay().sync;
  if (view.bay().rules.empty()) return all;
  if (wants(sync, "config") && !sync.config.empty()) BAYSWAP_CHECK(add_configs(view, ".", 0, all));
  if (!wants(sync, "states")) return all;
  BAYSWAP_TRY(auto states, state_saves(view));
  for (HeldSave& save : states) all.push_back(std::move(save));
  return all;
}

Result<std::vector<HeldSave>> state_saves(BayView& view) {
  std::vector<HeldSave> all;
  if (view.bay().rules.empty()) return all;
  BAYSWAP_TRY(const auto states, held_states(view));
  for (const HeldState& state : states) {
    HeldSave save;
    save.rule = state.rule;
    save.kind = SaveKind::state;
    save.path = state.path;
    save.label = fmt::format("{}, {}", state.game, name_of_state(state.slot));
    save.size_bytes = state.size_bytes;
    save.modified = state.modified;
    save.facts.game.platform = state.rule->platform;
    if (state.rom != nullptr) save.facts.game = state.rom->facts.game;
    all.push_back(std::move(save));
  }
  return all;
}

Result<std::optional<PlainFile>> read_plain(BayView& view, const HeldSave& save, const StateMaps* maps) {
  BAYSWAP_TRY(const Blob bytes, view.store().read(save.path, max_state_bytes));
  PlainFile file;
  file.content.kind = Content::Kind::tree;
  file.content.game = save.facts.game;
  if (save.kind == SaveKind::config) {
    file.identity.facts.game.platform = save.rule->platform;
    file.identity.facts.rom_path = std::string(name_of(save.path));
    file.identity.name = save.path;
    file.identity.place = place_of_form(view.bay().sync);
    file.content.tree.push_back({"config", bytes, save.modified.value_or(0)});
    return file;
  }
  BAYSWAP_TRY(const auto states, held_states(view));
  const auto state = std::ranges::find(states, save.path, &HeldState::path);
  if (state == states.end()) return std::optional<PlainFile>{};
  const std::string map = bytes.empty() ? std::string() : map_of(view.bay(), *state, bytes, maps);
  if (map.empty() && !bytes.empty()) return std::optional<PlainFile>{};
  file.identity = identity_of(view, *state, map);
  file.content.game = file.identity.facts.game;
  file.content.tree.push_back({"state", bytes, save.modified.value_or(0)});
  return file;
}

Result<std::optional<std::string>> plain_path(BayView& view, const Version& version, const StateMaps* maps) {
  const BaySync& sync = view.bay().sync;
  const std::optional<std::string> none;
  if (version.kind == Version::Kind::config) {
    const std::string& path = version.save.name;
    const bool is_ours = wants(sync, "config") && version.save.place == place_of_form(sync) &&
                         is_safe_relative(path) && is_config(sync, path);
    return is_ours ? std::optional(path) : none;
  }
  const PlatformRule* rule = view.bay().rule(version.save.facts.game.platform);
  if (!wants(sync, "states") || rule == nullptr || rule->states.empty() || rule->roms.empty()) return none;
  // A state of the same program, to go beside.
  BAYSWAP_TRY(const auto states, held_states(view));
  constexpr std::size_t looked_at = 32;
  std::size_t looked = 0;
  const HeldState* like = nullptr;
  for (const HeldState& state : states) {
    if (like != nullptr || saves_as(state.rule->platform) != saves_as(rule->platform) || ++looked > looked_at)
      continue;
    const auto bytes = view.store().read(state.path, max_state_bytes);
    if (bytes && !bytes->empty() &&
        place_of_map(map_of(view.bay(), state, *bytes, maps)) == version.save.place)
      like = &state;
  }
  // A bay without such a state can say what its programs write.
  HeldState by_rule;
  if (like == nullptr && !sync.states_of.empty() && place_of_map(sync.states_of) == version.save.place) {
    by_rule.name = &rule->states.front();
    like = &by_rule;
  }
  if (like == nullptr) return none;
  // The very game: a state holds addresses of its ROM.
  BAYSWAP_TRY(const auto roms, view.roms(*rule));
  for (const RomFile& rom : *roms) {
    SaveIdentity here = version.save;
    here.has_rom = true;
    here.facts.game = view.facts_of(rom).game;
    here.facts.rom_path = std::string(name_of(rom.path));
    if (!is_same_save(here, version.save)) continue;
    HeldState there = *like;
    there.rule = rule;
    there.rom = &rom;
    there.game = stem_of(rom.path);
    StateSlot slot{true, 0};
    constexpr std::string_view numbered = "state ";
    if (version.save.name.starts_with(numbered)) {
      const auto said = state_slot_from_text(version.save.name.substr(numbered.size()));
      if (!said) return none;
      slot = *said;
    }
    auto path = path_of_slot(view, there, slot);
    if (!path) return none;
    return *std::move(path);
  }
  return none;
}

}  // namespace bayswap
