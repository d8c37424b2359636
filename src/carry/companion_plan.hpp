// What a save leans on, planned along with it.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

/// A carried save: what the path of each side tells of it, and the rule that the path is of.
struct CarriedSave {
  const PlatformRule* source_rule = nullptr;  // nullptr: its platform's first
  NameFacts source_facts;
  const PlatformRule* target_rule = nullptr;
  NameFacts target_facts;
};

/// Adds the companions of `saves` to the plan, or says why they stay. `replace`: also where the target has
/// its own.
void plan_companions(OpenBay from, OpenBay to, const std::vector<CarriedSave>& saves, bool replace,
                     Plan& plan);

/// Returns whether saves of the platform have companions at all.
[[nodiscard]] bool has_companions(Platform platform);

}  // namespace bayswap
