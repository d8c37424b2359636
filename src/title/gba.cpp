#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/try.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md).
constexpr std::size_t gba_header_end = 0xc0;
constexpr std::size_t gba_title_at = 0xa0;
constexpr std::size_t gba_code_at = 0xac;
constexpr std::size_t fixed_at = 0xb2;  // always 96
constexpr std::size_t gba_reserved_at = 0xb5;
constexpr std::size_t gba_revision_at = 0xbc;
constexpr std::size_t gba_checksum_at = 0xbd;

// Names that the save libraries leave in a ROM, each followed by a version.
struct ChipTag {
  std::string_view text;
  PartKind kind;
  std::size_t size_bytes;  // 0: the tag does not say
  const char* what;
};
constexpr std::array<ChipTag, 7> chip_tags{{
    {"EEPROM_V", PartKind::eeprom, 0, "EEPROM of 512 or 8192 bytes"},
    {"SRAM_V", PartKind::sram, 32768, "SRAM of 32768 bytes"},
    {"SRAM_F_V", PartKind::sram, 32768, "SRAM of 32768 bytes"},
    {"FLASH_V", PartKind::flash, 65536, "flash memory of 65536 bytes"},
    {"FLASH512_V", PartKind::flash, 65536, "flash memory of 65536 bytes"},
    {"FLASH1M_V", PartKind::flash, 131072, "flash memory of 131072 bytes"},
    {"RTC_V", PartKind::rtc, 0, "a clock"},
}};

bool gba_checksum_is_right(ByteView h) {
  Byte sum = 0x19;
  for (std::size_t i = gba_title_at; i < gba_checksum_at; ++i) sum = static_cast<Byte>(sum + h[i]);
  return static_cast<Byte>(sum + h[gba_checksum_at]) == 0;
}

}  // namespace

std::optional<RomFacts> read_gba_header(const RomView& rom) {
  const Blob head = rom.at(0, gba_header_end);
  const ByteView h = head.view();
  if (h.empty() || h[fixed_at] != 0x96 || !gba_checksum_is_right(h) ||
      !is_plain_title(h.subspan(gba_title_at, 12)) ||
      std::ranges::any_of(h.subspan(gba_reserved_at, 7), [](Byte b) { return b != 0; }))
    return std::nullopt;
  RomFacts facts;
  facts.game.platform = Platform::gba;
  facts.game.title = header_text(h.subspan(gba_title_at, 12));
  if (const ByteView code = h.subspan(gba_code_at, 4); is_plain_code(code)) {
    facts.game.code.assign(code.begin(), code.end());
    facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
  }
  facts.game.revision = h[gba_revision_at];
  facts.check_code = h[gba_checksum_at];
  facts.confidence = 0.98;
  facts.evidence.emplace_back("the fixed byte and the checksum of a gba header are right");
  return facts;
}

Result<void> find_chip_tags(const RomSource& rom, RomFacts& facts) {
  if (facts.game.platform != Platform::gba) return {};
  constexpr std::size_t chunk = std::size_t{1} << 20;
  constexpr std::size_t overlap = 16;  // over the longest tag
  for (std::uint64_t at = 0; at < rom.size_bytes; at += chunk - overlap) {
    BAYSWAP_TRY(const Blob bytes, rom.read(at, chunk));
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    for (const ChipTag& tag : chip_tags) {
      // RTC_V is the end of a longer word, so only the others must begin a 32-bit word.
      auto found = text.find(tag.text);
      while (found != std::string_view::npos && tag.kind != PartKind::rtc && (at + found) % 4 != 0)
        found = text.find(tag.text, found + 1);
      const bool known = std::ranges::any_of(facts.chips, [&](const ChipFact& chip) {
        return chip.kind == tag.kind && chip.size_bytes == tag.size_bytes;
      });
      if (found == std::string_view::npos || known) continue;
      facts.chips.push_back(
          {tag.kind, tag.size_bytes,
           fmt::format("the ROM holds the save library's name {}..., for {}", tag.text, tag.what)});
      facts.tells_chips = true;
    }
    if (bytes.size() < chunk) break;
  }
  return {};
}

}  // namespace bayswap
