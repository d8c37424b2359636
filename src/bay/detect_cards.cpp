// Card images, single saves and packages: what their own bytes tell.
#include <algorithm>
#include <functional>
#include <map>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"

namespace bayswap {
namespace {

// A card of the kinds that a bay keeps as cards, not as chips.
bool is_card(const SurveyedFile& file) {
  const Finding& finding = file.finding;
  if (finding.kind == FileKind::memory_card) return finding.confidence >= 0.5;
  return finding.kind == FileKind::battery_save && finding.platform == Platform::sat &&
         finding.confidence >= 0.5;
}

std::string at(const std::string& prefix, const std::string& rest) {
  return prefix + rest;
}

class CardRules {
 public:
  CardRules(const Survey& survey, std::vector<SurveyedFile>& files) : survey_(survey), files_(files) {}

  std::vector<PlatformRule> run() {
    // Cards of one platform in one folder.
    std::map<std::pair<Platform, std::string>, std::vector<SurveyedFile*>> cards;
    std::map<std::pair<Platform, std::string>, std::vector<SurveyedFile*>> singles;
    for (SurveyedFile& file : files_) {
      if (!file.finding.platform || is_backup_folder(file.path)) continue;
      const std::pair key(*file.finding.platform, folder_of(file.path));
      if (is_card(file)) cards[key].push_back(&file);
      if (file.finding.kind == FileKind::single_save && file.finding.confidence >= 0.9)
        singles[key].push_back(&file);
      if (file.finding.kind == FileKind::package) package(file);
    }
    for (auto& [key, group] : cards) card_folder(key.first, key.second, group);
    for (auto& [key, group] : singles) single_folder(key.first, key.second, group);
    return std::move(rules_);
  }

 private:
  bool add(Platform platform, Keeping keeping, const std::string& path, const std::string& roms) {
    auto rule = NameRule::parse(path);
    if (!rule) return false;
    const bool is_known = std::any_of(rules_.begin(), rules_.end(), [&](const PlatformRule& other) {
      return other.platform == platform && other.path.text() == rule->text();
    });
    if (is_known) return true;
    PlatformRule made;
    made.platform = platform;
    made.path = *std::move(rule);
    made.keeping = keeping;
    made.roms = roms;
    rules_.push_back(std::move(made));
    return true;
  }

  // Named after their discs, numbered, or each with a name of its own.
  void card_folder(Platform platform, const std::string& folder, std::vector<SurveyedFile*>& group) {
    const auto prefix = rule_prefix(folder);
    if (!prefix) return;
    std::map<std::string, std::vector<SurveyedFile*>> by_rule;
    for (SurveyedFile* card : group) {
      const std::string extension(extension_of(card->path));
      const std::string stem(stem_of(card->path));
      if (card->rom && card->rom_word == "rom.stem" &&
          lower(stem) == lower(stem_of(survey_.roms[*card->rom].path))) {
        by_rule[at(*prefix, "{rom.stem}" + extension)].push_back(card);
        continue;
      }
      by_rule[at(*prefix, numbered(stem, group) + extension)].push_back(card);
    }
    for (auto& [path, own] : by_rule) {
      // Named after a ROM of their own console they are no odd ones.
      const bool is_owned = std::ranges::any_of(own, [&](const SurveyedFile* card) {
        return card->rom && saves_as(survey_.roms[*card->rom].facts.game.platform) == saves_as(platform);
      });
      if (!is_owned && others_under(path, platform, folder, own) > own.size()) {
        // Odd ones among other saves: they make no rule for those.
        for (SurveyedFile* card : own)
          if (card->path.find_first_of("{}") == std::string::npos &&
              add(platform, Keeping::card, card->path, ""))
            card->is_claimed = true;
        continue;
      }
      const bool by_rom = path.find("{rom.stem}") != std::string::npos;
      const std::string roms = by_rom ? rom_folder(survey_, platform).value_or(".") : "";
      if (!add(platform, Keeping::card, path, roms)) continue;
      for (SurveyedFile* card : own) card->is_claimed = true;
    }
  }

  // Files of the folder that the rule would take as cards, and that are none.
  [[nodiscard]] std::size_t others_under(const std::string& path, Platform platform,
                                         const std::string& folder,
                                         const std::vector<SurveyedFile*>& own) const {
    const auto rule = NameRule::parse(path);
    if (!rule) return 0;
    const std::size_t last = rule->components() - 1;
    return static_cast<std::size_t>(std::ranges::count_if(files_, [&](const SurveyedFile& file) {
      return folder_of(file.path) == folder && std::ranges::find(own, &file) == own.end() && !is_card(file) &&
             rule->match(last, name_of(file.path), platform).has_value();
    }));
  }

  // "card-1" as "card-{slot}", "Card A" as "Card {slot.letter}" where there is another of that name.
  static std::string numbered(const std::string& stem, const std::vector<SurveyedFile*>& group) {
    std::string name = stem;
    while (!name.empty() && is_digit(name.back())) name.pop_back();
    const std::size_t digits = stem.size() - name.size();
    if (digits == 2 && stem[name.size()] == '0' && !name.empty()) return name + "{slot.2}";
    if (digits > 0 && digits <= 2 && stem[name.size()] != '0' && !name.empty()) return name + "{slot}";
    const bool has_letter = stem.size() > 2 &&
                            (stem[stem.size() - 2] == ' ' || stem[stem.size() - 2] == '-' ||
                             stem[stem.size() - 2] == '_' || stem[stem.size() - 2] == '.') &&
                            lower(stem).back() >= 'a' && lower(stem).back() <= 'h';
    const std::string front = stem.substr(0, stem.size() - std::min<std::size_t>(stem.size(), 1));
    const bool has_sibling = std::any_of(group.begin(), group.end(), [&](const SurveyedFile* other) {
      const std::string_view own = stem_of(other->path);
      return own.size() == stem.size() && own != stem && own.starts_with(front);
    });
    return has_letter && has_sibling ? front + "{slot.letter}" : stem;
  }

  void single_folder(Platform platform, const std::string& folder, std::vector<SurveyedFile*>& group) {
    const auto prefix = rule_prefix(folder);
    if (!prefix) return;
    for (SurveyedFile* file : group) {
      const std::string extension(extension_of(file->path));
      const auto dashed = NameRule::parse("{game.maker}-{game.code}-{save.name}" + extension);
      const bool is_dashed =
          platform == Platform::gc && dashed && dashed->match(0, name_of(file->path), platform);
      const std::string path =
          at(*prefix, (is_dashed ? "{game.maker}-{game.code}-{save.name}" : "{save.name}") + extension);
      if (add(platform, Keeping::single, path, "")) file->is_claimed = true;
    }
  }

  // A package outside of the usual tree: folders named by a profile or a title become words.
  void package(SurveyedFile& file) {
    std::string path;
    std::string part;
    const auto end_part = [&] {
      const bool is_hex = std::all_of(part.begin(), part.end(), [](char c) {
        return is_digit(c) || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F');
      });
      const std::string word = part.size() == 16 && is_hex                        ? "{account}"
                               : part.size() == 8 && is_hex && part != "00000001" ? "{title.low}"
                                                                                  : part;
      const bool is_used = word.starts_with('{') && path.find(word) != std::string::npos;
      path += (is_used ? part : word) + "/";
      part.clear();
    };
    const std::string folder = folder_of(file.path);
    if (folder != ".") {
      for (const char c : folder + "/")
        if (c == '/')
          end_part();
        else
          part += c;
    }
    if (add(Platform::x360, Keeping::package, path + "{save.name}", "")) file.is_claimed = true;
  }

  const Survey& survey_;
  std::vector<SurveyedFile>& files_;
  std::vector<PlatformRule> rules_;
};

}  // namespace

std::optional<std::string> rule_prefix(const std::string& folder) {
  if (folder == ".") return "";
  if (folder.find_first_of("{}") != std::string::npos) return std::nullopt;
  return folder + "/";
}

std::optional<std::string> rom_folder(const Survey& survey, Platform platform) {
  std::vector<std::string> paths;
  for (const RomFile& rom : survey.roms)
    if (saves_as(rom.facts.game.platform) == saves_as(platform)) paths.push_back(rom.path);
  if (paths.empty()) return std::nullopt;
  return common_folder(paths);
}

std::vector<PlatformRule> find_card_rules(const Survey& survey, std::vector<SurveyedFile>& files) {
  return CardRules(survey, files).run();
}

}  // namespace bayswap
