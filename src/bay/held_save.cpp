#include <fmt/format.h>
#include <bayswap/bay_saves.hpp>

#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

constexpr std::array<std::string_view, 11> kind_words{
    "battery save",      "folder",      "shared folder",  "package",    "package's files", "memory card",
    "memory card entry", "single save", "encrypted save", "save state", "configuration"};
constexpr std::array<std::string_view, 6> health_words{"good",    "empty",   "suspicious",
                                                       "damaged", "deleted", "encrypted"};

}  // namespace

std::string_view to_text(SaveKind kind) {
  return kind_words.at(static_cast<std::size_t>(kind));
}
std::string_view to_text(Health health) {
  return health_words.at(static_cast<std::size_t>(health));
}
std::optional<Health> health_from_text(std::string_view text) {
  const auto* found = std::find(health_words.begin(), health_words.end(), text);
  if (found == health_words.end()) return std::nullopt;
  return static_cast<Health>(found - health_words.begin());
}

std::string game_key(const GameId& game, std::string_view stem) {
  if (game.title_id != 0) return fmt::format("id {:016x}", game.title_id);
  if (!game.code.empty()) return "code " + lower(game.code);
  const std::string name = normalized_title(stem);
  if (!name.empty()) return "name " + name;
  if (!game.title.empty()) return "title " + lower(game.title);
  return "file " + lower(stem);
}

std::string HeldSave::name() const {
  if (!entry.empty() && rule->keeping != Keeping::single) return entry;
  // A slot's number names no save.
  const std::string own(name_of(path));
  const bool is_number = std::ranges::all_of(own, [](char c) { return c >= '0' && c <= '9'; });
  const std::string id = title_id_text(facts.game);
  return kind == SaveKind::folder && is_number && !id.empty() ? id : own;
}

SaveKey HeldSave::key() const {
  SaveKey key;
  key.platform = saves_as(rule->platform);
  key.game = game_key(facts.game, facts.rom_path ? stem_of(*facts.rom_path) : stem_of(path));
  key.account = lower(facts.account);
  key.name = lower(!entry.empty() ? entry : !facts.save_name.empty() ? facts.save_name : facts.suffix);
  key.place = place;
  const NameRule& path_rule = rule->path;
  if (path_rule.uses_slot()) key.slot = facts.slot;
  return key;
}

}  // namespace bayswap
