// Every save of a bay: found along its path rules, opened as its rules keep it.
#include <bayswap/bay_saves.hpp>
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <set>

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
      if (wish_.only && saves_as(rule.platform) != saves_as(*wish_.only)) continue;
      const std::size_t before = saves_.size();
      std::set<std::string> taken;  // by the rule's further places
      for (const auto& [what, path] : rule.also) {
        BAYSWAP_TRY(const auto places, find_places(store_, path, rule.platform, wish_.on_error));
        for (const Place& place : places)
          if (place.info.kind == FileInfo::Kind::folder && taken.insert(place.path).second) folder(rule, place, what);
      }
      BAYSWAP_TRY(const auto places, find_places(store_, rule.path, rule.platform, wish_.on_error));
      const std::vector<RomFile> roms = roms_of(rule, places);
      for (const Place& place : places)
        if (!taken.contains(place.path)) one(rule, place, roms);
      join_places(before);
      std::stable_sort(saves_.begin() + static_cast<std::ptrdiff_t>(before), saves_.end(),
                       [](const BaySave& a, const BaySave& b) { return a.path < b.path; });
    }
    settle_claims();
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
    save.size_bytes = place.info.size_bytes;
    save.modified = place.info.modified;
    return save;
  }

  // What the book knows, and a label from the title where the save itself has none.
  void finish(BaySave save) {
    if (wish_.titles != nullptr) wish_.titles->complete(save.facts.game);
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
    if (rule.keeping == Keeping::file) file(rule, place, roms);
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
      if (entry.link || is_own_temporary(entry.name)) continue;
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
    for (const std::uint64_t part : {info.size_bytes, static_cast<std::uint64_t>(info.modified),
                                     std::uint64_t{info.modified_ns}}) {
      key += '|';
      key += std::to_string(part);
    }
    return key + '\n';
  }

  void folder(const PlatformRule& rule, const Place& place, const std::string& what) {
    Listed listed;
    list(place.path, 0, listed);
    if (listed.files == 0 && !what.empty()) return;
    BaySave save = begin(rule, place);
    save.place = what;
    save.kind = what.empty() ? (rule.keeping == Keeping::package ? "package's files" : "folder") : "shared folder";
    save.files = listed.files;
    save.size_bytes = listed.bytes;
    if (listed.files > 0) save.modified = listed.newest;
    const std::string key = place.path + '\n' + listed.key;
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
    remember(key, save, {label.title, label.health, label.note, label.code, label.thumbnail});
  }

  // A wiiu tree keeps what it knows of a title in a folder beside those of the accounts.
  std::string code_beside(const std::string& path) {
    const auto text = store_.read(join_path(folder_of(folder_of(path)), "meta/meta.xml"), std::size_t{64} << 10);
    return text ? label_of_folder(Platform::wiiu, {{"meta.xml", *text, 0}}).code : std::string();
  }

  // ---- Files ------------------------------------------------------------------------------------

  void package(const PlatformRule& rule, const Place& place) {
    BaySave save = begin(rule, place);
    save.kind = "package";
    const std::string key = key_of(place.path, place.info);
    if (recall(key, save)) return;
    ScanMemory::Row row;
    row.health = "good";
    const auto bytes = store_.read(place.path);
    const auto opened = bytes ? BlockPackage::open(*bytes) : tl::unexpected(bytes.error());
    if (opened) {
      row.label = opened->title_name();
      if (!opened->display_name().empty()) row.label += (row.label.empty() ? "" : " / ") + opened->display_name();
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

  void file(const PlatformRule& rule, const Place& place, const std::vector<RomFile>& roms) {
    const std::vector<const Layout*> layouts = layouts_of(rule);
    const auto fits_extension = [&](const Layout* layout) {
      return !rule.path.uses("ext") || lower(place.path).ends_with(lower(layout->extension));
    };
    if (std::ranges::none_of(layouts, fits_extension)) return;
    BaySave save = begin(rule, place);
    save.kind = "battery save";
    const RomFile* rom = rom_of(save, roms);
    if (rom != nullptr) {
      save.facts.game = rom->facts.game;
      save.facts.rom_path = rom->path;
      if (rom->path == place.path) return;  // the rule is so wide that it takes the ROM in
    } else if (std::ranges::any_of(roms, [&](const RomFile& other) { return other.path == place.path; })) {
      return;
    }
    const std::string key = key_of(place.path, place.info) + std::string(tag(rule.platform));
    if (recall(key, save)) return;
    ScanMemory::Row row;
    row.health = "damaged";
    const auto bytes = store_.read(place.path);
    if (!bytes) row.health_note = bytes.error().message;
    for (const Layout* layout : layouts) {
      if (!bytes || !fits_extension(layout)) continue;
      const auto opened = open_save(*layout, *bytes, rom != nullptr ? rom->facts.chips : std::vector<ChipFact>{});
      if (!opened) {
        if (row.health_note.empty()) row.health_note = opened.error().message;
        continue;
      }
      row.health = opened->save.is_blank() ? "empty" : "good";
      row.health_note = opened->fitted.in_words(*layout);
      for (const Part& part : opened->save.parts)
        for (const Ailment& ailment : is_blank(part) ? std::vector<Ailment>{} : ailments(part)) {
          row.health = "suspicious";
          row.health_note = ailment.text;
        }
      break;
    }
    remember(key, save, std::move(row));
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

  // A file that several platforms' rules fit belongs to the one that has its ROM; without one, to whoever can open
  // it, the first of them.
  void settle_claims() {
    std::map<std::string, std::vector<std::size_t>> claims;
    for (std::size_t i = 0; i < saves_.size(); ++i)
      if (saves_[i].rule->keeping == Keeping::file) claims[saves_[i].path].push_back(i);
    std::set<std::size_t> lost;
    const auto rank = [this](std::size_t i) {
      const BaySave& save = saves_[i];
      return (!save.facts.game.title.empty() || !save.facts.game.code.empty() ? 2 : 0) + (save.health != "damaged" ? 1 : 0);
    };
    for (const auto& [path, who] : claims) {
      const std::size_t best = *std::ranges::max_element(who, {}, rank);
      for (const std::size_t i : who)
        if (i != best) lost.insert(i);
    }
    std::size_t index = 0;
    std::erase_if(saves_, [&](const BaySave&) { return lost.contains(index++); });
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

Result<std::vector<BaySave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store, const ScanWish& wish) {
  return BayScanner(catalog, bay, store, wish).run();
}

std::vector<std::string> accounts_of(const std::vector<BaySave>& saves) {
  std::set<std::string> accounts;
  for (const BaySave& save : saves)
    if (!save.facts.account.empty() && save.place.empty()) accounts.insert(save.facts.account);
  return {accounts.begin(), accounts.end()};
}

}  // namespace bayswap
