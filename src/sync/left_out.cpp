// What of a bay takes no part in sync, and why.
#include <fmt/format.h>
#include <fnmatch.h>

#include <algorithm>
#include <array>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sync/plain.hpp"

namespace bayswap {
namespace {

using Why = LeftOut::Why;

constexpr std::array<std::string_view, 5> why_words{"kind", "pattern", "large", "misplaced", "unknown-state"};

bool names_kind(const BaySync& sync, const HeldSave& save) {
  const std::string_view kind = save.kind == SaveKind::state    ? "states"
                                : save.kind == SaveKind::config ? "config"
                                                                : to_text(kind_of(save));
  return std::ranges::find(sync.kinds, kind) != sync.kinds.end();
}

std::string sentence(const Bay& bay, const HeldSave& save, Why why) {
  switch (why) {
    case Why::kind:
      return fmt::format("{} take no part: `bayswap sync set {} --with {}`",
                         save.kind == SaveKind::state                                       ? "save states"
                         : save.kind == SaveKind::folder                                    ? "folders"
                         : save.kind == SaveKind::card || save.kind == SaveKind::card_entry ? "saves of cards"
                                                                                            : "battery saves",
                         bay.name,
                         save.kind == SaveKind::state ? std::string_view("states") : to_text(kind_of(save)));
    case Why::pattern:
      return "a pattern of `leave` fits its path";
    case Why::large:
      return fmt::format("{} bytes are over the bay's limit of {}: `bayswap sync set {} --max-bytes {}`",
                         save.size_bytes, bay.sync.max_bytes, bay.name, save.size_bytes);
    case Why::misplaced:
      return save.misplaced;
    case Why::unknown_state:
      return fmt::format(
          "no state map describes it: teach one (`bayswap state learn`), or say in both bays what writes it "
          "(`bayswap sync set {} --states-of NAME`)",
          bay.name);
  }
  return {};
}

}  // namespace

std::string_view to_text(LeftOut::Why why) {
  return why_words.at(static_cast<std::size_t>(why));
}

std::optional<LeftOut::Why> why_left_out(const BaySync& sync, const HeldSave& save) {
  if (!save.misplaced.empty()) return Why::misplaced;
  if (!names_kind(sync, save)) return Why::kind;
  if (save.size_bytes > sync.max_bytes) return Why::large;
  if (std::ranges::any_of(sync.leave, [&](const std::string& pattern) {
        return fnmatch(pattern.c_str(), save.path.c_str(), 0) == 0;
      }))
    return Why::pattern;
  return std::nullopt;
}

Result<std::vector<LeftOut>> left_out(BayView& view, const StateMaps* maps) {
  std::vector<LeftOut> all;
  const Bay& bay = view.bay();
  if (!bay.sync.takes_part) return all;
  const auto add = [&](const HeldSave& save, Why why) {
    all.push_back({save.rule->platform, label_of(save), save.path, why, sentence(bay, save, why)});
  };
  BAYSWAP_TRY(const auto saves, view.saves(BayView::Depth::names));
  for (const HeldSave& save : *saves)
    if (save.health != Health::deleted)
      if (const auto why = why_left_out(bay.sync, save)) add(save, *why);
  BAYSWAP_TRY(const auto states, state_saves(view));
  for (const HeldSave& save : states) {
    if (const auto why = why_left_out(bay.sync, save)) {
      add(save, *why);
      continue;
    }
    const auto file = read_plain(view, save, maps);
    if (file && !*file) add(save, Why::unknown_state);
  }
  return all;
}

}  // namespace bayswap
