// Which game is meant, and which ROM of each bay is it?
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

struct GameSides {
  GameId game;                           // the source's
  std::vector<ChipFact> chips;           // what is known of its chips
  bool tells_chips = false;              // the ROM's header tells of all there are
  std::optional<RomFile> from;           // the ROM at the source, if it has one
  std::optional<RomFile> to;             // and at the target
  std::optional<std::string> name_from;  // path whose name gives {rom.stem} at the source
  std::optional<std::string> name_to;    // and at the target
  std::vector<PlanIssue> issues;
};

[[nodiscard]] Result<GameSides> find_game(OpenBay from, OpenBay to, Store& outside,
                                          const CarryRequest& request);

/// The MD5 in the ROM's save's name: that of a save in place, otherwise of the ROM itself.
[[nodiscard]] std::string rom_md5_for(Store& store, const PlatformRule& rule, const RomFile& rom);

}  // namespace bayswap
