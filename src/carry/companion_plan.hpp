// What a save leans on, planned along with it.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

/// A carried save: what the source's path told of it, and what the target's does.
using CarriedSave = std::pair<NameFacts, NameFacts>;

/// Adds the companions of `saves` to the plan, or says why they stay. `replace`: also where the target has
/// its own.
void plan_companions(OpenBay from, OpenBay to, const std::vector<CarriedSave>& saves, bool replace,
                     Plan& plan);

/// Returns whether saves of the platform have companions at all.
[[nodiscard]] bool has_companions(Platform platform);

}  // namespace bayswap
