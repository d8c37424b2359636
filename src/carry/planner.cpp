#include "carry/planner.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "carry/companion_plan.hpp"
#include "carry/select.hpp"

namespace bayswap {

Planner::Planner(BayView* from, BayView& to, Store* outside, const CarryRequest& request)
    : from_(from), to_(to), request_(request), resolver_(from, to, outside, request) {}

// ---- Load ------------------------------------------------------------------------------------------------

Result<SourceSave> Planner::load(const HeldSave& save) {
  SourceSave source;
  source.rule = save.rule;
  source.facts = save.facts;
  source.place = save.place;
  source.path = save.path;
  source.modified = save.modified;
  source.misplaced = save.misplaced;
  source.issues = IssueList(request_.accept);
  if (save.facts.rom_path)
    if (const RomFile* rom = from_->rom(*save.rule, *save.facts.rom_path))
      source.rom = save.kind == SaveKind::battery ? from_->facts_of(*rom) : rom->facts;
  Hints hints;
  if (source.rom) hints.game = source.rom->game;
  hints.chips = request_.chips;
  if (source.rom) add_chips(hints.chips, source.rom->chips);
  if (request_.book != nullptr) add_chips(hints.chips, request_.book->chips_of(save.facts.game));
  BAYSWAP_TRY(source.content, load_save(*from_, save, hints, source.issues));
  if (source.facts.game.title.empty()) {
    const std::string label = save.label.empty() && source.content.kind == Content::Kind::tree
                                  ? label_of_folder(save.rule->platform, source.content.tree).title
                                  : save.label;
    source.facts.game.title = label.substr(0, label.find(" / "));
  }
  source.content.game = source.facts.game;
  for (const TreeFile& file : source.content.tree)
    source.modified = std::max(source.modified.value_or(file.modified), file.modified);
  for (const HeldFile& file : save.held) source.files.push_back(from_->store().display_path(file.path));
  if (save.held.empty()) source.files.push_back(from_->store().display_path(save.path));
  source.display_path = joined(source.files, ", ");
  if (save.kind == SaveKind::card_entry) {
    source.display_path += ", " + save.entry;
    source.files.back() = source.display_path;
  }
  return source;
}

Passage Planner::resolve(const HeldSave& save) {
  Passage passage;
  passage.held = &save;
  auto source = load(save);
  if (!source) {
    passage.display_path = from_->store().display_path(save.path);
    passage.error = std::move(source.error());
    return passage;
  }
  passage = resolve(*std::move(source));
  passage.held = &save;
  return passage;
}

Passage Planner::resolve(SourceSave source) {
  Passage passage;
  passage.display_path = source.display_path;
  passage.files = source.files;
  passage.source_facts = source.facts;
  passage.content = digest_of(source.content);
  auto arrival = resolver_.resolve(std::move(source));
  if (arrival) {
    passage.arrival = *std::move(arrival);
    passage.arrival->digest = passage.content.hex();
  } else {
    passage.error = std::move(arrival.error());
  }
  return passage;
}

// ---- Group and merge -------------------------------------------------------------------------------------

Newer Planner::judge(const Arrival& arrival, const Present& present) const {
  if (to_.store().file_traits(present.path).runs_on) return Newer::no;  // a clock goes with its save
  const auto later = [&](std::int64_t time) {
    return arrival.modified && time > *arrival.modified ? Newer::yes : Newer::no;
  };
  const std::span<const FileWrite> writes = request_.writes_of
                                                ? request_.writes_of(to_.store().absolute_path(present.path))
                                                : std::span<const FileWrite>{};
  const auto own = std::find_if(writes.begin(), writes.end(), [&](const FileWrite& write) {
    return present.entry.empty() || write.place == present.entry;
  });
  if (own != writes.end()) {
    const bool is_our_copy = present.entry.empty() ? own->after && *own->after == sha256(present.bytes.view())
                                                   : own->content == present.content;
    // What we put there was no newer than the time we did it, whatever has been done to the file's date.
    if (is_our_copy)
      return later(present.dated && !present.entry.empty() ? present.modified
                                                           : std::min(present.modified, own->begun));
    // It was played on there since, and the source is what was carried then.
    if (!arrival.origin.empty() && own->from_bay == arrival.origin && !own->content.empty() &&
        own->content == arrival.digest)
      return Newer::yes;
  }
  const Newer by_date = later(present.modified);
  if (by_date == Newer::no || present.dated || writes.empty()) return by_date;
  // The card's date is that of another save which we put on it.
  return writes.front().after == sha256(present.bytes.view()) ? Newer::unknown : by_date;
}

Result<void> Planner::merge(std::vector<Passage>& passages, bool together) {
  // Where each goes; a card's entries are places of their own.
  std::map<std::string, Passage*> owners;
  for (Passage& passage : passages) {
    if (!passage.arrival) continue;
    for (const Spot& spot : passage.arrival->spots) {
      const auto [owner, is_first] = owners.emplace(lower(spot.path) + '\n' + spot.entry, &passage);
      if (is_first || owner->second == &passage) continue;
      const std::string where =
          spot.entry.empty() ? to_.store().display_path(spot.path)
                             : fmt::format("{} on {}", spot.entry, to_.store().display_path(spot.path));
      const bool have_slots = owner->second->held != nullptr && passage.held != nullptr &&
                              owner->second->held->rule->path.uses_slot() &&
                              owner->second->held->facts.slot != passage.held->facts.slot;
      for (Passage* both : {owner->second, &passage})
        both->arrival->issues.refuse(
            IssueCode::same_place,
            fmt::format("{} and {} would both become {}", owner->second->display_path, passage.display_path,
                        where),
            have_slots ? "say which slot goes" : "carry one of them, by its path or into a slot of its own",
            have_slots ? Remedy{Remedy::Kind::slot, {std::to_string(owner->second->held->facts.slot)}}
                       : Remedy{});
    }
  }
  std::map<std::string, std::vector<Arrival*>> groups;
  std::map<const Arrival*, Passage*> passage_of;
  for (Passage& passage : passages) {
    if (!passage.arrival || passage.arrival->spots.empty()) continue;
    // What must not go there is not merged: it can't take the place of another's bytes on a card.
    const PlanIssue* refusal = passage.arrival->issues.refusal();
    if (refusal != nullptr && (together || refusal->code == IssueCode::same_place)) {
      passage.arrival->brought = true;
      continue;
    }
    groups[passage.arrival->spots.front().path].push_back(&*passage.arrival);
    passage_of[&*passage.arrival] = &passage;
  }
  MergeContext context{
      to_, [this](const Arrival& arrival, const Present& present) { return judge(arrival, present); }};
  for (auto& [path, arrivals] : groups) {
    const auto merged = keeper_of(arrivals.front()->rule->keeping).merge(context, arrivals);
    for (Arrival* arrival : arrivals) {
      Passage& passage = *passage_of[arrival];
      if (!merged)
        passage.error = merged.error();
      else if (arrival->error)
        passage.error = arrival->error;
    }
  }
  return {};
}

// ---- The plan --------------------------------------------------------------------------------------------

namespace {

// A clock that is read twice differs by the moment between.
bool is_same_clock(const Store& store, const FileChange& change) {
  constexpr std::int64_t a_moment = 2;  // seconds
  constexpr std::size_t size = 8;
  if (!store.file_traits(change.path).runs_on || !change.before || !change.after ||
      change.before->size() != size || change.after->size() != size)
    return false;
  const auto apart =
      static_cast<std::int64_t>(le64(change.before->view(), 0) - le64(change.after->view(), 0));
  return apart >= -a_moment && apart <= a_moment;
}

}  // namespace

Plan Planner::plan_of(std::span<Passage* const> passages) {
  Plan plan;
  plan.kind = from_ != nullptr ? EntryKind::carry : EntryKind::carry_file;
  plan.from_bay = from_ != nullptr ? from_->bay().name : "";
  plan.to_bay = to_.bay().name;
  std::vector<CarriedSave> carried;
  bool brought = false;
  std::size_t with_content = 0;
  for (Passage* passage : passages) {
    std::move(passage->files.begin(), passage->files.end(), std::back_inserter(plan.from_files));
    if (!passage->arrival) continue;
    Arrival& arrival = *passage->arrival;
    if (!plan.game) {
      plan.game = passage->source_facts.game;
      // The save's own title: the only one, or that of one of a card's saves.
      if (passage->held != nullptr && passage->held->label != passage->held->name() &&
          (plan.game->title.empty() ||
           (passage->held->kind == SaveKind::card_entry && !passage->held->label.empty())))
        plan.game->title = passage->held->label;
      plan.account = arrival.path_rule->uses("account") ? arrival.facts.account : "";
      plan.slot = has_slots(*arrival.path_rule) ? arrival.facts.slot : 0;
      if (!arrival.spots.empty()) plan.place = arrival.spots.front().entry;
    }
    for (const PlanIssue& issue : arrival.issues.all()) plan.add(issue);
    std::stable_partition(arrival.steps.begin(), arrival.steps.end(),
                          [](const Step& step) { return step.action == "keep"; });
    std::move(arrival.steps.begin(), arrival.steps.end(), std::back_inserter(plan.steps));
    std::move(arrival.changes.begin(), arrival.changes.end(), std::back_inserter(plan.changes));
    add_chips(plan.learned, arrival.learned);
    if (!arrival.brought) continue;
    brought = true;
    ++with_content;
    plan.content = with_content == 1 ? passage->content.hex() : "";
    if (with_content > 1) plan.place.clear();  // it is about several
    carried.push_back({passage->held == nullptr ? nullptr : passage->held->rule, passage->source_facts,
                       arrival.rule, arrival.facts});
  }
  std::erase_if(plan.changes, [&](const FileChange& change) { return is_same_clock(to_.store(), change); });
  if (brought && from_ != nullptr) {
    plan_companions({&from_->bay(), &from_->store()}, {&to_.bay(), &to_.store()}, carried,
                    request_.replace_companions, plan);
  }
  if (!plan.changes.empty() && !to_.store().traits().writable)
    plan.add({PlanIssue::Level::refusal, IssueCode::read_only,
              fmt::format("{} is in an archive, which is only read", to_.bay().name),
              "unpack it, and have the bay's root name the folder"});
  if (!plan.changes.empty())
    plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
  if (!brought && plan.refusal() == nullptr)
    plan.add(
        {PlanIssue::Level::refusal, IssueCode::empty,
         fmt::format("this save is empty: {} holds nothing that the target keeps",
                     joined(plan.from_files, ", ")),
         "usually the game has never saved, the cartridge's battery is flat, or the dump failed: read the "
         "cartridge again, or save in the game first"});
  if (plan.refusal() == nullptr && plan.changes.empty())
    plan.add({PlanIssue::Level::note, IssueCode::same,
              "the target holds the same save already: there is nothing to do", ""});
  plan.pairs = resolver_.pairs();
  plan.account_question = resolver_.account_question();
  return plan;
}

void Planner::check_options(Plan& plan) const {
  const auto& used = resolver_.used();
  const auto check = [&](bool given, CarryOption option, std::string_view why) {
    if (!given || used.contains(option)) return;
    plan.add({PlanIssue::Level::refusal,
              IssueCode::no_effect,
              std::string(why),
              "nothing was changed",
              {Remedy::Kind::leave_out, {std::string(to_text(option))}}});
  };
  check(request_.region.has_value(), CarryOption::region,
        "a region has no effect here: this save has no identifiers to restamp");
  check(request_.exact, CarryOption::exact,
        "removing other files has no effect here: the target keeps this save in files of its own");
  check(request_.replace_companions, CarryOption::companions,
        "companions have no effect here: saves of this platform have none");
  check(request_.accounts_said > 0, CarryOption::account,
        "an account has no effect here: neither bay has accounts for this platform");
  check(request_.slot > 0, CarryOption::slot, "a slot has no effect here: the target has none for this save");
  check(!request_.rom.empty(), CarryOption::rom,
        "a ROM has no effect here: the save says itself which game it is of, and is not named after a ROM");
  check(!request_.chips.empty(), CarryOption::chip, "a chip has no effect here: this save is not of chips");
}

}  // namespace bayswap
