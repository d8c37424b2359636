// The slots of a bay's save states: listed, copied and moved.
#include <bayswap/content.hpp>
#include <bayswap/picture.hpp>
#include <bayswap/state_plan.hpp>

#include <algorithm>
#include <map>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "cli/state_place.hpp"

namespace bayswap::cli {
namespace {

std::string_view verdict_words(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "not known: no map";
    case Verdict::empty:
      return "no state: empty file";
    case Verdict::battery_save:
      return "no state: a battery save";
    case Verdict::blank:
      return "none in it";
    case Verdict::alone:
      return "in it, none beside it";
    case Verdict::same:
      return "the same as the save";
    case Verdict::other:
      return "another, of the same date";
    case Verdict::older:
      return "older than the save";
    case Verdict::newer:
      return "newer than the save";
  }
  return "";
}

std::string_view on_sheet(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "battery save not known";
    case Verdict::empty:
      return "empty file";
    case Verdict::battery_save:
      return "no state, a battery save";
    case Verdict::blank:
      return "no battery save in it";
    case Verdict::alone:
      return "no battery save beside it";
    case Verdict::same:
      return "same as the battery save";
    case Verdict::other:
      return "another, of the same date";
    case Verdict::older:
      return "older than the battery save";
    case Verdict::newer:
      return "newer than the battery save";
  }
  return "";
}

std::string titled(const ListedState& one) {
  const std::string game = printable(one.state->game);
  return one.platform.empty() ? game : fmt::format("{} ({})", game, one.platform);
}

Json state_json(const ListedState& one) {
  return {{"game", one.state->game},
          {"platform", one.platform},
          {"slot", one.state->slot.automatic ? Json("auto") : Json(one.state->slot.number)},
          {"path", one.state->path},
          {"size_bytes", one.state->size_bytes},
          {"modified", one.state->modified ? Json(utc_time(*one.state->modified)) : Json(nullptr)},
          {"map", one.map},
          {"picture", one.picture},
          {"battery", to_text(one.verdict)}};
}

// "0, 2 to 9": the numbers below ten that no state has.
std::string empty_slots(const std::vector<ListedState>& listed, const std::string& game) {
  constexpr int usual = 10;
  std::vector<bool> used(usual);
  for (const ListedState& one : listed)
    if (one.state->game == game && !one.state->slot.automatic && one.state->slot.number < usual)
      used[static_cast<std::size_t>(one.state->slot.number)] = true;
  std::vector<std::string> ranges;
  for (int i = 0; i < usual; ++i) {
    if (used[static_cast<std::size_t>(i)]) continue;
    int last = i;
    while (last + 1 < usual && !used[static_cast<std::size_t>(last) + 1]) ++last;
    ranges.push_back(last == i       ? std::to_string(i)
                     : last == i + 1 ? fmt::format("{}, {}", i, last)
                                     : fmt::format("{} to {}", i, last));
    i = last;
  }
  return joined(ranges, ", ");
}

// With the games that there are states of.
Error no_state_of(BayView& view, const StateOptions& options) {
  std::vector<std::string> games;
  const auto all = held_states(view);
  for (const HeldState& one : all ? *all : std::vector<HeldState>{})
    if (games.empty() || games.back() != one.game) games.push_back(one.game);
  constexpr std::size_t shown = 8;
  if (games.size() > shown) games.resize(shown);
  return {ErrorCode::not_found,
          fmt::format("no state of '{}' is in {}", printable(options.game), options.place),
          games.empty() ? "there are no states; set `states` of the bay file to their names"
                        : fmt::format("there are states of {}", printable(joined(games, ", "))),
          {}};
}

Result<std::vector<HeldState>> wanted(StatePlace& place, const StateOptions& options) {
  if (options.game.empty()) return held_states(place.view());
  BAYSWAP_TRY(auto states, find_states(place.view(), options.game));
  if (states.empty()) return tl::unexpected(no_state_of(place.view(), options));
  return states;
}

std::string states_table(StatePlace& place, const std::vector<ListedState>& listed) {
  std::string text;
  std::string game;
  std::vector<std::vector<std::string>> rows;
  const auto flush = [&] {
    if (rows.empty()) return;
    text += table_text({"slot", "date", "bytes", "picture", "battery save", "file"}, rows, {2});
    text += fmt::format("free slots: {}\n\n", empty_slots(listed, game));
    rows.clear();
  };
  for (const ListedState& one : listed) {
    if (one.state->game != game) {
      flush();
      game = one.state->game;
      text += fmt::format("{}\n", toned(Tone::bold, titled(one)));
      if (const StatePlace::Beside& beside = place.beside_of(*one.state); !beside.path.empty())
        text +=
            fmt::format("battery save beside: {}, {}\n", printable(beside.path), local_time(beside.modified));
    }
    rows.push_back({to_text(one.state->slot), one.state->modified ? local_time(*one.state->modified) : "",
                    std::to_string(one.state->size_bytes), one.picture ? "yes" : "",
                    std::string(verdict_words(one.verdict)), printable(one.state->path)});
  }
  flush();
  return text;
}

// What is said beside the list.
std::string note_on(const std::vector<ListedState>& listed, const std::string& place) {
  if (listed.empty())
    return fmt::format("No save states in {}. Set `states` of the bay file to their names.", place);
  const auto behind = std::count_if(listed.begin(), listed.end(),
                                    [](const ListedState& one) { return one.verdict == Verdict::older; });
  if (behind == 0) return {};
  return fmt::format(
      "bayswap: note: {} older than the game's battery save: loading one and then saving in the game "
      "loses what came after it.",
      behind == 1 ? "one state is" : fmt::format("{} states are", behind));
}

Result<int> list(const Globals& globals, const StateOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const Bay bay, bay_at(globals, options.place));
  BAYSWAP_TRY(const TitleBook titles, TitleBook::load(home));
  BAYSWAP_TRY(const PairBook pairs, PairBook::load(home));
  LastAnswer last(
      globals, home, bay, "states-" + short_digest(bay.root),
      fmt::format("{}\n{}\n{}{}", options.place, options.game, titles.to_toml(), pairs.to_toml()));
  // The answer contains the list, a NUL, and the note.
  const auto print = [&](const std::string& answer) {
    const std::size_t end = answer.find('\0');
    print_document(answer.substr(0, end));
    if (end + 1 < answer.size() && !globals.json) say(globals.quiet, answer.substr(end + 1));
    return exit_done;
  };
  if (const auto answer = last.still_right()) return print(*answer);
  BAYSWAP_TRY(const auto place, StatePlace::open(globals, bay));
  BAYSWAP_CHECK(place->store().list("."));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(const auto states, wanted(*place, options));
  BAYSWAP_TRY(const auto listed, place->look(states, maps));
  std::string text;
  if (globals.json) {
    Json all = Json::array();
    for (const ListedState& one : listed) all.push_back(state_json(one));
    text = json_text({{"place", options.place}, {"root", bay.root}, {"states", std::move(all)}});
  } else {
    text = states_table(*place, listed);
  }
  text += '\0' + note_on(listed, options.place);
  last.keep(text, {place->watched()});
  return print(text);
}

Result<int> picture(const Globals& globals, const StateOptions& options) {
  BAYSWAP_TRY(const auto place, StatePlace::open(globals, options.place));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(const auto states, wanted(*place, options));
  BAYSWAP_TRY(const auto listed, place->look(states, maps));
  std::vector<StateGroup> groups;
  for (const ListedState& one : listed) {
    const std::string game = titled(one);
    if (groups.empty() || groups.back().game != game) groups.push_back({game, {}});
    StateTile tile;
    tile.slot = one.state->slot.automatic ? "autosave" : fmt::format("slot {}", one.state->slot.number);
    tile.date = one.state->modified ? local_time(*one.state->modified) : "";
    tile.verdict = on_sheet(one.verdict);
    tile.tone = one.verdict == Verdict::same                                     ? StateTile::Tone::good
                : one.verdict == Verdict::older || one.verdict == Verdict::blank ? StateTile::Tone::bad
                                                                                 : StateTile::Tone::plain;
    tile.file = printable(name_of(one.state->path));
    if (const auto bytes = place->store().read(one.state->path, max_state_bytes))
      if (const auto png = picture_in_state(*bytes))
        if (auto drawn = from_png(*png)) tile.picture = *std::move(drawn);
    groups.back().tiles.push_back(std::move(tile));
  }
  const Picture sheet = state_sheet(groups, printable(name_of(normalized(options.place))));
  BAYSWAP_TRY(const Blob png, to_png(sheet));
  LocalStore disk;
  BAYSWAP_CHECK(disk.create(options.out, png.view()));
  if (globals.json)
    print_json(
        {{"path", options.out}, {"states", listed.size()}, {"width", sheet.width}, {"height", sheet.height}});
  else if (!globals.quiet)
    print_field("wrote", fmt::format("{} ({} bytes)", options.out, png.size()));
  return exit_done;
}

Result<int> change(const Globals& globals, const StateOptions& options, bool move) {
  const auto from = state_slot_from_text(options.slot);
  const auto to = state_slot_from_text(options.to_slot);
  for (const auto& [slot, word, option] :
       {std::tuple(from, options.slot, "--slot"), std::tuple(to, options.to_slot, "--to-slot")})
    if (!slot)
      return fail(ErrorCode::bad_usage, fmt::format("{} {} is no slot", option, printable(word)),
                  "a slot is a number from 0 to 999, or auto");
  BAYSWAP_TRY(const auto place, StatePlace::open(globals, options.place));
  BAYSWAP_TRY(const auto states, find_states(place->view(), options.game));
  if (states.empty()) return tl::unexpected(no_state_of(place->view(), options));
  const auto state =
      std::find_if(states.begin(), states.end(), [&](const HeldState& one) { return one.slot == *from; });
  if (state == states.end())
    return fail(ErrorCode::not_found,
                fmt::format("no state of '{}' is in slot {} of {}", printable(options.game), to_text(*from),
                            options.place),
                "it has slots " + slots_in_words(states));
  if (const auto second =
          std::find_if(state + 1, states.end(), [&](const HeldState& one) { return one.slot == *from; });
      second != states.end())
    return fail(ErrorCode::bad_usage,
                fmt::format("two states of '{}' are in slot {}", printable(options.game), to_text(*from)),
                fmt::format("name one by its path: {} or {}", state->path, second->path));
  BAYSWAP_TRY(const Plan plan, plan_slot_change(place->view(), *state, *to, move, options.replace));
  std::optional<std::int64_t> entry;
  if (options.dry_run) {
    if (!globals.json) print_plan(plan);
  } else {
    BAYSWAP_TRY(entry, run_here(globals, plan, place->store()));
  }
  BAYSWAP_TRY(const std::string path, path_of_slot(place->view(), *state, *to));
  if (globals.json) {
    print_json({{"game", state->game},
                {"from", state->path},
                {"to", path},
                {"moved", move},
                {"entry", entry ? Json(*entry) : Json(nullptr)}});
  } else if (!globals.quiet && !options.dry_run) {
    print_field(entry ? (move ? "moved" : "copied") : "same",
                fmt::format("{} slot {} to slot {}: {}", state->game, to_text(*from), to_text(*to), path));
    if (entry)
      print_field("kept", fmt::format("in the logbook, entry {}; `bayswap undo` takes it back", *entry));
  }
  return exit_done;
}

int run(const Result<int>& code) {
  return exit_code_of(code);
}

}  // namespace

int state_list_command(const Globals& globals, const StateOptions& options) {
  return run(list(globals, options));
}
int state_picture_command(const Globals& globals, const StateOptions& options) {
  return run(picture(globals, options));
}
int state_copy_command(const Globals& globals, const StateOptions& options) {
  return run(change(globals, options, false));
}
int state_move_command(const Globals& globals, const StateOptions& options) {
  return run(change(globals, options, true));
}

}  // namespace bayswap::cli
