// The ROMs in a folder.
#include "bay/rom_list.hpp"

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "inspect/disc_sheet.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_files = 50000;

struct Found {
  std::vector<RomFile> roms;
  std::set<std::string> tracks;  // files that a disc's sheet, or a playlist, names: it stands for them
  std::size_t seen = 0;
};

Result<void> collect(Store& store, const std::string& folder, int depth, Found& found) {
  BAYSWAP_TRY(const auto entries, store.list(folder));
  for (const FileInfo& entry : entries) {
    if (++found.seen > max_files)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} holds over {} files", store.display_path(folder), max_files),
                  "point the bay's roms at the ROMs' own folder");
    const std::string path = folder == "." ? entry.name : join_path(folder, entry.name);
    if (entry.kind == FileInfo::Kind::folder && depth < max_rom_depth && !entry.link &&
        !is_os_metadata(entry.name)) {
      if (auto below = collect(store, path, depth + 1, found);
          !below && below.error().code == ErrorCode::does_not_fit)
        return below;  // a folder we may not read is passed over
    }
    if (entry.kind != FileInfo::Kind::file) continue;
    if (const auto sheet = read_disc_sheet(store, path); sheet && *sheet)
      found.tracks.insert((*sheet)->files.begin(), (*sheet)->files.end());
    if (auto facts = identify_rom(store, path)) found.roms.push_back({path, *std::move(facts)});
  }
  return {};
}

}  // namespace

Result<std::vector<RomFile>> list_all_roms(Store& store, const std::string& folder) {
  Found found;
  BAYSWAP_CHECK(collect(store, folder, 0, found));
  std::erase_if(found.roms, [&](const RomFile& rom) { return found.tracks.contains(rom.path); });
  return std::move(found.roms);
}

Result<std::vector<RomFile>> list_roms(Store& store, const PlatformRule& rule) {
  if (rule.roms.empty()) return std::vector<RomFile>{};
  BAYSWAP_TRY(auto roms, list_all_roms(store, rule.roms));
  std::erase_if(
      roms, [&](const RomFile& rom) { return saves_as(rom.facts.game.platform) != saves_as(rule.platform); });
  return roms;
}

std::string rom_md5_for(Store& store, const PlatformRule& rule, const RomFile& rom) {
  std::vector<std::string> in_place;
  if (const auto places = find_places(store, rule.path, rule.platform))
    for (const Place& place : *places) {
      const auto stem = place.words.find("rom.stem");
      const auto md5 = place.words.find("rom.md5");
      if (md5 != place.words.end() && (stem == place.words.end() || stem->second == stem_of(rom.path)))
        in_place.push_back(md5->second);
    }
  const auto source = rom_source(store, rom.path);
  if (!source) return in_place.size() == 1 ? in_place.front() : "";
  const auto whole = digest_rom(*source);
  const auto bare = digest_rom(*source, rom.facts.header_size_bytes);
  for (const auto& digests : {whole, bare})
    if (digests)
      for (const std::string& name : in_place)
        if (lower(name) == digests->md5) return name;
  // Some digest that we don't know how to make: the save in place says which.
  if (in_place.size() == 1) return in_place.front();
  return whole ? whole->md5 : "";
}

}  // namespace bayswap
