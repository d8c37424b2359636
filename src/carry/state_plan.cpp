// Plans about save states.
#include <bayswap/state_plan.hpp>

#include <fmt/format.h>

#include <map>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/rom_list.hpp"
#include "carry/version_store.hpp"

namespace bayswap {

Result<Plan> plan_slot_change(BayView& view, const HeldState& from, StateSlot to, bool move, bool replace) {
  BAYSWAP_TRY(const std::string path, path_of_slot(view, from, to));
  if (path == from.path)
    return fail(ErrorCode::bad_usage, fmt::format("slot {} is the one it is in", to_text(to)),
                "name another slot");
  BAYSWAP_TRY(const Blob bytes, view.store().read(from.path, max_state_bytes));
  if (bytes.size() == 0)
    return fail(ErrorCode::unsafe, fmt::format("{} is empty", from.path),
                "nothing was changed; it is not a state");
  FileChange change{path, std::nullopt, bytes, from.modified};
  BAYSWAP_TRY(const auto info, view.store().stat(path));
  if (info) {
    if (!replace)
      return fail(ErrorCode::unsafe,
                  fmt::format("slot {} of {} has a state already: {}", to_text(to), from.game, path),
                  "choose an empty slot", {Remedy::Kind::replace, {}});
    BAYSWAP_TRY(change.before, view.store().read(path, max_state_bytes));
  }
  Plan plan;
  plan.kind = EntryKind::carry;
  if (from.rom != nullptr) plan.game = from.rom->facts.game;
  plan.reason = fmt::format("state {} {} of {} to {}", move ? "move" : "copy", to_text(from.slot), from.game,
                            to_text(to));
  plan.from_bay = view.bay().name;
  plan.to_bay = view.bay().name;
  plan.from_files.push_back(view.store().display_path(from.path));
  if (change.before != change.after) plan.changes.push_back(std::move(change));
  if (move) plan.changes.push_back({from.path, bytes, std::nullopt, std::nullopt});
  note_hard_links(plan, view.store());
  return plan;
}

namespace {

// The kind of states that a bay has of a platform: that of its first one which a map describes.
const StateMap* kind_in(BayView& view, Platform platform, const StateMaps& maps) {
  constexpr std::size_t looked_at = 8;
  const auto held = held_states(view);
  if (!held) return nullptr;
  std::size_t looked = 0;
  for (const HeldState& state : *held) {
    if (saves_as(state.rule->platform) != saves_as(platform) || ++looked > looked_at) continue;
    const auto bytes = view.store().read(state.path, max_state_bytes);
    if (!bytes) continue;
    const StateLook look = look_at_state(maps, *bytes, platform, {});
    if (!look.map.empty()) return *maps.find(look.map);
  }
  return nullptr;
}

class StateCarrier {
 public:
  StateCarrier(BayView& from, BayView& to, const StateMaps& maps, const std::set<IssueCode>& accept)
      : from_(from), to_(to), maps_(maps), issues_(accept) {}

  Result<Plan> run(const std::vector<HeldState>& states) {
    if (states.empty()) return fail(ErrorCode::not_found, "no state to carry", "list the states of the bay");
    const HeldState& first = states.front();
    const PlatformRule* rule = to_.bay().rule(first.rule->platform);
    if (rule == nullptr || rule->states.empty())
      return fail(ErrorCode::not_found,
                  fmt::format("{} has no names for states of {}", to_.bay().name, tag(first.rule->platform)),
                  "add states = \"...\" to its bay file");
    BAYSWAP_CHECK(check_root(to_.bay(), to_.store()));
    BAYSWAP_TRY(const RomFile* rom, rom_of(*rule, first));
    const StateMap* kind = kind_in(to_, rule->platform, maps_);
    for (const HeldState& state : states) {
      BAYSWAP_CHECK(add(state, *rule, rom, kind, states.size() > 1));
    }
    BAYSWAP_CHECK(from_.check());
    BAYSWAP_CHECK(to_.check());
    plan_.kind = EntryKind::carry;
    if (first.rom != nullptr) plan_.game = first.rom->facts.game;
    plan_.from_bay = from_.bay().name;
    plan_.to_bay = to_.bay().name;
    plan_.reason = fmt::format("carry states of {} from {} to {}", first.game, plan_.from_bay, plan_.to_bay);
    note_hard_links(plan_, to_.store());
    for (PlanIssue& issue : issues_.take()) plan_.add(std::move(issue));
    return std::move(plan_);
  }

 private:
  // The same game's ROM at the target: the same code or title, or the same name.
  Result<const RomFile*> rom_of(const PlatformRule& rule, const HeldState& state) {
    if (rule.roms.empty()) return nullptr;
    BAYSWAP_TRY(const auto roms, to_.roms(rule));
    const RomFile* by_name = nullptr;
    const RomFile* by_game = nullptr;
    for (const RomFile& rom : *roms) {
      if (lower(stem_of(rom.path)) == lower(state.game)) by_name = &rom;
      if (state.rom != nullptr && compare(rom.facts.game, state.rom->facts.game) == GameMatch::same &&
          by_game == nullptr)
        by_game = &rom;
    }
    const RomFile* found = by_name != nullptr ? by_name : by_game;
    // A state holds addresses of its very ROM: another game, or another region's, crashes or corrupts it.
    if (found != nullptr && state.rom != nullptr) {
      const GameMatch match = compare(found->facts.game, state.rom->facts.game);
      if (match == GameMatch::other_game)
        issues_.unless_accepted(
            IssueCode::wrong_game,
            fmt::format("{} in {} is another game than {}", found->path, to_.bay().name, state.rom->path),
            "a state loads only with its own ROM");
      else if (match == GameMatch::other_region)
        issues_.unless_accepted(IssueCode::wrong_region,
                                fmt::format("{} in {} is of another region than {}", found->path,
                                            to_.bay().name, state.rom->path),
                                "a state loads only with its own ROM");
      else if (match == GameMatch::other_revision)
        issues_.warn(IssueCode::other_revision,
                     fmt::format("{} in {} is another revision than {}: its states may not load there",
                                 found->path, to_.bay().name, state.rom->path));
    }
    if (found == nullptr)
      return fail(ErrorCode::not_found, fmt::format("{} has no ROM of {}", to_.bay().name, state.game),
                  "a state is named after its ROM: copy that there first");
    return found;
  }

  Result<void> add(const HeldState& state, const PlatformRule& rule, const RomFile* rom, const StateMap* kind,
                   bool all) {
    HeldState there = state;
    there.rule = &rule;
    there.rom = rom;
    there.name = &name_like(rule, *state.name);
    for (const char* digest : {"rom.md5", "rom.crc"}) there.words.erase(digest);  // those of the ROM there
    auto path_there = path_of_slot(to_, there, state.slot);
    if (!path_there && all && state.slot.automatic) {
      issues_.warn(IssueCode::other_program,
                   fmt::format("the autosave stays: {} has no name for one", to_.bay().name),
                   "add one to states in its bay file, or copy it to a slot with a number");
      return {};
    }
    BAYSWAP_TRY(const std::string path, std::move(path_there));
    // Two programs' states of one slot would become one file.
    if (const auto [known, is_new] = taken_.emplace(path, state.path); !is_new)
      return fail(ErrorCode::unsafe,
                  fmt::format("{} and {} would both become {}", known->second, state.path, path),
                  "name one of them by its path; nothing was changed");
    BAYSWAP_TRY(Blob bytes, from_.store().read(state.path, max_state_bytes));
    if (bytes.empty())
      return fail(ErrorCode::unsafe, fmt::format("{} is empty: it is not a state", state.path),
                  "remove it, or name the other slots one by one; nothing was changed");
    BAYSWAP_TRY(bytes, in_form(state, bytes, kind));
    FileChange change{path, std::nullopt, bytes, state.modified};
    BAYSWAP_TRY(const auto info, to_.store().stat(path));
    if (info) {
      BAYSWAP_TRY(change.before, to_.store().read(path, max_state_bytes));
      if (change.before != change.after && info->modified > state.modified.value_or(0))
        issues_.unless_accepted(IssueCode::newer,
                                fmt::format("slot {} of {} in {} is newer: {}", to_text(state.slot),
                                            state.game, to_.bay().name, path),
                                "carry it the other way, or to another slot");
    }
    plan_.from_files.push_back(from_.store().display_path(state.path));
    plan_.steps.push_back({"place", fmt::format("slot {} of {} as {}", to_text(state.slot), state.game, path),
                           fmt::format("the rule {}", there.name->text())});
    if (change.before != change.after) plan_.changes.push_back(std::move(change));
    return {};
  }

  // The name that looks the most like the source's: a bay can have states of several programs.
  static const NameRule& name_like(const PlatformRule& rule, const NameRule& own) {
    for (const NameRule& name : rule.states)
      if (name_of(name.text()) == name_of(own.text())) return name;
    for (const NameRule& name : rule.states)
      if (name.uses_slot() == own.uses_slot()) return name;
    return rule.states.front();
  }

  // A snapshot in the form of the other bay's program, where both run the same core.
  Result<Blob> in_form(const HeldState& state, const Blob& bytes, const StateMap* kind) {
    const StateLook look = look_at_state(maps_, bytes, state.rule->platform, {});
    const std::string only = "a state loads only in the kind of program that wrote it";
    if (look.map.empty() || kind == nullptr) {
      issues_.warn(IssueCode::other_program,
                   fmt::format("whether {} can load the state is not known: {}", to_.bay().name, only),
                   "carry the battery save in it as well", {Remedy::Kind::from_state, {}});
      return bytes;
    }
    if (look.map == kind->id) return bytes;
    BAYSWAP_TRY(const StateMap* own, maps_.find(look.map));
    auto made = converted_state(*own, bytes, *kind);
    if (made) {
      plan_.steps.push_back({"convert",
                             fmt::format("slot {} from {} to {}", to_text(state.slot), own->id, kind->id),
                             joined(made->notes, "; ")});
      return made->file;
    }
    issues_.warn(IssueCode::other_program,
                 fmt::format("slot {} is a state of the kind {}, those in {} are {}: {}", to_text(state.slot),
                             own->id, to_.bay().name, kind->id, only),
                 "carry the battery save in it instead", {Remedy::Kind::from_state, {}});
    return bytes;
  }

  BayView& from_;
  BayView& to_;
  const StateMaps& maps_;
  IssueList issues_;
  Plan plan_;
  std::map<std::string, std::string> taken_;  // by their new path the old ones
};

}  // namespace

Result<Plan> plan_state_carry(BayView& from, BayView& to, const std::vector<HeldState>& states,
                              const StateMaps& maps, const std::set<IssueCode>& accept) {
  return StateCarrier(from, to, maps, accept).run(states);
}

Result<StateSource> source_of_state(BayView& from, const HeldState& state, const Save& battery) {
  const PlatformRule& rule = *state.rule;
  if (rule.keeping != Keeping::file)
    return fail(ErrorCode::unsupported,
                fmt::format("{} does not keep saves of {} in files", from.bay().name, tag(rule.platform)),
                "take the battery save out into a file, and carry that");
  NameFacts facts = facts_of_words(state.words, rule.platform);
  std::vector<ChipFact> chips;
  for (const Part& part : battery.parts) chips.push_back({part.role.kind, part.bytes.size(), ""});
  if (state.rom != nullptr) {
    facts.rom_path = state.rom->path;
    facts.game = state.rom->facts.game;
    add_chips(chips, from.facts_of(*state.rom).chips);
    set_rom_digests(facts, from.store(), rule.path, rule.platform, *state.rom);
  }
  BAYSWAP_TRY(const auto layouts, layouts_for(from.catalog(), rule, chips));
  BAYSWAP_TRY(const auto files, places(from.catalog(), rule, facts, *layouts.front()));
  ConvertRequest request;
  request.inputs.push_back(battery);
  request.to = layouts.front();
  request.chips = chips;
  // What is there keeps its clock, and whatever else the state does not bring.
  std::optional<Blob> there;
  if (files.size() == 1)
    if (auto own = from.store().read_if_there(from.path_on_disk(files.front().path)); own && *own)
      there = **own;
  if (there && open_save(*layouts.front(), *there, chips)) request.base = &*there;
  auto made = convert(from.catalog(), request);
  if (!made && request.base != nullptr) {
    request.base = nullptr;
    made = convert(from.catalog(), request);
  }
  if (!made) return tl::unexpected(std::move(made.error()));
  auto store = std::make_unique<VersionStore>(from.store());
  StateSource source;
  std::size_t placed = 0;
  for (ConvertedFile& one : made->files)
    for (const SaveFile& file : files) {
      if (files.size() > 1 && (file.layout != one.layout || !(file.role == one.role))) continue;
      const std::string path = from.path_on_disk(file.path);
      store->set(path, std::move(one.bytes), state.modified.value_or(0));
      if (source.path.empty()) source.path = path;
      ++placed;
      break;
    }
  if (placed != made->files.size() || placed == 0)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} has no place for all parts of the battery save", from.bay().name),
                "take the battery save out into a file, and carry that");
  source.store = std::move(store);
  return source;
}

}  // namespace bayswap
