// A bay for one use, out of a path that somebody named.
#include <fmt/format.h>
#include <bayswap/cart_store.hpp>
#include <bayswap/detect.hpp>
#include <bayswap/remote_store.hpp>

#include <algorithm>
#include <cstdlib>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/detect_rules.hpp"
#include "fs/archive_store.hpp"

namespace bayswap {
namespace {

Bay place_at(const std::string& root, const std::string& name) {
  Bay bay;
  bay.name = name;
  bay.root = root;
  bay.origin = name;
  return bay;
}

Result<Bay> bay_of_folder(const Catalog& catalog, const std::string& path, const DetectOptions& options) {
  Bay bay = place_at(path, path);
  BAYSWAP_TRY(const auto store, open_place(bay));
  BAYSWAP_TRY(const Detection detection, detect_place(catalog, *store, options));
  if (detection.incomplete)
    return fail(ErrorCode::unsafe, fmt::format("{}: {}", path, detection.incomplete_why),
                "name the folder in it that has the saves");
  if (detection.rules.empty())
    return fail(
        ErrorCode::not_recognised, fmt::format("{}: found no saves or ROMs that show its rules", path),
        detection.unsettled.empty()
            ? "save once in a game there, or add a bay for it and name its form"
            : fmt::format("{}: {}; add a bay for it, and name its console",
                          detection.unsettled.front().paths.front(), detection.unsettled.front().reason));
  Bay found = bay_of(detection, path, bay.root);
  found.origin = path;
  return found;
}

// A rule for this file alone.
Result<Bay> bay_of_file(const std::string& path, const Finding& finding, Keeping keeping) {
  Bay bay = place_at(folder_of(path), path);
  PlatformRule rule;
  rule.platform = *finding.platform;
  rule.keeping = keeping;
  BAYSWAP_TRY(rule.path, NameRule::parse(std::string(name_of(path))));
  if (keeping == Keeping::file) rule.layout = finding.layout->id;
  bay.rules.push_back(std::move(rule));
  return bay;
}

bool is_archive(const std::string& path) {
  LocalStore disk;
  const auto bytes = disk.read(path);
  ArchiveLimits limits;
  return bytes && ArchiveStore::open(*bytes, path, limits);
}

// A folder that is itself a save, in a console's own tree or by its parameter file: the place is above it.
std::optional<Bay> bay_around(const std::string& folder) {
  const std::vector<std::string> names = components_of_path(folder);
  const auto place_above = [&](std::size_t count, PlatformRule rule) -> std::optional<Bay> {
    std::string root;
    for (std::size_t i = 0; i + count < names.size(); ++i) root += "/" + names[i];
    Bay bay = place_at(root.empty() ? "/" : root, root.empty() ? "/" : root);
    bay.rules.push_back(std::move(rule));
    return bay;
  };
  for (const PlatformRule& rule : shipped_trees()) {
    const std::size_t count = rule.path.components();
    // A path of words alone fits any.
    bool has_literal = false;
    bool fits = count <= names.size();
    for (std::size_t i = 0; fits && i < count; ++i) {
      has_literal = has_literal || rule.path.literal(i).has_value();
      fits = rule.path.match(i, names[names.size() - count + i], rule.platform).has_value();
    }
    if (fits && has_literal && rule.keeping == Keeping::folder) return place_above(count, rule);
  }
  LocalStore disk(folder);
  if (!is_parameter_folder(disk, ".") || names.empty()) return std::nullopt;
  PlatformRule rule;
  rule.platform = Platform::psp;
  rule.keeping = Keeping::folder;
  auto path = NameRule::parse("{game.code}{suffix}");
  if (!path || !path->match(0, names.back(), Platform::psp)) return std::nullopt;
  rule.path = *std::move(path);
  return place_above(1, std::move(rule));
}

}  // namespace

std::vector<std::string> components_of_path(const std::string& path) {
  std::vector<std::string> names;
  std::string_view rest = path;
  while (!rest.empty()) {
    const auto slash = std::min(rest.find('/'), rest.size());
    if (slash > 0) names.emplace_back(rest.substr(0, slash));
    rest.remove_prefix(std::min(slash + 1, rest.size()));
  }
  return names;
}

Result<Bay> bay_for_path(const Catalog& catalog, const std::string& named, const DetectOptions& options) {
  if (!is_local_url(named) || is_cart_path(named)) {
    if (is_cart_path(named)) {
      BAYSWAP_TRY(Bay bay, bay_like("cartridge", named, named));
      bay.origin = named;
      return bay;
    }
    return bay_of_folder(catalog, named, options);
  }
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(named));
  if (!info)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", named),
                "check the path; is the medium plugged in?");
  const std::string path = normalized(disk.absolute_path(named));
  if (info->kind == FileInfo::Kind::folder) {
    auto place = bay_of_folder(catalog, path, options);
    if (!place && place.error().code == ErrorCode::not_recognised)
      if (auto around = bay_around(path)) return *std::move(around);
    return place;
  }
  BAYSWAP_TRY(const Finding finding, inspect_file(catalog, disk, path));
  switch (finding.kind) {
    case FileKind::memory_card:
      return bay_of_file(path, finding, Keeping::card);
    case FileKind::single_save:
      return bay_of_file(path, finding, Keeping::single);
    case FileKind::package:
      return bay_of_file(path, finding, Keeping::package);
    default:
      break;
  }
  if (finding.kind == FileKind::unknown && is_archive(path)) return bay_of_folder(catalog, path, options);
  // Of a battery save, and of a ROM, the place it is in tells more than the file does.
  const char* const home = std::getenv("HOME");
  const std::string root = program_folder(folder_of(path), home != nullptr ? normalized(home) : "/");
  auto place = bay_of_folder(catalog, root, options);
  if (!place && place.error().code == ErrorCode::cancelled) return place;
  if (place) {
    const auto store = open_place(*place);
    if (store) {
      BayView view(catalog, *place, **store);
      const auto saves = view.saves(BayView::Depth::names);
      const std::string below = root == "/" ? path.substr(1) : path.substr(root.size() + 1);
      const bool is_there =
          saves && std::any_of((*saves)->begin(), (*saves)->end(), [&](const HeldSave& save) {
            return save.path == below || below.starts_with(save.path + "/") || save.facts.rom_path == below ||
                   std::any_of(save.held.begin(), save.held.end(),
                               [&](const HeldFile& file) { return file.path == below; });
          });
      if (is_there) return place;
    }
  }
  const bool is_battery = finding.kind == FileKind::battery_save || finding.kind == FileKind::controller_pak;
  if (is_battery && finding.platform && finding.either.empty())
    return bay_of_file(path, finding, Keeping::file);
  return fail(ErrorCode::not_recognised, fmt::format("{}: it is not clear what it is", named),
              finding.evidence.empty() ? std::string("inspect it") : finding.evidence.back(),
              {Remedy::Kind::inspect, {}});
}

}  // namespace bayswap
