#include "carry/resolve.hpp"

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/rom_list.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

std::string game_in_words(const GameId& game) {
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  const std::string where = game.region == Region::unknown ? "" : fmt::format(", {}", name(game.region));
  if (game.title.empty()) return fmt::format("{}{}", id.empty() ? "an unknown game" : id, where);
  return id.empty() ? fmt::format("'{}'", game.title) : fmt::format("'{}' ({}{})", game.title, id, where);
}

std::string region_word(Region region) {
  std::string word = lower(name(region));
  std::replace(word.begin(), word.end(), ' ', '-');
  return word;
}

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

bool has_slots(const NameRule& rule) {
  return rule.uses("slot") || rule.uses("slot.8") || rule.uses("slot.letter");
}

}  // namespace

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
    : from_(from), to_(to), outside_(outside), request_(request) {
  learned_ = request.chips;
}

Result<const PlatformRule*> Resolver::rule_for(Platform platform) const {
  const PlatformRule* rule = to_.bay().rule(platform);
  if (rule == nullptr)
    return fail(ErrorCode::bad_usage, fmt::format("bay {} has no rule for {}", to_.bay().name, tag(platform)),
                fmt::format("add [platform.{}] to {}", tag(platform), to_.bay().origin));
  return rule;
}

// ---- Its ROM there ---------------------------------------------------------------------------------------

Result<const std::vector<Resolver::Named>*> Resolver::named_roms(const PlatformRule& rule) {
  if (const auto known = named_.find(&rule); known != named_.end()) return &known->second;
  BAYSWAP_TRY(const auto roms, to_.roms(rule));
  std::vector<Named> named;
  for (const RomFile& rom : *roms)
    named.push_back({&rom, lower(stem_of(rom.path)), normalized_title(stem_of(rom.path))});
  return &named_.emplace(&rule, std::move(named)).first->second;
}

// The ROM that the user names: at the target, at the source, or anywhere.
Result<std::optional<RomFile>> Resolver::said_rom(const PlatformRule& rule) {
  if (request_.rom.empty()) return std::nullopt;
  used_.insert(CarryOption::rom);
  const auto below = [&](BayView& view) -> std::string {
    const std::string root = normalized(view.store().absolute_path("."));
    const std::string whole = outside_ != nullptr ? outside_->absolute_path(request_.rom) : request_.rom;
    return whole.starts_with(root + "/") ? whole.substr(root.size() + 1) : request_.rom;
  };
  if (const RomFile* own = to_.rom(rule, below(to_))) return *own;
  for (Store* store : {&to_.store(), from_ != nullptr ? &from_->store() : nullptr, outside_}) {
    if (store == nullptr) continue;
    const std::string path = store == &to_.store()                          ? below(to_)
                             : from_ != nullptr && store == &from_->store() ? below(*from_)
                                                                            : request_.rom;
    BAYSWAP_TRY(const auto info, store->stat(path));
    if (!info || info->kind != FileInfo::Kind::file) continue;
    auto facts = identify_rom(*store, path);
    if (!facts) return tl::unexpected(std::move(facts.error()));
    return RomFile{path, *std::move(facts)};
  }
  return fail(ErrorCode::not_found, fmt::format("the ROM {} does not exist", printable(request_.rom)),
              "name it by its path below one of the bays' roots, or by any other path");
}

Result<Resolver::Counterpart> Resolver::counterpart(const SourceSave& source, const PlatformRule& rule,
                                                    const std::optional<RomFile>& said) {
  Counterpart best;
  BAYSWAP_TRY(const auto roms, named_roms(rule));
  const GameId& game = said ? said->facts.game : source.rom ? source.rom->game : source.facts.game;
  if (said) {
    // At the target itself the very file; otherwise the target's ROM of that game.
    if (const RomFile* own = to_.rom(rule, said->path)) {
      if (from_ != nullptr)
        said_pairs_.push_back({from_->bay().name, source.path, to_.bay().name, own->path});
      return Counterpart{own, source.rom ? compare(source.rom->game, own->facts.game) : GameMatch::same,
                         true};
    }
    if (from_ != nullptr && from_->rom(source.rule != nullptr ? *source.rule : rule, said->path) != nullptr)
      said_pairs_.push_back({from_->bay().name, source.path, from_->bay().name, said->path});
  } else if (request_.pairs != nullptr && from_ != nullptr) {
    for (const RomPair& pair : request_.pairs->pairs())
      if (pair.bay == from_->bay().name && pair.save == source.path && pair.rom_bay == to_.bay().name)
        if (const RomFile* own = to_.rom(rule, pair.rom))
          return Counterpart{own, source.rom ? compare(source.rom->game, own->facts.game) : GameMatch::same,
                             true};
  }
  const std::string stem = said                    ? lower(stem_of(said->path))
                           : source.facts.rom_path ? lower(stem_of(*source.facts.rom_path))
                                                   : lower(source.facts.game.title);
  const std::string title = normalized_title(stem);
  int best_rank = 0;
  for (const Named& one : *roms) {
    const bool same_stem = one.stem == stem;
    const bool alike = same_stem || (!title.empty() && one.title == title);
    const GameMatch match = compare(game, one.rom->facts.game);
    int rank = 0;
    switch (match) {
      case GameMatch::same:
        rank = 10;
        break;
      case GameMatch::other_revision:
        rank = 7;
        break;
      case GameMatch::other_region:
        rank = 4;
        break;
      case GameMatch::other_game:
        rank = same_stem && rule.keeping == Keeping::file ? 1 : 0;
        break;
      case GameMatch::unknown:
        rank = alike ? 7 : 0;
        break;
    }
    if (rank > 0 && alike) ++rank;
    if (rank > 0 && same_stem) ++rank;
    if (rank > best_rank) {
      best = {one.rom, match, said.has_value()};
      best_rank = rank;
    }
  }
  return best;
}

// ---- Its game there --------------------------------------------------------------------------------------

// What the target plays: its ROM, or the saves it has. Of the same region where it has both.
Result<std::optional<GameId>> Resolver::played_there(const GameId& game, const Counterpart& rom) {
  std::optional<GameId> other;
  if (rom.rom != nullptr) {
    if (compare(game, rom.rom->facts.game) != GameMatch::other_region) return rom.rom->facts.game;
    other = rom.rom->facts.game;
  }
  BAYSWAP_TRY(const auto there, to_.saves(BayView::Depth::names));
  for (const HeldSave& save : *there) {
    if (saves_as(save.rule->platform) != saves_as(game.platform)) continue;
    const GameMatch match = compare(game, save.facts.game);
    if (match == GameMatch::same || match == GameMatch::other_revision) return save.facts.game;
    if (match == GameMatch::other_region && !other) other = save.facts.game;
  }
  return other;
}

Result<std::optional<GameId>> Resolver::in_region(const GameId& game, const Counterpart& rom) {
  const Region region = *request_.region;
  if (game.region == region) return std::optional(game);
  BAYSWAP_TRY(auto there, played_there(game, rom));
  if (there && there->region == region) return there;
  if (request_.titles != nullptr)
    if (auto row = request_.titles->in_region(game, region)) return std::optional(*row);
  const auto code = code_in_region(game.platform, game.code, region);
  if (!code) return std::optional<GameId>{};
  GameId other = game;
  other.code = *code;
  other.region = region;
  if (game.platform == Platform::wii) {
    std::uint64_t low = 0;
    for (const char c : *code) low = (low << 8) | static_cast<Byte>(c);
    other.title_id = (game.title_id >> 32 << 32) | low;
  } else if (game.title_id != 0) {
    return std::optional<GameId>{};  // another number, which nothing tells
  }
  return std::optional(other);
}

// Chips have no identifiers: which ROMs they are from is all there is to compare.
void Resolver::compare_roms(const SourceSave& source, const Counterpart& rom, Arrival& arrival) {
  if (!source.rom || rom.rom == nullptr) {
    if (from_ != nullptr && (source.rom || rom.rom != nullptr))
      arrival.issues.note(IssueCode::one_rom,
                          "only one of the two bays has the ROM, so regions can't be compared",
                          "make sure both sides play the same region");
    return;
  }
  const GameId& ours = source.rom->game;
  const GameId& theirs = rom.rom->facts.game;
  switch (compare(ours, theirs)) {
    case GameMatch::same:
    case GameMatch::unknown:  // paired by name: nothing in them says otherwise
      return;
    case GameMatch::other_revision:
      arrival.issues.warn(
          IssueCode::other_revision,
          fmt::format("the ROMs are revisions {} and {} of the game", ours.revision, theirs.revision),
          "saves mostly work across revisions; look at it in the game");
      return;
    case GameMatch::other_region:
      arrival.issues.unless_accepted(
          IssueCode::wrong_region,
          fmt::format("wrong region: the save is from {}, the target plays {}", game_in_words(ours),
                      game_in_words(theirs)),
          "a save of one region does not load in another's game; put the same region's ROM there");
      return;
    case GameMatch::other_game:
      arrival.issues.unless_accepted(
          IssueCode::wrong_game,
          fmt::format("another game: the save is from {}, the target's ROM of that name is {}",
                      game_in_words(ours), game_in_words(theirs)),
          "name the game by its code, if they are not one game after all");
      return;
  }
}

// False where it is refused.
Result<bool> Resolver::settle_game(const SourceSave& source, const Counterpart& rom, Arrival& arrival) {
  const GameId game = arrival.facts.game;
  if (source.content.kind == Content::Kind::chips) {
    compare_roms(source, rom, arrival);
    if (rom.rom != nullptr && rom.match != GameMatch::other_game) arrival.facts.game = rom.rom->facts.game;
    return arrival.issues.refusal() == nullptr;
  }
  if (request_.region && keeper_of(arrival.rule->keeping).has_region) {
    used_.insert(CarryOption::region);
    BAYSWAP_TRY(const auto wanted, in_region(game, rom));
    if (!wanted)
      return fail(ErrorCode::wrong_region,
                  fmt::format("the id and the code of {} in {} are unknown", game_in_words(game),
                              name(*request_.region)),
                  "add a [[title]] with its id and code to titles.toml (docs/titles.md), or put its ROM or a "
                  "save of it into the target");
    arrival.facts.game = *wanted;
    return true;
  }
  BAYSWAP_TRY(const auto there, played_there(game, rom));
  if (!there || compare(game, *there) != GameMatch::other_region) return true;
  Remedy remedy;
  if (there->region != Region::unknown) remedy = {Remedy::Kind::region, {region_word(there->region)}};
  return arrival.issues.unless_accepted(
      IssueCode::wrong_region,
      fmt::format("wrong region: the save is from {}, {} plays {}", game_in_words(game), to_.bay().name,
                  game_in_words(*there)),
      "a save of one region does not load in another's game", std::move(remedy));
}

// The upper half of the id, where the source's path tells only the lower: as the target has it, or as most
// titles do.
Result<void> Resolver::complete_title_id(Arrival& arrival) {
  GameId& game = arrival.facts.game;
  const std::uint64_t likely = likely_title_id(game);
  const NameRule& path = arrival.rule->path;
  if (likely == game.title_id || !(path.uses("title.high") || path.uses("title.id"))) return {};
  BAYSWAP_TRY(const auto there, to_.saves(BayView::Depth::names));
  for (const HeldSave& save : *there) {
    const std::uint64_t theirs = save.facts.game.title_id;
    if (theirs >> 32 == 0 || (theirs & 0xFFFFFFFF) != (likely & 0xFFFFFFFF)) continue;
    game.title_id = theirs;
    return {};
  }
  game.title_id = likely;
  arrival.issues.note(IssueCode::title_id,
                      fmt::format("only half of the title's id is known; taken as {}, as most titles have it",
                                  title_id_text(game)),
                      "a download or a demo has another one: add its id to titles.toml (docs/titles.md)");
  return {};
}

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
                        "say whose it is", {Remedy::Kind::account, std::move(values)});
  return false;
}

// ---- Its name and its chips there ------------------------------------------------------------------------

Result<void> Resolver::settle_name(const SourceSave& source, const Counterpart& rom, Arrival& arrival) {
  NameFacts& facts = arrival.facts;
  const NameRule& path = *arrival.path_rule;
  if (rom.rom != nullptr) {
    facts.rom_path = rom.rom->path;
    arrival.named_after = rom.rom->path;
    if (path.uses("rom.md5")) facts.rom_md5 = rom_md5_for(to_.store(), *arrival.rule, *rom.rom);
    if (facts.game.maker.empty()) facts.game.maker = rom.rom->facts.game.maker;
  } else if (!facts.rom_path && !facts.game.title.empty()) {
    facts.rom_path = facts.game.title;
  }
  if (request_.pairs != nullptr && from_ != nullptr && source.facts.rom_path)
    for (const RomPair& pair : request_.pairs->pairs())
      if (pair.bay == to_.bay().name && pair.rom_bay == from_->bay().name &&
          pair.rom == *source.facts.rom_path && rom.rom == nullptr) {
        facts.rom_path = pair.save;  // the save there that was paired with this ROM
        return {};
      }
  if (!path.uses_rom() || rom.rom != nullptr) return {};
  const std::string text = fmt::format(
      "{} has no ROM of this game{}, and names its saves after ROMs", to_.bay().name,
      arrival.rule->roms.empty() ? "" : fmt::format(" in {}", to_.store().display_path(arrival.rule->roms)));
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
      own.push_back({part.role.kind, part.bytes.size(),
                     fmt::format("its save in {} has {} bytes",
                                 from_ != nullptr ? from_->bay().name : source.shown, part.bytes.size())});
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
        if (one.kind == other.kind && one.size_bytes == other.size_bytes) add_chips(learned_, {one});
    if (source.content.recognised) add_chips(learned_, own);
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
  BAYSWAP_TRY(const PlatformRule* rule, rule_for(source.facts.game.platform));
  Arrival arrival;
  arrival.rule = rule;
  arrival.place = source.place;
  arrival.path_rule = &rule->path;
  arrival.facts = source.facts;
  arrival.shown = source.shown;
  arrival.origin = from_ != nullptr ? from_->bay().name : "";
  arrival.modified = source.modified;
  arrival.exact = request_.exact;
  arrival.pak = request_.slot;
  arrival.issues = source.issues;
  if (!source.place.empty()) {
    const auto found = std::find_if(rule->also.begin(), rule->also.end(),
                                    [&](const auto& one) { return one.first == source.place; });
    if (found == rule->also.end()) {
      arrival.issues.note(IssueCode::no_place, fmt::format("{} ({}) has no place in {}", source.shown,
                                                           source.place, to_.bay().name));
      return arrival;
    }
    arrival.path_rule = &found->second;
  }
  if (!source.misplaced.empty())
    arrival.issues.warn(IssueCode::misplaced, fmt::format("{}: {}", source.shown, source.misplaced),
                        "it is carried all the same");
  const Keeper& keeper = keeper_of(rule->keeping);
  if (keeper.has_other_files) used_.insert(CarryOption::exact);
  if (has_slots(rule->path) ||
      std::any_of(source.content.chips.parts.begin(), source.content.chips.parts.end(),
                  [](const Part& part) { return part.role.kind == PartKind::pak; }))
    used_.insert(CarryOption::slot);
  if (source.content.is_blank()) {
    arrival.content = std::move(source.content);
    return arrival;
  }
  BAYSWAP_TRY(const auto said, said_rom(*rule));
  BAYSWAP_TRY(const Counterpart rom, counterpart(source, *rule, said));
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
  BAYSWAP_TRY(const bool has_account, settle_account(arrival));
  if (!has_account) return arrival;
  BAYSWAP_CHECK(settle_name(source, rom, arrival));
  settle_chips(source, rom, arrival);
  name_of_item(source.content, arrival.facts);
  arrival.brought = false;
  arrival.content = std::move(source.content);
  BAYSWAP_TRY(arrival.spots, keeper.spots(to_, arrival));
  BAYSWAP_CHECK(restamp(source, arrival));
  if (arrival.content.item && !arrival.spots.empty())  // its name may have been restamped
    for (Spot& spot : arrival.spots)
      if (!spot.entry.empty()) spot.entry = arrival.content.item->name;
  return arrival;
}

}  // namespace bayswap
