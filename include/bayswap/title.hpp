// ROM headers: identify games and their save chips. Belongs to bayswap::core.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save.hpp>

#include <functional>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The byte order of a ROM file, compared with the cartridge's.
enum class RomOrder { native, swap16, swap32 };

/// Returns e.g. "as the cartridge has it".
[[nodiscard]] std::string_view to_text(RomOrder order);

/// What a ROM's header contains.
struct RomFacts {
  GameId game;
  RomOrder order = RomOrder::native;
  std::uint32_t check_code = 0;       // a checksum in the header; 0 if it has none
  std::size_t header_size_bytes = 0;  // bytes before the cartridge's own: a copier's or a container's header
  std::vector<ChipFact> chips;        // save chips that the header names; see also find_chip_tags
  bool tells_chips = false;           // the header would name others if there were any
  double confidence = 0;              // 0 to 1
  std::vector<std::string> evidence;  // one sentence each
};

/// The bytes of a ROM file, read on demand. `read` returns up to `count` bytes from `at` on, fewer at the
/// end, or the read error.
struct RomSource {
  std::uint64_t size_bytes = 0;
  std::function<Result<Blob>(std::uint64_t at, std::size_t count)> read;
};
/// Returns a source for bytes in memory, which must outlive it.
[[nodiscard]] RomSource rom_source(ByteView rom);

/// Identifies a ROM by its header, independent of the file's name. Fails if the source can't be read, and
/// with `not_recognised` if the file is not a ROM of one of these platforms: n64, gba, gb, gbc, nds, nes,
/// snes, md, sms, gg, ws, ngp, vb, 3ds, and images of gc, wii, scd, sat, dc, ps1, ps2 and psp discs. Source
/// of the facts: docs/formats/roms.md and docs/formats/n64.md.
[[nodiscard]] Result<RomFacts> identify_rom(const RomSource& rom);
[[nodiscard]] Result<RomFacts> identify_rom(ByteView rom);

/// A checksum in a ROM's header, and the computed one.
struct RomSum {
  std::string what;  // "the header's sum at 14D"
  std::uint32_t stored = 0;
  std::uint32_t computed = 0;
  int digits = 4;  // of its hexadecimal form
};
/// Returns the sums of a whole ROM as its cartridge has it: gb, gba, md, snes, sms, gg, ws, nds; none for the
/// others. Reads the whole ROM, a piece at a time. Fails if the source does. Source: docs/formats/roms.md.
[[nodiscard]] Result<std::vector<RomSum>> check_rom(Platform platform, const RomSource& rom);

/// Searches a gba ROM for the version strings of the console's save libraries, and adds the chips they mean
/// to `facts`. Reads the whole ROM. Does nothing for other platforms. Fails if the ROM can't be read; `facts`
/// then has what was found before.
Result<void> find_chip_tags(const RomSource& rom, RomFacts& facts);

/// Digests of a ROM as lists of known ROMs give them.
struct RomDigests {
  std::uint32_t crc32 = 0;  // of ISO 3309, as zip has it
  std::string md5;          // lower-case hex
  std::string sha1;
  std::string sha256;
};
/// Digests the bytes from `skip` on: 0, or RomFacts::header_size_bytes for the cartridge's own. Fails if the
/// source does, and with `io` if it has fewer bytes than its size.
[[nodiscard]] Result<RomDigests> digest_rom(const RomSource& rom, std::size_t skip = 0);

}  // namespace bayswap
BAYSWAP_EXPORT_END
