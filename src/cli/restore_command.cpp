// Versions back in their place, and undo.
#include <algorithm>
#include <charconv>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/desk_place.hpp"
#include "cli/moment_words.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "cli/version_words.hpp"

namespace bayswap::cli {

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

// What a restore did, for the round of sync that may follow.
struct Restored {
  int code = exit_done;
  std::string bay;
  std::vector<std::string> paths;  // as the plan has them
};

Result<Restored> settle(const Globals& globals, const RestoreOptions& options, Plan plan, Store& target,
                        LockedLogbook& logbook) {
  BAYSWAP_TRY(const auto accept, accepted_from_words(options.accept));
  accept_issues(plan, accept);
  const ShowOptions how{options.yes, true, options.explain};
  Restored done;
  done.bay = plan.to_bay;
  for (const FileChange& change : plan.changes) done.paths.push_back(change.path);
  if (options.dry_run) {
    done.code = show_only(globals, plan, how);
    return done;
  }
  BAYSWAP_CHECK(wait_until_idle(globals, plan, target, logbook.book(), options.wait));
  done.code = show_and_run(globals, std::move(plan), target, logbook, how);
  return done;
}

// A save is carried from its bay as that was then: to another bay, or among others on a card.
Result<Restored> restore_through_bay(const Globals& globals, const RestoreOptions& options,
                                     const Entry& entry, bool before, LockedLogbook& logbook) {
  Logbook& book = logbook.book();
  BAYSWAP_TRY(const auto books, Books::load(globals));
  if (entry.to_bay.empty())
    return fail(ErrorCode::unsupported, fmt::format("entry {} is of a file that is in no bay", entry.id),
                "restore it in its place, without --to");
  BAYSWAP_TRY(const auto from, OpenedBay::open(*books, entry.to_bay));
  BAYSWAP_TRY(const auto then, store_of_version(book, entry.id, before, from->bay, *from->store));
  BayView was(books->catalog, from->bay, *then, books->view_options());
  CarryRequest request = request_of(*books, &book);
  AnyStore disk;
  BAYSWAP_TRY(request.what, what_it_is(entry, was, disk, from->store->root()));
  std::unique_ptr<OpenedBay> to;
  if (names_a_new_file(*books, options.to)) {
    BAYSWAP_TRY(to, place_for_one(*books, was, request.what, options.to));
  } else {
    BAYSWAP_TRY(to, OpenedBay::open(*books, options.to.empty() ? entry.to_bay : options.to));
  }
  request.accounts = books->accounts.between(from->bay.name, to->bay.name);
  BAYSWAP_TRY(request.accept, accepted_from_words(options.accept));
  if (from->bay.name == to->bay.name) request.accept.insert(IssueCode::newer);  // an older one is meant
  BAYSWAP_TRY(Plan plan, plan_carry(was, *to->view, disk, request));
  plan.kind = EntryKind::restore;
  plan.reason = fmt::format("restore entry {} of '{}' to {}", entry.id, options.what, to->bay.name);
  return settle(globals, options, std::move(plan), *to->store, logbook);
}

// Whether a file of the entry is not as the entry left it.
bool has_changed(const Entry& entry, Store& disk) {
  return std::ranges::any_of(entry.changes, [&](const LoggedChange& change) {
    const auto now = disk.read_if_there(change.path);
    return now && (now->has_value() != change.after.has_value() ||
                   (*now && sha256((*now)->view()) != *change.after));
  });
}

Result<Restored> restore_entry(const Globals& globals, const RestoreOptions& options,
                               LockedLogbook& logbook) {
  Logbook& book = logbook.book();
  BAYSWAP_TRY(const auto entries, book.entries(options.what));
  if (entries.empty())
    return fail(ErrorCode::not_found,
                fmt::format("nothing in the logbook is about '{}'", printable(options.what)),
                "`bayswap logbook` shows it all");
  const auto entry = std::ranges::find(entries, *options.entry, &Entry::id);
  if (entry == entries.end())
    return fail(ErrorCode::not_found,
                fmt::format("'{}' has no entry {} in the logbook", printable(options.what), *options.entry),
                fmt::format("`bayswap logbook '{}'` shows its entries", printable(options.what)));
  AnyStore disk;
  if (options.all && (options.before || (!options.to.empty() && options.to != entry->to_bay)))
    return fail(ErrorCode::bad_usage, "--all brings saves back to their own place, as they were kept",
                "leave --before and --to out, or name one save");
  // One of several on a card goes back alone if the card has changed since.
  const bool is_alone = !options.all && !options.before && entry->kind != EntryKind::backup &&
                        !entry->to_bay.empty() && !entry->place.empty() &&
                        !entry->place.starts_with("state ") && has_changed(*entry, disk);
  if (is_alone || (!options.all && !options.to.empty() && options.to != entry->to_bay))
    return restore_through_bay(globals, options, *entry, options.before, logbook);
  BAYSWAP_TRY(Plan plan, options.all
                             ? plan_restore_batch(book, entry->id, disk, bay_roots(globals))
                             : plan_restore(book, entry->id, options.before, disk, bay_roots(globals)));
  return settle(globals, options, std::move(plan), disk, logbook);
}

// ---- By the time, and what any device had

Result<Restored> restore_version(const Globals& globals, const RestoreOptions& options, SyncJob& job,
                                 const Lineage& lineage, const Version& version) {
  BAYSWAP_TRY(const auto places, places_of(job.own(), lineage));
  std::set<std::string> bays;
  for (const auto& [bay, path] : places) bays.insert(bay);
  if (options.to.empty() && bays.size() != 1)
    return fail(ErrorCode::bad_usage,
                bays.empty() ? "no bay of this device has this save yet"
                             : fmt::format("{} have this save: {}", counted(bays.size(), "bay"),
                                           fmt::to_string(fmt::join(bays, ", "))),
                "pass --to BAY");
  const std::string name = options.to.empty() ? *bays.begin() : options.to;
  BAYSWAP_TRY(const auto books, Books::load(globals));
  BAYSWAP_TRY(const auto to, OpenedBay::open(*books, name));
  std::vector<std::string> own;
  for (const auto& [bay, path] : places)
    if (bay == to->bay.name) own.push_back(path);
  if (own.size() > 1)
    return fail(ErrorCode::bad_usage, fmt::format("{} has this save in {}", name, joined(own, " and ")),
                "carry it to the one that you mean: nothing says which is to go back");
  BAYSWAP_TRY(const Blob bundle, job.replica->bundle(version, job.light()));
  CarryRequest request = request_of(*books, &job.logbook->book());
  BAYSWAP_TRY(request.accept, accepted_from_words(options.accept));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(Plan plan,
              plan_version(*to->view, version, bundle, own.empty() ? "" : own.front(), request, &maps));
  return settle(globals, options, std::move(plan), *to->store, *job.logbook);
}

// The entries of one save, of one bay, among those that the words mean.
Result<std::vector<Entry>> entries_of_one(std::vector<Entry> entries, const RestoreOptions& options) {
  std::erase_if(entries, [&](const Entry& entry) {
    return entry.changes.empty() || entry.state == EntryState::cancelled ||
           (!options.to.empty() && !entry.to_bay.empty() && entry.to_bay != options.to);
  });
  // Changes outside of bays count where they are of the same files: a conversion, a card that was put in
  // order.
  std::set<std::string> bays;
  std::set<std::string> paths;
  for (const Entry& entry : entries) {
    if (entry.to_bay.empty()) continue;
    bays.insert(entry.to_bay);
    for (const LoggedChange& change : entry.changes) paths.insert(change.path);
  }
  if (!bays.empty())
    std::erase_if(entries, [&](const Entry& entry) {
      return entry.to_bay.empty() && std::ranges::none_of(entry.changes, [&](const LoggedChange& change) {
               return paths.contains(change.path);
             });
    });
  if (bays.size() > 1)
    return fail(ErrorCode::bad_usage,
                fmt::format("the logbook has '{}' in {}", printable(options.what),
                            fmt::to_string(fmt::join(bays, ", "))),
                "say which one is to go back: --to BAY");
  std::set<std::string> saves;
  std::string place;
  for (const Entry& entry : entries) {
    if (entry.to_bay.empty() && !bays.empty()) continue;
    place = entry.place;
    const std::string& first = entry.changes.front().path;
    std::string save =
        entry.game ? in_words(*entry.game) : folder_of(first) + "/" + std::string(stem_of(first));
    if (!entry.account.empty()) save += ", account " + entry.account;
    if (entry.slot != 0) save += fmt::format(", slot {}", entry.slot);
    if (!entry.place.empty()) save += ", " + entry.place;
    saves.insert(std::move(save));
  }
  if (saves.size() > 1)
    return fail(ErrorCode::bad_usage,
                fmt::format("'{}' means {} saves: {}", printable(options.what), saves.size(),
                            printable(fmt::to_string(fmt::join(saves, "; ")))),
                "name one by the path of its file");
  // Of a card's save only what was done to that one.
  if (!place.empty()) std::erase_if(entries, [&](const Entry& entry) { return entry.place != place; });
  return entries;
}

// A file that was played on after all that is known of it, and not since that moment: it is what is asked
// for.
Result<std::optional<std::string>> is_as_it_was(const std::vector<Entry>& entries, std::int64_t since,
                                                std::int64_t moment, Store& disk) {
  std::map<std::string, std::set<Digest>> known;
  for (const Entry& entry : entries)
    for (const LoggedChange& change : entry.changes)
      for (const auto& digest : {change.before, change.after})
        if (digest) known[change.path].insert(*digest);
  for (const auto& [path, digests] : known) {
    BAYSWAP_TRY(const auto info, disk.stat(path));
    if (!info || info->kind != FileInfo::Kind::file || info->modified <= since || info->modified > moment)
      continue;
    BAYSWAP_TRY(const Blob bytes, disk.read(path));
    if (!digests.contains(sha256(bytes.view())))
      return std::optional(
          fmt::format("{} was last written on {}: it is as it was then", path, local_time(info->modified)));
  }
  return std::optional<std::string>();
}

// By the time: the logbook's entry or the version, whichever came later.
Result<Restored> restore_at(const Globals& globals, const RestoreOptions& options, LockedLogbook& logbook,
                            SyncJob* job) {
  std::int64_t moment = clock_of_process()();
  if (!options.date.empty()) {
    BAYSWAP_TRY(moment, moment_from_words(options.date, moment));
  }
  const Lineage* lineage = nullptr;
  std::optional<TimedVersion> version;
  if (job != nullptr) {
    BAYSWAP_TRY(const History* history, job->replica->history());
    BAYSWAP_TRY(lineage, lineage_meant(*history, options.what));
    if (lineage != nullptr)
      for (const TimedVersion& one : newest_first(*lineage))
        if (!version && one.since <= moment &&
            (options.device.empty() || lower(one.version->device_name) == lower(options.device)))
          version = one;
  }
  if (!options.device.empty()) {
    if (!version)
      return fail(ErrorCode::not_found,
                  fmt::format("no version of '{}' by {} is known", printable(options.what),
                              printable(options.device)),
                  "`bayswap sync devices` lists the devices, `bayswap logbook GAME` the versions");
    return restore_version(globals, options, *job, *lineage, *version->version);
  }
  BAYSWAP_TRY(auto entries, logbook.book().entries(options.what));
  BAYSWAP_TRY(entries, entries_of_one(std::move(entries), options));
  if (entries.empty() && version) return restore_version(globals, options, *job, *lineage, *version->version);
  if (entries.empty())
    return fail(ErrorCode::not_found,
                fmt::format("nothing in the logbook is about '{}'", printable(options.what)),
                "`bayswap logbook` shows it all");
  const auto past = files_at(entries, moment);
  std::int64_t since = 0;
  const PastFile* newest = nullptr;
  for (const PastFile& one : past) {
    if (newest == nullptr || one.since > since) newest = &one;
    since = std::max(since, one.since);
  }
  AnyStore disk;
  if (entries.front().place.empty()) {
    BAYSWAP_TRY(auto still,
                is_as_it_was(entries, std::max(since, version ? version->since : 0), moment, disk));
    if (still) {
      Plan nothing;
      nothing.kind = EntryKind::restore;
      nothing.to_bay = entries.front().to_bay;
      nothing.add({PlanIssue::Level::note, IssueCode::same, *std::move(still), {}});
      return settle(globals, options, std::move(nothing), disk, logbook);
    }
  }
  if (version && (newest == nullptr || version->since > since))
    return restore_version(globals, options, *job, *lineage, *version->version);
  // One of several on a card: the others stay as they are.
  const std::string& place = entries.front().place;
  if (newest != nullptr && !place.empty() && !place.starts_with("state ")) {
    const auto entry = std::ranges::find(entries, newest->entry, &Entry::id);
    return restore_through_bay(globals, options, *entry, newest->before, logbook);
  }
  auto plan = plan_restore_at(logbook.book(), entries, moment, disk, bay_roots(globals));
  if (!plan && plan.error().code == ErrorCode::not_found)
    if (const auto earliest = earliest_of(entries))
      plan.error().hint = fmt::format("it is known since {}", local_time(*earliest));
  if (!plan) return tl::unexpected(std::move(plan.error()));
  plan->reason = fmt::format("restore '{}' as it was on {}", options.what, local_time(moment));
  return settle(globals, options, *std::move(plan), disk, logbook);
}

Result<Restored> restore(const Globals& globals, const RestoreOptions& options) {
  const bool by_time = !options.date.empty() || !options.device.empty();
  if ((options.entry ? 1 : 0) + (options.version.empty() ? 0 : 1) + (by_time ? 1 : 0) != 1)
    return fail(
        ErrorCode::bad_usage,
        options.entry || !options.version.empty() ? "--entry, --version and --date at once"
                                                  : "nothing says which version is meant",
        fmt::format(
            "pass --entry N, --version ID, --date DAY or --device NAME: `bayswap logbook '{}'` lists them",
            printable(options.what)));
  if (!options.entry && (options.all || options.before))
    return fail(ErrorCode::bad_usage, "--all and --before go with --entry", "name an entry of the logbook");
  if (options.entry) {
    BAYSWAP_TRY(const auto logbook, open_logbook(globals));
    return restore_entry(globals, options, *logbook);
  }
  auto job = SyncJob::open(globals, SyncJob::Mode::change);
  if (!job && (!options.version.empty() || !options.device.empty())) return tl::unexpected(job.error());
  if (!job) {
    BAYSWAP_TRY(const auto logbook, open_logbook(globals));
    return restore_at(globals, options, *logbook, nullptr);
  }
  look_for_news(**job);
  if (options.version.empty()) return restore_at(globals, options, *(*job)->logbook, job->get());
  BAYSWAP_TRY(const History* history, (*job)->replica->history());
  BAYSWAP_TRY(const Lineage* lineage, lineage_meant(*history, options.what));
  if (lineage == nullptr)
    return fail(ErrorCode::not_found, fmt::format("sync knows no save called '{}'", printable(options.what)),
                "`bayswap sync status` shows what it knows; an entry of the logbook goes by --entry");
  BAYSWAP_TRY(const Version* version, version_called(*lineage, options.version, options.what));
  return restore_version(globals, options, **job, *lineage, *version);
}

}  // namespace

namespace {

// What was restored goes to every device, also where another one has gone on from something else.
Result<int> spread(const Globals& globals, const Restored& restored) {
  SyncOptions round;
  round.yes = true;
  const Globals quiet{globals.home, false, globals.quiet || globals.json};
  {
    BAYSWAP_TRY(const auto books, Books::load(globals));
    const std::string& bay_name = restored.bay;
    std::vector<std::string> paths;
    BAYSWAP_TRY(const Bay bay, find_bay(books->home, bay_name));
    const std::string root = AnyStore().absolute_path(bay.root) + "/";
    for (const std::string& path : restored.paths)
      paths.push_back(path.starts_with(root) ? path.substr(root.size()) : path);
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

namespace {

// "PLACE:GAME@7" in the place of options.
RestoreOptions spelled_out(const Globals& globals, RestoreOptions options) {
  const auto home = home_of(globals);
  LocalStore disk;
  if (!home) return options;
  const Address address = address_from_text(*home, disk, options.what);
  if (!address.what.empty()) options.what = address.what;
  if (options.to.empty() && is_bay_name(address.place) && !options.entry) options.to = address.place;
  if (address.version.empty() || options.entry || !options.version.empty() || !options.date.empty())
    return options;
  std::int64_t entry = 0;
  const char* end = address.version.data() + address.version.size();
  const auto read = std::from_chars(address.version.data(), end, entry);
  if (read.ec == std::errc() && read.ptr == end && address.version.size() < shown_id)
    options.entry = entry;
  else
    options.version = address.version;
  return options;
}

}  // namespace

int restore_command(const Globals& globals, const RestoreOptions& said) {
  const RestoreOptions options = spelled_out(globals, said);
  if (options.everywhere) {
    // Before anything is changed: whether there is an everywhere.
    const auto joined = SyncJob::open(globals, SyncJob::Mode::look);
    if (!joined) return report(joined.error());
  }
  const auto restored = restore(globals, options);
  if (!restored) return report(restored.error());
  if (!options.everywhere || options.dry_run || restored->code != exit_done) return restored->code;
  const auto spread_code = spread(globals, *restored);
  return spread_code ? *spread_code : report(spread_code.error());
}

}  // namespace bayswap::cli
