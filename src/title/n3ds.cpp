#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// A cartridge's header, and the header of the program in it (docs/formats/3ds.md). Sizes count units of 512
// bytes.
constexpr std::size_t magic_at = 0x100;
constexpr std::uint32_t cartridge_magic = 0x4E435344;
constexpr std::uint32_t n3ds_program_magic = 0x4E434348;
constexpr std::size_t first_partition_at = 0x120;
constexpr std::size_t unit_bytes = 512;
constexpr std::size_t header_bytes = 0x200;
constexpr std::size_t title_id_at = 0x118;
constexpr std::size_t n3ds_maker_at = 0x110;
constexpr std::size_t n3ds_code_at = 0x150;
constexpr std::size_t code_bytes = 16;

}  // namespace

std::optional<RomFacts> read_3ds_header(const RomView& rom) {
  Blob head = rom.at(0, header_bytes);
  if (head.empty()) return std::nullopt;
  if (be32(head.view(), magic_at) == cartridge_magic)
    head = rom.at(std::uint64_t{le32(head.view(), first_partition_at)} * unit_bytes, header_bytes);
  if (head.empty() || be32(head.view(), magic_at) != n3ds_program_magic) return std::nullopt;
  const ByteView h = head.view();
  RomFacts facts;
  facts.game.platform = Platform::n3ds;
  facts.game.title_id = le64(h, title_id_at);
  const ByteView maker = h.subspan(n3ds_maker_at, 2);
  if (is_plain_code(maker)) facts.game.maker = std::string(maker.begin(), maker.end());
  // "CTR-P-ABCD": the four letters after the last dash are the game's.
  const std::string whole = header_text(h.subspan(n3ds_code_at, code_bytes));
  std::string_view code = whole;
  code.remove_prefix(code.rfind('-') + 1);
  facts.game.code = std::string(code);
  facts.game.region = region_of_code(Platform::n3ds, facts.game.code);
  facts.tells_chips = true;
  facts.confidence = 0.98;
  facts.evidence.emplace_back("the program's header has its magic number");
  return facts;
}

}  // namespace bayswap
