// The slots of a bay's save states: listed, copied and moved.
#include <bayswap/content.hpp>
#include <bayswap/picture.hpp>
#include <bayswap/state_plan.hpp>

#include <algorithm>
#include <map>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

// What a state's battery save is to the one beside the state.
enum class Verdict { unknown, blank, alone, same, older, newer };

std::string_view to_text(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "unknown";
    case Verdict::blank:
      return "none";
    case Verdict::alone:
      return "alone";
    case Verdict::same:
      return "same";
    case Verdict::older:
      return "older";
    case Verdict::newer:
      return "newer";
  }
  return "";
}
std::string_view in_words(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "not known: no map";
    case Verdict::blank:
      return "none in it";
    case Verdict::alone:
      return "in it, none beside it";
    case Verdict::same:
      return "the same as beside it";
    case Verdict::older:
      return "older than beside it";
    case Verdict::newer:
      return "newer than beside it";
  }
  return "";
}

std::string_view on_sheet(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "battery save not known";
    case Verdict::blank:
      return "no battery save in it";
    case Verdict::alone:
      return "no battery save beside it";
    case Verdict::same:
      return "same as the battery save";
    case Verdict::older:
      return "older than the battery save";
    case Verdict::newer:
      return "newer than the battery save";
  }
  return "";
}

struct ListedState {
  const HeldState* state = nullptr;
  std::string map;
  bool picture = false;
  Verdict verdict = Verdict::unknown;
};

// A bay by its name, or a folder as one: files beside their ROMs.
class Place {
 public:
  static Result<std::unique_ptr<Place>> open(const Globals& globals, const std::string& name) {
    auto place = std::make_unique<Place>();
    BAYSWAP_TRY(place->books_, Books::load(globals));
    LocalStore disk;
    BAYSWAP_TRY(const auto info, disk.stat(name));
    const bool folder = info && info->kind == FileInfo::Kind::folder;
    auto bay = is_bay_name(name) || !folder ? find_bay(place->books_->home, name)
                                            : bay_like("beside-rom", "folder", disk.absolute_path(name));
    if (!bay && folder) bay = bay_like("beside-rom", "folder", disk.absolute_path(name));
    if (!bay) return tl::unexpected(std::move(bay.error()));
    place->bay_ = *std::move(bay);
    BAYSWAP_TRY(place->store_, open_place(place->bay_));
    place->memory_path_ = normalized(join_path(
        place->books_->home.data,
        fmt::format("../scans/{}.states", folder ? sha256_of(place->bay_.root) : place->bay_.name)));
    place->memory_ = ScanMemory::load(disk, place->memory_path_);
    place->view_ = std::make_unique<BayView>(place->books_->catalog, place->bay_, *place->store_,
                                             place->books_->view_options());
    return place;
  }

  [[nodiscard]] BayView& view() { return *view_; }
  [[nodiscard]] Store& store() { return *store_; }
  [[nodiscard]] const Bay& bay() const { return bay_; }

  Result<std::vector<ListedState>> look(const std::vector<HeldState>& states, const StateMaps& maps) {
    std::vector<ListedState> listed;
    for (const HeldState& state : states) {
      ListedState one;
      one.state = &state;
      BAYSWAP_TRY(const ScanMemory::Row row, row_of(state, maps));
      one.map = row.label;
      one.picture = row.thumbnail;
      one.verdict = verdict_of(state, row);
      listed.push_back(std::move(one));
    }
    if (memory_.changed()) {
      LocalStore disk;
      (void)memory_.save(disk, memory_path_);
    }
    return listed;
  }

  struct Beside {
    std::string path;
    std::string digest;
    std::int64_t modified = 0;
  };
  // The battery save of the same game; none without a ROM that both are named after, or one stem.
  const Beside& beside_of(const HeldState& state) {
    const auto known = beside_.find(state.game);
    if (known != beside_.end()) return known->second;
    Beside found;
    const auto saves = view_->saves(BayView::Depth::names);
    for (const HeldSave& save : saves ? **saves : std::vector<HeldSave>{}) {
      if (save.kind != SaveKind::battery || !save.facts.rom_path ||
          lower(stem_of(*save.facts.rom_path)) != lower(state.game))
        continue;
      Hints hints;
      hints.platform = saves_as(state.rule->platform);
      if (state.rom != nullptr) hints.chips = view_->facts_of(*state.rom).chips;
      IssueList issues;
      const auto content = load_save(*view_, save, hints, issues);
      if (content && !content->is_blank()) {
        const auto memory = std::find_if(save.held.begin(), save.held.end(), [](const HeldFile& file) {
          return file.role.kind != PartKind::rtc;
        });
        found = {memory == save.held.end() ? save.path : memory->path, digest(content->chips),
                 save.modified.value_or(0)};
      }
      break;
    }
    return beside_.emplace(state.game, std::move(found)).first->second;
  }

 private:
  static std::string sha256_of(const std::string& text) {
    return sha256({reinterpret_cast<const Byte*>(text.data()), text.size()}).hex().substr(0, 16);
  }

  // What the file holds: label is the map, code the battery save's digest, or "-" where it is blank.
  Result<ScanMemory::Row> row_of(const HeldState& state, const StateMaps& maps) {
    const std::string key = fmt::format("{}|{}|{}|{}\n", state.path, state.size_bytes,
                                        state.modified.value_or(0), maps.all().size());
    if (const ScanMemory::Row* known = memory_.find(key)) {
      ScanMemory::Row row = *known;
      memory_.add(key, row);
      return row;
    }
    ScanMemory::Row row;
    const auto bytes = store_->read(state.path, max_state_bytes);
    if (!bytes) return row;
    const auto chips = state.rom != nullptr ? view_->facts_of(*state.rom).chips : std::vector<ChipFact>{};
    StateLook look = look_at_state(maps, *bytes, state.rule->platform, chips);
    if (look.map.empty() && state.rom != nullptr) {
      BatterySearch what;
      what.platform = state.rule->platform;
      what.chips = chips;
      what.tells_chips = view_->facts_of(*state.rom).tells_chips;
      what.maps = &maps;
      const BatteryFinds finds = find_batteries(books_->catalog, *bytes, what);
      if (!finds.candidates.empty() && finds.candidates.front().certain)
        look.save = finds.candidates.front().save;
    }
    row.label = look.map;
    row.thumbnail = look.picture;
    row.code = look.battery == StateLook::Battery::blank ? "-" : look.save ? digest(*look.save) : "";
    memory_.add(key, row);
    return row;
  }

  static std::string digest(const Save& save) {
    Content content;
    content.kind = Content::Kind::chips;
    content.chips = save;
    return digest_of(content).hex();
  }

  Verdict verdict_of(const HeldState& state, const ScanMemory::Row& row) {
    if (row.code.empty()) return Verdict::unknown;
    if (row.code == "-") return Verdict::blank;
    const Beside& beside = beside_of(state);
    if (beside.digest.empty()) return Verdict::alone;
    if (beside.digest == row.code) return Verdict::same;
    return state.modified.value_or(0) < beside.modified ? Verdict::older : Verdict::newer;
  }

  std::unique_ptr<Books> books_;
  Bay bay_;
  std::unique_ptr<Store> store_;
  ScanMemory memory_;
  std::string memory_path_;
  std::unique_ptr<BayView> view_;
  std::map<std::string, Beside> beside_;
};

Json to_json(const ListedState& one) {
  return {{"game", one.state->game},
          {"platform", tag(one.state->rule->platform)},
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

Result<std::vector<HeldState>> wanted(Place& place, const StateOptions& options) {
  if (options.game.empty()) return held_states(place.view());
  BAYSWAP_TRY(auto states, find_states(place.view(), options.game));
  if (states.empty())
    return fail(ErrorCode::not_found,
                fmt::format("no state of '{}' is in {}", printable(options.game), options.place),
                "`bayswap state list` without a game lists all");
  return states;
}

Result<int> list(const Globals& globals, const StateOptions& options) {
  BAYSWAP_TRY(const auto place, Place::open(globals, options.place));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(const auto states, wanted(*place, options));
  BAYSWAP_TRY(const auto listed, place->look(states, maps));
  if (globals.json) {
    Json all = Json::array();
    for (const ListedState& one : listed) all.push_back(to_json(one));
    print_json({{"place", options.place}, {"root", place->bay().root}, {"states", std::move(all)}});
    return exit_done;
  }
  if (listed.empty()) {
    say(globals.quiet,
        fmt::format("No save states in {}. Their names stand in `states` of the bay file.", options.place));
    return exit_done;
  }
  std::string game;
  std::vector<std::vector<std::string>> rows;
  const auto flush = [&] {
    if (rows.empty()) return;
    print_table({"slot", "date", "bytes", "picture", "battery save", "file"}, rows, {2});
    fmt::print("free slots: {}\n\n", empty_slots(listed, game));
    rows.clear();
  };
  std::size_t behind = 0;
  for (const ListedState& one : listed) {
    if (one.state->game != game) {
      flush();
      game = one.state->game;
      fmt::print("{}\n",
                 toned(Tone::bold, fmt::format("{} ({})", printable(game), tag(one.state->rule->platform))));
      if (const Place::Beside& beside = place->beside_of(*one.state); !beside.path.empty())
        fmt::print("battery save beside: {}, {}\n", printable(beside.path), local_time(beside.modified));
    }
    if (one.verdict == Verdict::older) ++behind;
    const Tone tone = one.verdict == Verdict::older || one.verdict == Verdict::blank ? Tone::warn
                      : one.verdict == Verdict::same                                 ? Tone::good
                                                                                     : Tone::plain;
    rows.push_back({to_text(one.state->slot), one.state->modified ? local_time(*one.state->modified) : "",
                    std::to_string(one.state->size_bytes), one.picture ? "yes" : "",
                    toned(tone, std::string(in_words(one.verdict))), printable(one.state->path)});
  }
  flush();
  if (behind > 0)
    say(globals.quiet, fmt::format("bayswap: note: {} older than the game's battery save: whoever loads one "
                                   "and then saves in the game "
                                   "loses what came after it.",
                                   behind == 1 ? "one state is" : fmt::format("{} states are", behind)));
  return exit_done;
}

Result<int> picture(const Globals& globals, const StateOptions& options) {
  BAYSWAP_TRY(const auto place, Place::open(globals, options.place));
  BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals));
  BAYSWAP_TRY(const auto states, wanted(*place, options));
  BAYSWAP_TRY(const auto listed, place->look(states, maps));
  std::vector<StateGroup> groups;
  for (const ListedState& one : listed) {
    const std::string game =
        fmt::format("{} ({})", printable(one.state->game), tag(one.state->rule->platform));
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
  BAYSWAP_TRY(const auto place, Place::open(globals, options.place));
  BAYSWAP_TRY(const auto states, find_states(place->view(), options.game));
  const auto state =
      std::find_if(states.begin(), states.end(), [&](const HeldState& one) { return one.slot == *from; });
  if (state == states.end()) {
    std::vector<std::string> slots;
    for (const HeldState& one : states) slots.push_back(to_text(one.slot));
    return fail(ErrorCode::not_found,
                fmt::format("no state of '{}' is in slot {} of {}", printable(options.game), to_text(*from),
                            options.place),
                slots.empty() ? "`bayswap state list` shows what there is"
                              : fmt::format("it has slots {}", joined(slots, ", ")));
  }
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
  return code ? *code : report(code.error());
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
