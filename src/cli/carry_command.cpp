#include <bayswap/carry.hpp>

#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

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
  return show_and_run(globals, *plan, to_store, *logbook, options.yes, true);
}

}  // namespace bayswap::cli
