// The domain: platforms, regions, games, parts and saves, independent of file formats. Belongs to
// bayswap::core.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

enum class Platform {
  a26,
  nes,
  snes,
  n64,
  gc,
  wii,
  wiiu,
  gb,
  gbc,
  gba,
  nds,
  n3ds,
  sms,
  gg,
  md,
  scd,
  sat,
  dc,
  pce,
  ws,
  ngp,
  vb,
  ps1,
  ps2,
  psp,
  x360
};

/// Returns the tag in lower case ("n64", "3ds"), as in bay files, layouts and JSON.
[[nodiscard]] std::string_view tag(Platform platform);
[[nodiscard]] std::optional<Platform> platform_from_tag(std::string_view text);
/// Returns every tag.
[[nodiscard]] std::vector<std::string> platform_tag_list();
/// Returns the platform whose layouts the saves have: gb for gbc, otherwise the same.
[[nodiscard]] Platform saves_as(Platform platform);

enum class Region {
  unknown,
  world,
  japan,
  north_america,
  europe,
  germany,
  france,
  italy,
  spain,
  netherlands,
  scandinavia,
  australia,
  brazil,
  canada,
  china,
  korea,
  asia
};

/// Returns the name, e.g. "Europe" or "North America"; "unknown" for Region::unknown.
[[nodiscard]] std::string_view name(Region region);
/// Returns the region with that name or short name ("us", "eur") in any letter case, with '-' or ' ' between
/// words; nothing for "unknown" and other texts.
[[nodiscard]] std::optional<Region> region_from_text(std::string_view text);

/// Identifies a game, as far as its ROM, its disc or its save shows.
struct GameId {
  Platform platform{};
  std::string code;   // product code from the header, e.g. "NLSP"; empty if the header has none
  std::string title;  // UTF-8, without padding
  Region region = Region::unknown;
  int revision = 0;
  std::uint64_t title_id =
      0;              // of consoles that number their titles (3ds, wii, wiiu: 64 bits, x360: 32); 0: none
  std::string maker;  // two letters or digits (gc, wii), may be empty
};

/// Returns the region that the last letter of a four-letter product code means on that platform
/// (docs/formats/roms.md).
[[nodiscard]] Region region_of_letter(Platform platform, char letter);
/// Returns the letter that most games of a region have; nothing if there is no usual one.
[[nodiscard]] std::optional<char> letter_of_region(Region region);
/// Returns the region of a product code: by the last of four letters, or by the third on discs (ps1, ps2,
/// psp).
[[nodiscard]] Region region_of_code(Platform platform, std::string_view code);
/// Returns the same game's code in another region for platforms where it follows from the code: gc, wii, n64,
/// gba, nds, 3ds, wiiu. Returns nothing for others.
[[nodiscard]] std::optional<std::string> code_in_region(Platform platform, std::string_view code,
                                                        Region region);
/// Returns e.g. "00040000/0FF00200" for a 64-bit title id, eight digits for a shorter one.
[[nodiscard]] std::string title_id_text(const GameId& game);
/// Returns the title id, completed with the upper half that most titles of the platform have (3ds 00040000,
/// wii 00010000 as on discs, wiiu 00050000) if only the lower half, or on wii the code, is known; 0 if
/// neither is.
[[nodiscard]] std::uint64_t likely_title_id(const GameId& game);

enum class GameMatch {
  same,
  other_revision,
  other_region,
  other_game,
  unknown  // one of them has no code, title or title id: only file names are left
};

/// Compares two games. Without a code the title decides; two games without either are never the same.
[[nodiscard]] GameMatch compare(const GameId& a, const GameId& b);

enum class PartKind { eeprom, sram, flash, pak, rtc };

/// The role of a part in its save. `number` counts controller paks from 1 to 4; 0 if there is only one, or it
/// is unknown which (a controller pak in a file of its own).
struct Role {
  PartKind kind{};
  int number = 0;
  [[nodiscard]] bool operator==(const Role&) const = default;
};

/// Returns "eeprom", "sram", "flash", "rtc", "pak", "pak1" ... "pak4".
[[nodiscard]] std::string to_text(Role role);
[[nodiscard]] std::optional<Role> role_from_text(std::string_view text);

/// The bytes of one chip in hardware order: byte i is at the chip's address i, and the most significant byte
/// of a word comes first on chips that are read in words.
struct Part {
  Role role;
  Blob bytes;
  /// True if the chip is known to have exactly this size. False if the bytes came from a slot that smaller
  /// chips use too: their tail may be filler.
  bool size_certain = true;
};

/// Returns whether all bytes are 00 or all FF, or the part is a formatted controller pak without a note or
/// remains of one. Nothing is lost if a blank part is dropped.
[[nodiscard]] bool is_blank(const Part& part);

/// A defect of a dump, as far as its bytes show.
struct DumpDefect {
  bool certain = false;  // the dump contains no save; otherwise a suspicion
  std::string code;      // "unwritten", "mirrored", "stuck-bit", "half-empty"
  std::string text;      // a sentence
  std::string hint;      // what to try
};

/// Returns the defects of a part: power-on patterns, mirrored halves, stuck data bits, an almost empty half
/// beside a full one. Returns none for blank parts, for controller paks, and for parts under 512 bytes or
/// over 1 MiB.
[[nodiscard]] std::vector<DumpDefect> defects(const Part& part);

/// A save chip that a game is known to have.
struct ChipFact {
  PartKind kind{};
  std::size_t size_bytes = 0;  // 0: not known
  std::string evidence;        // a sentence; may be empty
};

/// The parts of a save.
struct Save {
  Platform platform{};
  std::vector<Part> parts;

  [[nodiscard]] const Part* find(Role role) const;
  /// Returns whether all parts are blank; true without parts.
  [[nodiscard]] bool is_blank() const;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
