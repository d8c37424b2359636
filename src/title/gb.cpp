#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "title/readers.hpp"

namespace bayswap {
namespace {

// The cartridge header (docs/formats/roms.md).
constexpr std::size_t gb_header_end = 0x150;
constexpr std::size_t gb_picture_at = 0x104;
constexpr std::size_t gb_title_at = 0x134;
constexpr std::size_t gb_code_at = 0x13f;  // of later cartridges, at the end of the title
constexpr std::size_t gb_colour_at = 0x143;
constexpr std::size_t gb_type_at = 0x147;
constexpr std::size_t rom_size_at = 0x148;
constexpr std::size_t gb_ram_size_at = 0x149;
constexpr std::size_t destination_at = 0x14a;
constexpr std::size_t old_maker_at = 0x14b;
constexpr Byte later_maker = 0x33;  // the maker's code is elsewhere
constexpr std::size_t gb_revision_at = 0x14c;
constexpr std::size_t gb_checksum_at = 0x14d;
constexpr std::array<Byte, 4> picture_head{0xce, 0xed, 0x66, 0x66};

struct BoardType {
  Byte type;
  bool battery;
  bool clock;
};
constexpr std::array<BoardType, 28> board_types{{
    {0x00, false, false}, {0x01, false, false}, {0x02, false, false}, {0x03, true, false},
    {0x05, false, false}, {0x06, true, false},  {0x08, false, false}, {0x09, true, false},
    {0x0b, false, false}, {0x0c, false, false}, {0x0d, true, false},  {0x0f, true, true},
    {0x10, true, true},   {0x11, false, false}, {0x12, false, false}, {0x13, true, false},
    {0x19, false, false}, {0x1a, false, false}, {0x1b, true, false},  {0x1c, false, false},
    {0x1d, false, false}, {0x1e, true, false},  {0x20, true, false},  {0x22, true, false},
    {0xfc, true, false},  {0xfd, true, false},  {0xfe, true, false},  {0xff, true, false},
}};
constexpr std::array<std::size_t, 6> ram_sizes{0, 2048, 8192, 32768, 131072, 65536};
constexpr Byte four_bit_board = 0x06;  // 512 half-bytes inside the mapper
constexpr Byte motion_board = 0x22;    // a serial EEPROM of 256 bytes
constexpr Byte small_board = 0xfd;     // 32 bytes in the mapper, besides its clock

bool gb_checksum_is_right(ByteView h) {
  Byte sum = 0;
  for (std::size_t i = gb_title_at; i < gb_checksum_at; ++i) sum = static_cast<Byte>(sum - h[i] - 1);
  return sum == h[gb_checksum_at];
}

// Older titles fill all 15 bytes. Where one reaches up to the code, only codes as they were given out count,
// and only with the later kind of maker's code.
bool has_code(ByteView h) {
  const ByteView code = h.subspan(gb_code_at, 4);
  if (!is_plain_code(code)) return false;
  if (h[gb_code_at - 1] == 0 || h[gb_code_at - 1] == ' ') return true;
  constexpr std::string_view kinds = "ABHKV";
  return h[old_maker_at] == later_maker && kinds.find(static_cast<char>(code.front())) != kinds.npos &&
         region_of_letter(Platform::gbc, static_cast<char>(code.back())) != Region::unknown;
}

void add_gb_chips(ByteView h, const BoardType& board, RomFacts& facts) {
  facts.tells_chips = true;
  if (!board.battery) {
    facts.evidence.push_back(fmt::format("board type {:02X} has no battery", board.type));
    return;
  }
  const std::string by = fmt::format("board type {:02X} has a battery", board.type);
  if (board.type == four_bit_board) {
    facts.chips.push_back({PartKind::sram, 512, by + " and 512 half-bytes in the mapper"});
  } else if (board.type == motion_board) {
    facts.chips.push_back({PartKind::eeprom, 256, by + " and a serial EEPROM"});
  } else if (board.type == small_board) {
    facts.chips.push_back({PartKind::sram, 32, by + " and 32 bytes in the mapper"});
  } else if (h[gb_ram_size_at] < ram_sizes.size() && ram_sizes.at(h[gb_ram_size_at]) != 0) {
    const std::size_t size = ram_sizes.at(h[gb_ram_size_at]);
    facts.chips.push_back(
        {PartKind::sram, size, fmt::format("{}, the header says {} bytes of RAM", by, size)});
  }
  if (board.clock)
    facts.chips.push_back({PartKind::rtc, 0, fmt::format("board type {:02X} has a clock", board.type)});
}

// The machine starts before the header.
bool jumps_over_header(ByteView h) {
  constexpr std::size_t entry_at = 0x100;
  constexpr Byte jump = 0xc3;
  constexpr Byte near_jump = 0x18;
  return std::ranges::any_of(h.subspan(entry_at, 2), [](Byte b) { return b == jump || b == near_jump; });
}

// A title of plain characters with 00 after them, and flags that cartridges have.
bool is_titled(ByteView h) {
  const ByteView title = h.subspan(gb_title_at, gb_code_at - gb_title_at);
  const auto end = std::ranges::find_if(title, [](Byte b) { return b < ' ' || b > '~'; });
  const unsigned colour = h[gb_colour_at];
  return end - title.begin() >= 3 && std::all_of(end, title.end(), [](Byte b) { return b == 0; }) &&
         (colour == 0 || (colour & 0x80U) != 0 || (colour >= ' ' && colour <= '~')) &&
         h[destination_at] <= 1 && h[gb_ram_size_at] < ram_sizes.size();
}

}  // namespace

std::optional<RomFacts> read_gb_header(const RomView& rom) {
  const Blob head = rom.at(0, gb_header_end);
  const ByteView h = head.view();
  if (h.empty() || !gb_checksum_is_right(h)) return std::nullopt;
  const auto* board = std::ranges::find(board_types, h[gb_type_at], &BoardType::type);
  const bool pictured = std::ranges::equal(h.subspan(gb_picture_at, picture_head.size()), picture_head);
  // Eight bits of checksum prove little, and a save of 32 KiB has the size and the board that a header of
  // zeros says: without the boot picture there must be a title, or a program, as well.
  const bool sized = h[rom_size_at] <= 8 && rom.source.size_bytes == std::uint64_t{32768} << h[rom_size_at];
  if (board == board_types.end() ||
      !(pictured || (sized && is_titled(h) && (jumps_over_header(h) || h[gb_type_at] != 0))))
    return std::nullopt;

  RomFacts facts;
  const bool colour = (h[gb_colour_at] & 0x80) != 0;
  // C0: runs on the colour machine alone; 80: on both.
  facts.game.platform = (h[gb_colour_at] & 0xc0) == 0xc0 ? Platform::gbc : Platform::gb;
  ByteView title = h.subspan(gb_title_at, colour ? 15 : 16);
  if (const ByteView code = h.subspan(gb_code_at, 4); colour && has_code(h)) {
    facts.game.code.assign(code.begin(), code.end());
    facts.game.region = region_of_letter(facts.game.platform, facts.game.code.back());
    title = title.first(gb_code_at - gb_title_at);
  }
  facts.game.title = header_text(title);
  if (facts.game.region == Region::unknown && h[destination_at] == 0) facts.game.region = Region::japan;
  facts.game.revision = h[gb_revision_at];
  facts.check_code = h[gb_checksum_at];
  facts.confidence = pictured && sized ? 0.99 : pictured || jumps_over_header(h) ? 0.9 : 0.7;
  facts.evidence.emplace_back("the header's checksum is right");
  facts.evidence.emplace_back(pictured ? "the boot picture is before the title"
                                       : "the ROM's size is as the header says");
  add_gb_chips(h, *board, facts);
  return facts;
}

}  // namespace bayswap
