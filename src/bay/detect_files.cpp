// Battery saves: whose they are, and by which names a rule finds them.
#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"
#include "bay/places.hpp"
#include "bay/platform_settler.hpp"

namespace bayswap {
namespace {

// A path rule without its extension, and the files it would find.
struct Pattern {
  std::string text;
  std::vector<SurveyedFile*> files;
  int rank = 0;  // of two that find as many, the lower
};

class FileRules {
 public:
  FileRules(const Catalog& catalog, Store& store, const Survey& survey, std::vector<SurveyedFile>& files,
            const DetectOptions& options, Detection& detection)
      : catalog_(catalog),
        survey_(survey),
        files_(files),
        detection_(detection),
        settler_(catalog, store, survey, options) {
    for (const RomFile& rom : survey.roms) {
      const std::string stem = lower(stem_of(rom.path));
      const std::string code = lower(rom.facts.game.code);
      roms_called_[stem].push_back(&rom);
      if (!code.empty() && code != stem) roms_called_[code].push_back(&rom);
    }
  }

  std::vector<PlatformRule> run() {
    for (const SurveyedFile& file : files_) settler_.note(file);
    std::map<Platform, std::vector<SurveyedFile*>> by_platform;
    for (SurveyedFile& file : files_) {
      if (file.is_claimed || !may_be_save(file)) continue;
      if (is_backup_folder(file.path)) {
        detection_.aside.push_back(file.path);
        continue;
      }
      if (!is_battery(file.finding)) {
        leave(file, file.rom ? "no layout of its console has this size" : "it is not recognised", {});
        continue;
      }
      if (const auto platform = settler_.settle(file))
        by_platform[*platform].push_back(&file);
      else
        leave(file, "its size is all that is known, and saves of several consoles have it",
              platforms_of(file.finding));
    }
    std::vector<PlatformRule> rules;
    for (auto& [platform, files] : by_platform) rules_of(platform, files, rules);
    settle_rest();
    return rules;
  }

 private:
  [[nodiscard]] bool may_be_save(const SurveyedFile& file) const {
    const Finding& finding = file.finding;
    const bool is_named = is_save_extension(extension_of(file.path), catalog_);
    if (finding.kind == FileKind::unknown) return is_named;
    if (!is_battery(finding)) return false;
    if (is_named) return true;
    // Under another extension: a ROM has its name and its size is a save's, or a mark tells.
    if (file.rom) return finding.fit == Fit::exact && !file.rom_word.empty();
    return finding.fit == Fit::exact && finding.confidence >= 0.95;
  }

  void leave(const SurveyedFile& file, const std::string& reason, const std::vector<Platform>& choices) {
    auto& [left, platforms] = left_[{folder_of(file.path), reason}];
    left.push_back(&file);
    for (const Platform platform : choices) platforms.insert(platform);
  }

  void settle_rest() {
    for (auto& [key, rest] : left_) {
      auto& [files, platforms] = rest;
      UnsettledFiles unsettled;
      unsettled.folder = key.first;
      unsettled.reason = key.second;
      for (const SurveyedFile* file : files) unsettled.paths.push_back(file->path);
      const auto prefix = rule_prefix(key.first);
      // Those first whose games are there.
      std::vector<Platform> ordered(platforms.begin(), platforms.end());
      std::stable_partition(ordered.begin(), ordered.end(),
                            [&](Platform platform) { return rom_folder(survey_, platform).has_value(); });
      for (const Platform platform : ordered) {
        std::vector<SurveyedFile> as_one;
        for (const SurveyedFile* file : files) as_one.push_back(*file);
        std::vector<SurveyedFile*> pointers;
        for (SurveyedFile& file : as_one) {
          file.finding.layout = nullptr;
          pointers.push_back(&file);
        }
        if (prefix && NameRule::parse(*prefix + "{rom.stem}{ext}"))
          unsettled.choices.push_back(rule_of(platform, *prefix + "{rom.stem}", pointers));
      }
      detection_.unsettled.push_back(std::move(unsettled));
    }
  }

  // The patterns that would find the file, the best first.
  std::vector<std::string> patterns_of(const SurveyedFile& file) const {
    std::vector<std::string> patterns;
    const std::string folder = folder_of(file.path);
    const auto prefix = rule_prefix(folder);
    if (!prefix) return patterns;
    const std::string stem(stem_of(file.path));
    const std::string last(name_of(folder));
    const std::string above = folder == "." || folder_of(folder) == "." ? "" : folder_of(folder) + "/";
    const RomFile* rom = file.rom ? &survey_.roms[*file.rom] : nullptr;
    const bool is_by_name = rom != nullptr && !file.rom_word.empty();
    const bool is_by_code = rom == nullptr && looks_like_code(stem) && file.finding.layout != nullptr &&
                            has_codes(file.finding.layout->platform);
    const std::string word =
        "{" + (is_by_name ? file.rom_word : std::string(is_by_code ? "game.code" : "rom.stem")) + "}";
    if (folder != ".") {
      const RomFile* owner = rom_called(last, file);
      const std::string& code = owner != nullptr ? owner->facts.game.code : "";
      const std::string name = owner == nullptr ? stem : name_after(*owner, stem);
      if (owner != nullptr && !code.empty() && lower(code) == lower(last))
        patterns.push_back(above + "{game.code}/" + name);
      else if (owner != nullptr && lower(stem_of(owner->path)) == lower(last))
        patterns.push_back(above + "{rom.stem}/" + name);
      else if (rom == nullptr && looks_like_code(last) && file.finding.layout != nullptr)
        patterns.push_back(above + "{game.code}/" + stem);
    }
    patterns.push_back(*prefix + word);
    if (is_by_name && folder_of(rom->path) == folder) {
      // A game of the platform whose ROM is elsewhere has its save there.
      const auto all = rom_folder(survey_, rom->facts.game.platform);
      patterns.insert(all == folder ? patterns.end() : patterns.end() - 1, "{rom.folder}/" + word);
    }
    return patterns;
  }

  // The part of a path rule that gives a ROM's save this name; the name itself if the ROM does not show in
  // it.
  static std::string name_after(const RomFile& rom, const std::string& stem) {
    const std::string low = lower(stem);
    if (low == lower(stem_of(rom.path))) return "{rom.stem}";
    if (low == lower(name_of(rom.path))) return "{rom.name}";
    if (!rom.facts.game.code.empty() && low == lower(rom.facts.game.code)) return "{game.code}";
    return stem;
  }

  // The ROM of that name or code: the file's own, or the nearest to it.
  [[nodiscard]] const RomFile* rom_called(const std::string& name, const SurveyedFile& file) const {
    const auto called = roms_called_.find(lower(name));
    if (called == roms_called_.end()) return nullptr;
    const RomFile* nearest = nullptr;
    for (const RomFile* rom : called->second) {
      if (file.rom && rom == &survey_.roms[*file.rom]) return rom;
      if (nearest == nullptr ||
          shared_folders(file.path, rom->path) > shared_folders(file.path, nearest->path))
        nearest = rom;
    }
    return nearest;
  }

  void rules_of(Platform platform, const std::vector<SurveyedFile*>& files,
                std::vector<PlatformRule>& rules) {
    std::vector<SurveyedFile*> left = files;
    while (!left.empty()) {
      std::map<std::string, Pattern> patterns;
      for (SurveyedFile* file : left) {
        int rank = 0;
        for (std::string& text : patterns_of(*file)) {
          Pattern& pattern = patterns[text];
          pattern.text = text;
          pattern.rank = std::max(pattern.rank, rank++);
          pattern.files.push_back(file);
        }
      }
      const Pattern* best = nullptr;
      while (best == nullptr && !patterns.empty()) {
        for (const auto& [text, pattern] : patterns)
          if (best == nullptr || pattern.files.size() > best->files.size() ||
              (pattern.files.size() == best->files.size() && pattern.rank < best->rank))
            best = &pattern;
        // A folder's name can have what no rule can say: a line end, say.
        if (NameRule::parse(best->text + "{ext}")) break;
        patterns.erase(std::string(best->text));
        best = nullptr;
      }
      if (best == nullptr) return;  // folders that no rule can name
      rules.push_back(rule_of(platform, best->text, best->files));
      for (SurveyedFile* file : best->files) file->is_claimed = true;
      std::erase_if(left, [](const SurveyedFile* file) { return file->is_claimed; });
    }
  }

  PlatformRule rule_of(Platform platform, const std::string& pattern,
                       const std::vector<SurveyedFile*>& files) const {
    PlatformRule rule;
    rule.platform = platform;
    const auto layouts = layouts_of(platform, files);
    rule.layout = layouts.front();
    rule.other_layouts.assign(layouts.begin() + 1, layouts.end());
    const auto first = catalog_.find(rule.layout);
    const bool as_set = first && (*first)->is_set();
    std::string text = pattern + "{ext}";
    // Clocks beside their memories keep an extension of their own.
    std::vector<SurveyedFile*> memories;
    for (SurveyedFile* file : files)
      if (!as_set || file->finding.layout == nullptr || takes_extension(*file->finding.layout))
        memories.push_back(file);
    const bool is_usual = std::all_of(memories.begin(), memories.end(), [&](const SurveyedFile* file) {
      return file->finding.layout != nullptr && extension_of(file->path) == file->finding.layout->extension;
    });
    const auto extensions = extensions_of(memories);
    if (!as_set && extensions.size() == 1 && !is_usual)
      text = pattern + extensions.front();
    else if (!is_usual && (!as_set || memories_of(**first) == 1))
      rule.extensions = extensions;
    if (auto path = NameRule::parse(text)) rule.path = *std::move(path);
    if (rule.path.uses_rom() || rule.path.uses("game.code"))
      rule.roms =
          rom_folder(survey_, platform).value_or(rule.path.uses_rom() ? folder_of(files.front()->path) : "");
    return rule;
  }

  // How many of a set's files hold memory.
  [[nodiscard]] std::ptrdiff_t memories_of(const Layout& set) const {
    return std::count_if(set.members.begin(), set.members.end(), [&](const std::string& id) {
      const auto member = catalog_.find(id);
      return member && takes_extension(**member);
    });
  }

  // Those that occur, the most frequent first; then those that the platform's other games have.
  std::vector<std::string> layouts_of(Platform platform, const std::vector<SurveyedFile*>& files) const {
    std::map<std::string, int> counts;
    std::map<std::string, int> blank;
    for (const SurveyedFile* file : files) {
      if (file->finding.layout == nullptr || file->finding.layout->platform != platform) continue;
      const bool is_blank = std::all_of(file->finding.parts.begin(), file->finding.parts.end(),
                                        [](const PartFinding& part) { return part.blank; });
      ++(is_blank ? blank : counts)[file->finding.layout->id];
    }
    if (counts.empty()) counts = blank;
    std::vector<std::string> ids;
    ids.reserve(counts.size());
    for (const auto& [id, count] : counts) ids.push_back(id);
    sort_by(ids, [&](const std::string& id) { return std::pair(-counts[id], id); });
    // Chips in files of their own: the set of them.
    if (const std::string set = set_of(platform, ids); !set.empty()) {
      std::vector<std::string> with_set{set};
      const auto layout = catalog_.find(set);
      for (const std::string& id : ids)
        if (std::find((*layout)->members.begin(), (*layout)->members.end(), id) == (*layout)->members.end())
          with_set.push_back(id);
      ids = std::move(with_set);
    }
    const char* const form =
        !ids.empty() && ids.front().find(".separate") != std::string::npos ? "flash-cart" : "beside-rom";
    if (const auto usual = bay_like(form, "x", "."))
      if (const PlatformRule* rule = usual->rule(platform)) {
        std::vector<std::string> more{rule->layout};
        more.insert(more.end(), rule->other_layouts.begin(), rule->other_layouts.end());
        for (const std::string& id : more)
          if (std::find(ids.begin(), ids.end(), id) == ids.end() && (ids.empty() || !is_set(id)))
            ids.push_back(id);
      }
    if (ids.empty())
      for (const Layout* layout : catalog_.all(platform)) ids.push_back(layout->id);
    return ids;
  }

  [[nodiscard]] bool is_set(const std::string& id) const {
    const auto layout = catalog_.find(id);
    return layout && (*layout)->is_set();
  }

  [[nodiscard]] std::string set_of(Platform platform, const std::vector<std::string>& ids) const {
    std::string best;
    std::size_t most = 0;
    for (const Layout* layout : catalog_.all(platform)) {
      if (!layout->is_set() || layout->origin != "built in") continue;
      const auto is_member = [&](const std::string& id) {
        return std::find(layout->members.begin(), layout->members.end(), id) != layout->members.end();
      };
      const auto count = static_cast<std::size_t>(std::count_if(ids.begin(), ids.end(), is_member));
      // A game's main memory alone needs no set, but on n64, where each chip is a file.
      const bool is_needed = platform == Platform::n64 ? count > 0 : count > 1;
      if (!is_needed || count <= most) continue;
      most = count;
      best = layout->id;
    }
    return best;
  }

  static std::vector<std::string> extensions_of(const std::vector<SurveyedFile*>& files) {
    std::map<std::string, std::map<std::string, int>> spellings;
    std::map<std::string, int> counts;
    for (const SurveyedFile* file : files) {
      const std::string extension(extension_of(file->path));
      ++spellings[lower(extension)][extension];
      ++counts[lower(extension)];
    }
    std::vector<std::string> low;
    low.reserve(counts.size());
    for (const auto& [extension, count] : counts) low.push_back(extension);
    sort_by(low, [&](const std::string& extension) { return std::pair(-counts[extension], extension); });
    std::vector<std::string> extensions;
    for (const std::string& extension : low) {
      const auto& own = spellings[extension];
      const auto most = std::max_element(own.begin(), own.end(),
                                         [](const auto& a, const auto& b) { return a.second < b.second; });
      extensions.push_back(most->first);
    }
    return extensions;
  }

  const Catalog& catalog_;
  const Survey& survey_;
  std::vector<SurveyedFile>& files_;
  Detection& detection_;
  PlatformSettler settler_;
  std::map<std::pair<std::string, std::string>,
           std::pair<std::vector<const SurveyedFile*>, std::set<Platform>>>
      left_;
  std::map<std::string, std::vector<const RomFile*>> roms_called_;  // by lower-case stem and code
};

}  // namespace

std::vector<PlatformRule> find_file_rules(const Catalog& catalog, Store& store, const Survey& survey,
                                          std::vector<SurveyedFile>& files, const DetectOptions& options,
                                          Detection& detection) {
  return FileRules(catalog, store, survey, files, options, detection).run();
}

}  // namespace bayswap
