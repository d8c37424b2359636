#include "cli/state_place.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>

#include "base/checksum.hpp"
#include "base/parallel.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

// In the place of a battery save's digest.
constexpr const char* is_blank_memory = "-";
constexpr const char* not_a_state = "=";

std::string digest(const Save& save) {
  Content content;
  content.kind = Content::Kind::chips;
  content.chips = save;
  return digest_of(content).hex();
}

}  // namespace

std::string short_digest(const std::string& text) {
  return fmt::format("{:08x}", crc32({reinterpret_cast<const Byte*>(text.data()), text.size()}));
}

std::string_view to_text(Verdict verdict) {
  switch (verdict) {
    case Verdict::unknown:
      return "unknown";
    case Verdict::empty:
      return "empty file";
    case Verdict::battery_save:
      return "no state";
    case Verdict::blank:
      return "none";
    case Verdict::alone:
      return "alone";
    case Verdict::same:
      return "same";
    case Verdict::other:
      return "other";
    case Verdict::older:
      return "older";
    case Verdict::newer:
      return "newer";
  }
  return "";
}

Result<Bay> bay_at(const Globals& globals, const std::string& name) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(name));
  const bool folder = info && info->kind == FileInfo::Kind::folder;
  auto opened = OpenedBay::open(*books, name);
  if (!folder) {
    if (!opened) return tl::unexpected(std::move(opened.error()));
    return std::move((*opened)->bay);
  }
  BAYSWAP_TRY(Bay usual, bay_like("beside-rom", "folder", disk.absolute_path(name)));
  // Neither saves nor states show how things are called there: as most have them.
  if (!opened)
    return opened.error().code == ErrorCode::not_recognised ? Result<Bay>(std::move(usual))
                                                            : tl::unexpected(opened.error());
  Bay bay = std::move((*opened)->bay);
  if (std::ranges::none_of(bay.rules, [](const PlatformRule& rule) { return !rule.states.empty(); }))
    for (PlatformRule& rule : bay.rules)
      if (const PlatformRule* like = usual.rule(rule.platform); like != nullptr && !rule.roms.empty())
        rule.states = like->states;
  return bay;
}

Result<std::unique_ptr<StatePlace>> StatePlace::open(const Globals& globals, Bay bay) {
  auto place = std::make_unique<StatePlace>();
  BAYSWAP_TRY(place->books_, Books::load(globals));
  place->bay_ = std::move(bay);
  BAYSWAP_TRY(place->store_, open_place(place->bay_));
  place->traced_ = std::make_unique<TracingStore>(*place->store_);
  place->memory_path_ =
      normalized(join_path(place->books_->home.data, fmt::format("../scans/{}.{}.states", place->bay_.name,
                                                                 short_digest(place->bay_.root))));
  LocalStore disk;
  place->memory_ = ScanMemory::load(disk, place->memory_path_);
  place->view_ = std::make_unique<BayView>(place->books_->catalog, place->bay_, *place->traced_,
                                           place->books_->view_options());
  return place;
}

Result<std::unique_ptr<StatePlace>> StatePlace::open(const Globals& globals, const std::string& name) {
  BAYSWAP_TRY(Bay bay, bay_at(globals, name));
  return open(globals, std::move(bay));
}

Result<std::vector<ListedState>> StatePlace::look(const std::vector<HeldState>& states,
                                                  const StateMaps& maps) {
  // Unfolding a state is most of the work, and each is on its own.
  std::vector<ScanRow> rows(states.size());
  (void)maps.all();  // reads them, once
  Guards guards;
  std::atomic<std::size_t> next = 0;
  const std::size_t helpers =
      std::min<std::size_t>(std::max(1U, std::min(std::thread::hardware_concurrency(), 4U)),
                            std::max<std::size_t>(states.size(), 1));
  in_parallel(helpers - 1, [&] {
    for (std::size_t i = next++; i < states.size(); i = next++) rows[i] = row_of(states[i], maps, guards);
  });
  std::vector<ListedState> listed;
  for (std::size_t i = 0; i < states.size(); ++i) {
    ListedState one;
    one.state = &states[i];
    one.map = rows[i].label;
    one.platform = rows[i].platform;
    one.picture = rows[i].thumbnail;
    one.verdict = verdict_of(states[i], rows[i]);
    listed.push_back(std::move(one));
  }
  if (memory_.changed()) {
    LocalStore disk;
    (void)memory_.save(disk, memory_path_);
  }
  return listed;
}

// What the file holds: label is the map, code the battery save's digest, or "-" where it is blank.
ScanRow StatePlace::row_of(const HeldState& state, const StateMaps& maps, Guards& guards) {
  std::unique_lock lock(guards.own);
  const std::string key =
      fmt::format("{}|{}|{}|{}|{}\n", state.path, state.size_bytes, state.modified.value_or(0),
                  maps.all().size(), state.rom != nullptr ? state.rom->path : "");
  if (const ScanRow* known = memory_.rows().find(key)) {
    ScanRow row = *known;
    memory_.rows().add(key, row);
    return row;
  }
  ScanRow row;
  const auto bytes = traced_->read(state.path, max_state_bytes);
  if (!bytes) return row;
  RomFacts rom;
  if (state.rom != nullptr) rom = view_->facts_of(*state.rom);
  lock.unlock();
  const std::optional<Platform> platform =
      state.any_platform ? std::nullopt : std::optional(state.rule->platform);
  const StateFile file(*bytes);
  StateLook look = look_at_state(maps, file, platform, rom.chips);
  row.platform = platform ? tag(*platform) : look.map.substr(0, look.map.find('.'));
  if (look.map.empty() && state.rom != nullptr) {
    BatterySearch what;
    what.platform = state.rule->platform;
    what.chips = rom.chips;
    what.tells_chips = rom.tells_chips;
    what.maps = &maps;
    const BatteryFinds finds = [&] {
      const std::scoped_lock one_at_a_time(guards.catalog);
      return find_batteries(books_->catalog, file, what);
    }();
    if (!finds.candidates.empty() && finds.candidates.front().certain)
      look.save = finds.candidates.front().save;
    // A file that is little but the memory is a battery save under a state's name.
    if (look.save && bytes->size() < look.save->parts.front().bytes.size() * 5 / 4) {
      row.code = not_a_state;
      lock.lock();
      memory_.rows().add(key, row);
      return row;
    }
  }
  row.label = look.map;
  row.thumbnail = look.picture;
  row.code = look.battery == StateLook::Battery::blank ? is_blank_memory
             : look.save                               ? digest(*look.save)
                                                       : "";
  lock.lock();
  memory_.rows().add(key, row);
  return row;
}

Verdict StatePlace::verdict_of(const HeldState& state, const ScanRow& row) {
  if (state.size_bytes == 0) return Verdict::empty;
  if (row.code.empty()) return Verdict::unknown;
  if (row.code == not_a_state) return Verdict::battery_save;
  if (row.code == is_blank_memory) return Verdict::blank;
  const Beside& beside = beside_of(state);
  if (beside.digest.empty()) return Verdict::alone;
  if (beside.digest == row.code) return Verdict::same;
  // Copied files often have one date: then nothing tells which came first.
  const std::int64_t own = state.modified.value_or(0);
  return own == beside.modified ? Verdict::other : own < beside.modified ? Verdict::older : Verdict::newer;
}

const StatePlace::Beside& StatePlace::beside_of(const HeldState& state) {
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
      const auto memory = std::find_if(save.held.begin(), save.held.end(),
                                       [](const HeldFile& file) { return file.role.kind != PartKind::rtc; });
      found = {memory == save.held.end() ? save.path : memory->path, digest(content->chips),
               save.modified.value_or(0)};
    }
    break;
  }
  return beside_.emplace(state.game, std::move(found)).first->second;
}

}  // namespace bayswap::cli
