#include "cli/sheet_changes.hpp"

#include <fmt/format.h>

#include "base/path.hpp"
#include "base/text.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

std::optional<SavePlace> SheetChanges::open(const Entry& entry, const std::string& name, const Blob& bytes) {
  MemoryStore memory;
  if (!memory.create(name, bytes.view())) return std::nullopt;
  Hints hints;
  hints.game = entry.game;
  if (entry.game) hints.platform = entry.game->platform;
  hints.extension = lower(extension_of(name));
  const std::string path = entry.place.empty() ? name : name + ": " + entry.place;
  auto place = open_save_place(catalog_, *maps_, memory, path, hints);
  return place ? std::optional(*std::move(place)) : std::nullopt;
}

void SheetChanges::load() {
  if (shelf_) return;
  shelf_.emplace();
  maps_.emplace();
  if (const auto home = home_of(globals_)) {
    (void)load_sheets(*home, *shelf_);
    (void)load_state_maps(*home, *maps_);
  }
}

std::vector<SheetDifference> SheetChanges::between(const std::optional<GameId>& game, const Content& before,
                                                   const Content& after) {
  load();
  const auto first = sheet_files_of(before);
  const auto second = sheet_files_of(after);
  const Sheet* sheet = shelf_->best(game, second);
  if (sheet == nullptr || first.empty()) return {};
  return differences(SheetSave(*sheet, first), SheetSave(*sheet, second));
}

std::vector<SheetDifference> SheetChanges::of(Logbook& book, const Entry& entry, const LoggedChange& change) {
  constexpr std::uint64_t max_bytes = std::uint64_t{8} << 20;
  if (!change.before || !change.after || change.before_bytes > max_bytes || change.after_bytes > max_bytes)
    return {};
  load();
  const auto before = book.bytes(*change.before);
  const auto after = book.bytes(*change.after);
  if (!before || !after) return {};
  const std::string name(name_of(change.path));
  const auto first = open(entry, name, *before);
  const auto second = open(entry, name, *after);
  if (!first || !second) return {};
  const Sheet* sheet = shelf_->best(second->game, second->files);
  if (sheet == nullptr) return {};
  return differences(SheetSave(*sheet, first->files), SheetSave(*sheet, second->files));
}

std::string in_words(const std::vector<SheetDifference>& differences, std::size_t most) {
  std::vector<std::string> words;
  for (const SheetDifference& one : differences) {
    if (words.size() == most) break;
    words.push_back(fmt::format("{} {} -> {}", one.path, one.before.empty() ? "-" : one.before,
                                one.after.empty() ? "-" : one.after));
  }
  if (differences.size() > words.size())
    words.push_back(fmt::format("and {} more", differences.size() - words.size()));
  return joined(words, "; ");
}

}  // namespace bayswap::cli
