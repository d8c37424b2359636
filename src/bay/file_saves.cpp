#include "bay/file_saves.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>
#include <unordered_map>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_survey.hpp"
#include "bay/places.hpp"
#include "bay/save_owner.hpp"
#include "bay/scan_memory.hpp"

namespace bayswap {
namespace {

// One file, told whose it is.
struct Told {
  const FileRule* owner = nullptr;
  RomMatch rom;
  ScanRow row;
  HeldFile file;
  NameRule::Words words;
  std::string base;  // the path without what tells the files of one save apart
  std::string misplaced;
};

class FileScanner {
 public:
  FileScanner(ScanContext& scan, std::span<const PlatformRule* const> rules) : scan_(scan) {
    for (const PlatformRule* rule : rules)
      rules_.push_back(
          {rule, layouts_of(*rule), nullptr, {}, {}, {}, {}, rule->path.uses("ext"), is_set(*rule)});
    // A rule that names one file knows more of it than one for all of a folder.
    for (const PlatformRule& rule : scan.view.bay().rules)
      if (rule.keeping != Keeping::file && rule.path.text().find('{') == std::string::npos)
        taken_.insert(rule.path.text());
  }

  Result<void> run() {
    const PlatformRule& first = *rules_.front().rule;
    const auto& on_error = scan_.view.options().on_error;
    const std::string roms = roms_of_all();
    BAYSWAP_TRY(const auto fitting, find_places(scan_.store, first.path, first.platform, on_error, roms));
    const auto loose = loosened(first.path);
    std::vector<Place> beside;
    if (loose && !scan_.names_only) {
      BAYSWAP_TRY(beside, find_places(scan_.store, *loose, first.platform, on_error, roms));
    }
    if (fitting.empty() && beside.empty()) return {};
    BAYSWAP_CHECK(find_roms());
    std::vector<Told> told;
    for (const Place& place : fitting)
      if (place.info.kind == FileInfo::Kind::file && !rom_paths_.contains(place.path) &&
          !taken_.contains(place.path))
        take(place, told);
    for (const Place& place : beside)
      if (place.info.kind == FileInfo::Kind::file && !rom_paths_.contains(place.path) &&
          !taken_.contains(place.path))
        take_misplaced(place, told);
    group(told);
    return {};
  }

 private:
  // The folder that all the rules' ROMs are below.
  [[nodiscard]] std::string roms_of_all() const {
    std::vector<std::string> folders;
    for (const FileRule& rule : rules_) {
      if (rule.rule->roms.empty()) return ".";
      folders.push_back(join_path(in_case_of_disk(scan_.store, rule.rule->roms), "x"));
    }
    return common_folder(folders);
  }

  // The rule with any extension instead of its own.
  static std::optional<NameRule> loosened(const NameRule& rule) {
    if (rule.uses("ext")) return rule;
    const std::string& text = rule.text();
    const auto dot = text.rfind('.');
    if (dot == std::string::npos || text.find_first_of("/}", dot) != std::string::npos) return std::nullopt;
    auto loose = NameRule::parse(text.substr(0, dot) + "{ext}");
    return loose ? std::optional(*std::move(loose)) : std::nullopt;
  }

  Result<void> find_roms() {
    for (FileRule& rule : rules_) {
      if (rule.rule->roms.empty()) continue;
      BAYSWAP_TRY(rule.roms, scan_.view.roms(*rule.rule));
      for (const RomFile& rom : *rule.roms) rom_paths_.insert(rom.path);
      index_roms(rule);
    }
    return {};
  }

  void take(const Place& place, std::vector<Told>& told) {
    std::vector<const FileRule*> fitting;
    std::vector<std::pair<const FileRule*, RomMatch>> named;
    for (const FileRule& rule : rules_) {
      if (std::none_of(rule.layouts.begin(), rule.layouts.end(),
                       [&](const Layout* layout) { return fits(rule, *layout, place.path); }))
        continue;
      fitting.push_back(&rule);
      if (const RomMatch own = rom_for(scan_.view, rule, place.words, place.path); own.rom != nullptr)
        named.emplace_back(&rule, own);
    }
    if (fitting.empty()) return;
    if (named.empty() && is_named_elsewhere(place)) return;
    if (std::any_of(named.begin(), named.end(), [](const auto& one) { return one.second.exact; }))
      std::erase_if(named, [](const auto& one) { return !one.second.exact; });
    std::size_t nearest = 0;
    for (const auto& [rule, own] : named)
      nearest = std::max(nearest, shared_folders(place.path, own.rom->path));
    std::erase_if(
        named, [&](const auto& one) { return shared_folders(place.path, one.second.rom->path) < nearest; });
    RomMatch rom;
    if (!named.empty()) {
      const auto& owner = named.size() == 1 ? named.front() : likeliest(scan_.view, named, place.path);
      rom = owner.second;
      fitting.assign(1, owner.first);
    }
    taken_.insert(place.path);
    Told one;
    one.rom = rom;
    one.words = place.words;
    const std::string key = SaveList::key_of(place.path, place.info) +
                            (rom.rom != nullptr ? std::string(tag(fitting.front()->rule->platform)) : "");
    one.row = remembered(key, [&] { return opened(fitting, place, rom.rom); });
    one.owner = fitting.front();
    for (const FileRule* rule : fitting)
      if (tag(rule->rule->platform) == one.row.platform) one.owner = rule;
    one.file = {place.path, nullptr, {}, place.info.modified, place.info.size_bytes};
    one.base = place.path;
    for (const Layout* layout : one.owner->layouts) {
      if (!fits(*one.owner, *layout, place.path)) continue;
      one.file.layout = layout;
      if (one.owner->is_set) split_name(*layout, one);
      break;
    }
    if (rom.rom != nullptr && !rom.exact && one.owner->rule->path.uses_rom())
      one.misplaced = lower(stem_of(rom.rom->path)) == lower(stem_of(place.path))
                          ? fmt::format("programs look for it beside the ROM, {}", rom.rom->path)
                          : fmt::format("programs that go by the ROM {} do not read it under this name",
                                        name_of(rom.rom->path));
    if (rom.rom == nullptr && is_apart(place.path)) one.misplaced = "no ROM is in its folder";
    told.push_back(std::move(one));
  }

  // No ROM of these rules has its name, and one of another console has: what that console's rule does not
  // read is odd there, and no save of this one.
  bool is_named_elsewhere(const Place& place) {
    const auto stem = place.words.find("rom.stem");
    if (stem == place.words.end()) return false;
    if (!stems_elsewhere_) {
      const PlatformRule& first = *rules_.front().rule;
      stems_elsewhere_ = stems_of_others(scan_.view, first.platform, first.path);
      for (const FileRule& own : rules_)
        if (own.roms != nullptr)
          for (const RomFile& rom : *own.roms) stems_elsewhere_->erase(lower(stem_of(rom.path)));
    }
    return stems_elsewhere_->contains(lower(stem->second));
  }

  // Beside ROMs is where the rules look, and there are some, but none where this file is.
  [[nodiscard]] bool is_apart(const std::string& path) const {
    if (!rules_.front().rule->path.text().starts_with("{rom.folder}/")) return false;
    const std::string folder = lower(folder_of(path));
    return std::any_of(rules_.begin(), rules_.end(),
                       [](const FileRule& rule) { return !rule.rom_folders.empty(); }) &&
           std::none_of(rules_.begin(), rules_.end(),
                        [&](const FileRule& rule) { return rule.rom_folders.contains(folder); });
  }

  // "x.2.mpk" is the second pak of the save "x".
  static void split_name(const Layout& member, Told& one) {
    if (member.slots.size() != 1) return;
    const PartKind kind = member.slots.front().role.kind;
    one.base.resize(one.base.size() - extension_of(one.base).size());
    int number = kind == PartKind::pak ? pak_number_in_name(name_of(one.file.path)) : 0;
    if (number > 0)
      cut_number(one);
    else if (kind == PartKind::pak)
      number = 1;
    one.file.role = {kind, number};
  }

  static void cut_number(Told& one) {
    one.base.resize(one.base.size() - 2);
    if (const auto stem = one.words.find("rom.stem"); stem != one.words.end() && stem->second.size() > 2)
      stem->second.resize(stem->second.size() - 2);
  }

  template <class Look>
  ScanRow remembered(const std::string& key, Look look) {
    ScanMemory* memory = scan_.view.options().memory;
    const ScanRow* known = memory != nullptr ? memory->rows().find(key) : nullptr;
    ScanRow row;
    if (known != nullptr)
      row = *known;
    else if (!scan_.names_only)
      row = look();
    if (memory != nullptr) memory->rows().add(key, row);
    return row;
  }

  ScanRow opened(const std::vector<const FileRule*>& fitting, const Place& place, const RomFile* rom) {
    ScanRow row;
    row.health = Health::damaged;
    row.platform = tag(fitting.front()->rule->platform);
    const auto bytes = scan_.store.read(place.path);
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
        judge(*opened, *layout, row);
        return row;
      }
    return row;
  }

  static void judge(const OpenedSave& opened, const Layout& layout, ScanRow& row) {
    row.health = opened.save.is_blank() ? Health::empty : Health::good;
    row.health_note = opened.fitted.in_words(layout);
    for (const Part& part : opened.save.parts)
      for (const DumpDefect& defect : is_blank(part) ? std::vector<DumpDefect>{} : defects(part)) {
        row.health = Health::suspicious;
        row.health_note = defect.text;
      }
  }

  // ---- Files that do not fit the rule ----------------------------------------------------------------

  void take_misplaced(const Place& place, std::vector<Told>& told) {
    if (!is_save_extension(extension_of(place.path), scan_.view.catalog())) return;
    for (const FileRule& rule : rules_) {
      const RomMatch rom = rom_for(scan_.view, rule, place.words, place.path);
      if (rom.rom == nullptr && (rules_.size() > 1 || place.words.contains("rom.stem")) &&
          rule.roms != nullptr && !rule.roms->empty())
        continue;
      const std::string key =
          fmt::format("misplaced {} {}", tag(rule.rule->platform), SaveList::key_of(place.path, place.info));
      ScanRow row = remembered(key, [&] { return told_by_bytes(rule, place, rom.rom); });
      if (row.platform.empty()) continue;
      Told one;
      one.owner = &rule;
      one.rom = rom;
      one.words = place.words;
      one.row = std::move(row);
      one.file = {place.path, nullptr, {}, place.info.modified, place.info.size_bytes};
      one.base = place.path.substr(0, place.path.size() - extension_of(place.path).size());
      if (const int number = pak_number_in_name(name_of(place.path)); number > 0) {
        cut_number(one);
        one.file.role = {PartKind::pak, number};
      }
      one.base += "\nmisplaced";
      one.misplaced = fmt::format("the bay reads {} files, and not {}", extensions_in_words(rule),
                                  extension_of(place.path));
      told.push_back(std::move(one));
      return;
    }
  }

  static std::string extensions_in_words(const FileRule& rule) {
    std::vector<std::string> all;
    if (!rule.by_extension) all.emplace_back(extension_of(rule.rule->path.text()));
    for (const Layout* layout : rule.layouts)
      if (rule.by_extension && std::find(all.begin(), all.end(), layout->extension) == all.end())
        all.push_back(layout->extension);
    return joined(all, ", ");
  }

  // The row has no platform, as the file is not a save of the rule's platform.
  ScanRow told_by_bytes(const FileRule& rule, const Place& place, const RomFile* rom) {
    ScanRow row;
    const auto bytes = scan_.store.read(place.path);
    const auto plain = bytes ? unwrap(*bytes) : tl::unexpected(bytes.error());
    if (!plain || plain->plain.empty()) return row;
    Hints hints;
    hints.platform = rule.rule->platform;
    if (rom != nullptr) {
      hints.game = rom->facts.game;
      hints.chips = rom->facts.chips;
    }
    hints.extension = lower(extension_of(place.path));
    const Recognition told = recognise(scan_.view.catalog(), plain->plain, hints);
    if (told.matches.empty() || told.matches.front().fit == Fit::trimmed) return row;
    const Layout& layout = *told.matches.front().layout;
    const auto opened = open_save(layout, *bytes, hints.chips);
    if (!opened) return row;
    row.platform = tag(rule.rule->platform);
    judge(*opened, layout, row);
    return row;
  }

  // ---- Saves -----------------------------------------------------------------------------------------

  void group(std::vector<Told>& told) {
    sort_by(told, [](const Told& one) { return std::pair(lower(one.base), one.file.path); });
    for (auto first = told.begin(); first != told.end();) {
      auto last = first + 1;
      while (last != told.end() && lower(last->base) == lower(first->base) && last->owner == first->owner)
        ++last;
      add({first, last});
      first = last;
    }
  }

  void add(std::span<Told> files) {
    // Named after its memory, not after its clock.
    const auto memory = std::find_if(files.begin(), files.end(),
                                     [](const Told& one) { return one.file.role.kind != PartKind::rtc; });
    const Told& first = memory == files.end() ? files.front() : *memory;
    HeldSave save;
    save.rule = first.owner->rule;
    save.kind = SaveKind::battery;
    save.path = first.file.path;
    save.facts = facts_of_words(first.words, first.owner->rule->platform);
    save.files = files.size();
    save.health = Health::empty;
    for (const Told& one : files) {
      save.held.push_back(one.file);
      save.size_bytes += one.file.size_bytes;
      if (one.file.modified != 0)  // chips have no date
        save.modified = std::max(save.modified.value_or(one.file.modified), one.file.modified);
      if (!one.misplaced.empty()) save.misplaced = one.misplaced;
      if (one.row.label.size() > save.label.size()) save.label = one.row.label;
      // Of several files one that holds something decides, and one that is broken all the more.
      const auto weight = [](Health health) {
        return health == Health::empty ? 0 : static_cast<int>(health) + 1;
      };
      if (weight(one.row.health) < weight(save.health)) continue;
      save.health = one.row.health;
      save.health_note = one.row.health_note;
    }
    if (first.rom.rom != nullptr) {
      save.facts.game = first.rom.rom->facts.game;
      save.facts.rom_path = first.rom.rom->path;
      save.has_rom = true;
    }
    scan_.list.finish(std::move(save));
  }

  bool is_set(const PlatformRule& rule) const {
    const auto layout = scan_.view.catalog().find(rule.layout);
    return layout && (*layout)->is_set();
  }
  std::vector<const Layout*> layouts_of(const PlatformRule& rule) const {
    std::vector<const Layout*> layouts;
    std::vector<std::string> ids{rule.layout};
    ids.insert(ids.end(), rule.other_layouts.begin(), rule.other_layouts.end());
    for (const std::string& id : ids) {
      const auto layout = scan_.view.catalog().find(id);
      if (!layout) continue;
      if (!(*layout)->is_set()) layouts.push_back(*layout);
      for (const std::string& member : (*layout)->members)
        if (const auto found = scan_.view.catalog().find(member)) layouts.push_back(*found);
    }
    return layouts;
  }

  ScanContext& scan_;
  std::vector<FileRule> rules_;
  std::set<std::string> rom_paths_;
  std::set<std::string> taken_;
  std::optional<std::unordered_set<std::string>> stems_elsewhere_;  // of other rules' ROMs, lower case
};

}  // namespace

Result<void> scan_file_saves(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  return FileScanner(scan, rules).run();
}

}  // namespace bayswap
