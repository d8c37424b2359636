// The steps of looking at a file, for one file and for folders of them.
#pragma once

#include <bayswap/inspect.hpp>

namespace bayswap {

/// A file looked at as a ROM. Small ones are read once and whole, large ones in pieces.
struct LookedAt {
  RomSource source;
  std::optional<RomFacts> facts;  // where it is one
  std::optional<Blob> whole;      // where it is small
};
[[nodiscard]] Result<LookedAt> read_as_rom(Store& store, const std::string& path);

/// Returns the platform that the hints name, or that of their game.
[[nodiscard]] std::optional<Platform> platform_of(const Hints& hints);

/// A ROM of a platform whose ROMs have no header at all: by its extension alone, where the size agrees.
[[nodiscard]] std::optional<RomFacts> rom_by_name(std::string_view path, std::uint64_t size_bytes);

[[nodiscard]] Finding rom_finding(RomFacts facts, std::size_t size_bytes);
/// What bytes are that are no ROM.
[[nodiscard]] Finding inspect_save(const Catalog& catalog, const Blob& bytes, const Hints& hints);

/// Fills the finding in where the bytes are a package, a parameter file or an avatar database.
[[nodiscard]] bool find_package(const Blob& bytes, Finding& finding);

}  // namespace bayswap
