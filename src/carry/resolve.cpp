#include "carry/resolve.hpp"

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "bay/rom_list.hpp"
#include "carry/companion_plan.hpp"

namespace bayswap {
namespace {

// A card's save has its name in its entry: what a tree of single saves makes its file names from.
void name_of_item(const Content& content, NameFacts& facts) {
  if (!content.item) return;
  const CardEntry entry = describe(*content.item);
  facts.save_name = entry.name;
  if (facts.game.platform != Platform::gc) return;
  if (const auto dot = entry.name.find('.'); dot == 6) {
    facts.game.maker = entry.name.substr(4, 2);
    facts.save_name = entry.name.substr(dot + 1);
  }
}

std::set<std::string> top_names(const std::vector<TreeFile>& files) {
  std::set<std::string> names;
  for (const TreeFile& file : files) names.insert(file.path.substr(0, file.path.find('/')));
  return names;
}

}  // namespace

bool has_slots(const NameRule& rule) {
  return rule.uses_slot();
}

std::string_view to_text(CarryOption option) {
  switch (option) {
    case CarryOption::region:
      return "region";
    case CarryOption::exact:
      return "exact";
    case CarryOption::companions:
      return "companions";
    case CarryOption::account:
      return "account";
    case CarryOption::slot:
      return "slot";
    case CarryOption::rom:
      return "rom";
    case CarryOption::chip:
      return "chip";
  }
  return "";
}

Resolver::Resolver(BayView* from, BayView& to, Store* outside, const CarryRequest& request)
    : from_(from), to_(to), outside_(outside), request_(request) {}

// ---- Whose it is there --------------------------------------------------------------------------------

const std::vector<std::string>& Resolver::accounts_there(Platform platform) {
  const auto [accounts, is_new] = accounts_.try_emplace(platform);
  if (is_new)
    if (const auto there = to_.saves(BayView::Depth::names)) {
      std::vector<HeldSave> own;
      for (const HeldSave& save : **there)
        if (save.rule->platform == platform) own.push_back(save);
      accounts->second = accounts_of(own);
    }
  return accounts->second;
}

Result<bool> Resolver::settle_account(Arrival& arrival) {
  const std::string own = arrival.facts.account;
  if (!arrival.path_rule->uses("account")) return true;
  used_.insert(CarryOption::account);
  for (const auto& [from, to] : request_.accounts) {
    if (!from.empty() && !own.empty() && lower(from) != lower(own)) continue;
    if (to.empty() && !own.empty()) continue;
    arrival.facts.account = to.empty() ? from : to;
    const std::vector<std::string>& there = accounts_there(arrival.rule->platform);
    const bool is_there = std::any_of(there.begin(), there.end(), [&](const std::string& one) {
      return lower(one) == lower(arrival.facts.account);
    });
    if (!is_there && !there.empty())
      arrival.issues.warn(IssueCode::which_account,
                          fmt::format("{} has no account {} yet: a folder is made for it", to_.bay().name,
                                      arrival.facts.account),
                          fmt::format("it has {}", joined(there, ", ")));
    return true;
  }
  const std::vector<std::string>& theirs = accounts_there(arrival.rule->platform);
  const auto same = std::find_if(theirs.begin(), theirs.end(),
                                 [&](const std::string& one) { return lower(one) == lower(own); });
  if (same != theirs.end()) {
    arrival.facts.account = *same;
    return true;
  }
  if (theirs.size() == 1) {
    arrival.steps.push_back({"account",
                             fmt::format("{} is {} there", own.empty() ? "the save" : own, theirs.front()),
                             fmt::format("{} has only that one", to_.bay().name)});
    arrival.facts.account = theirs.front();
    return true;
  }
  if (theirs.empty() && !own.empty()) {
    arrival.steps.push_back({"account", own, fmt::format("{} has none yet", to_.bay().name)});
    return true;
  }
  if (theirs.empty()) {
    arrival.issues.refuse(
        IssueCode::which_account, fmt::format("{} has no account yet, and none is said", to_.bay().name),
        "name an account, or start the game there once and save", {Remedy::Kind::account, {"", "NAME"}});
    return false;
  }
  account_question_ = AccountQuestion{false, own, theirs};
  std::vector<std::string> values{own};
  values.insert(values.end(), theirs.begin(), theirs.end());
  arrival.issues.refuse(IssueCode::which_account,
                        fmt::format("{} has several accounts: {}", to_.bay().name, joined(theirs, ", ")),
                        "pass the account", {Remedy::Kind::account, std::move(values)});
  return false;
}

// ---- Its name and its chips there ------------------------------------------------------------------------

Result<void> Resolver::settle_name(const SourceSave& source, const Counterpart& rom, Arrival& arrival) {
  if (rom.rom != nullptr) {
    doubt_folder(rom.rom->facts.game, arrival);
    doubt_habit(*rom.rom, arrival);
  }
  if (arrival.rule->like)
    arrival.issues.warn(
        IssueCode::first_save,
        fmt::format("{} has no save of {} yet: this one is kept as those of {} are", to_.bay().name,
                    tag(rom.rom != nullptr ? rom.rom->facts.game.platform : arrival.rule->platform),
                    tag(*arrival.rule->like)),
        "start the game there and see that it has the save");
  NameFacts& facts = arrival.facts;
  const NameRule& path = *arrival.path_rule;
  if (!rom.rivals.empty()) {
    std::vector<std::string> choices{rom.rom->path};
    for (const RomFile* rival : rom.rivals) choices.push_back(rival->path);
    std::string text =
        fmt::format("{} has {} ROMs of this game: {}", to_.bay().name, choices.size(), joined(choices, ", "));
    arrival.issues.refuse(IssueCode::which_rom, std::move(text),
                          "name the one that you play, as the save takes its name",
                          {Remedy::Kind::rom, std::move(choices)});
  }
  if (!rom.why.empty()) arrival.steps.push_back({"pair", fmt::format("with {}", rom.rom->path), rom.why});
  if (rom.rom != nullptr) {
    facts.rom_path = rom.rom->path;
    arrival.named_after = rom.rom->path;
    set_rom_digests(facts, to_.store(), path, arrival.rule->platform, *rom.rom);
    if (facts.game.maker.empty()) facts.game.maker = rom.rom->facts.game.maker;
  } else if (!facts.rom_path && !facts.game.title.empty()) {
    facts.rom_path = facts.game.title;
  }
  if (request_.pairs != nullptr && from_ != nullptr && source.facts.rom_path)
    for (const RomPair& pair : request_.pairs->pairs())
      if (rom.rom == nullptr && pair.rom == *source.facts.rom_path && is_pair_of(pair.bay, to_.bay()) &&
          is_pair_of(pair.rom_bay, from_->bay())) {
        facts.rom_path = pair.save;  // the save there that was paired with this ROM
        return {};
      }
  if (!path.uses_rom() || rom.rom != nullptr) return {};
  const std::string text = fmt::format(
      "{} has no ROM of this game{}, and names its saves after ROMs", to_.bay().name,
      arrival.rule->roms.empty()
          ? ""
          : fmt::format(" in {}", arrival.rule->roms == "." ? to_.bay().root
                                                            : to_.store().display_path(arrival.rule->roms)));
  if (arrival.rule->keeping == Keeping::file)
    arrival.issues.unless_accepted(IssueCode::no_rom, text, "put the ROM there first",
                                   {Remedy::Kind::rom, {}});
  else
    arrival.issues.note(IssueCode::no_rom, text, "see that its name is the disc's");
  return {};
}

void Resolver::settle_chips(const SourceSave& source, const Counterpart& rom, Arrival& arrival) {
  if (source.content.kind != Content::Kind::chips) return;
  if (!request_.chips.empty()) used_.insert(CarryOption::chip);
  arrival.learned = request_.chips;
  std::vector<ChipFact> chips = request_.chips;
  bool tells_chips = false;
  if (source.rom) {
    tells_chips = source.rom->tells_chips;
    add_chips(chips, source.rom->chips);
  }
  if (rom.rom != nullptr && rom.match != GameMatch::other_game) {
    const RomFacts& facts = to_.facts_of(*rom.rom);
    tells_chips = tells_chips || facts.tells_chips;
    add_chips(chips, facts.chips);
  }
  // What is known less surely: a larger file that is not blank speaks against it.
  std::vector<ChipFact> seen;
  if (request_.book != nullptr) add_chips(seen, request_.book->chips_of(arrival.facts.game));
  std::vector<ChipFact> own;
  for (const Part& part : source.content.chips.parts) {
    if (is_blank(part) || !part.size_certain) continue;
    const bool sized =
        std::any_of(source.content.layouts.begin(), source.content.layouts.end(), [&](const Layout* layout) {
          const Slot* slot = layout->variable_slot();
          return slot != nullptr && slot->role.kind == part.role.kind;
        });
    if (sized)
      own.push_back(
          {part.role.kind, part.bytes.size(),
           fmt::format("its save in {} has {} bytes",
                       from_ != nullptr ? from_->bay().name : source.display_path, part.bytes.size())});
  }
  for (const ChipFact& fact : request_.chips)
    for (const ChipFact& one : own)
      if (one.kind == fact.kind && one.size_bytes > fact.size_bytes)
        arrival.issues.refuse(IssueCode::chip_doubtful,
                              fmt::format("{} of {} bytes was said, but {}", to_text(Role{fact.kind, 0}),
                                          fact.size_bytes, one.evidence),
                              "correct the size", {Remedy::Kind::leave_out, {"chip"}});
  std::erase_if(seen, [&](const ChipFact& fact) {
    const auto larger = std::find_if(own.begin(), own.end(), [&](const ChipFact& one) {
      return one.kind == fact.kind && fact.size_bytes != 0 && one.size_bytes > fact.size_bytes;
    });
    if (larger == own.end()) return false;
    arrival.issues.warn(IssueCode::chip_doubtful,
                        fmt::format("{} of {} bytes was noted for this game, but {}",
                                    to_text(Role{fact.kind, 0}), fact.size_bytes, larger->evidence),
                        "the larger one is taken; forget the chip that was noted if it is wrong");
    return true;
  });
  add_chips(chips, seen);
  if (!tells_chips) {
    // Two saves that agree are worth remembering; one alone is a guess.
    std::vector<ChipFact> elsewhere = chips_seen(to_, arrival.facts.game, &source.content.chips);
    if (elsewhere.empty() && chips.empty() && own.empty() && request_.ask_others)
      elsewhere = request_.ask_others(arrival.facts.game);
    for (const ChipFact& one : own)
      for (const ChipFact& other : elsewhere)
        if (one.kind == other.kind && one.size_bytes == other.size_bytes) add_chips(arrival.learned, {one});
    if (source.content.recognised) add_chips(arrival.learned, own);
    add_chips(chips, own);
    if (chips.empty()) add_chips(chips, elsewhere);
  }
  arrival.chips = std::move(chips);
  for (const ChipFact& chip : arrival.chips)
    if (chip.size_bytes != 0 && !chip.evidence.empty())
      arrival.steps.push_back({"chip",
                               fmt::format("{} of {} bytes", to_text(Role{chip.kind, 0}), chip.size_bytes),
                               chip.evidence});
}

Result<void> Resolver::restamp(const SourceSave& source, Arrival& arrival) {
  if (!request_.region || compare(source.facts.game, arrival.facts.game) != GameMatch::other_region ||
      arrival.spots.empty())
    return {};
  std::vector<std::string> notes;
  std::vector<std::string> doubts;
  BAYSWAP_TRY(arrival.content, restamped(arrival.content, arrival.facts.game,
                                         std::string(name_of(arrival.spots.front().path)), notes, doubts));
  arrival.steps.push_back(
      {"restamp",
       fmt::format("{} becomes {}", game_in_words(source.facts.game), game_in_words(arrival.facts.game)),
       "you asked for that region"});
  for (std::string& note : notes) arrival.steps.push_back({"restamp", std::move(note), ""});
  for (std::string& doubt : doubts)
    arrival.issues.warn(IssueCode::old_region, std::move(doubt),
                        "look at it in the game; undo brings the old one back");
  return {};
}

Result<Arrival> Resolver::resolve(SourceSave source) {
  BAYSWAP_TRY(const PlatformRule* rule, rule_for(source));
  Arrival arrival;
  arrival.rule = rule;
  arrival.place = source.place;
  arrival.path_rule = &rule->path;
  arrival.facts = source.facts;
  arrival.display_path = source.display_path;
  arrival.origin = from_ != nullptr ? from_->bay().name : "";
  arrival.modified = source.modified;
  arrival.exact = request_.exact;
  arrival.pak = request_.slot;
  arrival.issues = source.issues;
  if (!source.place.empty()) {
    const auto found = std::find_if(rule->extra_places.begin(), rule->extra_places.end(),
                                    [&](const auto& one) { return one.first == source.place; });
    if (found == rule->extra_places.end()) {
      arrival.issues.note(IssueCode::no_place, fmt::format("{} ({}) has no place in {}", source.display_path,
                                                           source.place, to_.bay().name));
      return arrival;
    }
    arrival.path_rule = &found->second;
  }
  if (!source.misplaced.empty())
    arrival.issues.warn(IssueCode::misplaced, fmt::format("{}: {}", source.display_path, source.misplaced),
                        "it is carried all the same");
  const Keeper& keeper = keeper_of(rule->keeping);
  if (keeper.has_other_files) used_.insert(CarryOption::exact);
  if (from_ != nullptr && has_companions(rule->platform)) used_.insert(CarryOption::companions);
  if (has_slots(rule->path) ||
      std::any_of(source.content.chips.parts.begin(), source.content.chips.parts.end(),
                  [](const Part& part) { return part.role.kind == PartKind::pak; }))
    used_.insert(CarryOption::slot);
  if (source.content.is_blank()) {
    arrival.content = std::move(source.content);
    return arrival;
  }
  std::optional<RomFile> said;
  if (source.content.kind == Content::Kind::chips || arrival.path_rule->uses_rom()) {
    BAYSWAP_TRY(said, said_rom(*rule));
  }
  BAYSWAP_TRY(const Counterpart rom, counterpart(source, *arrival.path_rule, *rule, said));
  if (said && (rom.rom == nullptr || rom.rom->path != said->path) && !source.rom) {
    source.rom = said->facts;
    arrival.facts.game = source.facts.game = said->facts.game;
    arrival.facts.rom_path = said->path;
  }
  BAYSWAP_TRY(const bool game_is_settled, settle_game(source, rom, arrival));
  if (request_.titles != nullptr) request_.titles->complete(arrival.facts.game);
  if (game_is_settled) BAYSWAP_CHECK(complete_title_id(arrival));
  if (request_.slot > 0 && source.place.empty()) arrival.facts.slot = request_.slot;
  arrival.brought = true;
  if (!game_is_settled && source.content.kind != Content::Kind::chips) return arrival;
  if (rule->platform == Platform::wiiu && arrival.path_rule->uses("account") &&
      source.content.kind == Content::Kind::tree && holds_accounts(top_names(source.content.tree))) {
    arrival.issues.refuse(
        IssueCode::which_account,
        fmt::format("{} holds a folder for each account, which would go into one account's folder",
                    source.display_path),
        "have the path rule of its bay end in /{account}, or look at the folder without a bay");
    return arrival;
  }
  BAYSWAP_TRY(const bool has_account, settle_account(arrival));
  if (!has_account) return arrival;
  BAYSWAP_CHECK(settle_name(source, rom, arrival));
  settle_chips(source, rom, arrival);
  name_of_item(source.content, arrival.facts);
  arrival.brought = false;
  arrival.content = std::move(source.content);
  BAYSWAP_TRY(arrival.spots, keeper.spots(to_, arrival));
  BAYSWAP_CHECK(restamp(source, arrival));
  if (arrival.content.item && request_.on_another_card)
    arrival.bound = request_.on_another_card(*arrival.content.item);
  if (arrival.content.item && !arrival.spots.empty())  // its name may have been restamped
    for (Spot& spot : arrival.spots)
      if (!spot.entry.empty()) spot.entry = arrival.content.item->name;
  return arrival;
}

}  // namespace bayswap
