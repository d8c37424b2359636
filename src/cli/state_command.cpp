// Save states: what is in one, the battery save taken out and another put in, maps learned and listed.
#include <bayswap/bay.hpp>
#include <bayswap/content.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t max_state_bytes = std::size_t{128} << 20;

Result<StateMaps> maps_of(const Globals& globals) {
  StateMaps maps;
  const auto home = home_of(globals);
  if (!home) return maps;
  std::vector<Error> skipped;
  BAYSWAP_CHECK(load_state_maps(*home, maps, &skipped));
  for (const Error& error : skipped) report(error);
  return maps;
}

Json to_json(const Save& save) {
  Json parts = Json::array();
  for (const Part& part : save.parts)
    parts.push_back({{"role", to_text(part.role)},
                     {"size_bytes", part.bytes.size()},
                     {"blank", is_blank(part)},
                     {"sha256", sha256(part.bytes.view()).hex()}});
  return parts;
}

// The states' kinds, and what is known of the game.
struct Job {
  const Globals& globals;
  const StateOptions& options;
  LocalStore disk{};

  Result<std::vector<ChipFact>> chips(const std::string& state) {
    BAYSWAP_TRY(const auto said, chips_from_words(options.chips));
    BAYSWAP_TRY(const Hints hints, hints_for(globals, state, options.rom, said));
    return hints.chips;
  }

  // The maps that the file is a state of; only the one that was named, where one was.
  Result<std::vector<const StateMap*>> kinds_of(const StateMaps& maps, const Blob& file) {
    std::vector<const StateMap*> fitting;
    if (!options.map.empty()) {
      BAYSWAP_TRY(const StateMap* named, maps.find(options.map));
      fitting.push_back(named);
      return fitting;
    }
    for (const StateMap* map : maps.all())
      if (is_state_of(*map, file)) fitting.push_back(map);
    return fitting;
  }

  tl::unexpected<Error> no_map(const std::string& path) const {
    return fail(ErrorCode::not_recognised, fmt::format("{} is a state of no kind that a map describes", path),
                "`bayswap state learn` makes a map from a state and the battery save of that moment");
  }

  // Of several kinds the one that gives a save which is not blank.
  Result<std::pair<const StateMap*, Save>> battery(const StateMaps& maps, const std::string& path,
                                                   const Blob& file) {
    BAYSWAP_TRY(const auto known, chips(path));
    BAYSWAP_TRY(const auto kinds, kinds_of(maps, file));
    if (kinds.empty()) return no_map(path);
    std::optional<Error> failed;
    for (const StateMap* map : kinds) {
      auto save = battery_in_state(*map, file, known);
      if (save && !save->is_blank()) return std::pair{map, *std::move(save)};
      if (!save) failed = save.error();
    }
    if (failed) {
      failed->message = fmt::format("{}: {}", path, failed->message);
      return tl::unexpected(*std::move(failed));
    }
    return fail(ErrorCode::not_found,
                fmt::format("{}: no battery save is in this state: its memory is blank", path),
                "the game had not saved when the state was made");
  }

  Result<int> show() {
    BAYSWAP_TRY(const Blob file, disk.read(options.state, max_state_bytes));
    BAYSWAP_TRY(const StateMaps maps, maps_of(globals));
    BAYSWAP_TRY(const auto kinds, kinds_of(maps, file));
    const auto layers = find_layers(file);
    if (globals.json) {
      Json all = Json::array();
      for (const Layer& layer : layers)
        all.push_back({{"layer", to_text(layer.envelope)},
                       {"size_bytes", layer.bytes.size()},
                       {"sha256", sha256(layer.bytes.view()).hex()}});
      Json ids = Json::array();
      for (const StateMap* map : kinds) ids.push_back(map->id);
      print_json({{"path", options.state}, {"size_bytes", file.size()}, {"maps", ids}, {"layers", all}});
      return exit_done;
    }
    print_field("state", fmt::format("{}, {} bytes", options.state, file.size()));
    for (std::size_t i = 0; i < kinds.size(); ++i) {
      print_field(i == 0 ? "kind" : "", fmt::format("{}: {}", kinds[i]->id, kinds[i]->about));
      for (const std::string& why : is_state_of(*kinds[i], file).value_or(std::vector<std::string>{}))
        print_field("", why);
    }
    if (kinds.empty()) print_field("kind", "no map describes it; `bayswap state learn` makes one");
    std::vector<std::vector<std::string>> rows;
    rows.reserve(layers.size());
    for (const Layer& layer : layers)
      rows.push_back({printable(to_text(layer.envelope)), fmt::format("{}", layer.bytes.size()),
                      sha256(layer.bytes.view()).hex().substr(0, 16)});
    fmt::print("\n");
    print_table({"layer", "bytes", "sha256"}, rows, {1});
    return exit_done;
  }

  Result<int> take() {
    BAYSWAP_TRY(const Blob file, disk.read(options.state, max_state_bytes));
    BAYSWAP_TRY(const StateMaps maps, maps_of(globals));
    BAYSWAP_TRY(const auto found, battery(maps, options.state, file));
    const auto& [map, save] = found;
    BAYSWAP_TRY(const auto known, chips(options.state));
    BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
    std::vector<std::pair<std::string, Blob>> files;
    if (!options.to.empty()) {
      ConvertRequest request;
      request.inputs.push_back(save);
      BAYSWAP_TRY(request.to, catalog.find(options.to));
      request.chips = known;
      BAYSWAP_TRY(Converted converted, convert(catalog, request));
      for (ConvertedFile& one : converted.files)
        files.emplace_back(
            converted.files.size() == 1 ? options.out : options.out + set_suffix(*one.layout, one.role),
            std::move(one.bytes));
    } else {
      // The bare chips, as the hardware has them.
      for (const Part& part : save.parts)
        if (!is_blank(part))
          files.emplace_back(save.parts.size() == 1 ? options.out : options.out + "." + to_text(part.role),
                             part.bytes);
    }
    for (const auto& [path, bytes] : files) BAYSWAP_CHECK(disk.create(path, bytes.view()));
    if (globals.json) {
      Json made = Json::array();
      for (const auto& [path, bytes] : files) made.push_back({{"path", path}, {"size_bytes", bytes.size()}});
      print_json({{"map", map->id}, {"parts", to_json(save)}, {"files", std::move(made)}});
    } else if (!globals.quiet) {
      print_field("read", fmt::format("{} as {}", options.state, map->id));
      for (const Part& part : save.parts)
        print_field("", fmt::format("{} of {} bytes", to_text(part.role), part.bytes.size()));
      for (const auto& [path, bytes] : files)
        print_field("wrote", fmt::format("{} ({} bytes)", path, bytes.size()));
    }
    return exit_done;
  }

  Result<Save> save_in(const std::string& path, const std::string& state, Platform platform) {
    BAYSWAP_TRY(const Blob bytes, disk.read(path));
    BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
    BAYSWAP_TRY(Hints hints, hints_for(globals, options.rom.empty() ? state : path, options.rom, {}));
    hints.platform = saves_as(platform);
    hints.extension.clear();
    OpenOptions how;
    how.hints = hints;
    how.shown = path;
    IssueList issues;
    BAYSWAP_TRY(const OpenedChips opened, open_chips(catalog, bytes, how, issues));
    for (const PlanIssue& issue : issues.all()) say(globals.quiet, "bayswap: warning: " + issue.text);
    return opened.save;
  }

  Result<int> graft() {
    BAYSWAP_TRY(const Blob file, disk.read(options.state, max_state_bytes));
    BAYSWAP_TRY(const StateMaps maps, maps_of(globals));
    BAYSWAP_TRY(const auto kinds, kinds_of(maps, file));
    if (kinds.empty()) return no_map(options.state);
    const StateMap& map = *kinds.front();
    BAYSWAP_TRY(const Save save, save_in(options.files.front(), options.state, map.platform));
    if (save.is_blank())
      return fail(ErrorCode::unsafe, fmt::format("{} is blank", options.files.front()),
                  "nothing was written; name a battery save that holds something");
    BAYSWAP_TRY(const Blob out, grafted_state(map, file, save));
    BAYSWAP_CHECK(disk.create(options.out, out.view()));
    if (globals.json)
      print_json(
          {{"map", map.id}, {"parts", to_json(save)}, {"path", options.out}, {"size_bytes", out.size()}});
    else if (!globals.quiet) {
      print_field("read", fmt::format("{} as {}", options.state, map.id));
      print_field("wrote", fmt::format("{} ({} bytes)", options.out, out.size()));
    }
    say(globals.quiet,
        "bayswap: note: the running game may hold an older copy in its work memory until it reads its save "
        "again: load "
        "the state, then go to the game's own title screen and load there.");
    return exit_done;
  }

  Result<int> learn() {
    if (options.files.size() % 2 != 0)
      return fail(ErrorCode::bad_usage, fmt::format("{} files", options.files.size()),
                  "name pairs: a state and the battery save of that moment, again and again");
    const auto platform = platform_from_tag(options.map.substr(0, options.map.find('.')));
    if (!platform)
      return fail(ErrorCode::bad_usage,
                  fmt::format("--id '{}' does not begin with a platform", printable(options.map)),
                  "a map's id is the platform's tag, a dot and a name: e.g. --id gb.mine");
    BAYSWAP_TRY(const Home home, home_of(globals));
    BAYSWAP_TRY(StateMaps maps, maps_of(globals));
    std::vector<StatePair> pairs;
    for (std::size_t i = 0; i < options.files.size(); i += 2) {
      StatePair pair;
      BAYSWAP_TRY(pair.state, disk.read(options.files[i], max_state_bytes));
      BAYSWAP_TRY(pair.battery, save_in(options.files[i + 1], options.files[i], *platform));
      pairs.push_back(std::move(pair));
    }
    BAYSWAP_TRY(LearnedState learned, learn_state(pairs, options.map));
    const std::string path = join_path(home.states, options.map + ".toml");
    BAYSWAP_CHECK(maps.add(learned.map));
    const std::string text = to_toml(learned.map);
    BAYSWAP_CHECK(disk.create(path, {reinterpret_cast<const Byte*>(text.data()), text.size()}));
    if (globals.json) {
      print_json({{"id", learned.map.id},
                  {"path", path},
                  {"certain", learned.certain},
                  {"open", learned.open},
                  {"map", text}});
      return exit_done;
    }
    if (!globals.quiet) {
      for (std::size_t i = 0; i < learned.certain.size(); ++i)
        print_field(i == 0 ? "certain" : "", learned.certain[i], Tone::good);
      for (std::size_t i = 0; i < learned.open.size(); ++i)
        print_field(i == 0 ? "open" : "", learned.open[i], Tone::warn);
      print_field("wrote", path);
    }
    say(globals.quiet, "`bayswap state battery STATE --out FILE` uses it at once.");
    return exit_done;
  }

  Result<int> list_maps() {
    BAYSWAP_TRY(const StateMaps maps, maps_of(globals));
    if (!options.map.empty()) {
      BAYSWAP_TRY(const StateMap* map, maps.find(options.map));
      if (globals.json)
        print_json({{"id", map->id}, {"origin", map->origin}, {"map", to_toml(*map)}});
      else
        fmt::print("{}", to_toml(*map));
      return exit_done;
    }
    if (globals.json) {
      Json all = Json::array();
      for (const StateMap* map : maps.all())
        all.push_back({{"id", map->id}, {"about", map->about}, {"origin", map->origin}});
      print_json(all);
      return exit_done;
    }
    std::vector<std::vector<std::string>> rows;
    for (const StateMap* map : maps.all())
      rows.push_back(
          {map->id, to_text(map->envelope), map->origin == "built in" ? map->origin : "yours", map->about});
    print_table({"map", "the battery save is in", "from", "about"}, rows, {});
    return exit_done;
  }
};

int run(const Globals& globals, const StateOptions& options, Result<int> (Job::*what)()) {
  Job job{globals, options};
  const auto code = (job.*what)();
  return code ? *code : report(code.error());
}

}  // namespace

int state_show_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::show);
}
int state_battery_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::take);
}
int state_graft_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::graft);
}
int state_learn_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::learn);
}
int state_maps_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::list_maps);
}

}  // namespace bayswap::cli
