#include "bay/save_list.hpp"

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"

namespace bayswap {

HeldSave SaveList::begin(const PlatformRule& rule, const Place& place) {
  HeldSave save;
  save.rule = &rule;
  save.facts = facts_of_words(place.words, rule.platform);
  save.path = place.path;
  if (place.info.kind == FileInfo::Kind::file) {
    save.size_bytes = place.info.size_bytes;
    save.modified = place.info.modified;
  }
  return save;
}

// What the book knows, and a label from the title where the save itself has none.
void SaveList::finish(HeldSave save) {
  if (options_.titles != nullptr) options_.titles->complete(save.facts.game);
  // A parameter file has the game's title first; another region's save has the same one under another code.
  if (save.rule->platform == Platform::psp && save.facts.game.title.empty())
    save.facts.game.title = save.label.substr(0, save.label.find(" / "));
  if (save.label.empty()) save.label = save.facts.game.title;
  if (save.label.empty() && save.facts.rom_path) save.label = stem_of(*save.facts.rom_path);
  saves_.push_back(std::move(save));
}

std::string SaveList::key_of(const std::string& path, const FileInfo& info) {
  std::string key = path;
  for (const std::uint64_t part :
       {info.size_bytes, static_cast<std::uint64_t>(info.modified), std::uint64_t{info.modified_ns}}) {
    key += '|';
    key += std::to_string(part);
  }
  return key + '\n';
}

const RomFile* SaveList::rom_of(const HeldSave& save, const std::vector<RomFile>& roms) {
  const std::string stem = save.facts.rom_path ? lower(*save.facts.rom_path) : std::string();
  for (const RomFile& rom : roms) {
    const std::string own = lower(stem_of(rom.path));
    // The second controller pak's file has its number between the stem and the extension.
    const bool numbered = stem.size() == own.size() + 2 && stem.starts_with(own) && stem[own.size()] == '.';
    if (!stem.empty() ? own == stem || numbered
                      : (!save.facts.game.code.empty() && rom.facts.game.code == save.facts.game.code) ||
                            (!save.facts.game.title.empty() &&
                             lower(rom.facts.game.title) == lower(save.facts.game.title)))
      return &rom;
  }
  return nullptr;
}

bool SaveList::recall(const std::string& key, HeldSave& save) {
  const ScanRow* row = options_.memory != nullptr ? options_.memory->rows().find(key) : nullptr;
  if (row == nullptr) return false;
  remember(key, save, *row);
  return true;
}
void SaveList::remember(const std::string& key, HeldSave& save, ScanRow row) {
  save.label = row.label;
  save.health = row.health;
  save.health_note = row.health_note;
  save.thumbnail = row.thumbnail;
  if (!row.code.empty() && save.facts.game.code.empty()) save.facts.game.code = row.code;
  if (options_.memory != nullptr) options_.memory->rows().add(key, std::move(row));
  finish(std::move(save));
}

}  // namespace bayswap
