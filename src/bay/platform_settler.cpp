#include "bay/platform_settler.hpp"

#include <algorithm>
#include <array>

#include "base/path.hpp"
#include "base/text.hpp"
#include "inspect/look.hpp"

namespace bayswap {
namespace {

// The platform whose tag a folder's name has as one of its words; of several folders the deepest.
std::optional<Platform> platform_in_path(const std::string& path) {
  for (std::string folder = folder_of(path); folder != "." && folder != "/"; folder = folder_of(folder)) {
    std::string word;
    for (const char c : lower(name_of(folder)) + " ") {
      const bool is_part = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
      if (is_part) {
        word += c;
        continue;
      }
      if (const auto platform = platform_from_tag(word)) return saves_as(*platform);
      word.clear();
    }
  }
  return std::nullopt;
}

// Games for the PC call their saves .sav too. They keep them where systems keep documents.
bool is_for_documents(const std::string& path) {
  static constexpr std::array<std::string_view, 8> names{"documents", "my documents",  "my games",
                                                         "appdata",   "program files", "savegames",
                                                         "pc games",  "downloads"};
  for (std::string folder = folder_of(path); folder != "." && folder != "/"; folder = folder_of(folder)) {
    const std::string low = lower(name_of(folder));
    if (std::find(names.begin(), names.end(), low) != names.end() || low.starts_with("program files"))
      return true;
  }
  return false;
}

bool is_of_a_program(std::string_view extension) {
  static constexpr std::array<std::string_view, 8> all{".exe", ".dll", ".so",   ".pak",
                                                       ".js",  ".lua", ".json", ".xml"};
  return std::find(all.begin(), all.end(), lower(extension)) != all.end();
}

}  // namespace

bool is_battery(const Finding& finding) {
  return finding.kind == FileKind::battery_save || finding.kind == FileKind::controller_pak;
}

std::vector<Platform> platforms_of(const Finding& finding) {
  std::vector<Platform> platforms;
  for (const Layout* layout : finding.either)
    if (std::find(platforms.begin(), platforms.end(), layout->platform) == platforms.end())
      platforms.push_back(layout->platform);
  if (platforms.empty() && finding.layout != nullptr) platforms.push_back(finding.layout->platform);
  return platforms;
}

bool has_codes(Platform platform) {
  return platform == Platform::n64 || platform == Platform::gba || platform == Platform::nds;
}

PlatformSettler::PlatformSettler(const Catalog& catalog, Store& store, const Survey& survey,
                                 const DetectOptions& options)
    : catalog_(catalog), store_(store), options_(options) {
  for (const RomFile& rom : survey.roms) {
    with_roms_.insert(saves_as(rom.facts.game.platform));
    rom_folders_.insert(folder_of(rom.path));
  }
  for (const auto& [path, info] : survey.files)
    if (is_of_a_program(extension_of(path))) program_folders_.insert(folder_of(path));
}

void PlatformSettler::note(const SurveyedFile& file) {
  if (file.rom && is_battery(file.finding) && file.finding.layout != nullptr)
    beside_[folder_of(file.path)].insert(file.finding.layout->platform);
}

std::optional<Platform> PlatformSettler::settle(SurveyedFile& file) const {
  std::vector<Platform> choices = platforms_of(file.finding);
  if (choices.empty()) return std::nullopt;
  if (choices.size() == 1 && (file.rom || file.finding.confidence >= 0.5)) return choices.front();
  if (const auto named = platform_in_path(file.path); named && take(file, *named)) return named;
  const auto one_of = [&](const std::set<Platform>& known) -> std::optional<Platform> {
    std::optional<Platform> only;
    for (const Platform platform : choices) {
      if (!known.contains(platform)) continue;
      if (only) return std::nullopt;
      only = platform;
    }
    return only;
  };
  if (looks_like_code(stem_of(file.path))) {
    std::set<Platform> coded;
    for (const Platform platform : choices)
      if (has_codes(platform)) coded.insert(platform);
    if (const auto only = one_of(coded); only && take(file, *only)) return only;
    if (!coded.empty()) std::erase_if(choices, [&](Platform platform) { return !coded.contains(platform); });
  }
  // Among saves of several platforms nothing says whose it is.
  const auto siblings = beside_.find(folder_of(file.path));
  if (siblings != beside_.end() && siblings->second.size() == 1)
    if (const auto only = one_of(siblings->second); only && take(file, *only)) return only;
  const std::string folder = folder_of(file.path);
  const bool may_be_foreign = lower(extension_of(file.path)) == ".sav" && siblings == beside_.end() &&
                              !rom_folders_.contains(folder) &&
                              (is_for_documents(file.path) || program_folders_.contains(folder));
  if (!may_be_foreign)
    if (const auto only = one_of(with_roms_); only && take(file, *only)) return only;
  if (choices.size() == 1) return choices.front();
  if (options_.unsettled_as && take(file, saves_as(*options_.unsettled_as)))
    return saves_as(*options_.unsettled_as);
  return std::nullopt;
}

bool PlatformSettler::take(SurveyedFile& file, Platform platform) const {
  const auto bytes = store_.read(file.path);
  if (!bytes) return false;
  Hints hints;
  hints.platform = platform;
  hints.extension = lower(extension_of(file.path));
  Finding finding = inspect_save(catalog_, *bytes, hints);
  if (!is_battery(finding) || finding.fit == Fit::trimmed) return false;
  file.finding = std::move(finding);
  return true;
}

}  // namespace bayswap
