// How the save states of a place are called.
#include <algorithm>
#include <map>

#include "base/path.hpp"
#include "base/text.hpp"
#include "bay/detect_rules.hpp"

namespace bayswap {
namespace {

// The ROM whose stem the name begins with, and what comes after it: ".state3".
std::optional<std::pair<const RomFile*, std::string>> rom_and_rest(const Survey& survey,
                                                                   const std::string& path) {
  const std::string name(name_of(path));
  for (std::size_t length = name.size(); length > 0; --length) {
    const bool is_end = length == name.size() || name[length] == '.' || name[length] == '_' ||
                        name[length] == '-' || is_digit(name[length]);
    if (!is_end) continue;
    const auto found = survey.by_stem.find(lower(name.substr(0, length)));
    if (found != survey.by_stem.end()) return std::pair(&survey.roms[found->second], name.substr(length));
  }
  return std::nullopt;
}

}  // namespace

void add_state_rules(const Survey& survey, const std::vector<SurveyedFile>& files,
                     std::vector<PlatformRule>& rules) {
  struct Name {
    bool has_bare = false;
    bool has_number = false;
  };
  std::map<Platform, std::map<std::pair<std::string, std::string>, Name>> names;  // by folder and rest
  for (const SurveyedFile& file : files) {
    const auto rom = rom_and_rest(survey, file.path);
    // Of a kind that no map knows: by a name that only states have.
    const bool is_called_so = rom && lower(rom->second).starts_with(".state");
    if (file.finding.kind != FileKind::save_state && !is_called_so) continue;
    const auto platform = rom ? std::optional(rom->first->facts.game.platform) : file.finding.platform;
    if (!platform || !rom) continue;
    std::string rest = rom->second;
    std::size_t digits = 0;
    while (digits < rest.size() && is_digit(rest[rest.size() - 1 - digits])) ++digits;
    rest.resize(rest.size() - digits);
    const bool is_beside = folder_of(rom->first->path) == folder_of(file.path);
    Name& name = names[saves_as(*platform)][{is_beside ? "{rom.folder}" : folder_of(file.path), rest}];
    (digits > 0 ? name.has_number : name.has_bare) = true;
  }
  for (const auto& [own_platform, own] : names) {
    const Platform platform = own_platform;
    const auto rule = std::find_if(rules.begin(), rules.end(), [&](const PlatformRule& one) {
      return saves_as(one.platform) == platform && !one.roms.empty();
    });
    if (rule == rules.end()) continue;
    for (const auto& [key, name] : own) {
      const auto& [folder, rest] = key;
      const auto prefix =
          folder == "{rom.folder}" ? std::optional<std::string>("{rom.folder}/") : rule_prefix(folder);
      if (!prefix || rest.find_first_of("{}") != std::string::npos) continue;
      // An autosave has a word where others have their number.
      const std::string number = name.has_number    ? (name.has_bare ? "{slot.bare}" : "{slot}")
                                 : rest == ".state" ? "{slot.bare}"
                                                    : "";
      std::string text = *prefix;
      text += "{rom.stem}";
      text += rest;
      text += number;
      if (auto parsed = NameRule::parse(text)) rule->states.push_back(*std::move(parsed));
    }
  }
}

}  // namespace bayswap
