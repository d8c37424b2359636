// Save states in a bay: found along its rules, told apart by game and slot.
#include <bayswap/state_slots.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <map>
#include <set>
#include <unordered_map>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "bay/rom_list.hpp"
#include "bay/save_owner.hpp"

namespace bayswap {
namespace {

constexpr int max_slot = 999;

bool ends_in_digit(const std::string& text) {
  return !text.empty() && text.back() >= '0' && text.back() <= '9';
}

class StateScanner {
 public:
  explicit StateScanner(BayView& view) : view_(view) {}

  Result<std::vector<HeldState>> run() {
    BAYSWAP_CHECK(check_root(view_.bay(), view_.store()));
    for (const PlatformRule& rule : view_.bay().rules) {
      if (rule.states.empty()) continue;
      BAYSWAP_TRY(const FileRule owner, owner_of(rule));
      for (const NameRule& name : rule.states) {
        BAYSWAP_TRY(const std::vector<Place>* places, places_of(name, rule.platform));
        for (const Place& place : *places)
          if (place.info.kind == FileInfo::Kind::file) take(owner, name, place);
      }
    }
    BAYSWAP_CHECK(view_.check());
    sort_by(found_, [](const HeldState& one) { return std::tuple(lower(one.game), one.slot, one.path); });
    return std::move(found_);
  }

 private:
  // Rules of several platforms have one text: their folders are walked once.
  Result<const std::vector<Place>*> places_of(const NameRule& name, Platform platform) {
    const bool by_code = name.uses("game.code") || name.uses("game.maker") || name.uses("title.high");
    const std::string key = (by_code ? std::string(tag(platform)) : "") + " " + name.text();
    if (const auto known = walked_.find(key); known != walked_.end()) return &known->second;
    BAYSWAP_TRY(auto places, find_places(view_.store(), name, platform, view_.options().on_error));
    return &walked_.emplace(key, std::move(places)).first->second;
  }

  Result<FileRule> owner_of(const PlatformRule& rule) {
    FileRule owner;
    owner.rule = &rule;
    if (rule.roms.empty()) return owner;
    BAYSWAP_TRY(owner.roms, view_.roms(rule));
    for (const RomFile& rom : *owner.roms) {
      roms_.insert(rom.path);
      owner.by_stem.emplace(lower(stem_of(rom.path)), &rom);
      owner.by_title.emplace(normalized_title(stem_of(rom.path)), &rom);
    }
    return owner;
  }

  void take(const FileRule& owner, const NameRule& name, const Place& place) {
    if (roms_.contains(place.path)) return;
    HeldState state;
    state.path = place.path;
    state.rule = owner.rule;
    state.name = &name;
    state.words = place.words;
    state.rom = rom_for(view_, owner, state.words, place.path).rom;
    // "Cog 21": slot 1 of "Cog 2", or slot 21 of "Cog". The ROMs tell; without them the shortest number.
    NameRule::Words shorter = state.words;
    while (state.rom == nullptr && owner.roms != nullptr && shift_digit(shorter)) {
      state.rom = rom_for(view_, owner, shorter, place.path).rom;
      if (state.rom != nullptr) state.words = shorter;
    }
    const NameFacts facts = facts_of_words(state.words, owner.rule->platform);
    state.slot = name.uses_slot() ? StateSlot{false, facts.slot} : StateSlot{true, 0};
    state.game = state.rom != nullptr        ? std::string(stem_of(state.rom->path))
                 : facts.rom_path            ? *facts.rom_path
                 : !facts.game.title.empty() ? facts.game.title
                 : !facts.game.code.empty()  ? facts.game.code
                                             : std::string(stem_of(place.path));
    state.size_bytes = place.info.size_bytes;
    state.modified = place.info.modified;
    // Rules of several platforms fit one name: that with a ROM counts.
    const auto [known, is_new] = by_path_.emplace(state.path, found_.size());
    if (is_new)
      found_.push_back(std::move(state));
    else if (found_[known->second].rom == nullptr && state.rom != nullptr)
      found_[known->second] = std::move(state);
    else if (found_[known->second].rom == nullptr &&
             saves_as(found_[known->second].rule->platform) != saves_as(state.rule->platform))
      found_[known->second].any_platform = true;
  }

  static bool shift_digit(NameRule::Words& words) {
    const auto stem = words.find("rom.stem");
    const auto slot = words.find("slot");
    if (stem == words.end() || slot == words.end() || !ends_in_digit(stem->second) ||
        slot->second.size() >= 3)
      return false;
    slot->second.insert(slot->second.begin(), stem->second.back());
    stem->second.pop_back();
    return true;
  }

  BayView& view_;
  std::map<std::string, std::vector<Place>> walked_;
  std::unordered_map<std::string, std::size_t> by_path_;
  std::set<std::string> roms_;
  std::vector<HeldState> found_;
};

bool is_called(const HeldState& state, const std::string& what) {
  const std::string low = lower(what);
  return lower(state.path) == low || lower(state.game) == low || lower(name_of(state.path)) == low;
}
bool is_named(const HeldState& state, const std::string& what) {
  const std::string low = lower(what);
  if (normalized_title(state.game) == normalized_title(what)) return true;
  if (state.rom == nullptr) return false;
  const GameId& game = state.rom->facts.game;
  return lower(state.rom->path) == low || lower(name_of(state.rom->path)) == low ||
         (!game.code.empty() && lower(game.code) == low) || (!game.title.empty() && lower(game.title) == low);
}

}  // namespace

std::string to_text(StateSlot slot) {
  return slot.automatic ? "auto" : std::to_string(slot.number);
}
std::optional<StateSlot> state_slot_from_text(std::string_view text) {
  if (text == "auto") return StateSlot{true, 0};
  StateSlot slot;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), slot.number);
  if (problem != std::errc{} || end != text.data() + text.size() || slot.number < 0 || slot.number > max_slot)
    return std::nullopt;
  return slot;
}

Result<std::vector<HeldState>> held_states(BayView& view) {
  return StateScanner(view).run();
}

Result<std::vector<HeldState>> find_states(BayView& view, const std::string& game) {
  BAYSWAP_TRY(std::vector<HeldState> all, held_states(view));
  // The very name before what only reads like it, or is the title of several dumps.
  const bool called =
      std::any_of(all.begin(), all.end(), [&](const HeldState& one) { return is_called(one, game); });
  std::erase_if(all,
                [&](const HeldState& one) { return called ? !is_called(one, game) : !is_named(one, game); });
  std::set<std::string> games;
  for (const HeldState& one : all) games.insert(one.game);
  if (games.size() > 1)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' names several games", printable(game)),
                "name one by its ROM", {Remedy::Kind::save, {games.begin(), games.end()}});
  return all;
}

std::string slots_in_words(const std::vector<HeldState>& states) {
  std::map<int, std::string> slots;  // the autosave first
  for (const HeldState& state : states)
    slots[state.slot.automatic ? -1 : state.slot.number] = to_text(state.slot);
  std::string all;
  for (const auto& [number, word] : slots) all += (all.empty() ? "" : ", ") + word;
  return all;
}

Result<std::string> path_of_slot(BayView& view, const HeldState& like, StateSlot slot) {
  const NameRule* name = like.name->uses_slot() != slot.automatic ? like.name : nullptr;
  for (const NameRule& other : like.rule->states)
    if (name == nullptr && other.uses_slot() != slot.automatic) name = &other;
  if (name == nullptr)
    return fail(ErrorCode::not_found,
                slot.automatic
                    ? fmt::format("the bay has no name for an autosave of {}", tag(like.rule->platform))
                    : fmt::format("the bay has no name for slots of {}", tag(like.rule->platform)),
                "add one to states in the bay file");
  NameFacts facts = facts_of_words(like.words, like.rule->platform);
  if (like.rom != nullptr) {
    facts.rom_path = like.rom->path;
    facts.game = like.rom->facts.game;
    if (facts.rom_md5.empty() && facts.rom_crc.empty())
      set_rom_digests(facts, view.store(), *name, like.rule->platform, *like.rom);
  } else if (name->uses("rom.folder") && facts.rom_path) {
    facts.rom_path = join_path(folder_of(like.path), *facts.rom_path + ".rom");
  } else if (facts.rom_path) {
    *facts.rom_path += ".rom";  // the stem may have dots of its own
  }
  facts.slot = slot.number;
  if (name->uses("slot.letter") && (slot.number < 1 || slot.number > 26))
    return fail(ErrorCode::bad_usage, fmt::format("no slot {} where slots have letters", slot.number),
                "slots go from 1 to 26 there");
  if (name->uses("slot.letter0") && slot.number > 25)
    return fail(ErrorCode::bad_usage, fmt::format("no slot {} where slots have letters", slot.number),
                "slots go from 0 to 25 there");
  BAYSWAP_TRY(std::string path, name->expand(facts));
  return view.path_on_disk(path);
}

}  // namespace bayswap
