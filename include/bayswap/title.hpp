// Who is this game, and which chip does it carry: ROM headers.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save.hpp>

#include <functional>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How the bytes of a ROM file stand against the cartridge's own order.
enum class RomOrder { native, swap16, swap32 };

/// "as the cartridge has it", ...
[[nodiscard]] std::string_view to_text(RomOrder order);

struct RomFacts {
  GameId game;
  RomOrder order = RomOrder::native;
  std::uint32_t check_code = 0;  // a checksum that the header itself holds; 0 where it has none
  std::size_t header_size_bytes =
      0;                        // bytes in front of the cartridge's own: a copier's or a container's header
  std::vector<ChipFact> chips;  // what the header says of save chips; see also find_chip_tags
  bool tells_chips = false;     // the header would say so if there were others
  double confidence = 0;        // 0 to 1
  std::vector<std::string> evidence;  // one sentence each
};

/// A ROM file's bytes, fetched as they are asked for. `read` returns up to `count` bytes from `at` on, fewer
/// at the end, or why they can't be read.
struct RomSource {
  std::uint64_t size_bytes = 0;
  std::function<Result<Blob>(std::uint64_t at, std::size_t count)> read;
};
/// Of bytes in memory, which must outlive it.
[[nodiscard]] RomSource rom_source(ByteView rom);

/// Reads the header of a ROM, wherever its platform keeps it. The file's name does not count. Fails if the
/// source can't be read, and with `not_recognised` if the file is not a ROM of a platform whose ROMs can be
/// told: n64, gba, gb, gbc, nds, nes, snes, md, sms, gg, ws, ngp, vb, 3ds, and images of gc, wii, scd, sat,
/// dc, ps1, ps2 and psp discs. Source of the facts: docs/formats/roms.md and docs/formats/n64.md.
[[nodiscard]] Result<RomFacts> identify_rom(const RomSource& rom);
[[nodiscard]] Result<RomFacts> identify_rom(ByteView rom);

/// A sum that a ROM's header holds, and what the bytes come to.
struct RomSum {
  std::string what;  // "the header's sum at 14D"
  std::uint32_t stored = 0;
  std::uint32_t computed = 0;
  int digits = 4;  // of its hexadecimal form
};
/// Returns the sums of a whole ROM as its cartridge has it: gb, gba, md, snes, sms, gg, ws, nds; none for the
/// others. Reads the whole ROM, a piece at a time. Fails if the source does. Source: docs/formats/roms.md.
[[nodiscard]] Result<std::vector<RomSum>> check_rom(Platform platform, const RomSource& rom);

/// Looks through a gba ROM for the names that the console's save libraries leave in it, and adds the chips
/// they stand for. Reads the whole ROM. Does nothing for other platforms. Fails if the ROM can't be read;
/// what was found until then is in `facts`.
Result<void> find_chip_tags(const RomSource& rom, RomFacts& facts);

/// Digests of a ROM as lists of known ROMs give them.
struct RomDigests {
  std::uint32_t crc32 = 0;  // of ISO 3309, as zip has it
  std::string md5;          // lower-case hex
  std::string sha1;
  std::string sha256;
};
/// Digests the bytes from `skip` on: 0, or RomFacts::header_size_bytes for the cartridge's own. Fails if the
/// source does, with `io` if it has fewer bytes than it said.
[[nodiscard]] Result<RomDigests> digest_rom(const RomSource& rom, std::size_t skip = 0);

}  // namespace bayswap
BAYSWAP_EXPORT_END
