#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md).
constexpr std::size_t header_at = 0x100;
constexpr std::size_t md_header_end = 0x200;
constexpr std::size_t home_title_at = 0x120;
constexpr std::size_t md_title_at = 0x150;
constexpr std::size_t md_title_size = 48;
constexpr std::size_t product_at = 0x180;
constexpr std::size_t product_size = 14;
constexpr std::size_t md_checksum_at = 0x18e;
constexpr std::size_t ram_at = 0x1b0;
constexpr std::size_t regions_at = 0x1f0;
constexpr Byte eeprom_type = 0xe8;
constexpr Byte eeprom_mark = 0x40;  // 20 for other kinds of memory
constexpr std::array<Byte, 4> maker{0x53, 0x45, 0x47, 0x41};

// Runs of spaces fill the title up; one is enough.
std::string squeezed(const std::string& text) {
  std::string out;
  for (const char c : text)
    if (c != ' ' || (!out.empty() && out.back() != ' ')) out += c;
  while (!out.empty() && out.back() == ' ') out.pop_back();
  return out;
}

// Letters, or of later cartridges one hexadecimal digit whose bits stand for regions. A lone E is taken for
// the letter.
Region region_from(ByteView letters) {
  constexpr std::array<std::pair<unsigned, Region>, 3> bits{
      {{1, Region::japan}, {4, Region::north_america}, {8, Region::europe}}};
  const Byte first = letters.front();
  const bool alone = std::ranges::all_of(letters.subspan(1), [](Byte b) { return b == ' ' || b == 0; });
  const bool digit = (first >= '0' && first <= '9') || (first >= 'A' && first <= 'F' && first != 'E');
  if (alone && digit) {
    const unsigned value = first <= '9' ? first - '0' : first - 'A' + 10U;
    Region region = Region::unknown;
    for (const auto& [bit, one] : bits)
      if ((value & bit) != 0) region = region == Region::unknown ? one : Region::world;
    return region;
  }
  const auto has = [&](char c) { return std::ranges::find(letters, static_cast<Byte>(c)) != letters.end(); };
  const bool japan = has('J');
  const bool america = has('U');
  const bool europe = has('E');
  if (japan + america + europe > 1) return Region::world;
  return japan ? Region::japan : america ? Region::north_america : europe ? Region::europe : Region::unknown;
}

// The external RAM entry: "RA", a type, 20, first and last address.
void add_md_chips(ByteView h, RomFacts& facts) {
  facts.tells_chips = true;
  if (h[ram_at] != 'R' || h[ram_at + 1] != 'A') {
    facts.evidence.emplace_back("the header has no entry for external RAM (a serial EEPROM has none either)");
    facts.tells_chips = false;
    return;
  }
  const Byte type = h[ram_at + 2];
  if (type == eeprom_type && h[ram_at + 3] == eeprom_mark) {
    facts.chips.push_back({PartKind::eeprom, 0, "the header names a serial EEPROM without its size"});
    return;
  }
  const std::uint32_t first = be32(h, ram_at + 4);
  const std::uint32_t last = be32(h, ram_at + 8);
  if (last < first || last - first >= (1U << 20)) {
    facts.evidence.push_back(fmt::format("the external RAM entry makes no sense: {:X} to {:X}", first, last));
    return;
  }
  const bool both = (type & 0x18) == 0;
  const bool even = (type & 0x18) == 0x10;
  if ((type & 0x40) == 0) {
    facts.evidence.emplace_back("the header's external RAM is not battery-backed");
    return;
  }
  const std::size_t range = last - first + 1;
  const std::size_t size = both ? range : (range + 1) / 2;
  facts.chips.push_back(
      {PartKind::sram, size,
       fmt::format("the header's external RAM entry: {:X} to {:X}, {} addresses", first, last,
                   both   ? "all"
                   : even ? "even"
                          : "odd")});
}

}  // namespace

std::optional<RomFacts> read_md_header(const RomView& rom) {
  const Blob head = rom.at(0, md_header_end);
  const ByteView h = head.view();
  if (h.empty()) return std::nullopt;
  const auto maker_at = [&](std::size_t at) {
    return std::ranges::equal(h.subspan(at, maker.size()), maker);
  };
  if (!maker_at(header_at) && !maker_at(header_at + 1)) return std::nullopt;  // some begin with a space
  RomFacts facts;
  facts.game.platform = Platform::md;
  facts.game.title = squeezed(header_text(h.subspan(md_title_at, md_title_size)));
  if (facts.game.title.empty())
    facts.game.title = squeezed(header_text(h.subspan(home_title_at, md_title_size)));
  facts.game.code = squeezed(header_text(h.subspan(product_at, product_size)));
  facts.game.region = region_from(h.subspan(regions_at, 3));
  facts.check_code = be16(h, md_checksum_at);
  facts.confidence = 0.98;
  facts.evidence.emplace_back("an md header begins with the console's name");
  add_md_chips(h, facts);
  return facts;
}

}  // namespace bayswap
