// The state of things: other devices, conflicts, and what can go.
#include <algorithm>
#include <charconv>
#include <filesystem>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {
namespace {

Result<int> devices(const Globals& globals, const SyncOptions& /*options*/) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::look));
  if (job->light() != nullptr) (void)job->replica->exchange(*job->light(), {}, false);
  const DeviceInfo& own = job->replica->device();
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  list.push_back({{"id", own.id}, {"name", own.name}, {"this", true}, {"seen", nullptr}});
  rows.push_back({printable(own.name), own.id, "this one", ""});
  for (const PeerInfo& peer : job->replica->peers()) {
    list.push_back({{"id", peer.id},
                    {"name", peer.name},
                    {"this", false},
                    {"seen", utc_time(peer.report.seen)},
                    {"waiting", peer.report.waiting},
                    {"conflicts", peer.report.conflicts}});
    rows.push_back({printable(peer.name), peer.id, local_time(peer.report.seen),
                    peer.report.waiting > 0 ? std::to_string(peer.report.waiting) : ""});
  }
  if (globals.json)
    print_json({{"devices", std::move(list)}});
  else
    print_table({"device", "id", "last seen", "waiting"}, rows, {3});
  return exit_done;
}

Json open_as_json(const OpenRows& open) {
  Json rows = Json::array();
  for (const SyncRow& row : open.rows)
    rows.push_back({{"save", row.save},
                    {"platform", tag(row.platform)},
                    {"bay", row.bay},
                    {"path", row.path},
                    {"outcome", to_text(row.outcome)},
                    {"why", row.why}});
  return rows;
}

// What the last round could not do.
void print_open(const OpenRows& open) {
  if (open.rows.empty()) return;
  constexpr std::size_t most = 20;
  std::vector<std::vector<std::string>> rows;
  for (const SyncRow& row : open.rows)
    if (rows.size() < most)
      rows.push_back({printable(row.save), row.bay, std::string(to_text(row.outcome)), printable(row.why)});
  fmt::print("\nOpen since {}:\n", local_time(open.since));
  print_table({"save", "bay", "outcome", "why"}, rows);
  if (open.rows.size() > most) fmt::print("and {} more; `bayswap sync` lists all\n", open.rows.size() - most);
}

// Saves of consoles for which no bay of this device has a rule.
Result<std::map<Platform, std::size_t>> without_place_of(const Globals& globals, const History& history) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const auto bays, list_bays(home));
  std::map<Platform, std::size_t> count;
  for (const Lineage& lineage : history.lineages()) {
    const Version& head = *lineage.heads.front();
    const Platform platform = head.save.facts.game.platform;
    if (head.is_deletion() || head.kind == Version::Kind::state || head.kind == Version::Kind::config)
      continue;
    if (std::ranges::none_of(bays, [&](const auto& one) {
          return one.second && one.second->sync.takes_part && one.second->rule(platform) != nullptr;
        }))
      ++count[platform];
  }
  return count;
}

Result<int> status(const Globals& globals, const SyncOptions& /*options*/) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::look));
  Replica& replica = *job->replica;
  std::size_t received = 0;
  if (job->light() != nullptr) {
    if (const auto taken = replica.exchange(*job->light(), {}, false))
      received = taken->received;
    else
      job->unreachable = taken.error();
  }
  BAYSWAP_TRY(const History* history, replica.history());
  BAYSWAP_TRY(const auto bays, bay_status(job->own(), *history));
  std::size_t conflicts = 0;
  for (const Lineage& lineage : history->lineages())
    conflicts += differing_heads(lineage).size() > 1 ? 1U : 0U;
  const DeviceInfo& device = replica.device();
  BAYSWAP_TRY(const std::uint64_t to_send, replica.unsent_bytes());
  BAYSWAP_TRY(const auto outside, left_out_of_bays(globals));
  BAYSWAP_TRY(const OpenRows open, open_rows(job->own()));
  BAYSWAP_TRY(const auto without_place, without_place_of(globals, *history));
  if (globals.json) {
    Json bay_list = Json::array();
    for (const BayStatus& bay : bays)
      bay_list.push_back(
          {{"bay", bay.bay}, {"saves", bay.saves}, {"waiting", bay.waiting}, {"lost", bay.lost}});
    Json peer_list = Json::array();
    for (const PeerInfo& peer : replica.peers())
      peer_list.push_back({{"name", peer.name},
                           {"id", peer.id},
                           {"seen", utc_time(peer.report.seen)},
                           {"waiting", peer.report.waiting},
                           {"conflicts", peer.report.conflicts}});
    Json nowhere = Json::array();
    for (const auto& [platform, count] : without_place)
      nowhere.push_back({{"platform", tag(platform)}, {"saves", count}});
    print_json({{"device", device.name},
                {"sync_folder", {{"url", device.url}, {"reached", !job->unreachable}}},
                {"saves", history->lineages().size()},
                {"versions", history->versions().size()},
                {"to_send", replica.unsent()},
                {"to_send_bytes", to_send},
                {"news", received},
                {"conflicts", conflicts},
                {"bays", std::move(bay_list)},
                {"open", open_as_json(open)},
                {"left_out", to_json(outside)},
                {"without_place", std::move(nowhere)},
                {"devices", std::move(peer_list)}});
    return exit_done;
  }
  print_field("device", printable(device.name), Tone::bold);
  print_field("folder",
              job->unreachable ? fmt::format("{}, which can't be reached: {}", printable(device.url),
                                             printable(job->unreachable->message))
                               : printable(device.url) + (job->encrypted != nullptr ? " (encrypted)" : ""),
              job->unreachable ? Tone::warn : Tone::plain);
  print_field("known", fmt::format("{} of {}", counted(history->versions().size(), "version"),
                                   counted(history->lineages().size(), "save")));
  if (replica.unsent() > 0)
    print_field("to send",
                fmt::format("{}, {}", counted(replica.unsent(), "version"), bytes_in_words(to_send)));
  if (received > 0)
    print_field("news", fmt::format("{}: `bayswap sync` takes them", counted(received, "version")));
  if (conflicts > 0)
    print_field("conflicts", fmt::format("{}: `bayswap sync conflicts` shows them", conflicts), Tone::warn);
  std::vector<std::vector<std::string>> rows;
  for (const BayStatus& bay : bays)
    rows.push_back({bay.bay, std::to_string(bay.saves), bay.waiting > 0 ? std::to_string(bay.waiting) : "",
                    bay.lost > 0 ? std::to_string(bay.lost) : ""});
  if (!rows.empty()) {
    fmt::print("\n");
    print_table({"bay", "saves", "newer elsewhere", "lost"}, rows, {1, 2, 3});
  }
  print_open(open);
  print_left_out(outside);
  if (!without_place.empty()) {
    std::vector<std::string> consoles;
    for (const auto& [platform, count] : without_place)
      consoles.push_back(fmt::format("{} of {}", count, tag(platform)));
    fmt::print(
        "\nSaves that have no place here: {}. `bayswap bay add NAME DIR` adds one that has their ROMs.\n",
        joined(consoles, ", "));
  }
  rows.clear();
  for (const PeerInfo& peer : replica.peers())
    rows.push_back({printable(peer.name), local_time(peer.report.seen),
                    peer.report.waiting > 0 ? std::to_string(peer.report.waiting) : "",
                    peer.report.conflicts > 0 ? std::to_string(peer.report.conflicts) : ""});
  if (!rows.empty()) {
    fmt::print("\n");
    print_table({"other device", "last seen", "waiting", "conflicts"}, rows, {2, 3});
  }
  return exit_done;
}

Result<int> forget(const Globals& globals, const SyncOptions& options) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::change));
  BAYSWAP_TRY(SyncFolder * sync_folder, job->needed_light());
  BAYSWAP_CHECK(job->replica->exchange(*sync_folder, {job->now(), 0, job->replica->conflicts()}));
  BAYSWAP_CHECK(job->replica->forget(*sync_folder, options.device));
  if (globals.json)
    print_json({{"forgotten", options.device}});
  else
    say(globals.quiet, fmt::format("Forgot {}. What it sent stays; if it syncs again, it is back.",
                                   printable(options.device)));
  return exit_done;
}

Result<std::vector<SyncConflict>> conflicts_of(const Globals& globals, SyncJob& job) {
  BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
  BAYSWAP_TRY(SyncRound round, SyncRound::begin(*job.replica, job.own(), {}));
  return round.conflicts(catalog, job.light());
}

Result<int> conflicts(const Globals& globals, const SyncOptions& /*options*/) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::look));
  if (job->light() != nullptr) (void)job->replica->exchange(*job->light(), {}, false);
  BAYSWAP_TRY(const auto all, conflicts_of(globals, *job));
  BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
  SheetChanges sheets(globals, catalog);
  if (globals.json) {
    Json list = Json::array();
    for (const SyncConflict& conflict : all) list.push_back(to_json(conflict, sheets));
    print_json({{"conflicts", std::move(list)}});
  } else {
    print_conflicts(all, sheets);
    fmt::print("{}\n", all.empty()
                           ? "There are no conflicts."
                           : "`bayswap sync resolve GAME --keep NUMBER` (or DEVICE) decides, here and "
                             "everywhere; the other version stays in the history.");
  }
  return all.empty() ? exit_done : exit_problems;
}

// The version that the words mean.
Result<const Version*> meant(const Lineage& lineage, const std::vector<SyncConflict>& all,
                             const std::string& keep) {
  const auto conflict = std::ranges::find_if(all, [&](const SyncConflict& one) {
    return std::ranges::any_of(lineage.versions, [&](const Version* version) {
      return version->id == one.sides.front().version.id;
    });
  });
  std::vector<VersionId> found;
  std::vector<std::string> choices;
  if (conflict != all.end()) {
    std::size_t number = 0;
    const auto read = std::from_chars(keep.data(), keep.data() + keep.size(), number);
    const bool is_number = read.ec == std::errc() && read.ptr == keep.data() + keep.size();
    for (std::size_t i = 0; i < conflict->sides.size(); ++i) {
      const Version& version = conflict->sides[i].version;
      const std::string& made_on = conflict->sides[i].made_on;
      choices.push_back(fmt::format("{} ({})", i + 1, made_on));
      const auto& bays = conflict->sides[i].bays;
      const bool is_named = lower(version.device_name) == lower(keep) || lower(made_on) == lower(keep) ||
                            version.device == keep || std::ranges::find(bays, keep) != bays.end() ||
                            (keep == "both" && !bays.empty());
      if (is_number ? number == i + 1 : is_named) found.push_back(version.id);
    }
    // A device that has neither: the one that was played last goes on, and the other stays in the history.
    if (keep == "both" && found.empty()) {
      const auto last = std::ranges::max_element(conflict->sides, {}, [](const SyncConflict::Side& side) {
        return std::pair(!side.version.is_deletion(), side.version.modified.value_or(side.version.noted));
      });
      found.push_back(last->version.id);
    }
  }
  for (const Version* version : lineage.versions)
    if (version->id.hex() == lower(keep)) found.push_back(version->id);
  if (found.size() == 1)
    for (const Version* version : lineage.versions)
      if (version->id == found.front()) return version;
  return fail(ErrorCode::bad_usage,
              found.empty() ? fmt::format("--keep {} names no version of it", printable(keep))
                            : fmt::format("--keep {} names {} versions", printable(keep), found.size()),
              choices.empty() ? "it has no conflict: name a version by its id"
                              : fmt::format("use one of {}", joined(choices, ", ")));
}

// Where the logbook has the versions that do not go on.
std::string entry_of_other(SyncJob& job, const std::vector<SyncConflict>& all, const Version& keep) {
  std::vector<std::string> entries;
  const auto logged = job.logbook->book().entries(keep.label);
  for (const SyncConflict& conflict : all)
    for (const SyncConflict::Side& side : conflict.sides) {
      if (side.version.content == keep.content || !logged) continue;
      const auto entry = std::ranges::find_if(*logged, [&](const Entry& one) {
        return !one.content.empty() && one.content == side.version.content;
      });
      if (entry != logged->end())
        entries.push_back(fmt::format("{} ({})", entry->id, side.version.device_name));
    }
  if (entries.empty()) {
    for (const SyncConflict& conflict : all)
      for (const SyncConflict::Side& side : conflict.sides)
        if (side.version.content != keep.content && !side.version.is_deletion() &&
            side.version.label == keep.label)
          return fmt::format(
              "The other version is in the history: `bayswap restore '{}' --version {} --to BAY` brings it "
              "into a bay.",
              printable(keep.label), side.version.id.hex().substr(0, 16));
    return "The other version is in the history.";
  }
  return fmt::format(
      "The other version is in the logbook: {}. `bayswap restore GAME --entry N --to BAY` brings it "
      "into another bay.",
      joined(entries, ", "));
}

Result<int> resolve(const Globals& globals, const SyncOptions& options) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::change));
  if (job->light() != nullptr)
    (void)job->replica->exchange(*job->light(), {job->now(), 0, job->replica->conflicts()});
  BAYSWAP_TRY(const History* history, job->replica->history());
  const auto lineages = find_lineages(*history, options.game);
  if (lineages.empty())
    return fail(ErrorCode::not_found, fmt::format("no save is called '{}'", printable(options.game)),
                "`bayswap sync conflicts` and `bayswap sync` name those that need an answer");
  std::vector<const Lineage*> open;
  for (const Lineage* lineage : lineages)
    if (options.keep == "back" || lineages.size() == 1 || differing_heads(*lineage).size() > 1)
      open.push_back(lineage);
  if (open.size() != 1)
    return fail(ErrorCode::bad_usage,
                fmt::format("'{}' means {} saves", printable(options.game), lineages.size()),
                "pass the game's code, or the id of a version");
  if (options.keep == "back") {
    BAYSWAP_TRY(const std::size_t places, bring_back(job->own(), *history, *open.front()));
    if (places == 0)
      return fail(ErrorCode::bad_usage, fmt::format("no place of '{}' has lost it", printable(options.game)),
                  "`bayswap sync` says what is lost");
    if (globals.json)
      print_json({{"places", places}});
    else
      say(globals.quiet, fmt::format("The next round writes it back: `bayswap sync`."));
    return exit_done;
  }
  BAYSWAP_TRY(const auto all, conflicts_of(globals, *job));
  BAYSWAP_TRY(const Version* keep, meant(*open.front(), all, options.keep));
  const std::string label = keep->label;
  const std::string device = history->origin_of(*keep).device_name;
  const std::string other = options.keep == "both" ? entry_of_other(*job, all, *keep) : "";
  BAYSWAP_TRY(const VersionId id, resolve_conflict(*job->replica, *open.front(), *keep, job->now()));
  BAYSWAP_CHECK(job->replica->save());
  bool told = false;
  if (job->light() != nullptr)
    told = job->replica->exchange(*job->light(), {job->now(), 0, job->replica->conflicts()}).has_value();
  if (globals.json)
    print_json({{"save", label}, {"kept", device}, {"version", id.hex()}, {"told", told}});
  else
    say(globals.quiet,
        fmt::format("{} goes on as {} has it. `bayswap sync` writes it into this device's bays{}.",
                    printable(label), printable(device),
                    told ? "; other devices do with their next round" : ""));
  if (!other.empty() && !globals.json) say(globals.quiet, other);
  return exit_done;
}

Result<int> prune(const Globals& globals, const SyncOptions& options) {
  BAYSWAP_TRY(const auto job, SyncJob::open(globals, SyncJob::Mode::change));
  BAYSWAP_TRY(SyncFolder * sync_folder, job->needed_light());
  BAYSWAP_CHECK(job->replica->exchange(*sync_folder, {job->now(), 0, job->replica->conflicts()}));
  BAYSWAP_TRY(const Pruned done, job->replica->prune(*sync_folder, options.versions));
  if (globals.json)
    print_json({{"versions", done.versions}, {"objects", done.objects}, {"waiting", done.waiting}});
  else
    fmt::print(
        "{} pruned, {} removed from the sync folder{}.\n", counted(done.versions, "version"),
        counted(done.objects, "object"),
        done.waiting > 0
            ? fmt::format("; {} more go when every device has synced again and prune is run", done.waiting)
            : "");
  return exit_done;
}

}  // namespace

int sync_status_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(status(globals, options));
}
int sync_devices_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(devices(globals, options));
}
int sync_remove_command(const Globals& globals, const SyncOptions& options) {
  if (options.this_device) return exit_code_of(sync_leave(globals));
  if (options.device.empty())
    return exit_code_of(fail(ErrorCode::bad_usage, "which device?",
                             "name one of `bayswap sync devices`, or pass --this to remove this one"));
  return exit_code_of(forget(globals, options));
}
int sync_conflicts_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(conflicts(globals, options));
}
int sync_resolve_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(resolve(globals, options));
}
int sync_prune_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(prune(globals, options));
}

}  // namespace bayswap::cli
