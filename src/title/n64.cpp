#include <algorithm>
#include <array>

#include "base/endian.hpp"
#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/n64.md).
constexpr std::size_t n64_header_size = 0x40;
constexpr std::size_t entry_at = 0x08;
constexpr std::uint64_t least_rom_bytes = 0x1000;  // header and boot code
constexpr std::size_t check_code_at = 0x10;
constexpr std::size_t n64_title_at = 0x20;
constexpr std::size_t n64_title_size = 20;
constexpr std::size_t n64_code_at = 0x3b;
constexpr std::size_t n64_code_size = 4;
constexpr std::size_t n64_revision_at = 0x3f;
constexpr std::array<Byte, 4> usual_first_word{0x80, 0x37, 0x12, 0x40};

struct OrderMask {
  RomOrder order;
  std::size_t mask;  // the byte at file offset i belongs at i ^ mask
};
constexpr std::array<OrderMask, 3> orders{
    {{RomOrder::native, 0}, {RomOrder::swap16, 1}, {RomOrder::swap32, 3}}};

std::array<Byte, n64_header_size> in_order(ByteView head, std::size_t mask) {
  std::array<Byte, n64_header_size> header{};
  for (std::size_t i = 0; i < n64_header_size; ++i) header[i] = head[i ^ mask];
  return header;
}

// A title field is text or blank: no control characters but NUL padding at its end.
bool is_plausible_title(ByteView title) {
  const auto end = std::ranges::find(title, Byte{0});
  return std::all_of(title.begin(), end, [](Byte b) { return b >= 0x20 && b != 0x7f; }) &&
         std::all_of(end, title.end(), [](Byte b) { return b == 0 || b == ' '; });
}

}  // namespace

std::optional<RomFacts> read_n64_header(const RomView& rom) {
  const ByteView head = rom.head.view();
  if (head.size() < n64_header_size) return std::nullopt;
  for (const auto& [order, mask] : orders) {
    const auto header = in_order(head, mask);
    if (header[0] != 0x80) continue;
    const ByteView view(header);
    const ByteView code = view.subspan(n64_code_at, n64_code_size);
    const bool usual = std::ranges::equal(view.first(4), usual_first_word);
    const bool coded = is_plain_code(code);
    const bool uncoded = std::ranges::all_of(code, [](Byte b) { return b == 0 || b == ' '; });
    const bool titled = is_plausible_title(view.subspan(n64_title_at, n64_title_size));
    // Other bus settings than the usual are rare: then there is a title and a code, and the program after the
    // boot code begins in the machine's memory.
    const bool starts = header[entry_at] == 0x80 && rom.source.size_bytes >= least_rom_bytes;
    if (!usual && !(coded && titled && starts)) continue;

    RomFacts facts;
    facts.game.platform = Platform::n64;
    facts.game.title = header_text(view.subspan(n64_title_at, n64_title_size));
    if (coded) {
      facts.game.code.assign(code.begin(), code.end());
      facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
    }
    facts.game.revision = header[n64_revision_at];
    facts.order = order;
    facts.check_code =
        (static_cast<std::uint32_t>(be16(view, check_code_at)) << 16) | be16(view, check_code_at + 2);
    facts.confidence = usual ? (coded && titled ? 0.99 : 0.9) : 0.7;
    facts.evidence.push_back(
        std::string(usual ? "the first word is an n64 ROM's" : "the first byte is an n64 ROM's") +
        ", its bytes are stored " + std::string(to_text(order)));
    if (coded) {
      facts.evidence.push_back("the header names the code " + facts.game.code + " and revision " +
                               std::to_string(facts.game.revision));
    } else {
      facts.evidence.emplace_back(uncoded ? "the header's code field is blank: a program that was never sold"
                                          : "the header's code field holds no code");
    }
    return facts;
  }
  return std::nullopt;
}

}  // namespace bayswap
