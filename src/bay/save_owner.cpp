#include "bay/save_owner.hpp"

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/save_list.hpp"

namespace bayswap {
namespace {

bool ends_with_lower(std::string_view text, std::string_view end) {
  return text.size() >= end.size() && lower(text.substr(text.size() - end.size())) == lower(end);
}

std::string beside_key(const std::string& path, const std::string& low_name) {
  return lower(folder_of(path)) + "/" + low_name;
}

}  // namespace

void index_roms(FileRule& rule) {
  for (const RomFile& rom : *rule.roms) {
    const std::string stem = lower(stem_of(rom.path));
    const std::string name = lower(name_of(rom.path));
    for (const std::string& key : {stem, beside_key(rom.path, stem)}) rule.by_stem.emplace(key, &rom);
    for (const std::string& key : {name, beside_key(rom.path, name)}) rule.by_name.emplace(key, &rom);
    rule.by_title.emplace(normalized_title(stem_of(rom.path)), &rom);
  }
}

bool fits(const FileRule& rule, const Layout& layout, const std::string& path) {
  if (!rule.by_extension) return true;
  if (rule.rule->extensions.empty() || rule.is_set) return ends_with_lower(path, layout.extension);
  return std::any_of(rule.rule->extensions.begin(), rule.rule->extensions.end(),
                     [&](const std::string& extension) { return ends_with_lower(path, extension); });
}

RomMatch rom_for(BayView& view, const FileRule& rule, const NameRule::Words& words, const std::string& path) {
  if (rule.roms == nullptr) return {};
  if (const PairBook* book = view.options().pairs)
    for (const RomPair& pair : book->pairs())
      if (pair.bay == view.bay().name && pair.rom_bay == pair.bay && pair.save == path)
        if (const RomFile* rom = view.rom(*rule.rule, pair.rom)) return {rom, false};
  const auto by_title = [&](std::string_view text) -> RomMatch {
    const std::string title = normalized_title(text);
    if (title.empty() || rule.by_title.count(title) != 1) return {};
    return {rule.by_title.find(title)->second, false};
  };
  // Of a rule that looks beside the ROMs, that in the file's own folder; any other has the name by chance.
  const bool is_beside = rule.rule->path.text().starts_with("{rom.folder}/");
  const auto by_own_name = [&](const auto& index, const std::string& name) -> RomMatch {
    if (is_beside)
      if (const auto rom = index.find(beside_key(path, name)); rom != index.end()) return {rom->second, true};
    const auto rom = index.find(name);
    return rom != index.end() ? RomMatch{rom->second, !is_beside} : RomMatch{};
  };
  if (const auto named = words.find("rom.name"); named != words.end()) {
    if (const RomMatch rom = by_own_name(rule.by_name, lower(named->second)); rom.rom != nullptr) return rom;
    return by_title(stem_of(named->second));
  }
  const auto stem = words.find("rom.stem");
  if (stem == words.end()) {
    HeldSave save;
    save.facts = facts_of_words(words, rule.rule->platform);
    return {SaveList::rom_of(save, *rule.roms), true};
  }
  std::string name = lower(stem->second);
  // The second controller pak's file has its number between the stem and the extension.
  for (int numbered = 0; numbered < 2; ++numbered) {
    if (const RomMatch rom = by_own_name(rule.by_stem, name); rom.rom != nullptr) return rom;
    if (numbered == 1 || name.size() < 3 || name[name.size() - 2] != '.') break;
    name.resize(name.size() - 2);
  }
  return by_title(stem->second);
}

const std::pair<const FileRule*, RomMatch>& likeliest(
    BayView& view, const std::vector<std::pair<const FileRule*, RomMatch>>& named, const std::string& path) {
  const auto bytes = view.store().read(path);
  if (!bytes) return named.front();
  const auto points = [&](const FileRule& rule, const RomFile& rom) {
    const std::vector<ChipFact>& chips = view.facts_of(rom).chips;
    int best = 0;
    for (const Layout* layout : rule.layouts) {
      if (!fits(rule, *layout, path)) continue;
      const auto opened = open_save(*layout, *bytes, chips);
      if (!opened) continue;
      const bool known = std::any_of(chips.begin(), chips.end(), [&](const ChipFact& chip) {
        const Part* part = opened->save.find({chip.kind, 0});
        return part != nullptr && part->bytes.size() == chip.size_bytes;
      });
      best = std::max(best, (known ? 4 : 1) + (opened->fitted.fit == Fit::exact ? 1 : 0));
    }
    return best;
  };
  const auto* likely = &named.front();
  int most = -1;
  for (const auto& one : named) {
    const int own = points(*one.first, *one.second.rom);
    if (own > most) likely = &one;
    most = std::max(most, own);
  }
  return *likely;
}

}  // namespace bayswap
