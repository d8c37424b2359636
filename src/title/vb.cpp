#include <bit>

#include "base/text.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The header, counted back from the end of the ROM (docs/formats/roms.md).
constexpr std::size_t header_from_end = 0x220;
constexpr std::size_t vb_header_size = 32;
constexpr std::size_t vb_title_size = 20;
constexpr std::size_t vb_reserved_at = 20;
constexpr std::size_t reserved_size = 5;
constexpr std::size_t vb_maker_at = 25;
constexpr std::size_t maker_size = 2;
constexpr std::size_t vb_code_at = 27;
constexpr std::size_t vb_code_size = 4;
constexpr std::size_t vb_revision_at = 31;
constexpr char code_letter = 'V';  // the first letter of every product code
constexpr std::uint64_t smallest_rom = 1024;
constexpr std::uint64_t vb_largest_rom = std::uint64_t{16} << 20;

}  // namespace

std::optional<RomFacts> read_vb_header(const RomView& rom) {
  const std::uint64_t size = rom.source.size_bytes;
  if (size < smallest_rom || size > vb_largest_rom || !std::has_single_bit(size)) return std::nullopt;
  const Blob header = rom.at(size - header_from_end, vb_header_size);
  const ByteView h = header.view();
  Byte reserved = 0xff;
  if (h.empty() || !is_uniform(h.subspan(vb_reserved_at, reserved_size), &reserved) || reserved != 0 ||
      h[vb_code_at] != static_cast<Byte>(code_letter) ||
      !is_plain_code(h.subspan(vb_code_at, vb_code_size)) ||
      !is_plain_code(h.subspan(vb_maker_at, maker_size)))
    return std::nullopt;
  RomFacts facts;
  facts.game.platform = Platform::vb;
  facts.game.title = to_utf8(h.first(vb_title_size), TextEncoding::shift_jis);
  facts.game.code.assign(h.begin() + vb_code_at, h.begin() + vb_code_at + vb_code_size);
  facts.game.maker.assign(h.begin() + vb_maker_at, h.begin() + vb_maker_at + maker_size);
  facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
  facts.game.revision = h[vb_revision_at];
  facts.confidence = 0.9;
  facts.evidence.emplace_back("a vb header before the vectors at its end");
  return facts;
}

}  // namespace bayswap
