#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md).
constexpr std::size_t nds_header_end = 0x160;
constexpr std::size_t nds_code_at = 0x0c;
constexpr std::size_t nds_revision_at = 0x1e;
constexpr std::size_t nds_picture_at = 0xc0;
constexpr std::size_t picture_size = 0x9c;
constexpr std::size_t picture_crc_at = 0x15c;
constexpr std::size_t header_crc_at = 0x15e;

}  // namespace

std::optional<RomFacts> read_nds_header(const RomView& rom) {
  const Blob head = rom.at(0, nds_header_end);
  const ByteView h = head.view();
  if (h.empty() || crc16(h.first(header_crc_at)) != le16(h, header_crc_at) || le16(h, header_crc_at) == 0 ||
      !is_plain_title(h.first(12)))
    return std::nullopt;
  const bool pictured = crc16(h.subspan(nds_picture_at, picture_size)) == le16(h, picture_crc_at);
  RomFacts facts;
  facts.game.platform = Platform::nds;
  facts.game.title = header_text(h.first(12));
  if (const ByteView code = h.subspan(nds_code_at, 4); is_plain_code(code)) {
    facts.game.code.assign(code.begin(), code.end());
    facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
  }
  facts.game.revision = h[nds_revision_at];
  facts.check_code = le16(h, header_crc_at);
  facts.confidence = pictured ? 0.99 : 0.95;
  facts.evidence.emplace_back(pictured ? "the header's CRC and its picture's CRC are right"
                                       : "the header's CRC is right");
  return facts;
}

}  // namespace bayswap
