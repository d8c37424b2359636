// Save states: what is in one, the battery save taken out and another put in, maps learned and listed.
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/state_job.hpp"
#include "state/sections.hpp"

namespace bayswap::cli {
namespace {

struct Job {
  const Globals& globals;
  const StateOptions& options;
  LocalStore disk{};
  StateJob state{globals, options};

  Result<int> show() {
    BAYSWAP_TRY(const StateFile file, state.read_state(options.state));
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(const auto kinds, state.kinds_of(maps, file));
    const auto& layers = file.layers();
    if (globals.json) {
      Json all = Json::array();
      for (const Layer& layer : layers)
        all.push_back({{"layer", to_text(layer.envelope)},
                       {"size_bytes", layer.bytes.size()},
                       {"sha256", sha256(layer.bytes.view()).hex()}});
      Json ids = Json::array();
      for (const StateMap& map : kinds) ids.push_back(map.id);
      print_json(
          {{"path", options.state}, {"size_bytes", file.bytes().size()}, {"maps", ids}, {"layers", all}});
      return exit_done;
    }
    print_field("state", fmt::format("{}, {} bytes", options.state, file.bytes().size()));
    for (std::size_t i = 0; i < kinds.size(); ++i) {
      print_field(i == 0 ? "kind" : "", fmt::format("{}: {}", kinds[i].id, kinds[i].about));
      for (const std::string& why : is_state_of(kinds[i], file).value_or(std::vector<std::string>{}))
        print_field("", why);
    }
    if (kinds.empty()) print_field("kind", "no map describes it; `bayswap state learn` makes one");
    if (!kinds.empty()) print_regions(kinds.front(), file);
    std::vector<std::vector<std::string>> rows;
    rows.reserve(layers.size());
    for (const Layer& layer : layers)
      rows.push_back({printable(to_text(layer.envelope)), fmt::format("{}", layer.bytes.size()),
                      sha256(layer.bytes.view()).hex().substr(0, 16)});
    fmt::print("\n");
    print_table({"layer", "bytes", "sha256"}, rows, {1});
    return exit_done;
  }

  // Where the map has what.
  static void print_regions(const StateMap& map, const StateFile& file) {
    bool first = true;
    for (const Slot& slot : map.batteries) {
      const std::string bytes =
          slot.file_sizes.size() == 1
              ? fmt::format("{} bytes", slot.file_sizes.front())
              : fmt::format("{} to {} bytes", slot.file_sizes.front(), slot.file_sizes.back());
      print_field(first ? "battery" : "",
                  slot.after_variable
                      ? fmt::format("{}: {}, after it if there is one", to_text(slot.role), bytes)
                      : fmt::format("{}: {} from {} of {}", to_text(slot.role), bytes, slot.at,
                                    to_text(map.envelope)));
      first = false;
    }
    const auto sections = read_sections(map, file.bytes());
    if (!sections || map.items == StateMap::Items::none) return;
    print_field("snapshot", fmt::format("{} bytes", sections->body.size()));
    for (const StateItem& item : sections->items)
      print_field("", fmt::format("item {}: {} bytes", item.number, item.bytes.size()));
  }

  Result<int> take() {
    BAYSWAP_TRY(const StateFile file, state.read_state(options.state));
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(Catalog catalog, catalog_of(globals));
    BAYSWAP_CHECK(state.learn_about_the_game(catalog, options.state));
    BAYSWAP_TRY(const FoundBattery found, state.battery(catalog, maps, file));
    const Save& save = found.save;
    std::vector<std::pair<std::string, Blob>> files;
    if (!options.to.empty()) {
      ConvertRequest request;
      request.inputs.push_back(save);
      BAYSWAP_TRY(request.to, layout_named(catalog, options.to));
      request.chips = state.chips();
      BAYSWAP_TRY(Converted converted, convert(catalog, request));
      for (ConvertedFile& one : converted.files)
        files.emplace_back(
            converted.files.size() == 1 ? options.out : options.out + set_suffix(*one.layout, one.role),
            std::move(one.bytes));
    } else {
      // The bare chips, as the hardware has them.
      for (const Part& part : save.parts)
        if (!is_blank(part))
          files.emplace_back(files.empty() ? options.out : options.out + "." + to_text(part.role),
                             part.bytes);
    }
    // All of them or none.
    for (const auto& [path, bytes] : files) {
      BAYSWAP_TRY(const auto there, disk.stat(path));
      if (there)
        return fail(ErrorCode::unsafe, fmt::format("{} exists already", path),
                    "name another file with --out");
    }
    for (const auto& [path, bytes] : files) BAYSWAP_CHECK(disk.create(path, bytes.view()));
    if (globals.json) {
      Json made = Json::array();
      for (const auto& [path, bytes] : files) made.push_back({{"path", path}, {"size_bytes", bytes.size()}});
      print_json({{"map", found.map.id},
                  {"evidence", found.evidence},
                  {"parts", to_json(save)},
                  {"files", std::move(made)}});
    } else if (!globals.quiet) {
      print_found(found);
      for (const Part& part : save.parts)
        print_field("", fmt::format("{} of {} bytes", to_text(part.role), part.bytes.size()));
      for (const auto& [path, bytes] : files)
        print_field("wrote", fmt::format("{} ({} bytes)", path, bytes.size()));
    }
    return exit_done;
  }

  void print_found(const FoundBattery& found) const {
    const bool searched = found.map.origin == "found";
    print_field("read", searched ? options.state : fmt::format("{} as {}", options.state, found.map.id));
    constexpr std::size_t most = 4;
    if (searched)
      for (std::size_t i = 0; i < std::min(most, found.evidence.size()); ++i)
        print_field("", found.evidence[i]);
  }

  Result<int> graft() {
    BAYSWAP_TRY(const StateFile file, state.read_state(options.state));
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
    BAYSWAP_CHECK(state.learn_about_the_game(catalog, options.state));
    BAYSWAP_TRY(const auto kinds, state.kinds_of(maps, file));
    FoundBattery found;
    if (!kinds.empty() && options.candidate == 0) {
      // A state of a known kind takes one also where its own memory is still blank.
      found.map = kinds.front();
    } else {
      BAYSWAP_TRY(found, state.battery(catalog, maps, file));
    }
    const StateMap& map = found.map;
    BAYSWAP_TRY(const Save save, state.save_in(catalog, options.files.front(), map.platform));
    if (save.is_blank())
      return fail(ErrorCode::unsafe, fmt::format("{} is blank", options.files.front()),
                  "nothing was written; name a battery save that holds something");
    BAYSWAP_TRY(const Blob out, grafted_state(map, file, save));
    BAYSWAP_CHECK(disk.create(options.out, out.view()));
    if (globals.json)
      print_json(
          {{"map", map.id}, {"parts", to_json(save)}, {"path", options.out}, {"size_bytes", out.size()}});
    else if (!globals.quiet) {
      print_found(found);
      print_field("wrote", fmt::format("{} ({} bytes)", options.out, out.size()));
    }
    say(globals.quiet,
        "bayswap: note: the running game may hold an older copy in its work memory until it reads its save "
        "again: load "
        "the state, then go to the game's own title screen and load there.");
    return exit_done;
  }

  Result<int> convert_state() {
    if (options.to.empty() && options.base.empty())
      return fail(ErrorCode::bad_usage, "convert to what?",
                  "pass --to MAP, or --base FILE: a state that the other program wrote");
    BAYSWAP_TRY(const StateFile file, state.read_state(options.state));
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(const auto kinds, state.kinds_of(maps, file));
    std::optional<StateFile> base;
    std::vector<StateMap> targets;
    if (!options.base.empty()) {
      BAYSWAP_TRY(base, state.read_state(options.base));
    }
    if (!options.to.empty()) {
      BAYSWAP_TRY(const StateMap* named, maps.find(options.to));
      targets.push_back(*named);
    } else {
      BAYSWAP_TRY(targets, state.kinds_of(maps, *base));
    }
    std::optional<ConvertedState> made;
    std::optional<Error> failed;
    for (const StateMap& from : kinds)
      for (const StateMap& to : targets) {
        if (made) break;
        auto one = converted_state(from, file.bytes(), to, base ? &base->bytes() : nullptr);
        if (one)
          made = *std::move(one);
        else if (!failed || failed->code == ErrorCode::unsupported)
          failed = one.error();
      }
    // Kinds that no map knows can still hold one and the same layer.
    if (!made && base && (kinds.empty() || targets.empty())) {
      BAYSWAP_TRY(made, rewrapped_state(file.bytes(), base->bytes()));
    }
    if (!made) {
      if (failed) return tl::unexpected(*std::move(failed));
      return fail(ErrorCode::not_recognised,
                  fmt::format("{} is a state of no kind that a map describes", options.state),
                  "pass --base FILE: a state that the other program wrote");
    }
    BAYSWAP_CHECK(disk.create(options.out, made->file.view()));
    if (globals.json) {
      print_json({{"path", options.out}, {"size_bytes", made->file.size()}, {"notes", made->notes}});
      return exit_done;
    }
    if (!globals.quiet) {
      for (std::size_t i = 0; i < made->notes.size(); ++i) print_field(i == 0 ? "done" : "", made->notes[i]);
      print_field("wrote", fmt::format("{} ({} bytes)", options.out, made->file.size()));
    }
    return exit_done;
  }

  Result<int> diff() {
    BAYSWAP_TRY(const StateFile before, state.read_state(options.files.front()));
    BAYSWAP_TRY(const StateFile after, state.read_state(options.files.back()));
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(const auto kinds, state.kinds_of(maps, before));
    const auto changes =
        compare_states(before.bytes(), after.bytes(), kinds.empty() ? nullptr : &kinds.front());
    if (globals.json) {
      Json all = Json::array();
      for (const LayerChange& change : changes) {
        Json stretches = Json::array();
        for (const LayerChange::Stretch& one : change.stretches)
          stretches.push_back({{"at", one.at}, {"bytes", one.bytes}, {"within", one.within}});
        all.push_back({{"layer", to_text(change.envelope)},
                       {"before_bytes", change.before_bytes},
                       {"after_bytes", change.after_bytes},
                       {"changed_bytes", change.changed_bytes},
                       {"stretches", std::move(stretches)}});
      }
      print_json({{"before", options.files.front()},
                  {"after", options.files.back()},
                  {"same", changes.empty()},
                  {"layers", std::move(all)}});
      return changes.empty() ? exit_done : exit_problems;
    }
    if (changes.empty()) {
      print_field("same", "every layer is equal, byte for byte");
      return exit_done;
    }
    constexpr std::size_t shown = 8;
    for (const LayerChange& change : changes) {
      const std::string sizes =
          change.before_bytes == change.after_bytes
              ? fmt::format("{} of {} bytes differ", change.changed_bytes, change.before_bytes)
          : change.before_bytes == 0 ? fmt::format("only the second has it, {} bytes", change.after_bytes)
          : change.after_bytes == 0
              ? fmt::format("only the first has it, {} bytes", change.before_bytes)
              : fmt::format("{} bytes, then {}; {} of those that both have differ", change.before_bytes,
                            change.after_bytes, change.changed_bytes);
      fmt::print("{}\n", toned(Tone::bold, printable(to_text(change.envelope))));
      print_field("changed", sizes);
      for (std::size_t i = 0; i < std::min(shown, change.stretches.size()); ++i) {
        const LayerChange::Stretch& one = change.stretches[i];
        print_field(i == 0 ? "at" : "",
                    fmt::format("{}: {} byte{}{}", one.at, one.bytes, one.bytes == 1 ? "" : "s",
                                one.within.empty() ? "" : ", the battery save's " + one.within));
      }
      if (change.stretches.size() > shown)
        print_field("", fmt::format("and {} more places", change.stretches.size() - shown));
    }
    return exit_problems;
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
    BAYSWAP_TRY(StateMaps maps, state_maps_of(globals));
    BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
    BAYSWAP_CHECK(state.learn_about_the_game(catalog, options.files.front()));
    std::vector<StatePair> pairs;
    for (std::size_t i = 0; i < options.files.size(); i += 2) {
      StatePair pair;
      BAYSWAP_TRY(const StateFile one, state.read_state(options.files[i]));
      pair.state = one.bytes();
      BAYSWAP_TRY(pair.battery, state.save_in(catalog, options.files[i + 1], *platform));
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
    say(globals.quiet, "`bayswap state export STATE --out FILE` uses it at once.");
    return exit_done;
  }

  Result<int> list_maps() {
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
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
  return exit_code_of((job.*what)());
}

}  // namespace

int state_show_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::show);
}
int state_export_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::take);
}
int state_import_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::graft);
}
int state_convert_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::convert_state);
}
int state_diff_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::diff);
}
int state_learn_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::learn);
}
int state_maps_command(const Globals& globals, const StateOptions& options) {
  return run(globals, options, &Job::list_maps);
}

}  // namespace bayswap::cli
