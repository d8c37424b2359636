// ROMs and discs as files: plain, headerless, in archives, in tracks.
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "inspect/disc_sheet.hpp"
#include "inspect/look.hpp"
#include "inspect/packed_rom.hpp"

namespace bayswap {
namespace {

// The track that tells the game, through playlist and sheet.
Result<std::optional<std::pair<std::string, std::uint64_t>>> data_track(Store& store,
                                                                        const std::string& path) {
  BAYSWAP_TRY(auto sheet, read_disc_sheet(store, path));
  if (!sheet) return std::nullopt;
  BAYSWAP_TRY(const auto inner, lower(extension_of(path)) == ".m3u" ? read_disc_sheet(store, sheet->data_file)
                                                                    : std::optional<DiscSheet>{});
  if (inner) sheet = inner;
  return std::pair{sheet->data_file, sheet->data_at};
}

}  // namespace

std::optional<RomFacts> rom_by_name(std::string_view path, std::uint64_t size_bytes) {
  const std::string extension = lower(extension_of(path));
  constexpr std::uint64_t pce_page = 8192;
  constexpr std::uint64_t copier_header = 512;
  RomFacts facts;
  if (extension == ".pce" && size_bytes > 0 && size_bytes % pce_page % copier_header == 0 &&
      size_bytes % pce_page <= copier_header) {
    facts.game.platform = Platform::pce;
    facts.header_size_bytes = static_cast<std::size_t>(size_bytes % pce_page);
    facts.chips.push_back({PartKind::sram, 2048, "the machine has 2048 bytes of backup memory"});
  } else if ((extension == ".sms" || extension == ".gg") && size_bytes >= 8192 &&
             size_bytes <= (std::uint64_t{4} << 20) && size_bytes % 8192 % copier_header == 0 &&
             size_bytes % 8192 <= copier_header) {
    facts.game.platform = extension == ".gg" ? Platform::gg : Platform::sms;
    facts.header_size_bytes = static_cast<std::size_t>(size_bytes % 8192);
  } else if (extension == ".vb" && size_bytes >= 1024 && size_bytes <= (std::uint64_t{16} << 20) &&
             std::has_single_bit(size_bytes)) {
    facts.game.platform = Platform::vb;
  } else if (extension == ".a26" && size_bytes >= 2048 && size_bytes <= 65536) {
    facts.game.platform = Platform::a26;
    facts.tells_chips = true;  // there are none
  } else {
    return std::nullopt;
  }
  facts.confidence = 0.5;
  const bool headers = facts.game.platform == Platform::sms || facts.game.platform == Platform::gg ||
                       facts.game.platform == Platform::vb;
  facts.evidence.push_back(headers ? fmt::format("the extension {}; some {} ROMs have no header", extension,
                                                 tag(facts.game.platform))
                                   : fmt::format("the extension {}; {} ROMs have no header to tell them by",
                                                 extension, tag(facts.game.platform)));
  return facts;
}

Result<LookedAt> read_as_rom(Store& store, const std::string& path) {
  constexpr std::size_t small = std::size_t{256} << 10;
  LookedAt rom;
  BAYSWAP_TRY(Blob head, store.read_head(path, small + 1));
  if (head.size() <= small) {
    rom.whole = head;
    rom.source = {head.size(), [head](std::uint64_t at, std::size_t count) -> Result<Blob> {
                    return head.slice(static_cast<std::size_t>(std::min<std::uint64_t>(at, head.size())),
                                      count);
                  }};
  } else {
    BAYSWAP_TRY(rom.source, rom_source(store, path));
    rom.source.read = [head, rest = rom.source.read](std::uint64_t at, std::size_t count) -> Result<Blob> {
      if (at + count > head.size()) return rest(at, count);
      return head.slice(static_cast<std::size_t>(at), count);
    };
  }
  if (auto facts = bayswap::identify_rom(rom.source)) {
    rom.facts = *std::move(facts);
  } else if (facts.error().code != ErrorCode::not_recognised) {
    return tl::unexpected(std::move(facts.error()));
  } else {
    rom.facts = rom_by_name(path, rom.source.size_bytes);
  }
  return rom;
}

Result<RomSource> rom_source(Store& store, const std::string& path) {
  BAYSWAP_TRY(const auto track, data_track(store, path));
  if (track) {
    const auto& [file, from] = *track;
    BAYSWAP_TRY(const auto info, store.stat(file));
    if (!info)
      return fail(ErrorCode::not_found,
                  fmt::format("{} names {}, which does not exist", store.display_path(path), file),
                  "put the track files beside it");
    const std::uint64_t left = info->size_bytes - std::min(info->size_bytes, from);
    return RomSource{left, [&store, file = file, from = from](std::uint64_t at, std::size_t count) {
                       return store.read_range(file, from + at, count);
                     }};
  }
  BAYSWAP_TRY(const auto packed, packed_rom(store, path));
  if (packed)
    return RomSource{
        packed->bytes.size(), [rom = packed->bytes](std::uint64_t at, std::size_t count) -> Result<Blob> {
          return rom.slice(static_cast<std::size_t>(std::min<std::uint64_t>(at, rom.size())), count);
        }};
  BAYSWAP_TRY(const auto info, store.stat(path));
  BAYSWAP_TRY(const Blob probe, store.read_head(path, 1));  // says what stands in the way of reading
  return RomSource{info ? info->size_bytes : 0, [&store, path](std::uint64_t at, std::size_t count) {
                     return store.read_range(path, at, count);
                   }};
}

Result<RomFacts> identify_rom(Store& store, const std::string& path) {
  BAYSWAP_TRY(const auto track, data_track(store, path));
  if (track) {
    BAYSWAP_TRY(const RomSource source, rom_source(store, path));
    auto facts = identify_rom(source);
    if (!facts)
      facts.error().message = fmt::format("{}: {}", store.display_path(path), facts.error().message);
    if (facts) facts->evidence.push_back(fmt::format("by the data track in {}", name_of(track->first)));
    return facts;
  }
  BAYSWAP_TRY(const auto packed, packed_rom(store, path));
  if (packed) return packed->facts;
  BAYSWAP_TRY(LookedAt rom, read_as_rom(store, path));
  if (rom.facts) return *std::move(rom.facts);
  auto facts = identify_rom(rom.source);  // says what was looked for
  if (!facts) facts.error().message = fmt::format("{}: {}", store.display_path(path), facts.error().message);
  return facts;
}

std::optional<std::pair<std::string, RomFacts>> rom_beside(Store& store, const std::string& save_path) {
  const std::string folder = folder_of(save_path);
  const auto entries = store.list_stem(folder, stem_of(save_path));
  if (!entries) return std::nullopt;
  for (const FileInfo& entry : *entries) {
    if (entry.kind != FileInfo::Kind::file || entry.name == name_of(save_path)) continue;
    const std::string path = folder == "." ? entry.name : join_path(folder, entry.name);
    if (auto facts = identify_rom(store, path)) return std::pair{path, *std::move(facts)};
  }
  return std::nullopt;
}

}  // namespace bayswap
