// The domain: platforms, regions, games, parts and saves. Nothing here knows how a file looks.
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

/// "n64", "3ds", ...: lower case, as in bay files, layouts and JSON.
[[nodiscard]] std::string_view tag(Platform platform);
[[nodiscard]] std::optional<Platform> platform_from_tag(std::string_view text);
/// Returns every tag.
[[nodiscard]] std::vector<std::string> platform_tag_list();
/// The platform whose layouts a platform's saves have: gb for gbc, otherwise itself.
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

/// "Europe", "North America", ...; "unknown" for Region::unknown.
[[nodiscard]] std::string_view name(Region region);
/// From its name in any case, or a short one ("us", "eur"), with '-' or ' ' between words: "north-america".
/// Nothing for "unknown".
[[nodiscard]] std::optional<Region> region_from_text(std::string_view text);

/// Which game, as far as its ROM, its disc or its save tells.
struct GameId {
  Platform platform{};
  std::string code;   // product code as the header has it, e.g. "NLSP"; empty where the header has none
  std::string title;  // UTF-8, without padding
  Region region = Region::unknown;
  int revision = 0;
  std::uint64_t title_id =
      0;              // of consoles that number their titles (3ds, wii, wiiu: 64 bits, x360: 32); 0: none
  std::string maker;  // two letters or digits (gc, wii), may be empty
};

/// Returns the region that the last letter of a four-letter product code stands for on that platform: the one
/// table of it (docs/formats/roms.md).
[[nodiscard]] Region region_of_letter(Platform platform, char letter);
/// Returns the letter that a region's games have in most cases; nothing where there is no usual one.
[[nodiscard]] std::optional<char> letter_of_region(Region region);
/// Region of a product code: by its last letter where it has four, by its third on discs (ps1, ps2, psp).
[[nodiscard]] Region region_of_code(Platform platform, std::string_view code);
/// The same game's code in another region, where that can be told from the code alone: gc, wii, n64, gba,
/// nds, 3ds, wiiu. Nothing otherwise.
[[nodiscard]] std::optional<std::string> code_in_region(Platform platform, std::string_view code,
                                                        Region region);
/// "00040000/0FF00200" of a 64-bit title id, eight digits of a shorter one.
[[nodiscard]] std::string title_id_text(const GameId& game);
/// The title id with the upper half that most titles of the platform have (3ds 00040000, wii 00010000, as
/// discs do, wiiu 00050000), where only the lower half, or on wii the code, is known; 0 where not even that
/// is.
[[nodiscard]] std::uint64_t likely_title_id(const GameId& game);

enum class GameMatch {
  same,
  other_revision,
  other_region,
  other_game,
  unknown  // one of them has neither code nor title nor title id: its file's name has to tell
};

/// Returns how two ROMs relate. A game without a code is told by its title; two games without either are
/// never "the same".
[[nodiscard]] GameMatch compare(const GameId& a, const GameId& b);

enum class PartKind { eeprom, sram, flash, pak, rtc };

/// What a part is within its save. `number` counts controller paks 1 to 4; 0 where there is only one,
/// or where it is not known which (a controller pak in a file of its own).
struct Role {
  PartKind kind{};
  int number = 0;
  [[nodiscard]] bool operator==(const Role&) const = default;
};

/// "eeprom", "sram", "flash", "rtc", "pak", "pak1" ... "pak4".
[[nodiscard]] std::string to_text(Role role);
[[nodiscard]] std::optional<Role> role_from_text(std::string_view text);

/// One chip's bytes, in hardware order: byte i is what the chip holds at address i, and for chips read
/// in words the most significant byte of a word comes first.
struct Part {
  Role role;
  Blob bytes;
  /// The chip is known to have exactly this size. False where the bytes came out of a slot that smaller
  /// chips use as well: then the tail may be filler.
  bool size_certain = true;
};

/// All bytes 00 or all FF; for a controller pak also a formatted one that holds no note and no
/// remains of one. Nothing is lost when a blank part is dropped.
[[nodiscard]] bool is_blank(const Part& part);

/// What is wrong with a dump, as far as its bytes tell.
struct DumpDefect {
  bool certain = false;  // it holds no save; otherwise a suspicion
  std::string code;      // "unwritten", "mirrored", "stuck-bit", "half-empty"
  std::string text;      // a sentence
  std::string hint;      // what to try
};

/// Looks at a part that is not blank: power-on patterns, mirrored halves, stuck data bits, a half that holds
/// next to nothing beside one that is full. Nothing for blank parts, for controller paks, and for parts under
/// 512 bytes or over 1 MiB.
[[nodiscard]] std::vector<DumpDefect> defects(const Part& part);

/// A chip that a game is known to carry.
struct ChipFact {
  PartKind kind{};
  std::size_t size_bytes = 0;  // 0: not known
  std::string evidence;        // a sentence; may be empty
};

struct Save {
  Platform platform{};
  std::vector<Part> parts;

  [[nodiscard]] const Part* find(Role role) const;
  /// True also for a save without parts.
  [[nodiscard]] bool is_blank() const;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
