// Saves that nothing names: which one of another bay are they like?
#include <fmt/format.h>
#include <bayswap/bay_view.hpp>

#include <algorithm>

#include "content/sketch.hpp"

namespace bayswap {
namespace {

constexpr double alike_enough = 0.6;

}  // namespace

bool is_nameless(const HeldSave& save) {
  return save.label.empty() && save.facts.game.title.empty() && save.kind == SaveKind::folder;
}

void find_resemblances(BayView& view, std::vector<HeldSave>& saves, std::span<BayView* const> others) {
  for (HeldSave& save : saves) {
    if (!is_nameless(save)) continue;
    const TreeSketch& sketch = sketch_in(view, save);
    double best = alike_enough;
    for (BayView* other : others) {
      const auto known = other->saves();
      if (!known) continue;
      for (const HeldSave& one : **known) {
        if (one.label.empty() || one.kind != SaveKind::folder || one.rule->platform != save.rule->platform)
          continue;
        const Likeness how = likeness(sketch, sketch_in(*other, one));
        if (how.score < best) continue;
        best = how.score;
        save.resembles = fmt::format("{} ({})", one.label, other->bay().name);
      }
    }
  }
}

}  // namespace bayswap
