// Rules for consoles whose ROMs are in a place and no save of theirs: by the example of the other consoles
// there.
#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"

namespace bayswap {
namespace {

// Their saves are the chip's bytes and nothing else, whichever program writes them. Of n64, md and nds there
// are several forms, and no example tells which.
constexpr std::array<Platform, 7> of_one_form{Platform::gb,  Platform::gba, Platform::nes, Platform::snes,
                                              Platform::sms, Platform::gg,  Platform::ws};

bool is_lower_letter(char c) {
  return c >= 'a' && c <= 'z';
}

// The tag as the example is spelled: "GBA" after "GB".
std::string spelled_like(std::string_view tag, std::string_view example) {
  std::string word(tag);
  if (std::none_of(example.begin(), example.end(), is_lower_letter))
    for (char& c : word) c = is_lower_letter(c) ? static_cast<char>(c - 'a' + 'A') : c;
  return word;
}

// The rule with the other console's tag as the name of that folder.
std::string renamed(const std::string& text, Platform other) {
  const std::string folder = named_folder(text);
  const std::string_view last = name_of(folder);
  return folder.substr(0, folder.size() - last.size()) + spelled_like(tag(other), last) +
         text.substr(folder.size());
}

bool contains(const std::string& folder, const std::string& other) {
  return folder == "." || folder == other || other.starts_with(folder + "/");
}

class LikelyRules {
 public:
  LikelyRules(const Survey& survey, const std::vector<SurveyedFile>& files, std::vector<PlatformRule>& rules)
      : survey_(survey), rules_(rules) {
    for (const SurveyedFile& file : files)
      if (file.is_claimed && file.finding.kind == FileKind::battery_save && !is_of_n64(file))
        extensions_.insert(lower(extension_of(file.path)));
  }

  void run() {
    split_gb();
    for (const PlatformRule& rule : rules_)
      if (rule.keeping == Keeping::file) examples_.push_back(rule);
    const auto usual = bay_like("beside-rom", "x", ".");
    if (examples_.empty() || extensions_.size() != 1 || !usual) return;
    for (const Platform platform : of_one_form) {
      const PlatformRule* const form = usual->rule(platform);
      const auto roms = rom_folder(survey_, platform);
      if (form == nullptr || !roms ||
          std::any_of(rules_.begin(), rules_.end(),
                      [&](const PlatformRule& rule) { return saves_as(rule.platform) == platform; }))
        continue;
      auto path = path_for(platform);
      if (!path) continue;
      PlatformRule rule = *form;
      rule.path = *std::move(path);
      if (rule.path.uses("ext")) rule.extensions.assign(extensions_.begin(), extensions_.end());
      rule.states.clear();
      rule.roms = *roms;
      rule.like = examples_.front().platform;
      rules_.push_back(std::move(rule));
    }
  }

 private:
  static bool is_of_n64(const SurveyedFile& file) {
    return file.finding.layout != nullptr && file.finding.layout->platform == Platform::n64;
  }

  // Where the folders of saves are named after consoles, gb and gbc have one each, as their ROMs have.
  void split_gb() {
    const auto first = std::find_if(rules_.begin(), rules_.end(), [](const PlatformRule& rule) {
      return rule.keeping == Keeping::file && rule.platform == Platform::gb;
    });
    const auto count = std::count_if(rules_.begin(), rules_.end(),
                                     [](const PlatformRule& rule) { return rule.platform == Platform::gb; });
    if (first == rules_.end() || count != 1) return;
    const auto own = console_named(first->path.text());
    if (!own || saves_as(*own) != Platform::gb) return;
    const Platform other = *own == Platform::gb ? Platform::gbc : Platform::gb;
    const auto own_roms = folder_of_roms(*own);
    const auto other_roms = folder_of_roms(other);
    if (!own_roms || !other_roms || contains(*own_roms, *other_roms) || contains(*other_roms, *own_roms))
      return;
    auto path = NameRule::parse(renamed(first->path.text(), other));
    if (!path) return;
    PlatformRule rule = *first;
    rule.path = *std::move(path);
    rule.roms = *other_roms;
    rule.like = Platform::gb;
    first->roms = *own_roms;
    rules_.push_back(std::move(rule));
  }

  // The folder of all ROMs of that very console.
  [[nodiscard]] std::optional<std::string> folder_of_roms(Platform console) const {
    std::vector<std::string> paths;
    for (const RomFile& rom : survey_.roms)
      if (rom.facts.game.platform == console) paths.push_back(rom.path);
    return paths.empty() ? std::nullopt : std::optional(common_folder(paths));
  }

  // What all examples come to for this platform; nothing where they differ. It ends as the first one does:
  // files that two rules of the same text take are told apart by their ROMs.
  [[nodiscard]] std::optional<NameRule> path_for(Platform platform) const {
    std::optional<std::string> agreed;
    for (const PlatformRule& example : examples_) {
      const auto text = translated(example, platform);
      if (!text || (agreed && *agreed != *text)) return std::nullopt;
      agreed = text;
    }
    auto path =
        NameRule::parse(*agreed + (examples_.front().path.uses("ext") ? "{ext}" : *extensions_.begin()));
    if (!path) return std::nullopt;
    return *std::move(path);
  }

  // The example's path for another platform, without the extension.
  [[nodiscard]] std::optional<std::string> translated(const PlatformRule& example, Platform platform) const {
    std::string text = example.path.text();
    if (!example.path.uses("rom.stem") && !example.path.uses("rom.name")) return std::nullopt;
    if (text.ends_with("{ext}"))
      text.resize(text.size() - std::string_view("{ext}").size());
    else if (const auto dot = text.rfind('.'); text.find_first_of("/}", dot) == std::string::npos)
      text.resize(dot);
    else
      return std::nullopt;
    if (text.starts_with("{rom.folder}/")) return beside(platform, text.substr(text.find('/') + 1));
    const std::string folder = named_folder(text);
    if (folder == example.roms)
      return beside(platform, folder == "." ? text : text.substr(folder.size() + 1));
    if (const auto own = console_named(text); own && saves_as(*own) == saves_as(example.platform)) {
      const auto wanted = one_console(platform);
      return wanted ? std::optional(renamed(text, *wanted)) : std::nullopt;
    }
    return is_shared(folder) ? std::optional(text) : std::nullopt;
  }

  // Beside its ROMs: in their folder, or each in its own.
  [[nodiscard]] std::string beside(Platform platform, const std::string& name) const {
    const std::string folder = rom_folder(survey_, platform).value_or(".");
    const bool is_one = std::all_of(survey_.roms.begin(), survey_.roms.end(), [&](const RomFile& rom) {
      return saves_as(rom.facts.game.platform) != platform || folder_of(rom.path) == folder;
    });
    const auto prefix = is_one ? rule_prefix(folder) : std::nullopt;
    return prefix.value_or("{rom.folder}/") + name;
  }

  // The console of the platform's ROMs, if they are of one.
  [[nodiscard]] std::optional<Platform> one_console(Platform platform) const {
    std::optional<Platform> only;
    for (const RomFile& rom : survey_.roms) {
      if (saves_as(rom.facts.game.platform) != platform) continue;
      if (only && *only != rom.facts.game.platform) return std::nullopt;
      only = rom.facts.game.platform;
    }
    return only;
  }

  // Whether the saves of two consoles lie in the folder, or its name speaks of saves and of no console.
  [[nodiscard]] bool is_shared(const std::string& folder) const {
    const auto in_it = std::count_if(examples_.begin(), examples_.end(), [&](const PlatformRule& rule) {
      return named_folder(rule.path.text()) == folder;
    });
    const std::string low = lower(name_of(folder));
    return in_it > 1 || low.find("save") != std::string::npos || low == "sram" || low == "battery" ||
           low == "sav" || low == "srm";
  }

  const Survey& survey_;
  std::vector<PlatformRule>& rules_;
  std::vector<PlatformRule> examples_;
  std::set<std::string> extensions_;  // of the saves that are there
};

}  // namespace

std::string named_folder(const std::string& text) {
  const auto word = text.find('{');
  const auto slash = word == std::string::npos ? word : text.rfind('/', word);
  return slash == std::string::npos ? "." : text.substr(0, slash);
}

std::optional<Platform> console_named(const std::string& text) {
  return platform_from_tag(lower(name_of(named_folder(text))));
}

void add_likely_rules(const Survey& survey, const std::vector<SurveyedFile>& files,
                      std::vector<PlatformRule>& rules) {
  LikelyRules(survey, files, rules).run();
}

}  // namespace bayswap
