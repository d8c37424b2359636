// Discs and programs whose first bytes say what they are (docs/formats/roms.md).
#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// gc and wii.
constexpr std::size_t wii_magic_at = 0x18;
constexpr std::uint32_t wii_magic = 0x5D1C9EA3;
constexpr std::size_t gc_magic_at = 0x1C;
constexpr std::uint32_t gc_magic = 0xC2339F3D;
constexpr std::size_t disc_title_at = 0x20;
constexpr std::size_t disc_title_bytes = 64;

// A raw sector has 12 bytes of synchronisation and 4 of address before its data.
constexpr std::array<Byte, 12> raw_sync{0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0};
constexpr std::size_t raw_lead_bytes = 16;

struct FirstSector {
  Platform platform;
  std::string_view magic;
  std::size_t code_at;
  std::size_t code_bytes;
  std::size_t title_at;
  std::size_t title_bytes;
  std::size_t areas_at;
};
constexpr std::array<FirstSector, 3> first_sectors{
    {{Platform::sat, "\x53\x45\x47\x41 \x53\x45\x47\x41\x53\x41\x54\x55\x52\x4E ", 0x20, 10, 0x60, 112, 0x40},
     {Platform::dc, "\x53\x45\x47\x41 \x53\x45\x47\x41\x4B\x41\x54\x41\x4E\x41 ", 0x40, 10, 0x80, 128, 0x30},
     {Platform::scd, "\x53\x45\x47\x41\x44\x49\x53\x43\x53\x59\x53\x54\x45\x4D  ", 0x180, 14, 0x150, 48,
      0x1F0}}};

// x360 programs: a table of optional headers, one of which has the ids.
constexpr std::uint32_t disc_program_magic = 0x58455832;
constexpr std::size_t program_count_at = 20;
constexpr std::uint32_t ids_key = 0x00040006;
constexpr std::size_t ids_title_at = 12;
constexpr std::uint32_t max_headers = 128;

Region region_of_areas(std::string_view areas) {
  const bool japan = areas.find('J') != std::string_view::npos;
  const bool america = areas.find('U') != std::string_view::npos;
  const bool europe = areas.find('E') != std::string_view::npos;
  if (static_cast<int>(japan) + static_cast<int>(america) + static_cast<int>(europe) > 1)
    return Region::world;
  return japan ? Region::japan : america ? Region::north_america : europe ? Region::europe : Region::unknown;
}

std::string_view as_text(ByteView bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

}  // namespace

std::optional<RomFacts> read_disc_header(const RomView& rom) {
  const Blob head = rom.at(0, disc_title_at + disc_title_bytes);
  if (head.empty()) return std::nullopt;
  const ByteView h = head.view();
  RomFacts facts;
  if (be32(h, wii_magic_at) == wii_magic) {
    facts.game.platform = Platform::wii;
  } else if (be32(h, gc_magic_at) == gc_magic) {
    facts.game.platform = Platform::gc;
  } else {
    return std::nullopt;
  }
  if (!is_plain_code(h.first(6))) return std::nullopt;
  facts.game.code = as_text(h.first(4));
  facts.game.maker = as_text(h.subspan(4, 2));
  facts.game.revision = h[7];
  facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
  facts.game.title = header_text(h.subspan(disc_title_at, disc_title_bytes));
  if (facts.game.platform == Platform::wii)
    facts.game.title_id = (std::uint64_t{0x00010000} << 32) | be32(h, 0);
  facts.tells_chips = true;
  facts.confidence = 0.99;
  facts.evidence.emplace_back("the disc has its console's magic number");
  return facts;
}

std::optional<RomFacts> read_first_sectors(const RomView& rom) {
  const bool raw = rom.head.size() > raw_lead_bytes &&
                   std::ranges::equal(rom.head.view().first(raw_sync.size()), raw_sync);
  const Blob sector = rom.at(raw ? raw_lead_bytes : 0, 0x200);
  if (sector.empty()) return std::nullopt;
  const ByteView s = sector.view();
  for (const FirstSector& known : first_sectors) {
    if (!as_text(s).starts_with(known.magic)) continue;
    RomFacts facts;
    facts.game.platform = known.platform;
    facts.game.code = header_text(s.subspan(known.code_at, known.code_bytes));
    facts.game.title = header_text(s.subspan(known.title_at, known.title_bytes));
    facts.game.region =
        region_of_areas(as_text(s.subspan(known.areas_at, known.platform == Platform::scd ? 3 : 10)));
    facts.tells_chips = true;
    facts.confidence = 0.98;
    facts.evidence.emplace_back("the first sector has what the console looks for");
    return facts;
  }
  return std::nullopt;
}

std::optional<RomFacts> read_x360_program(const RomView& rom) {
  const Blob head = rom.at(0, program_count_at + 4);
  if (head.empty() || be32(head.view(), 0) != disc_program_magic) return std::nullopt;
  const std::uint32_t count = be32(head.view(), program_count_at);
  if (count > max_headers) return std::nullopt;
  const Blob table = rom.at(program_count_at + 4, std::size_t{count} * 8);
  for (std::size_t at = 0; at + 8 <= table.size(); at += 8) {
    if (be32(table.view(), at) != ids_key) continue;
    const Blob ids = rom.at(be32(table.view(), at + 4), ids_title_at + 4);
    if (ids.empty()) break;
    RomFacts facts;
    facts.game.platform = Platform::x360;
    facts.game.title_id = be32(ids.view(), ids_title_at);
    facts.tells_chips = true;
    facts.confidence = 0.98;
    facts.evidence.emplace_back("the program's header has its magic number and its ids");
    return facts;
  }
  return std::nullopt;
}

}  // namespace bayswap
