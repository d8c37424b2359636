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

namespace {

// Of the whole file, and of the cartridge's own bytes.
std::vector<RomDigests> digests_of(Store& store, const RomFile& rom) {
  std::vector<RomDigests> all;
  const auto source = rom_source(store, rom.path);
  if (!source) return all;
  for (const std::size_t skip : {std::size_t{0}, rom.facts.header_size_bytes})
    if (all.empty() || skip > 0)
      if (auto digests = digest_rom(*source, skip)) all.push_back(*std::move(digests));
  return all;
}

std::string crc_text(const RomDigests& digests) {
  return fmt::format("{:08x}", digests.crc32);
}

}  // namespace

void set_rom_digests(NameFacts& facts, Store& store, const NameRule& name, Platform platform,
                     const RomFile& rom) {
  if (!name.uses("rom.md5") && !name.uses("rom.crc")) return;
  const auto digests = digests_of(store, rom);
  const auto places = find_places(store, name, platform);
  const auto set = [&](const char* word, std::string& digest, const auto& text_of) {
    if (!name.uses(word)) return;
    std::vector<std::string> in_place;
    for (const Place& place : places ? *places : std::vector<Place>{}) {
      const auto stem = place.words.find("rom.stem");
      const auto digits = place.words.find(word);
      if (digits != place.words.end() && (stem == place.words.end() || stem->second == stem_of(rom.path)) &&
          std::ranges::find(in_place, digits->second) == in_place.end())
        in_place.push_back(digits->second);
    }
    for (const RomDigests& own : digests)
      for (const std::string& digits : in_place)
        if (lower(digits) == text_of(own)) {
          digest = digits;
          return;
        }
    // Some digest that we don't know how to make: what is in place says which.
    digest = in_place.size() == 1 ? in_place.front() : digests.empty() ? "" : text_of(digests.front());
  };
  set("rom.md5", facts.rom_md5, [](const RomDigests& own) { return own.md5; });
  set("rom.crc", facts.rom_crc, crc_text);
}

std::string digest_word(Store& store, const RomFile& rom, std::string_view digits) {
  constexpr std::size_t md5_digits = 32;
  constexpr std::size_t crc_digits = 8;
  const bool is_hex = std::ranges::all_of(
      digits, [](char c) { return is_digit(c) || (c >= 'a' && c <= 'f') || (c >= 'A' && c <= 'F'); });
  if (!is_hex) return "";
  if (digits.size() == md5_digits) return "rom.md5";
  if (digits.size() != crc_digits) return "";
  // Eight digits can be anything: a date, a title's number.
  for (const RomDigests& digests : digests_of(store, rom))
    if (lower(digits) == crc_text(digests)) return "rom.crc";
  return "";
}

}  // namespace bayswap
