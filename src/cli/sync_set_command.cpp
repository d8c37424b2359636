// What of a bay takes part in sync: its bay file's [sync] table, changed by a command.
#include <bayswap/sync.hpp>

#include <algorithm>
#include <map>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "cli/bay_files.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {
namespace {

Result<void> check_kinds(const std::vector<std::string>& kinds) {
  const std::vector<std::string> known = sync_kinds();
  for (const std::string& kind : kinds) {
    if (std::ranges::find(known, kind) != known.end()) continue;
    const std::string near = did_you_mean(kind, known);
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a kind of save", printable(kind)),
                near.empty() ? fmt::format("there are {}", joined(known, ", ")) : near);
  }
  return {};
}

void add_missing(std::vector<std::string>& list, const std::vector<std::string>& more) {
  for (const std::string& one : more)
    if (std::ranges::find(list, one) == list.end()) list.push_back(one);
}

Result<BaySync> changed(BaySync sync, const SyncSetOptions& options) {
  BAYSWAP_CHECK(check_kinds(options.with));
  BAYSWAP_CHECK(check_kinds(options.without));
  for (const std::string& kind : options.with)
    if (std::ranges::find(options.without, kind) != options.without.end())
      return fail(ErrorCode::bad_usage, fmt::format("{} can't be both in and out", kind),
                  "leave out --with or --without for it");
  add_missing(sync.kinds, options.with);
  std::erase_if(sync.kinds, [&](const std::string& kind) {
    return std::ranges::find(options.without, kind) != options.without.end();
  });
  if (options.off) sync.takes_part = false;
  if (options.on) sync.takes_part = true;
  if (options.states_of) sync.states_of = *options.states_of;
  if (options.config_of) sync.form = *options.config_of;
  add_missing(sync.config, options.config);
  add_missing(sync.leave, options.leave);
  for (const std::string& pattern : options.take_again)
    if (std::erase(sync.leave, pattern) == 0)
      return fail(ErrorCode::not_found,
                  fmt::format("'{}' is not a pattern that is left out", printable(pattern)),
                  sync.leave.empty() ? std::string("nothing is left out by a pattern")
                                     : fmt::format("left out are {}", printable(joined(sync.leave, ", "))));
  if (options.max_bytes) sync.max_bytes = *options.max_bytes;
  const bool has_config = std::ranges::find(sync.kinds, "config") != sync.kinds.end();
  if (has_config && (sync.config.empty() || sync.form.empty()))
    return fail(ErrorCode::bad_usage,
                "config is to be kept in step, and nothing says which files are meant, or of what",
                "add --config 'config/*.cfg' and --config-of NAME: bays of one name exchange it");
  return sync;
}

void print_sync(const BaySync& sync) {
  print_field("takes part", sync.takes_part ? joined(sync.kinds, ", ") : "no, nothing of it");
  if (!sync.states_of.empty()) print_field("states of", printable(sync.states_of));
  if (!sync.config.empty())
    print_field("config", printable(fmt::format("{} of {}", joined(sync.config, ", "), sync.form)));
  if (!sync.leave.empty()) print_field("left out", printable(joined(sync.leave, ", ")));
  print_field("up to", fmt::format("{} a save", bytes_in_words(sync.max_bytes)));
}

Result<int> set(const Globals& globals, const SyncSetOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const Bay bay, find_bay(home, options.bay));
  BAYSWAP_TRY(const BaySync sync, changed(bay.sync, options));
  LocalStore disk;
  BAYSWAP_TRY(const Blob old, disk.read(bay.origin, max_toml_size_bytes));
  const std::string before(old.view().begin(), old.view().end());
  const std::string text = with_sync(before, sync);
  const bool is_change = !(bay.sync == sync);
  std::string kept;
  if (is_change) {
    BAYSWAP_CHECK(parse_bay(text, bay.name, bay.origin, home.bays));
    BAYSWAP_TRY(kept, keep_old_bay_file(home, bay.origin));
    BAYSWAP_CHECK(disk.replace(bay.origin, {reinterpret_cast<const Byte*>(text.data()), text.size()}));
  }
  if (globals.json) {
    print_json({{"bay", bay.name},
                {"takes_part", sync.takes_part},
                {"kinds", sync.kinds},
                {"states_of", sync.states_of},
                {"config", sync.config},
                {"config_of", sync.form},
                {"leave", sync.leave},
                {"max_bytes", sync.max_bytes},
                {"changed", is_change},
                {"kept", kept.empty() ? Json(nullptr) : Json(kept)}});
    return exit_done;
  }
  if (globals.quiet) return exit_done;
  print_field("bay", bay.name, Tone::bold);
  print_sync(sync);
  if (is_change)
    fmt::print("Wrote {}; the old one is kept as {}.\n", bay.origin, kept);
  else
    fmt::print("Nothing was changed; `bayswap sync set --help` has what can be.\n");
  return exit_done;
}

}  // namespace

int sync_set_command(const Globals& globals, const SyncSetOptions& options) {
  return exit_code_of(set(globals, options));
}

// ---- What stays out, for `sync status` ------------------------------------------------------------------

Result<std::vector<BayLeftOut>> left_out_of_bays(const Globals& globals) {
  std::vector<BayLeftOut> all;
  BAYSWAP_TRY(const auto books, Books::load(globals));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(const auto bays, list_bays(books->home));
  for (const auto& [name, bay] : bays) {
    BayLeftOut one;
    one.bay = name;
    if (!bay) {
      one.why = bay.error().message;
    } else if (!bay->sync.takes_part) {
      one.why = fmt::format("takes no part: `bayswap sync set {} --on`", name);
    } else if (is_cart_path(bay->root)) {
      one.why = fmt::format("a cartridge takes part where it is named: `bayswap sync {}`", name);
    } else {
      const auto opened = OpenedBay::open(*books, name);
      if (!opened) {
        one.why = opened.error().message;
      } else {
        BayView view(books->catalog, (*opened)->bay, *(*opened)->store, books->view_options());
        auto saves = left_out(view, &maps);
        if (saves)
          one.saves = *std::move(saves);
        else
          one.why = saves.error().message;
      }
    }
    if (!one.why.empty() || !one.saves.empty()) all.push_back(std::move(one));
  }
  return all;
}

Json to_json(const std::vector<BayLeftOut>& bays) {
  Json list = Json::array();
  for (const BayLeftOut& bay : bays) {
    Json saves = Json::array();
    for (const LeftOut& save : bay.saves)
      saves.push_back({{"save", save.save},
                       {"platform", tag(save.platform)},
                       {"path", save.path},
                       {"code", to_text(save.why)},
                       {"why", save.reason}});
    list.push_back({{"bay", bay.bay},
                    {"why", bay.why.empty() ? Json(nullptr) : Json(bay.why)},
                    {"saves", std::move(saves)}});
  }
  return list;
}

void print_left_out(const std::vector<BayLeftOut>& bays) {
  std::vector<std::vector<std::string>> rows;
  for (const BayLeftOut& bay : bays) {
    if (!bay.why.empty()) rows.push_back({bay.bay, "all", "", printable(bay.why)});
    // Of one reason, the first save stands for the others.
    std::map<std::string, std::vector<const LeftOut*>> by_reason;
    for (const LeftOut& save : bay.saves)
      by_reason[std::string(to_text(save.why)) + (save.why == LeftOut::Why::large ? "" : save.reason)]
          .push_back(&save);
    for (const auto& [key, saves] : by_reason)
      rows.push_back({bay.bay, std::to_string(saves.size()), printable(saves.front()->path),
                      printable(saves.front()->reason)});
  }
  if (rows.empty()) return;
  fmt::print("\n");
  print_table({"bay", "stays out", "the first", "why"}, rows, {1});
}

}  // namespace bayswap::cli
