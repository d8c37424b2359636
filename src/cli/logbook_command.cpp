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
#include "cli/version_words.hpp"

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

// What a copy holds, beside the copy or the change of the same file before it.
std::string copy_in_words(Logbook& book, const Catalog& catalog, const std::vector<Entry>& entries,
                          const Entry& entry, const LoggedChange& change) {
  for (const Entry& older : entries) {
    if (older.id >= entry.id || older.state == EntryState::cancelled) continue;
    const auto same = std::ranges::find(older.changes, change.path, &LoggedChange::path);
    if (same == older.changes.end()) continue;
    if (same->after == change.after)
      return fmt::format("{} bytes, as after entry {}", change.after_bytes, older.id);
    LoggedChange between = change;
    between.before = same->after;
    return fmt::format("since entry {}: {}", older.id, change_of(book, catalog, between));
  }
  return fmt::format("{} bytes", change.after_bytes);
}

// The versions of a save, with what each change did.
void print_entries(Logbook& book, const Catalog& catalog, SheetChanges& sheets,
                   const std::vector<Entry>& entries) {
  std::map<std::string, std::int64_t> versions;  // by content: the newest that has it
  for (const Entry& entry : entries) {
    const std::string way = way_in_words(entry);
    fmt::print("{}  {}  {}{}{}{}\n", toned(Tone::bold, fmt::format("entry {}", entry.id)),
               local_time(entry.begun), to_text(entry.kind), way.empty() ? "" : " " + way,
               entry.state == EntryState::done ? "" : fmt::format(" ({})", to_text(entry.state)),
               entry.device.empty() ? "" : fmt::format(", on {}", printable(entry.device)));
    if (entry.game && (!entry.game->title.empty() || !entry.game->code.empty() || entry.game->title_id != 0))
      print_field("game", in_words(*entry.game));
    if (!entry.place.empty()) print_field("save", entry.place);
    if (!entry.account.empty()) print_field("account", entry.account);
    if (!entry.content.empty())
      if (const auto same = versions.find(entry.content); same != versions.end() && same->second != entry.id)
        print_field("content", fmt::format("the same save as in entry {}", same->second));
    if (!entry.content.empty()) versions.emplace(entry.content, entry.id);
    print_field("why", printable(entry.reason));
    for (const LoggedChange& change : entry.changes) {
      const bool is_copy = change.before && change.before == change.after;
      print_field("file", fmt::format("{}: {}", printable(change.path),
                                      is_copy ? copy_in_words(book, catalog, entries, entry, change)
                                              : change_of(book, catalog, change)));
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

namespace {

// The versions that sync knows of what was asked for; nothing if this device has joined no sync folder.
struct Versions {
  std::unique_ptr<SyncJob> job;
  std::vector<const Lineage*> lineages;
};
Versions versions_of(const Globals& globals, const std::string& what) {
  Versions versions;
  auto job = SyncJob::open(globals, SyncJob::Mode::look);
  if (!job) return versions;
  versions.job = *std::move(job);
  look_for_news(*versions.job);
  if (const auto history = versions.job->replica->history(); history)
    versions.lineages = lineages_called(**history, what);
  return versions;
}

}  // namespace

int logbook_command(const Globals& globals, const std::string& said) {
  std::string what = said;
  if (const auto home = home_of(globals)) {
    LocalStore disk;
    if (const Address address = address_from_text(*home, disk, said); !address.what.empty())
      what = address.what;
  }
  Versions versions;
  if (!what.empty()) versions = versions_of(globals, what);
  auto logbook = read_logbook(globals);
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
    for (const Lineage* lineage : versions.lineages)
      for (const TimedVersion& version : newest_first(*lineage))
        list.push_back(to_json(*versions.job, version));
    print_json(list);
    return exit_done;
  }
  if (entries->empty() && versions.lineages.empty()) {
    fmt::print("{}\n",
               what.empty()
                   ? "The logbook is empty: nothing was carried or replaced yet."
                   : fmt::format("Nothing in the logbook is about '{}'. `bayswap logbook` shows it all.",
                                 printable(what)));
    return exit_done;
  }
  if (!what.empty()) {
    print_entries((*logbook)->book(), *catalog, sheets, *entries);
    if (!entries->empty() && !versions.lineages.empty()) fmt::print("\nOf all devices:\n");
    for (const Lineage* lineage : versions.lineages) {
      print_versions(*versions.job, *catalog, *lineage, *entries, sheets);
    }
    if (versions.job && versions.job->unreachable)
      say(globals.quiet,
          fmt::format("The sync folder can't be reached, so newer versions may be missing: {}.",
                      printable(versions.job->unreachable->message)));
    if (!entries->empty())
      say(globals.quiet,
          fmt::format(
              "`bayswap restore '{}' --entry N` brings one back, with --before what was there before it.",
              printable(what)));
    if (!versions.lineages.empty())
      say(globals.quiet, fmt::format("`bayswap restore '{}' --version ID` brings back what any device had.",
                                     printable(what)));
    say(globals.quiet,
        fmt::format("`bayswap restore '{}' --date 'a week ago'` goes by the time.", printable(what)));
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
  auto logbook = open_logbook(globals);
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
  auto logbook = read_logbook(globals);
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
    logbook = open_logbook(globals);
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
    ours = std::ranges::all_of(entries, [](const FileInfo& info) {
      return info.name == "lock" || is_own_temporary(info.name);  // of one that was ended early
    });
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

// What came over is whole, entry by entry, and stays.
Result<std::size_t> merged(Logbook& into, Logbook& from) {
  auto count = into.merge(from);
  if (!count) count.error().hint = "what came over so far stays; run the same command again to go on";
  return count;
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
  BAYSWAP_TRY(const std::size_t count, merged(theirs, ours));
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
  BAYSWAP_TRY(const std::size_t count, merged(ours, theirs));
  std::vector<std::string> notes;
  BAYSWAP_TRY(problems, ours.check(notes));
  return count;
}

int merge(const Globals& globals, const std::string& folder, bool into_folder) {
  auto ours = open_logbook(globals);
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

}  // namespace bayswap::cli
