// Which game the target plays, and which of its ROMs is the save's.
#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/resolve.hpp"

namespace bayswap {
namespace {

std::string region_word(Region region) {
  std::string word = lower(name(region));
  std::replace(word.begin(), word.end(), ' ', '-');
  return word;
}

// A game may have another chip in another region: no form of the save would fit it then.
std::string other_chip_in_words(const std::vector<ChipFact>& ours, const std::vector<ChipFact>& theirs) {
  const auto main_of = [](const std::vector<ChipFact>& chips) {
    return std::ranges::find_if(chips, [](const ChipFact& chip) {
      return chip.kind != PartKind::rtc && chip.kind != PartKind::pak && chip.size_bytes > 0;
    });
  };
  const auto own = main_of(ours);
  const auto there = main_of(theirs);
  if (own == ours.end() || there == theirs.end() ||
      (own->kind == there->kind && own->size_bytes == there->size_bytes))
    return {};
  return fmt::format("another chip ({} of {} bytes here, {} of {} there), and the ",
                     to_text(Role{own->kind, 0}), own->size_bytes, to_text(Role{there->kind, 0}),
                     there->size_bytes);
}

}  // namespace

std::string game_in_words(const GameId& game) {
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  const std::string where = game.region == Region::unknown ? "" : fmt::format(", {}", name(game.region));
  if (game.title.empty()) return fmt::format("{}{}", id.empty() ? "an unknown game" : id, where);
  return id.empty() ? fmt::format("'{}'", game.title) : fmt::format("'{}' ({}{})", game.title, id, where);
}

// ---- Its ROM there ---------------------------------------------------------------------------------------

Result<const std::vector<Resolver::Named>*> Resolver::named_roms(const PlatformRule& rule) {
  if (const auto known = named_.find(&rule); known != named_.end()) return &known->second;
  BAYSWAP_TRY(const auto roms, to_.roms(rule));
  std::vector<Named> named;
  for (const RomFile& rom : *roms)
    named.push_back({&rom, lower(stem_of(rom.path)), normalized_title(stem_of(rom.path)), {}});
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

// Where neither header nor name tells: the target's ROMs that are the source's byte for byte, headers that
// dumps have in front left out.
Result<std::vector<const RomFile*>> Resolver::of_same_bytes(const SourceSave& source,
                                                            const PlatformRule& rule) {
  std::vector<const RomFile*> same;
  if (from_ == nullptr || !source.rom || !source.facts.rom_path) return same;
  const auto digest_of_rom = [](Store& store, const std::string& path, const RomFacts& facts) -> std::string {
    const auto bytes = rom_source(store, path);
    const auto digests = bytes ? digest_rom(*bytes, facts.header_size_bytes) : tl::unexpected(bytes.error());
    return digests ? digests->sha256 : "";
  };
  const std::string own = digest_of_rom(from_->store(), *source.facts.rom_path, *source.rom);
  if (own.empty()) return same;
  BAYSWAP_CHECK(named_roms(rule));
  for (Named& one : named_.at(&rule)) {
    if (one.rom->facts.game.platform != source.rom->game.platform) continue;
    if (one.digest.empty()) one.digest = digest_of_rom(to_.store(), one.rom->path, one.rom->facts);
    if (one.digest == own) same.push_back(one.rom);
  }
  return same;
}

// Of several ROMs that are the game: those whose saves would have the same name are one. If the bay has a
// save of just one of them already, that is the one that is played.
Result<Resolver::Counterpart> Resolver::one_of(const std::vector<const RomFile*>& best, GameMatch match,
                                               bool said, const NameRule& path) {
  Counterpart chosen{best.front(), match, said, {}, {}};
  if (best.size() == 1 || !path.uses_rom()) return chosen;
  const bool by_folder = path.uses("rom.folder");
  std::map<std::string, const RomFile*> by_name;
  for (const RomFile* rom : best)
    by_name.emplace(by_folder ? lower(rom->path.substr(0, rom->path.rfind('.'))) : lower(stem_of(rom->path)),
                    rom);
  if (by_name.size() == 1) return chosen;
  BAYSWAP_TRY(const auto there, to_.saves(BayView::Depth::names));
  std::vector<const RomFile*> played;
  for (const auto& [name, rom] : by_name)
    if (std::any_of(there->begin(), there->end(),
                    [&, path = rom->path](const HeldSave& save) { return save.facts.rom_path == path; }))
      played.push_back(rom);
  if (played.size() == 1) {
    chosen.rom = played.front();
    chosen.why =
        fmt::format("of the {} ROMs of this game it is the one that has a save already", by_name.size());
    return chosen;
  }
  for (const auto& [name, rom] : by_name)
    if (rom != chosen.rom) chosen.rivals.push_back(rom);
  return chosen;
}

Result<Resolver::Counterpart> Resolver::counterpart(const SourceSave& source, const NameRule& path,
                                                    const PlatformRule& rule,
                                                    const std::optional<RomFile>& said) {
  BAYSWAP_TRY(const auto roms, named_roms(rule));
  const GameId& game = said ? said->facts.game : source.rom ? source.rom->game : source.facts.game;
  if (said) {
    // At the target itself the very file; otherwise the target's ROM of that game.
    if (const RomFile* own = to_.rom(rule, said->path)) {
      if (from_ != nullptr)
        said_pairs_.push_back({from_->bay().name, source.path, to_.bay().name, own->path});
      return Counterpart{
          own, source.rom ? compare(source.rom->game, own->facts.game) : GameMatch::same, true, {}, {}};
    }
    if (from_ != nullptr && from_->rom(source.rule != nullptr ? *source.rule : rule, said->path) != nullptr)
      said_pairs_.push_back({from_->bay().name, source.path, from_->bay().name, said->path});
  } else if (request_.pairs != nullptr && from_ != nullptr) {
    for (const RomPair& pair : request_.pairs->pairs())
      if (pair.save == source.path && is_pair_of(pair.bay, from_->bay()) &&
          is_pair_of(pair.rom_bay, to_.bay()))
        if (const RomFile* own = to_.rom(rule, pair.rom))
          return Counterpart{
              own, source.rom ? compare(source.rom->game, own->facts.game) : GameMatch::same, true, {}, {}};
  }
  const std::string stem = said                    ? lower(stem_of(said->path))
                           : source.facts.rom_path ? lower(stem_of(*source.facts.rom_path))
                                                   : lower(source.facts.game.title);
  const std::string title = normalized_title(stem);
  int best_rank = 0;
  GameMatch best_match = GameMatch::unknown;
  std::vector<const RomFile*> best;
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
      best.clear();
      best_rank = rank;
      best_match = match;
    }
    if (rank == best_rank && rank > 0) best.push_back(one.rom);
  }
  // What has a code or a title of its own was told by it.
  const bool nameless = source.rom && compare(game, game) == GameMatch::unknown;
  if (best.empty() && !said && nameless) {
    BAYSWAP_TRY(best, of_same_bytes(source, rule));
    best_match = GameMatch::same;
  }
  if (best.empty()) return Counterpart{};
  return one_of(best, best_match, said.has_value(), path);
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
          fmt::format("{}wrong region: the save is from {}, the target plays {}",
                      other_chip_in_words(source.rom->chips, rom.rom->facts.chips), game_in_words(ours),
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

}  // namespace bayswap
