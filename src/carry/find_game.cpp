#include "carry/find_game.hpp"

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

std::string in_words(const GameId& game) {
  return game.code.empty() ? fmt::format("'{}'", game.title)
                           : fmt::format("'{}' ({}, {})", game.title, game.code, name(game.region));
}

// Every ROM of the bay, whatever its platform. A bay whose ROM folder is not there has none.
Result<std::vector<RomFile>> all_roms(const OpenBay& side) {
  std::vector<RomFile> roms;
  for (const PlatformRule& rule : side.bay->rules) {
    auto found = list_roms(*side.store, rule);
    if (!found && found.error().code == ErrorCode::not_found) continue;
    if (!found) return tl::unexpected(found.error());
    std::ranges::move(*found, std::back_inserter(roms));
  }
  return roms;
}

// How well words name a ROM: 3 exactly, 2 as its beginning, 1 somewhere, 0 not at all.
int fit(std::string_view words, const RomFile& rom) {
  const std::string wanted = lower(words);
  int best = 0;
  for (const std::string& candidate : {lower(stem_of(rom.path)), lower(name_of(rom.path)),
                                       lower(rom.facts.game.title), lower(rom.facts.game.code)}) {
    if (candidate == wanted) return 3;
    if (!candidate.empty() && candidate.starts_with(wanted)) best = std::max(best, 2);
    if (candidate.find(wanted) != std::string::npos) best = std::max(best, 1);
  }
  return best;
}

// The ROM that words name; an error where they could be several games.
Result<std::optional<RomFile>> named(std::string_view words, const std::vector<RomFile>& roms,
                                     std::string_view bay) {
  if (words.empty()) return std::nullopt;
  int best = 1;
  std::vector<const RomFile*> found;
  for (const RomFile& rom : roms) {
    const int how = fit(words, rom);
    if (how < best) continue;
    if (how > best) found.clear();
    best = how;
    found.push_back(&rom);
  }
  if (found.empty()) return std::nullopt;
  std::string list;
  bool several = false;
  for (const RomFile* rom : found) {
    list += (list.empty() ? "" : ", ") + std::string(name_of(rom->path));
    several = several || (rom != found.front() &&
                          compare(rom->facts.game, found.front()->facts.game) != GameMatch::same);
  }
  if (several)
    return fail(ErrorCode::bad_usage,
                fmt::format("'{}' could be several ROMs of {}: {}", printable(words), bay, list),
                "name one of them in full, or by its code");
  return *found.front();
}

// The bay's ROM of `game`: the same one before one of another revision, region, or only of the same name.
std::optional<RomFile> counterpart(const GameId& game, std::string_view stem,
                                   const std::vector<RomFile>& roms) {
  const RomFile* best = nullptr;
  int best_rank = 0;
  for (const RomFile& rom : roms) {
    if (saves_as(rom.facts.game.platform) != saves_as(game.platform)) continue;
    const bool same_stem = lower(stem_of(rom.path)) == lower(stem);
    const std::string title = normalized_title(stem);
    const bool alike = same_stem || (!title.empty() && normalized_title(stem_of(rom.path)) == title);
    int rank = 0;
    switch (compare(game, rom.facts.game)) {
      case GameMatch::same:
        rank = 8;
        break;
      case GameMatch::other_revision:
        rank = 6;
        break;
      case GameMatch::other_region:
        rank = 4;
        break;
      case GameMatch::other_game:
        rank = same_stem ? 1 : 0;
        break;
      case GameMatch::unknown:
        rank = alike ? 7 : 0;
        break;
    }
    if (rank > 0 && same_stem) ++rank;
    if (rank > best_rank) {
      best = &rom;
      best_rank = rank;
    }
  }
  return best != nullptr ? std::optional(*best) : std::nullopt;
}

PlanIssue mismatch(PlanIssue::Level level, std::string code, std::string text, std::string hint) {
  return {level, std::move(code), std::move(text), std::move(hint)};
}

void compare_sides(const std::set<std::string>& accept, GameSides& sides) {
  if (!sides.from || !sides.to) {
    sides.issues.push_back(mismatch(PlanIssue::Level::note, "one-rom",
                                    "only one of the two bays has the ROM, so regions can't be compared",
                                    "make sure both sides play the same region"));
    return;
  }
  const GameId& a = sides.from->facts.game;
  const GameId& b = sides.to->facts.game;
  const auto refuse_unless = [&](const std::string& code) {
    return accept.contains(code) ? PlanIssue::Level::warning : PlanIssue::Level::refusal;
  };
  switch (compare(a, b)) {
    case GameMatch::same:
    case GameMatch::unknown:  // paired by name: nothing in them says otherwise
      return;
    case GameMatch::other_revision:
      sides.issues.push_back(
          mismatch(PlanIssue::Level::warning, "other-revision",
                   fmt::format("the ROMs are revisions {} and {} of the game", a.revision, b.revision),
                   "saves mostly work across revisions; look at it in the game"));
      return;
    case GameMatch::other_region:
      sides.issues.push_back(mismatch(
          refuse_unless("wrong-region"), "wrong-region",
          fmt::format("wrong region: the save is from {}, the target plays {}", in_words(a), in_words(b)),
          "a save of one region does not load in another's game; put the same region's ROM there, or say "
          "--accept wrong-region"));
      return;
    case GameMatch::other_game:
      sides.issues.push_back(
          mismatch(refuse_unless("wrong-game"), "wrong-game",
                   fmt::format("another game: the save is from {}, the target's ROM of that name is {}",
                               in_words(a), in_words(b)),
                   "name the game by its code, or say --accept wrong-game if they are one game after all"));
      return;
  }
}

// What the ROM at hand tells of the chips, the user, and what was learned before.
void find_chips(OpenBay from, OpenBay to, Store& outside, const CarryRequest& request, GameSides& sides) {
  sides.chips = request.chips;
  for (auto [rom, store] : {std::pair{&sides.from, from.store}, std::pair{&sides.to, to.store}}) {
    if (!*rom) continue;
    RomFacts facts = (*rom)->facts;
    auto source = rom_source(*store, (*rom)->path);
    if (!source) source = rom_source(outside, (*rom)->path);
    if (source) find_chip_tags(*source, facts);
    sides.tells_chips = sides.tells_chips || facts.tells_chips;
    add_chips(sides.chips, facts.chips);
  }
  if (request.book != nullptr) add_chips(sides.chips, request.book->chips_of(sides.game));
}

}  // namespace

Result<GameSides> find_game(OpenBay from, OpenBay to, Store& outside, const CarryRequest& request) {
  BAYSWAP_TRY(const auto from_roms, all_roms(from));
  BAYSWAP_TRY(const auto to_roms, all_roms(to));
  GameSides sides;
  std::string stem;
  std::optional<std::string> given;  // a ROM outside of the bays
  BAYSWAP_TRY(const auto info, outside.stat(request.what));
  if (info && info->kind == FileInfo::Kind::file) {
    auto facts = identify_rom(outside, request.what);
    if (!facts)
      return fail(ErrorCode::not_recognised, fmt::format("{} is no ROM that we know", request.what),
                  "name the game's ROM or its title; for a loose save, use `bayswap convert`");
    sides.game = facts->game;
    stem = stem_of(request.what);
    given = request.what;
    sides.from = counterpart(sides.game, stem, from_roms);
    if (!sides.from) sides.from = RomFile{request.what, *std::move(facts)};
  } else {
    BAYSWAP_TRY(sides.from, named(request.what, from_roms, from.bay->name));
    std::optional<RomFile> found = sides.from;
    if (!found) {
      BAYSWAP_TRY(found, named(request.what, to_roms, to.bay->name));
    }
    if (!found)
      return fail(ErrorCode::bad_usage,
                  fmt::format("no ROM called '{}' in {} or {}", printable(request.what), from.bay->name,
                              to.bay->name),
                  fmt::format("`bayswap bay show {}` lists the ROMs; a path to the ROM works as well",
                              from.bay->name));
    sides.game = found->facts.game;
    stem = stem_of(found->path);
    given = found->path;
    if (!sides.from) sides.from = counterpart(sides.game, stem, from_roms);
  }
  if (!request.rom.empty()) {
    BAYSWAP_TRY(auto facts, identify_rom(*to.store, request.rom));
    sides.to = RomFile{request.rom, std::move(facts)};
  } else {
    sides.to = counterpart(sides.game, stem, to_roms);
  }
  sides.name_from = sides.from ? std::optional(sides.from->path) : given;
  sides.name_to = sides.to ? std::optional(sides.to->path) : sides.name_from;
  compare_sides(request.accept, sides);
  find_chips(from, to, outside, request, sides);
  return sides;
}

std::string rom_md5_for(Store& store, const PlatformRule& rule, const RomFile& rom) {
  std::vector<std::string> in_place;
  if (const auto places = find_places(store, rule.path, rule.platform))
    for (const Place& place : *places) {
      const auto stem = place.words.find("rom.stem");
      const auto md5 = place.words.find("rom.md5");
      if (md5 != place.words.end() && (stem == place.words.end() || stem->second == stem_of(rom.path)))
        in_place.push_back(md5->second);
    }
  const auto source = rom_source(store, rom.path);
  if (!source) return in_place.size() == 1 ? in_place.front() : "";
  const auto whole = digest_rom(*source);
  const auto bare = digest_rom(*source, rom.facts.header_size_bytes);
  for (const auto& digests : {whole, bare})
    if (digests)
      for (const std::string& name : in_place)
        if (lower(name) == digests->md5) return name;
  // Some digest that we don't know how to make: the save in place says which.
  if (in_place.size() == 1) return in_place.front();
  return whole ? whole->md5 : "";
}

}  // namespace bayswap
