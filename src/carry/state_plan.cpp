// Plans about save states.
#include <bayswap/state_plan.hpp>

#include <fmt/format.h>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {

Result<Plan> plan_slot_change(BayView& view, const HeldState& from, StateSlot to, bool move, bool replace) {
  BAYSWAP_TRY(const std::string path, path_of_slot(view, from, to));
  if (path == from.path)
    return fail(ErrorCode::bad_usage, fmt::format("slot {} is the one it is in", to_text(to)),
                "name another slot");
  BAYSWAP_TRY(const Blob bytes, view.store().read(from.path, max_state_bytes));
  if (bytes.size() == 0)
    return fail(ErrorCode::unsafe, fmt::format("{} is empty", from.path),
                "nothing was changed; it is no state");
  FileChange change{path, std::nullopt, bytes, from.modified};
  BAYSWAP_TRY(const auto info, view.store().stat(path));
  if (info) {
    if (!replace)
      return fail(ErrorCode::unsafe,
                  fmt::format("slot {} of {} has a state already: {}", to_text(to), from.game, path),
                  "choose an empty slot", {Remedy::Kind::replace, {}});
    BAYSWAP_TRY(change.before, view.store().read(path, max_state_bytes));
  }
  Plan plan;
  plan.kind = EntryKind::carry;
  if (from.rom != nullptr) plan.game = from.rom->facts.game;
  plan.reason = fmt::format("state {} {} of {} to {}", move ? "move" : "copy", to_text(from.slot), from.game,
                            to_text(to));
  plan.from_bay = view.bay().name;
  plan.to_bay = view.bay().name;
  plan.from_files.push_back(view.store().display_path(from.path));
  if (change.before != change.after) plan.changes.push_back(std::move(change));
  if (move) plan.changes.push_back({from.path, bytes, std::nullopt, std::nullopt});
  note_hard_links(plan, view.store());
  return plan;
}

}  // namespace bayswap
