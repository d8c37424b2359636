// Saves that are files of layouts: whose they are, and which layout opens them.
#include <algorithm>
#include <set>
#include <unordered_map>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/save_list.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

// Rules of several platforms often have the same path: one walk does for all of them.
struct FileRule {
  const PlatformRule* rule = nullptr;
  std::vector<const Layout*> layouts;
  std::vector<RomFile> roms;
  std::unordered_map<std::string, const RomFile*> by_stem;  // lower case
  bool by_extension = false;
};

class FileScanner {
 public:
  FileScanner(const Catalog& catalog, const Bay& bay, Store& store, const ScanOptions& wish, SaveList& list)
      : catalog_(catalog), bay_(bay), store_(store), wish_(wish), list_(list) {}

  Result<void> run() {
    std::vector<std::string> paths;
    for (const PlatformRule& rule : bay_.rules)
      if (rule.keeping == Keeping::file && list_.is_wanted(rule) &&
          std::ranges::find(paths, rule.path.text()) == paths.end())
        paths.push_back(rule.path.text());
    for (const std::string& path : paths) {
      std::vector<FileRule> rules;
      for (const PlatformRule& rule : bay_.rules)
        if (rule.keeping == Keeping::file && list_.is_wanted(rule) && rule.path.text() == path)
          rules.push_back({&rule, layouts_of(rule), {}, {}, rule.path.uses("ext")});
      BAYSWAP_TRY(const auto places, find_places(store_, rules.front().rule->path,
                                                 rules.front().rule->platform, wish_.on_error));
      if (places.empty()) continue;
      find_roms(rules);
      std::set<std::string> rom_paths;
      for (const FileRule& rule : rules)
        for (const RomFile& rom : rule.roms) rom_paths.insert(rom.path);
      for (const Place& place : places)
        if (place.info.kind == FileInfo::Kind::file && !rom_paths.contains(place.path)) file(rules, place);
    }
    return {};
  }

 private:
  void find_roms(std::vector<FileRule>& rules) {
    for (FileRule& rule : rules) {
      if (rule.rule->roms.empty()) continue;
      if (auto roms = list_roms(store_, *rule.rule)) rule.roms = *std::move(roms);
      for (const RomFile& rom : rule.roms) rule.by_stem.emplace(lower(stem_of(rom.path)), &rom);
    }
  }

  static bool fits(const FileRule& rule, const Layout& layout, const std::string& path) {
    return !rule.by_extension ||
           (path.size() >= layout.extension.size() &&
            lower(std::string_view(path).substr(path.size() - layout.extension.size())) ==
                lower(layout.extension));
  }

  const RomFile* rom_for(const FileRule& rule, const NameRule::Words& words) const {
    if (rule.roms.empty()) return nullptr;
    if (const auto stem = words.find("rom.stem"); stem != words.end()) {
      std::string name = lower(stem->second);
      auto rom = rule.by_stem.find(name);
      // The second controller pak's file has its number between the stem and the extension.
      if (rom == rule.by_stem.end() && name.size() > 2 && name[name.size() - 2] == '.')
        rom = rule.by_stem.find(name.substr(0, name.size() - 2));
      return rom == rule.by_stem.end() ? nullptr : rom->second;
    }
    BaySave save;
    save.facts = facts_of_words(words, rule.rule->platform);
    return SaveList::rom_of(save, rule.roms);
  }

  // The file is whose ROM it is named after; without a ROM, whose layouts can open it, the first of them.
  void file(const std::vector<FileRule>& rules, const Place& place) {
    std::vector<const FileRule*> fitting;
    const RomFile* rom = nullptr;
    for (const FileRule& rule : rules) {
      if (std::ranges::none_of(rule.layouts,
                               [&](const Layout* layout) { return fits(rule, *layout, place.path); }))
        continue;
      if (const RomFile* own = rom_for(rule, place.words)) {
        rom = own;
        fitting.assign(1, &rule);
        break;
      }
      fitting.push_back(&rule);
    }
    if (fitting.empty()) return;
    const std::string key = SaveList::key_of(place.path, place.info) +
                            (rom != nullptr ? std::string(tag(fitting.front()->rule->platform)) : "");
    const ScanMemory::Row* known = wish_.memory != nullptr ? wish_.memory->find(key) : nullptr;
    ScanMemory::Row row;
    if (known != nullptr) {
      row = *known;
    } else if (!wish_.names_only) {
      row = opened(fitting, place, rom);
    }
    const FileRule* owner = fitting.front();
    for (const FileRule* rule : fitting)
      if (tag(rule->rule->platform) == row.platform) owner = rule;
    BaySave save = SaveList::begin(*owner->rule, place);
    save.kind = "battery save";
    if (rom != nullptr) {
      save.facts.game = rom->facts.game;
      save.facts.rom_path = rom->path;
    }
    list_.remember(key, save, std::move(row));
  }

  ScanMemory::Row opened(const std::vector<const FileRule*>& fitting, const Place& place,
                         const RomFile* rom) {
    ScanMemory::Row row;
    row.health = "damaged";
    row.platform = tag(fitting.front()->rule->platform);
    const auto bytes = store_.read(place.path);
    if (!bytes) row.health_note = bytes.error().message;
    for (const FileRule* rule : fitting)
      for (const Layout* layout : rule->layouts) {
        if (!bytes || !fits(*rule, *layout, place.path)) continue;
        const auto opened =
            open_save(*layout, *bytes, rom != nullptr ? rom->facts.chips : std::vector<ChipFact>{});
        if (!opened) {
          if (row.health_note.empty()) row.health_note = opened.error().message;
          continue;
        }
        row.platform = tag(rule->rule->platform);
        row.health = opened->save.is_blank() ? "empty" : "good";
        row.health_note = opened->fitted.in_words(*layout);
        for (const Part& part : opened->save.parts)
          for (const DumpDefect& ailment : is_blank(part) ? std::vector<DumpDefect>{} : defects(part)) {
            row.health = "suspicious";
            row.health_note = ailment.text;
          }
        return row;
      }
    return row;
  }

  std::vector<const Layout*> layouts_of(const PlatformRule& rule) {
    std::vector<const Layout*> layouts;
    std::vector<std::string> ids{rule.layout};
    ids.insert(ids.end(), rule.other_layouts.begin(), rule.other_layouts.end());
    for (const std::string& id : ids) {
      const auto layout = catalog_.find(id);
      if (!layout) continue;
      if (!(*layout)->is_set()) layouts.push_back(*layout);
      for (const std::string& member : (*layout)->members)
        if (const auto found = catalog_.find(member)) layouts.push_back(*found);
    }
    return layouts;
  }

  const Catalog& catalog_;
  const Bay& bay_;
  Store& store_;
  const ScanOptions& wish_;
  SaveList& list_;
};

}  // namespace

Result<void> scan_files(const Catalog& catalog, const Bay& bay, Store& store, const ScanOptions& wish,
                        SaveList& list) {
  return FileScanner(catalog, bay, store, wish, list).run();
}

}  // namespace bayswap
