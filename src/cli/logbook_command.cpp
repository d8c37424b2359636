#include <bayswap/carry.hpp>

#include "base/text.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

std::string size_in_words(const std::optional<Digest>& digest, std::uint64_t bytes) {
  return digest ? std::to_string(bytes) : "none";
}

std::string way_in_words(const Entry& entry) {
  if (entry.kind == EntryKind::carry) return fmt::format("{} to {}", entry.from_bay, entry.to_bay);
  if (entry.undoes) return fmt::format("takes {} back", *entry.undoes);
  return "";
}

}  // namespace

int logbook_command(const Globals& globals, const std::string& what) {
  auto logbook = LockedLogbook::open(globals);
  if (!logbook) return report(logbook.error());
  const auto entries = (*logbook)->book().entries(what);
  if (!entries) return report(entries.error());
  if (globals.json) {
    Json list = Json::array();
    for (const Entry& entry : *entries) list.push_back(to_json(entry));
    print_json(list);
    return exit_done;
  }
  if (entries->empty()) {
    fmt::print("{}\n",
               what.empty()
                   ? "The logbook is empty: nothing was carried or replaced yet."
                   : fmt::format("Nothing in the logbook is about '{}'. `bayswap logbook` shows it all.",
                                 printable(what)));
    return exit_done;
  }
  std::vector<std::vector<std::string>> rows;
  for (const Entry& entry : *entries) {
    bool first = true;
    for (const LoggedChange& change : entry.changes) {
      const std::string file = printable(name_of(change.path));
      if (first) {
        rows.push_back({std::to_string(entry.id), local_time(entry.begun), std::string(to_text(entry.kind)),
                        std::string(to_text(entry.state)), way_in_words(entry),
                        entry.game ? printable(entry.game->title) : "", file,
                        size_in_words(change.before, change.before_bytes),
                        size_in_words(change.after, change.after_bytes)});
      } else {
        rows.push_back({"", "", "", "", "", "", file, size_in_words(change.before, change.before_bytes),
                        size_in_words(change.after, change.after_bytes)});
      }
      first = false;
    }
  }
  print_table({"no.", "when", "what", "state", "way", "game", "file", "old bytes", "new bytes"}, rows,
              {0, 7, 8});
  say(globals.quiet,
      "`bayswap undo NO.` takes an entry back; `bayswap logbook --json` has paths and digests.");
  return exit_done;
}

int undo_command(const Globals& globals, const UndoOptions& options) {
  auto logbook = LockedLogbook::open(globals);
  if (!logbook) return report(logbook.error());
  LocalStore disk;
  const auto plan = plan_undo((*logbook)->book(), options.id, disk);
  if (!plan) return report(plan.error());
  if (options.dry_run) {
    const int code = show_only(globals, *plan);
    if (!globals.json) say(globals.quiet, "A dry run: nothing was changed.");
    return code;
  }
  return show_and_run(globals, *plan, disk, **logbook, options.yes, false);
}

}  // namespace bayswap::cli
