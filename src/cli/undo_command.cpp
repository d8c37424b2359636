// Taking back what an entry of the logbook wrote.
#include <bayswap/carry.hpp>

#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

int undo_command(const Globals& globals, const UndoOptions& options) {
  auto logbook = open_logbook(globals);
  if (!logbook) return report(logbook.error());
  AnyStore disk;
  if (options.id && options.last > 1)
    return report({ErrorCode::bad_usage, "an entry and --last at once", "leave one of them out"});
  const auto accept = accepted_from_words(options.accept);
  if (!accept) return report(accept.error());
  auto plan =
      plan_undo((*logbook)->book(), options.id, disk, bay_roots(globals), options.batch, options.last);
  const ShowOptions how{options.yes, false, options.explain};
  if (!plan) return report(plan.error());
  accept_issues(*plan, *accept);
  if (options.dry_run) {
    const int code = show_only(globals, *plan, how);
    if (!globals.json) say(globals.quiet, "A dry run: nothing was changed.");
    return code;
  }
  if (const auto rest = wait_until_idle(globals, *plan, disk, (*logbook)->book(), options.wait); !rest)
    return report(rest.error());
  return show_and_run(globals, *plan, disk, **logbook, how);
}

}  // namespace bayswap::cli
