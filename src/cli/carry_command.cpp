#include <bayswap/carry.hpp>

#include <algorithm>

#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

std::vector<ChipFact> chips_in_other_bays(const Home& home, const Catalog& catalog,
                                          const std::vector<std::string>& asked, const GameId& game) {
  std::vector<ChipFact> chips;
  const auto bays = list_bays(home);
  if (!bays) return chips;
  for (const auto& [name, bay] : *bays) {
    if (!bay || std::ranges::find(asked, bay->origin) != asked.end()) continue;
    LocalStore store(bay->root);
    add_chips(chips, chips_seen(catalog, *bay, store, game));
  }
  return chips;
}

}  // namespace

int carry_command(const Globals& globals, const CarryOptions& options) {
  const auto home = home_of(globals);
  if (!home) return report(home.error());
  const auto from = find_bay(*home, options.from);
  if (!from) return report(from.error());
  const auto to = find_bay(*home, options.to);
  if (!to) return report(to.error());
  if (from->origin == to->origin)
    return report({ErrorCode::bad_usage, fmt::format("the save is in {} already", from->name),
                   "name two different bays"});
  const auto catalog = load_catalog(*home);
  if (!catalog) return report(catalog.error());
  LocalStore disk;
  LocalStore from_store(from->root);
  LocalStore to_store(to->root);
  CarryRequest request;
  request.what = options.what;
  request.rom = options.rom;
  request.slot = options.slot;
  request.accept.insert(options.accept.begin(), options.accept.end());
  auto chips = chips_from_words(options.chips);
  if (!chips) return report(chips.error());
  request.chips = *std::move(chips);
  const auto book = ChipBook::load(*home);
  if (!book) return report(book.error());
  request.book = &*book;
  request.ask_others = [&](const GameId& game) {
    return chips_in_other_bays(*home, *catalog, {from->origin, to->origin}, game);
  };

  std::unique_ptr<LockedLogbook> logbook;
  if (!options.dry_run) {  // a dry run writes nothing, not even a lock
    auto opened = LockedLogbook::open(globals);
    if (!opened) return report(opened.error());
    logbook = *std::move(opened);
  }
  const auto plan = plan_carry(*catalog, {&*from, &from_store}, {&*to, &to_store}, disk, request);
  if (!plan) return report(plan.error());
  if (options.dry_run) {
    const int code = show_only(globals, *plan);
    if (code == exit_done && !globals.json) say(globals.quiet, "A dry run: nothing was changed.");
    return code;
  }
  const int code = show_and_run(globals, *plan, to_store, *logbook, options.yes, true);
  if (code == exit_done && plan->game) remember(globals, *plan->game, plan->learned);
  return code;
}

}  // namespace bayswap::cli
