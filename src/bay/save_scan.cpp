// Every save of a bay: found along its path rules, opened as its rules keep it.
#include <bayswap/bay_saves.hpp>
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <unordered_map>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

constexpr int deepest = 16;

class BayScanner {
 public:
  BayScanner(const Catalog& catalog, const Bay& bay, Store& store, const ScanWish& wish)
      : catalog_(catalog), bay_(bay), store_(store), wish_(wish) {}

  Result<std::vector<BaySave>> run() {
    for (const PlatformRule& rule : bay_.rules) {
      if (!is_wanted(rule)) continue;
      const std::size_t before = saves_.size();
      if (rule.keeping == Keeping::file) continue;
      std::set<std::string> taken;  // by the rule's further places
      for (const auto& [what, path] : rule.also) {
        BAYSWAP_TRY(const auto places, find_places(store_, path, rule.platform, wish_.on_error));
        for (const Place& place : places)
          if (place.info.kind == FileInfo::Kind::folder && taken.insert(place.path).second)
            folder(rule, place, what);
      }
      BAYSWAP_TRY(const auto places, find_places(store_, rule.path, rule.platform, wish_.on_error));
      const std::vector<RomFile> roms = roms_of(rule, places);
      for (const Place& place : places)
        if (!taken.contains(place.path)) one(rule, place, roms);
      join_places(before);
      std::stable_sort(saves_.begin() + static_cast<std::ptrdiff_t>(before), saves_.end(),
                       [](const BaySave& a, const BaySave& b) { return a.path < b.path; });
    }
    BAYSWAP_CHECK(files());
    return std::move(saves_);
  }

 private:
  std::vector<RomFile> roms_of(const PlatformRule& rule, const std::vector<Place>& places) {
    if (rule.roms.empty() || places.empty()) return {};
    auto roms = list_roms(store_, rule);
    return roms ? *std::move(roms) : std::vector<RomFile>{};
  }

  // A further place whose path has less than the whole id belongs to the save that it is beside.
  void join_places(std::size_t first) {
    for (std::size_t i = first; i < saves_.size(); ++i) {
      BaySave& part = saves_[i];
      if (part.place.empty() || part.facts.game.title_id != 0) continue;
      for (std::size_t k = first; k < saves_.size(); ++k) {
        const BaySave& whole = saves_[k];
        const std::uint64_t id = whole.facts.game.title_id;
        const bool same_folder = !part.facts.folder.empty() && part.facts.folder == whole.facts.folder;
        const bool same_id = part.facts.unique != 0 && id != 0 && (id & 0xFFFFFFFF) >> 8 == part.facts.unique;
        if (!whole.place.empty() || (!same_folder && !same_id)) continue;
        part.facts.game = whole.facts.game;
        if (part.label.empty()) part.label = whole.label;
        break;
      }
    }
  }

  BaySave begin(const PlatformRule& rule, const Place& place) {
    BaySave save;
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
  void finish(BaySave save) {
    if (wish_.titles != nullptr) wish_.titles->complete(save.facts.game);
    // A parameter file has the game's title first; another region's save has the same one under another code.
    if (save.rule->platform == Platform::psp && save.facts.game.title.empty())
      save.facts.game.title = save.label.substr(0, save.label.find(" / "));
    if (save.label.empty()) save.label = save.facts.game.title;
    if (save.label.empty() && save.facts.rom_path) save.label = stem_of(*save.facts.rom_path);
    saves_.push_back(std::move(save));
  }

  void one(const PlatformRule& rule, const Place& place, const std::vector<RomFile>& roms) {
    const bool is_folder = place.info.kind == FileInfo::Kind::folder;
    switch (rule.keeping) {
      case Keeping::folder:
        if (is_folder) folder(rule, place, "");
        return;
      case Keeping::package:
        is_folder ? folder(rule, place, "") : package(rule, place);
        return;
      default:
        break;
    }
    if (is_folder) return;
    if (rule.keeping == Keeping::card) card(rule, place, roms);
    if (rule.keeping == Keeping::single) single(rule, place);
    if (rule.keeping == Keeping::opaque) {
      BaySave save = begin(rule, place);
      save.kind = "sealed save";
      save.health = place.info.size_bytes == 0 ? "empty" : "sealed";
      save.health_note = "only the console it belongs to can read it";
      finish(std::move(save));
    }
  }

  // ---- Folders ----------------------------------------------------------------------------------

  struct Listed {
    std::size_t files = 0;
    std::uint64_t bytes = 0;
    std::int64_t newest = 0;
    std::string key;
  };
  void list(const std::string& folder, int depth, Listed& listed) {
    const auto entries = depth > deepest ? fail(ErrorCode::unsupported, "") : store_.list(folder);
    if (!entries) return;
    for (const FileInfo& entry : *entries) {
      if (entry.link || is_own_temporary(entry.name) || is_clutter(entry.name)) continue;
      if (entry.kind == FileInfo::Kind::folder) list(join_path(folder, entry.name), depth + 1, listed);
      if (entry.kind != FileInfo::Kind::file) continue;
      ++listed.files;
      listed.bytes += entry.size_bytes;
      listed.newest = std::max(listed.newest, entry.modified);
      if (wish_.memory != nullptr) listed.key += key_of(entry.name, entry);
    }
  }
  static std::string key_of(const std::string& path, const FileInfo& info) {
    std::string key = path;
    for (const std::uint64_t part :
         {info.size_bytes, static_cast<std::uint64_t>(info.modified), std::uint64_t{info.modified_ns}}) {
      key += '|';
      key += std::to_string(part);
    }
    return key + '\n';
  }

  void folder(const PlatformRule& rule, const Place& place, const std::string& what) {
    Listed listed;
    if (!wish_.names_only) list(place.path, 0, listed);
    if (listed.files == 0 && !what.empty() && !wish_.names_only) return;
    BaySave save = begin(rule, place);
    save.place = what;
    save.kind =
        what.empty() ? (rule.keeping == Keeping::package ? "package's files" : "folder") : "shared folder";
    save.files = listed.files;
    save.size_bytes = listed.bytes;
    if (listed.files > 0) save.modified = listed.newest;
    const std::string key = place.path + '\n' + listed.key;
    if (wish_.names_only) {
      if (rule.platform == Platform::wiiu) save.facts.game.code = code_beside(place.path);
      finish(std::move(save));
      return;
    }
    if (recall(key, save)) return;
    const auto tree = read_tree(store_, place.path);
    FolderLabel label;
    if (tree) {
      label = label_of_folder(rule.platform, *tree);
    } else {
      label.health = "damaged";
      label.note = tree.error().message;
    }
    if (label.code.empty() && rule.platform == Platform::wiiu) label.code = code_beside(place.path);
    remember(key, save, {label.title, label.health, label.note, label.code, "", label.thumbnail});
  }

  // A wiiu tree keeps what it knows of a title in a folder beside those of the accounts.
  std::string code_beside(const std::string& path) {
    const std::string meta = join_path(folder_of(folder_of(path)), "meta/meta.xml");
    const auto there = store_.stat(meta);
    if (!there || !*there) return {};
    const auto text = store_.read(meta, std::size_t{64} << 10);
    return text ? label_of_folder(Platform::wiiu, {{"meta.xml", *text, 0}}).code : std::string();
  }

  // ---- Files ------------------------------------------------------------------------------------

  void package(const PlatformRule& rule, const Place& place) {
    BaySave save = begin(rule, place);
    save.kind = "package";
    if (wish_.names_only) {
      finish(std::move(save));
      return;
    }
    const std::string key = key_of(place.path, place.info);
    if (recall(key, save)) return;
    ScanMemory::Row row;
    row.health = "good";
    const auto bytes = store_.read(place.path);
    const auto opened = bytes ? BlockPackage::open(*bytes) : tl::unexpected(bytes.error());
    if (opened) {
      row.label = opened->title_name();
      if (!opened->display_name().empty())
        row.label += (row.label.empty() ? "" : " / ") + opened->display_name();
      row.thumbnail = !opened->thumbnail().empty();
      if (const auto problems = opened->check(); !problems.empty()) {
        row.health = "damaged";
        row.health_note = problems.front();
      }
    } else {
      row.health = "damaged";
      row.health_note = opened.error().message;
    }
    remember(key, save, std::move(row));
  }

  void card(const PlatformRule& rule, const Place& place, const std::vector<RomFile>& roms) {
    const auto bytes = store_.read(place.path);
    const auto card = bytes ? open_card(*bytes) : tl::unexpected(bytes.error());
    if (!card) {
      BaySave save = begin(rule, place);
      save.kind = "memory card";
      save.health = "damaged";
      save.health_note = card.error().message;
      finish(std::move(save));
      return;
    }
    if (tag(rule.platform) != to_text((*card)->kind())) return;
    for (const CardEntry& entry : (*card)->entries()) {
      BaySave save = begin(rule, place);
      save.kind = "memory card entry";
      save.entry = entry.name;
      save.label = entry.title;
      save.size_bytes = entry.size_bytes;
      if (entry.modified) save.modified = entry.modified;
      save.health = to_text(entry.state);
      save.thumbnail = rule.platform != Platform::n64;
      save.facts.game.code = entry.code;
      save.facts.game.region = entry.region;
      if (const RomFile* rom = rom_of(save, roms)) save.facts.game = rom->facts.game;
      finish(std::move(save));
    }
  }

  static const RomFile* rom_of(const BaySave& save, const std::vector<RomFile>& roms) {
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

  void single(const PlatformRule& rule, const Place& place) {
    BaySave save = begin(rule, place);
    save.kind = "single save";
    save.health = "damaged";
    const auto bytes = store_.read(place.path);
    const auto read = bytes ? single_save_from(*bytes) : tl::unexpected(bytes.error());
    if (read) {
      const CardEntry entry = describe(*read);
      save.health = "good";
      save.entry = entry.name;
      save.label = entry.title;
      save.facts.game.code = entry.code;
      save.facts.game.region = entry.region;
      save.thumbnail = true;
    } else {
      save.health_note = read.error().message;
    }
    finish(std::move(save));
  }

  // Rules of several platforms often have the same path: one walk does for all of them.
  struct FileRule {
    const PlatformRule* rule = nullptr;
    std::vector<const Layout*> layouts;
    std::vector<RomFile> roms;
    std::unordered_map<std::string, const RomFile*> by_stem;  // lower case
    bool by_extension = false;
  };

  Result<void> files() {
    std::vector<std::string> paths;
    for (const PlatformRule& rule : bay_.rules)
      if (rule.keeping == Keeping::file && is_wanted(rule) &&
          std::ranges::find(paths, rule.path.text()) == paths.end())
        paths.push_back(rule.path.text());
    for (const std::string& path : paths) {
      std::vector<FileRule> rules;
      for (const PlatformRule& rule : bay_.rules)
        if (rule.keeping == Keeping::file && is_wanted(rule) && rule.path.text() == path)
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
  [[nodiscard]] bool is_wanted(const PlatformRule& rule) const {
    return !wish_.only || saves_as(rule.platform) == saves_as(*wish_.only);
  }
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
    return rom_of(save, rule.roms);
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
    const std::string key = key_of(place.path, place.info) +
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
    BaySave save = begin(*owner->rule, place);
    save.kind = "battery save";
    if (rom != nullptr) {
      save.facts.game = rom->facts.game;
      save.facts.rom_path = rom->path;
    }
    remember(key, save, std::move(row));
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
          for (const Ailment& ailment : is_blank(part) ? std::vector<Ailment>{} : ailments(part)) {
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

  // ---- What was read before ---------------------------------------------------------------------

  bool recall(const std::string& key, BaySave& save) {
    const ScanMemory::Row* row = wish_.memory != nullptr ? wish_.memory->find(key) : nullptr;
    if (row == nullptr) return false;
    remember(key, save, *row);
    return true;
  }
  void remember(const std::string& key, BaySave& save, ScanMemory::Row row) {
    save.label = row.label;
    save.health = row.health;
    save.health_note = row.health_note;
    save.thumbnail = row.thumbnail;
    if (!row.code.empty() && save.facts.game.code.empty()) save.facts.game.code = row.code;
    if (wish_.memory != nullptr) wish_.memory->add(key, std::move(row));
    finish(std::move(save));
  }

  const Catalog& catalog_;
  const Bay& bay_;
  Store& store_;
  const ScanWish& wish_;
  std::vector<BaySave> saves_;
};

}  // namespace

std::string BaySave::name() const {
  return entry.empty() || rule->keeping == Keeping::single ? std::string(name_of(path)) : entry;
}

Result<std::vector<BaySave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                      const ScanWish& wish) {
  return BayScanner(catalog, bay, store, wish).run();
}

std::vector<std::string> accounts_of(const std::vector<BaySave>& saves) {
  std::set<std::string> accounts;
  for (const BaySave& save : saves)
    if (!save.facts.account.empty() && save.place.empty()) accounts.insert(save.facts.account);
  return {accounts.begin(), accounts.end()};
}

}  // namespace bayswap
