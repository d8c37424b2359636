#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md). It begins with one of two licence lines of 28 characters; what
// they have in common is the part from offset 10 on.
constexpr std::size_t ngp_header_end = 0x40;
constexpr std::size_t line_at = 10;
constexpr std::array<Byte, 18> line{0x42, 0x59, 0x20, 0x53, 0x4e, 0x4b, 0x20, 0x43, 0x4f,
                                    0x52, 0x50, 0x4f, 0x52, 0x41, 0x54, 0x49, 0x4f, 0x4e};
constexpr std::size_t ngp_number_at = 0x20;
constexpr std::size_t ngp_revision_at = 0x22;
constexpr std::size_t ngp_title_at = 0x24;
constexpr std::size_t ngp_title_size = 12;

}  // namespace

std::optional<RomFacts> read_ngp_header(const RomView& rom) {
  const Blob head = rom.at(0, ngp_header_end);
  const ByteView h = head.view();
  if (h.empty() || !std::ranges::equal(h.subspan(line_at, line.size()), line)) return std::nullopt;
  RomFacts facts;
  facts.game.platform = Platform::ngp;
  facts.game.title = header_text(h.subspan(ngp_title_at, ngp_title_size));
  facts.game.code = fmt::format("{:04X}", le16(h, ngp_number_at));
  facts.game.region = Region::world;
  facts.game.revision = h[ngp_revision_at];
  facts.confidence = 0.99;
  facts.tells_chips = true;
  facts.chips.push_back({PartKind::flash, 0, "ngp cartridges keep saves in blocks of their own flash ROM"});
  facts.evidence.emplace_back("it begins with the licence line of an ngp cartridge");
  return facts;
}

}  // namespace bayswap
