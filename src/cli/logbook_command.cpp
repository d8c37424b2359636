#include <bayswap/carry.hpp>
#include <bayswap/cart_store.hpp>

#include <algorithm>
#include <cstdio>
#include <map>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/progress_store.hpp"
#include "cli/session.hpp"
#include "cli/sheet_changes.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {
namespace {

std::string way_in_words(const Entry& entry) {
  if (entry.kind == EntryKind::carry && entry.to_bay.empty()) return "to a cartridge";
  if (entry.kind == EntryKind::carry) return fmt::format("{} to {}", entry.from_bay, entry.to_bay);
  if (entry.undoes) return fmt::format("takes {} back", *entry.undoes);
  if (entry.kind == EntryKind::card && !entry.reason.empty()) return entry.reason;
  return "";
}

std::string change_of(Logbook& book, const Catalog& catalog, const LoggedChange& change) {
  const auto bytes = [&](const std::optional<Digest>& digest) -> std::optional<Blob> {
    if (!digest) return std::nullopt;
    const auto blob = book.bytes(*digest);
    return blob ? std::optional(*blob) : std::nullopt;
  };
  const auto before = bytes(change.before);
  const auto after = bytes(change.after);
  if ((change.before && !before) || (change.after && !after))
    return "its bytes are missing: `bayswap logbook check`";
  return change_in_words(catalog, before, after);
}

// The save that an entry is about: a file, a card's entry, or how many files of which folder.
std::string save_of(const Entry& entry) {
  if (entry.changes.empty()) return "";
  std::string name(name_of(entry.changes.front().path));
  if (!entry.place.empty()) return fmt::format("{} on {}", entry.place, name);
  if (entry.changes.size() == 1) return name;
  if (is_cart_path(entry.changes.front().path))
    return fmt::format("{} and {} more", name, entry.changes.size() - 1);
  std::string folder = folder_of(entry.changes.front().path);
  for (const LoggedChange& change : entry.changes)
    while (folder.size() > 1 && !change.path.starts_with(folder + "/")) folder = folder_of(folder);
  return fmt::format("{} files in {}", entry.changes.size(), name_of(folder));
}

// One row an entry, however many files it changed.
std::vector<std::string> row_of(const Entry& entry) {
  std::uint64_t before = 0;
  std::uint64_t after = 0;
  bool had = false;
  bool has = false;
  for (const LoggedChange& change : entry.changes) {
    before += change.before_bytes;
    after += change.after_bytes;
    had = had || change.before.has_value();
    has = has || change.after.has_value();
  }
  return {std::to_string(entry.id),
          local_time(entry.begun),
          std::string(to_text(entry.kind)),
          std::string(to_text(entry.state)),
          way_in_words(entry),
          entry.game ? printable(entry.game->title) : "",
          printable(save_of(entry)),
          had ? std::to_string(before) : "none",
          has ? std::to_string(after) : "none"};
}

// The versions of a save, with what each change did.
void print_versions(Logbook& book, const Catalog& catalog, SheetChanges& sheets,
                    const std::vector<Entry>& entries) {
  std::map<std::string, std::int64_t> versions;  // by content: the newest that has it
  for (const Entry& entry : entries) {
    const std::string way = way_in_words(entry);
    fmt::print("{}  {}  {}{}{}{}\n", toned(Tone::bold, fmt::format("entry {}", entry.id)),
               local_time(entry.begun), to_text(entry.kind), way.empty() ? "" : " " + way,
               entry.state == EntryState::done ? "" : fmt::format(" ({})", to_text(entry.state)),
               entry.device.empty() ? "" : fmt::format(", on {}", printable(entry.device)));
    if (entry.game) print_field("game", in_words(*entry.game));
    if (!entry.place.empty()) print_field("save", entry.place);
    if (!entry.account.empty()) print_field("account", entry.account);
    if (!entry.content.empty())
      if (const auto same = versions.find(entry.content); same != versions.end() && same->second != entry.id)
        print_field("content", fmt::format("the same save as in entry {}", same->second));
    if (!entry.content.empty()) versions.emplace(entry.content, entry.id);
    print_field("why", printable(entry.reason));
    for (const LoggedChange& change : entry.changes) {
      print_field("file", fmt::format("{}: {}", printable(change.path), change_of(book, catalog, change)));
      constexpr std::size_t max_values = 6;
      const auto values = sheets.of(book, entry, change);
      if (!values.empty()) print_field("values", in_words(values, max_values));
    }
  }
}

void add_change(Json& json, const Entry& entry, const LoggedChange& change, Logbook& book,
                const Catalog& catalog, SheetChanges& sheets) {
  json["change"] = change_of(book, catalog, change);
  const auto values = sheets.of(book, entry, change);
  if (values.empty()) return;
  Json list = Json::array();
  for (const SheetDifference& one : values)
    list.push_back({{"path", one.path}, {"before", one.before}, {"after", one.after}});
  json["values"] = std::move(list);
}

}  // namespace

int logbook_command(const Globals& globals, const std::string& what) {
  auto logbook = LockedLogbook::open_to_read(globals);
  if (!logbook) return report(logbook.error());
  const auto entries = (*logbook)->book().entries(what);
  if (!entries) return report(entries.error());
  const auto catalog = catalog_of(globals);
  if (!catalog) return report(catalog.error());
  SheetChanges sheets(globals, *catalog);
  if (globals.json) {
    Json list = Json::array();
    for (const Entry& entry : *entries) {
      Json json = to_json(entry);
      for (std::size_t i = 0; !what.empty() && i < entry.changes.size(); ++i)
        add_change(json["changes"][i], entry, entry.changes[i], (*logbook)->book(), *catalog, sheets);
      list.push_back(std::move(json));
    }
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
  if (!what.empty()) {
    print_versions((*logbook)->book(), *catalog, sheets, *entries);
    say(globals.quiet,
        fmt::format(
            "`bayswap restore '{}' --entry N` brings one back, with --before what was there before it.",
            printable(what)));
    return exit_done;
  }
  std::vector<std::vector<std::string>> rows;
  for (const Entry& entry : *entries) rows.push_back(row_of(entry));
  print_table({"entry", "when", "what", "state", "from and to", "game", "save", "old bytes", "new bytes"},
              rows, {0, 7, 8});
  say(globals.quiet,
      "`bayswap undo ENTRY` takes an entry back; `bayswap logbook --json` has paths and digests.");
  return exit_done;
}

int logbook_prune_command(const Globals& globals, const LogbookOptions& options) {
  auto logbook = LockedLogbook::open(globals);
  if (!logbook) return report(logbook.error());
  Logbook& book = (*logbook)->book();
  const auto would = book.prune(options.keep, options.per_save, true);
  if (!would) return report(would.error());
  const auto in_words = [](const Logbook::Pruned& pruned) {
    return fmt::format("{} and {} ({} bytes)", counted(pruned.entries, "old version"),
                       counted(pruned.blobs, "kept file"), pruned.bytes);
  };
  const auto print = [&](const Logbook::Pruned& pruned) {
    print_json({{"entries", pruned.entries},
                {"blobs", pruned.blobs},
                {"bytes", pruned.bytes},
                {"keep", options.keep},
                {"per_save", options.per_save},
                {"dry_run", options.dry_run}});
  };
  if (would->entries == 0 && would->blobs == 0) {
    if (globals.json) print(*would);
    say(globals.quiet || globals.json, "There is nothing to remove.");
    return exit_done;
  }
  if (options.dry_run) {
    if (globals.json) print(*would);
    say(globals.quiet || globals.json,
        fmt::format("It would remove {}. A dry run: nothing was removed.", in_words(*would)));
    return exit_done;
  }
  if (!options.yes) {
    if (!has_terminal())
      return report({ErrorCode::unsafe, "nothing was removed: there is no terminal to ask on",
                     "pass --yes to go ahead, or --dry-run to see what would be removed"});
    if (!ask(fmt::format("Remove {} for good? The newest version of every save stays.", in_words(*would)))) {
      say(false, "Nothing was removed.");
      return exit_refused;
    }
  }
  const auto pruned = book.prune(options.keep, options.per_save);
  if (!pruned) return report(pruned.error());
  if (globals.json)
    print(*pruned);
  else
    fmt::print("Removed {}. The newest version of every save is still there.\n", in_words(*pruned));
  return exit_done;
}

int logbook_check_command(const Globals& globals, const LogbookOptions& options) {
  auto logbook = LockedLogbook::open_to_read(globals);
  std::vector<std::string> notes;
  if (!logbook && logbook.error().code == ErrorCode::damaged && options.repair) {
    // The index can be made again from the records; the broken one is put aside, not thrown away.
    const auto home = home_of(globals);
    if (!home) return report(home.error());
    const std::string index = join_path(home->data, "index.sqlite");
    const std::string aside = fmt::format("{}.broken-{}", index, clock_of_process()());
    // With its journal, or that would be played back into the new one.
    for (const char* journal : {"-journal", "-wal", "-shm"})
      (void)std::rename((index + journal).c_str(), (aside + journal).c_str());
    if (std::rename(index.c_str(), aside.c_str()) != 0)
      return report({ErrorCode::io, fmt::format("{} can't be put aside", index),
                     "check the permissions of the home folder"});
    notes.push_back(fmt::format("the broken index was put aside as {}", aside));
    logbook = LockedLogbook::open(globals);
  }
  if (!logbook) {
    if (logbook.error().code == ErrorCode::damaged)
      logbook.error().hint =
          "`bayswap logbook check --repair` makes the index anew from the records; the bytes are safe";
    return report(logbook.error());
  }
  const auto problems = (*logbook)->book().check(notes);
  if (!problems) return report(problems.error());
  if ((*logbook)->book().rebuilt() > 0)
    notes.push_back(fmt::format("the index was gone: {} entries were put back from their records",
                                (*logbook)->book().rebuilt()));
  if (globals.json) {
    print_json({{"problems", *problems}, {"notes", notes}});
  } else {
    for (const std::string& problem : *problems) print_field("wrong", problem, Tone::bad);
    for (const std::string& note : notes) print_field("note", note);
    fmt::print("{}\n", problems->empty()
                           ? toned(Tone::good, "The logbook is sound.")
                           : fmt::format("{} to look at; `bayswap logbook import DIR` brings missing bytes "
                                         "back from an exported copy.",
                                         problems->size()));
  }
  return problems->empty() ? exit_done : exit_problems;
}

namespace {

constexpr std::string_view export_note = "A copy of a Bay Swap logbook. `bayswap logbook import` reads it.\n";

// What `logbook export` may write to: a folder that does not exist, an empty one, or an earlier export.
Result<void> prepare_export(LocalStore& disk, const std::string& folder) {
  BAYSWAP_TRY(const auto there, disk.stat(folder));
  bool ours = !there;
  if (there) {
    BAYSWAP_TRY(const auto entries, disk.list(folder));
    ours = std::ranges::all_of(entries, [](const FileInfo& info) { return info.name == "lock"; });
    const auto note = disk.read_head(join_path(folder, "README.txt"), export_note.size() + 1);
    ours = ours || (note && std::ranges::equal(note->view(), export_note));
    for (const FileInfo& info : entries)
      if (info.link)
        return fail(
            ErrorCode::unsafe,
            fmt::format("{} is a link, and an export stays in its folder", join_path(folder, info.name)),
            "name another folder");
  }
  if (!ours)
    return fail(ErrorCode::unsafe, fmt::format("{} holds files that are not an exported logbook", folder),
                "name a folder that does not exist yet, or an earlier export");
  return {};
}

// An export is records and blobs. An index that an older version left in it is never opened.
Result<std::size_t> export_to(const Globals& globals, Logbook& ours, const std::string& folder,
                              std::vector<std::string>& problems) {
  LocalStore disk;
  BAYSWAP_CHECK(prepare_export(disk, folder));
  auto lock = FileLock::acquire(join_path(folder, "lock"), 0);
  if (!lock && lock.error().code == ErrorCode::busy)
    lock.error().message = fmt::format("another Bay Swap is writing to {}", folder);
  if (!lock) return tl::unexpected(std::move(lock.error()));
  LocalStore store(folder, LocalStore::Privacy::owner_only);
  BAYSWAP_CHECK(
      store.replace("README.txt", {reinterpret_cast<const Byte*>(export_note.data()), export_note.size()}));
  for (const char* name : {"index.sqlite", "index.sqlite-journal", "index.sqlite-wal", "index.sqlite-shm"}) {
    BAYSWAP_TRY(const auto old, store.stat(name));
    if (old) BAYSWAP_CHECK(store.remove(name));
  }
  ProgressStore copying(store, globals, "Copying and reading back, step");
  BAYSWAP_TRY(Logbook theirs, Logbook::open_copy(copying));
  BAYSWAP_TRY(const std::size_t count, theirs.merge(ours));
  std::vector<std::string> notes;
  BAYSWAP_TRY(problems, theirs.check(notes));
  return count;
}

Result<std::size_t> import_from(const Globals& globals, Logbook& ours, const std::string& folder,
                                std::vector<std::string>& problems) {
  LocalStore store(folder);
  BAYSWAP_TRY(const auto has_records, store.stat("records"));
  BAYSWAP_TRY(const auto there, LocalStore().stat(folder));
  if (!there)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", folder),
                "name a folder that `logbook export` made");
  if (!has_records)
    return fail(ErrorCode::not_recognised, fmt::format("{} holds no logbook", folder),
                "name a folder that `logbook export` made");
  ProgressStore copying(store, globals, "Copying, step");
  BAYSWAP_TRY(Logbook theirs, Logbook::open_copy(copying));
  BAYSWAP_TRY(const std::size_t count, ours.merge(theirs));
  std::vector<std::string> notes;
  BAYSWAP_TRY(problems, ours.check(notes));
  return count;
}

int merge(const Globals& globals, const std::string& folder, bool into_folder) {
  auto ours = LockedLogbook::open(globals);
  if (!ours) return report(ours.error());
  std::vector<std::string> problems;
  const auto count = into_folder ? export_to(globals, (*ours)->book(), folder, problems)
                                 : import_from(globals, (*ours)->book(), folder, problems);
  if (!count) return report(count.error());
  for (const std::string& problem : problems) print_field("wrong", problem, Tone::bad);
  if (globals.json) {
    print_json({{"folder", folder}, {"entries", *count}, {"problems", problems}});
  } else {
    fmt::print("{} new {} {} {}; every byte was read back and its digest compared.\n", *count,
               *count == 1 ? "entry" : "entries", into_folder ? "went to" : "came from", printable(folder));
  }
  return problems.empty() ? exit_done : exit_problems;
}

}  // namespace

int logbook_export_command(const Globals& globals, const LogbookOptions& options) {
  return merge(globals, options.folder, true);
}
int logbook_import_command(const Globals& globals, const LogbookOptions& options) {
  return merge(globals, options.folder, false);
}

namespace {

// What to call the save that the entry is about: by its file where that names one, and by its game.
Result<std::string> what_it_is(const Entry& entry, BayView& bay, Store& disk, const std::string& root) {
  constexpr std::size_t max_tries = 50;
  std::vector<std::string> words;
  const auto below = [&](const std::string& path) {
    return path.starts_with(root + "/") ? path.substr(root.size() + 1) : path;
  };
  const std::string first = below(entry.changes.front().path);
  if (!entry.place.empty()) words.push_back(fmt::format("{}: {}", first, entry.place));
  if (entry.game)
    for (const std::string& word : {entry.game->code, title_id_text(*entry.game), entry.game->title})
      if (!word.empty()) words.push_back(word);
  for (const LoggedChange& change : entry.changes)
    if (words.size() < max_tries) words.push_back(below(change.path));
  for (const std::string& word : words)
    if (const auto found = find_saves(bay, disk, word); found && !found->empty()) return word;
  return first;
}

Result<int> restore(const Globals& globals, const RestoreOptions& options) {
  const ShowOptions how{options.yes, true, options.explain};
  BAYSWAP_TRY(const auto logbook, LockedLogbook::open(globals));
  Logbook& book = logbook->book();
  BAYSWAP_TRY(const auto entries, book.entries(options.what));
  if (entries.empty())
    return fail(ErrorCode::not_found,
                fmt::format("nothing in the logbook is about '{}'", printable(options.what)),
                "`bayswap logbook` shows it all");
  const auto entry = std::ranges::find(entries, options.version, &Entry::id);
  if (entry == entries.end())
    return fail(ErrorCode::not_found,
                fmt::format("'{}' has no entry {} in the logbook", printable(options.what), options.version),
                fmt::format("`bayswap logbook '{}'` shows its entries", printable(options.what)));
  AnyStore disk;
  if (options.all && (options.before || (!options.to.empty() && options.to != entry->to_bay)))
    return fail(ErrorCode::bad_usage, "--all brings saves back to their own place, as they were kept",
                "leave --before and --to out, or name one save");
  if (options.all) {
    BAYSWAP_TRY(const Plan plan, plan_restore_batch(book, options.version, disk, bay_roots(globals)));
    if (options.dry_run) return show_only(globals, plan, how);
    BAYSWAP_CHECK(wait_until_idle(globals, plan, disk, book, options.wait));
    return show_and_run(globals, plan, disk, *logbook, how);
  }
  if (options.to.empty() || options.to == entry->to_bay) {
    BAYSWAP_TRY(const Plan plan,
                plan_restore(book, options.version, options.before, disk, bay_roots(globals)));
    if (options.dry_run) return show_only(globals, plan, how);
    BAYSWAP_CHECK(wait_until_idle(globals, plan, disk, book, options.wait));
    return show_and_run(globals, plan, disk, *logbook, how);
  }
  // Another bay: the save is carried from its bay as that was then.
  BAYSWAP_TRY(const auto books, Books::load(globals));
  if (entry->to_bay.empty())
    return fail(ErrorCode::unsupported,
                fmt::format("entry {} is of a file that is in no bay", options.version),
                "restore it in its place, without --to");
  BAYSWAP_TRY(const auto from, OpenedBay::open(*books, entry->to_bay));
  BAYSWAP_TRY(const auto to, OpenedBay::open(*books, options.to));
  BAYSWAP_TRY(const auto then,
              store_of_version(book, options.version, options.before, from->bay, *from->store));
  BayView was(books->catalog, from->bay, *then, books->view_options());
  CarryRequest request = request_of(*books, &book);
  BAYSWAP_TRY(request.what, what_it_is(*entry, was, disk, from->store->root()));
  request.accounts = books->accounts.between(from->bay.name, to->bay.name);
  BAYSWAP_TRY(request.accept, accepted_from_words(options.accept));
  BAYSWAP_TRY(Plan plan, plan_carry(was, *to->view, disk, request));
  plan.kind = EntryKind::restore;
  plan.reason = fmt::format("restore entry {} of '{}' to {}", options.version, options.what, to->bay.name);
  if (options.dry_run) return show_only(globals, plan, how);
  BAYSWAP_CHECK(wait_until_idle(globals, plan, *to->store, book, options.wait));
  return show_and_run(globals, plan, *to->store, *logbook, how);
}

}  // namespace

namespace {

// What was restored goes to every device, also where another one has gone on from something else.
Result<int> spread(const Globals& globals, const RestoreOptions& options) {
  SyncOptions round;
  round.yes = true;
  const Globals quiet{globals.home, false, globals.quiet || globals.json};
  {
    BAYSWAP_TRY(const auto books, Books::load(globals));
    std::string bay_name;
    std::vector<std::string> paths;
    {
      BAYSWAP_TRY(const auto logbook, LockedLogbook::open(globals));
      BAYSWAP_TRY(const Entry entry, logbook->book().entry(options.version));
      bay_name = options.to.empty() ? entry.to_bay : options.to;
      BAYSWAP_TRY(const Bay bay, find_bay(books->home, bay_name));
      const std::string root = AnyStore().absolute_path(bay.root) + "/";
      for (const LoggedChange& change : entry.changes)
        if (change.path.starts_with(root)) paths.push_back(change.path.substr(root.size()));
    }
    round.bays = {bay_name};
    const int looked = sync_command(quiet, round);
    if (looked != exit_done && looked != exit_problems) return looked;
    BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::change));
    BAYSWAP_CHECK(prefer_places(*job->replica, job->own(), bay_name, paths, job->now()));
  }
  round.bays.clear();
  return sync_command(quiet, round);
}

}  // namespace

int restore_command(const Globals& globals, const RestoreOptions& options) {
  if (options.everywhere) {
    // Before anything is changed: whether there is an everywhere.
    const auto joined = SyncJob::open(globals, SyncJob::Mode::look);
    if (!joined) return report(joined.error());
  }
  const auto code = restore(globals, options);
  if (!code) return report(code.error());
  if (!options.everywhere || options.dry_run || *code != exit_done) return *code;
  const auto spread_code = spread(globals, options);
  return spread_code ? *spread_code : report(spread_code.error());
}

int undo_command(const Globals& globals, const UndoOptions& options) {
  auto logbook = LockedLogbook::open(globals);
  if (!logbook) return report(logbook.error());
  AnyStore disk;
  if (options.id && options.last > 1)
    return report({ErrorCode::bad_usage, "an entry and --last at once", "leave one of them out"});
  const auto plan =
      plan_undo((*logbook)->book(), options.id, disk, bay_roots(globals), options.batch, options.last);
  const ShowOptions how{options.yes, false, options.explain};
  if (!plan) return report(plan.error());
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
