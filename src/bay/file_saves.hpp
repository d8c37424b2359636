// Battery saves, found along the path rules of a bay, and beside them.
#pragma once

#include "bay/keeper.hpp"

namespace bayswap {

/// `rules` have one and the same path: often those of several platforms do. Each file is the save of the ROM
/// it is named after, or of the first rule whose layouts can open it. Files of one game become one save.
/// Files beside them that hold a save but do not fit the rule become saves that are misplaced; they are
/// looked for unless only names count.
[[nodiscard]] Result<void> scan_file_saves(ScanContext& scan, std::span<const PlatformRule* const> rules);

}  // namespace bayswap
