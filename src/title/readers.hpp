// One header reader a platform; nothing where the bytes are not that platform's. Those that look for a magic
// number come before those that have only checksums to go by.
#pragma once

#include <bayswap/title.hpp>
#include <optional>

namespace bayswap {

inline constexpr std::size_t rom_head_size = 4096;

/// What every reader is given: the source, and its first 4 KiB.
struct RomView {
  const RomSource& source;
  Blob head;
  mutable std::optional<Error> failure;  // the first read that failed: nothing that was found counts

  /// Returns all `count` bytes from `offset` on, or an empty blob if the file ends before or can't be read.
  [[nodiscard]] Blob at(std::uint64_t offset, std::size_t count) const;
};

[[nodiscard]] std::optional<RomFacts> read_n64_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_nes_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_md_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_ngp_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_nds_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_gba_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_sms_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_gb_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_snes_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_vb_header(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_ws_footer(const RomView& rom);
[[nodiscard]] std::optional<RomFacts> read_3ds_header(const RomView& rom);
/// gc and wii discs, told by their magic numbers.
[[nodiscard]] std::optional<RomFacts> read_disc_header(const RomView& rom);
/// scd, sat and dc discs: the area that the console reads first. Files of plain and of raw sectors.
[[nodiscard]] std::optional<RomFacts> read_first_sectors(const RomView& rom);
/// ps1, ps2 and psp discs: the file of the disc's file system that names the program.
[[nodiscard]] std::optional<RomFacts> read_disc_files(const RomView& rom);
/// x360 programs.
[[nodiscard]] std::optional<RomFacts> read_x360_program(const RomView& rom);

/// Printable ASCII, or padding of NULs and spaces at the end.
[[nodiscard]] bool is_plain_title(ByteView field);
/// `field` is letters and digits throughout.
[[nodiscard]] bool is_plain_code(ByteView field);
/// A text field of a header, to UTF-8, trimmed and printable.
[[nodiscard]] std::string header_text(ByteView field);

}  // namespace bayswap
