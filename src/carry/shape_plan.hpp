// Planning for bays that keep saves otherwise than as files of a layout.
#pragma once

#include "carry/content.hpp"

namespace bayswap {

/// What goes where: one save of the source and its content.
struct Cargo {
  NameFacts facts;    // what the source's path told, its game among it
  std::string place;  // the name of the further place, or empty
  std::string shown;  // as the user knows it
  std::optional<std::int64_t> modified;
  Content content;
};

/// `from` is empty for an adoption.
[[nodiscard]] Result<Plan> plan_shapes(const Catalog& catalog, std::vector<Cargo> cargo,
                                       std::optional<OpenBay> from, OpenBay to, const CarryRequest& request);

/// The target's saves by likeness to `tree`, the best first: for adoptions, and folders only found by
/// looking.
struct Ranked {
  const BaySave* save = nullptr;
  Likeness likeness;
};
[[nodiscard]] std::vector<Ranked> rank_by_likeness(const std::vector<TreeFile>& tree,
                                                   const std::vector<BaySave>& saves, Store& store);

/// The MD5 in the ROM's save's name: that of a save in place, otherwise of the ROM itself.
[[nodiscard]] std::string rom_md5_for(Store& store, const PlatformRule& rule, const RomFile& rom);

}  // namespace bayswap
