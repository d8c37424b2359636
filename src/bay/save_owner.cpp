#include "bay/save_owner.hpp"

#include <algorithm>
#include <tuple>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/places.hpp"
#include "bay/save_list.hpp"

namespace bayswap {
namespace {

bool ends_with_lower(std::string_view text, std::string_view end) {
  return text.size() >= end.size() && lower(text.substr(text.size() - end.size())) == lower(end);
}

// In the file's own folder, or with more of the way to it in common; of equals the first by path.
bool is_nearer(const std::string& path, const RomFile& rom, const RomFile& other) {
  const auto distance = [&](const RomFile& one) {
    return std::tuple(lower(folder_of(one.path)) != lower(folder_of(path)),
                      -static_cast<std::ptrdiff_t>(shared_folders(path, one.path)),
                      std::string_view(one.path));
  };
  return distance(rom) < distance(other);
}

}  // namespace

void index_roms(FileRule& rule) {
  for (const RomFile& rom : *rule.roms) {
    rule.by_stem.emplace(lower(stem_of(rom.path)), &rom);
    rule.by_name.emplace(lower(name_of(rom.path)), &rom);
    rule.by_title.emplace(normalized_title(stem_of(rom.path)), &rom);
    rule.rom_folders.insert(lower(folder_of(rom.path)));
  }
}

bool fits(const FileRule& rule, const Layout& layout, const std::string& path) {
  if (!rule.by_extension) return true;
  if (rule.rule->extensions.empty() || (rule.is_set && !takes_extension(layout)))
    return ends_with_lower(path, layout.extension);
  return std::any_of(rule.rule->extensions.begin(), rule.rule->extensions.end(),
                     [&](const std::string& extension) { return ends_with_lower(path, extension); });
}

RomMatch rom_for(BayView& view, const FileRule& rule, const NameRule::Words& words, const std::string& path) {
  if (rule.roms == nullptr) return {};
  if (const PairBook* book = view.options().pairs)
    for (const RomPair& pair : book->pairs())
      if (pair.save == path && pair.rom_bay == pair.bay && is_pair_of(pair.bay, view.bay()))
        if (const RomFile* rom = view.rom(*rule.rule, pair.rom)) return {rom, false};
  const auto by_title = [&](std::string_view text) -> RomMatch {
    const std::string title = normalized_title(text);
    if (title.empty() || rule.by_title.count(title) != 1) return {};
    return {rule.by_title.find(title)->second, false};
  };
  // Of a rule that looks beside the ROMs, that in the file's own folder; any other has the name by chance.
  const bool is_beside = rule.rule->path.text().starts_with("{rom.folder}/");
  const auto by_own_name = [&](const auto& index, const std::string& name) -> RomMatch {
    const RomFile* nearest = nullptr;
    const auto [first, last] = index.equal_range(name);
    for (auto one = first; one != last; ++one)
      if (nearest == nullptr || is_nearer(path, *one->second, *nearest)) nearest = one->second;
    return {nearest,
            nearest != nullptr && (!is_beside || lower(folder_of(nearest->path)) == lower(folder_of(path)))};
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

std::unordered_set<std::string> stems_of_others(BayView& view, Platform platform, const NameRule& path) {
  std::unordered_set<std::string> stems;
  const auto folder = [](const NameRule& rule) { return rule.text().substr(0, rule.text().rfind('/') + 1); };
  for (const PlatformRule& rule : view.bay().rules) {
    if (rule.keeping != Keeping::file || rule.roms.empty() || !rule.path.uses_rom() ||
        saves_as(rule.platform) == saves_as(platform) || folder(rule.path) != folder(path))
      continue;
    if (const auto roms = view.roms(rule))
      for (const RomFile& rom : **roms) stems.insert(lower(stem_of(rom.path)));
  }
  return stems;
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
