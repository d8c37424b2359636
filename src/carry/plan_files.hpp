// Planning for bays that keep saves as files of layouts.
#pragma once

#include "carry/find_game.hpp"

namespace bayswap {

/// `sides`: the game that is meant, and its ROMs.
[[nodiscard]] Result<Plan> plan_files(const Catalog& catalog, OpenBay from, OpenBay to,
                                      const CarryRequest& request, GameSides sides);

}  // namespace bayswap
