// Which saves of a bay are meant?
#include <bayswap/carry.hpp>
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

std::string bare_id(std::string_view text) {
  std::string digits;
  for (const char c : lower(text))
    if (c != '/' && c != '-') digits += c;
  return digits;
}

// 4: the very one, 3: exactly, 2: as its beginning, 1: somewhere, 0: not at all.
int fit(const std::string& wanted, const BaySave& save) {
  const GameId& game = save.facts.game;
  const std::string id = bare_id(title_id_text(game));
  const std::string digits = bare_id(wanted);
  if (!id.empty() && (digits == id || (digits.size() == 8 && id.ends_with(digits)))) return 4;
  int best = 0;
  for (const std::string& candidate :
       {lower(game.code), lower(save.name()), lower(save.entry), lower(save.label), lower(game.title),
        save.facts.rom_path ? lower(stem_of(*save.facts.rom_path)) : std::string()}) {
    if (candidate == wanted) return candidate == lower(save.name()) || candidate == lower(save.entry) ? 4 : 3;
    if (candidate.empty()) continue;
    if (candidate.starts_with(wanted)) best = std::max(best, 2);
    if (candidate.find(wanted) != std::string::npos) best = std::max(best, 1);
  }
  return best;
}

bool is_within(const std::string& path, const std::string& folder) {
  return path == folder || path.starts_with(folder + "/");
}

std::string described(const BaySave& save) {
  return save.label.empty() ? save.path
                            : fmt::format("{} ({}, {})", save.label, tag(save.rule->platform), save.path);
}

Result<void> one_game(const std::vector<BaySave>& found, const std::string& what, const std::string& bay) {
  std::vector<std::string> games;
  for (const BaySave& save : found) {
    const GameMatch match = compare(save.facts.game, found.front().facts.game);
    const bool other_rom = match == GameMatch::unknown && save.facts.rom_path != found.front().facts.rom_path;
    if ((match == GameMatch::other_game || match == GameMatch::other_region || other_rom) &&
        save.path != found.front().path)
      games.push_back(described(save));
  }
  if (games.empty()) return {};
  constexpr std::size_t max_named = 8;
  const std::string more =
      games.size() > max_named ? fmt::format(" and {} more", games.size() - max_named) : "";
  games.resize(std::min(games.size(), max_named));
  return fail(ErrorCode::bad_usage,
              fmt::format("'{}' could be several saves of {}: {}, {}{}", printable(what), bay,
                          described(found.front()), joined(games, ", "), more),
              "name one by its code, its title id or its path");
}

// What a save keeps elsewhere goes with it.
void add_further_places(const std::vector<BaySave>& saves, std::vector<BaySave>& found) {
  const std::size_t count = found.size();
  for (const BaySave& part : saves) {
    if (part.place.empty()) continue;
    const bool there =
        std::ranges::any_of(found, [&](const BaySave& save) { return save.path == part.path; });
    bool belongs = false;
    for (std::size_t i = 0; i < count; ++i) {
      const BaySave& whole = found[i];
      if (whole.rule != part.rule || !whole.place.empty()) continue;
      const std::uint64_t id = whole.facts.game.title_id;
      belongs = belongs || (id != 0 && id == part.facts.game.title_id) ||
                (!part.facts.folder.empty() && part.facts.folder == whole.facts.folder);
    }
    if (belongs && !there) found.push_back(part);
  }
}

}  // namespace

Result<std::vector<BaySave>> find_saves(const std::vector<BaySave>& saves, OpenBay from, Store& outside,
                                        const std::string& what, const TitleBook* titles) {
  std::vector<BaySave> found;
  // A path in the bay: as the user stands, or below the bay's root.
  const std::string root = normalized(from.store->absolute_path("."));
  std::string below = normalized(what);
  if (const std::string whole = outside.absolute_path(what); is_within(whole, root) && whole != root)
    below = whole.substr(root.size() + 1);
  for (const BaySave& save : saves)
    if (is_within(save.path, below) || (save.place.empty() && is_within(below, save.path)))
      found.push_back(save);
  if (!found.empty()) {
    BAYSWAP_CHECK(one_game(found, what, from.bay->name));
    add_further_places(saves, found);
    return found;
  }

  // A ROM or a disc, wherever it is.
  BAYSWAP_TRY(const auto info, outside.stat(what));
  if (info && info->kind == FileInfo::Kind::file) {
    if (auto facts = identify_rom(outside, what)) {
      if (titles != nullptr) titles->complete(facts->game);
      for (const BaySave& save : saves) {
        const GameMatch match = compare(save.facts.game, facts->game);
        const bool by_name =
            match == GameMatch::unknown && save.facts.rom_path &&
            normalized_title(stem_of(*save.facts.rom_path)) == normalized_title(stem_of(what));
        if (match == GameMatch::same || match == GameMatch::other_revision || by_name) found.push_back(save);
      }
      if (found.empty())
        return fail(ErrorCode::not_found,
                    fmt::format("{} has no save of {} ({})", from.bay->name,
                                facts->game.title.empty() ? std::string(stem_of(what)) : facts->game.title,
                                facts->game.code.empty() ? title_id_text(facts->game) : facts->game.code),
                    fmt::format("`bayswap bay scan {}` shows the saves there are", from.bay->name));
      return found;
    }
  }

  int best = 1;
  const std::string wanted = lower(what);
  for (const BaySave& save : saves) {
    const int how = wanted.empty() ? 0 : fit(wanted, save);
    if (how < best) continue;
    if (how > best) found.clear();
    best = how;
    found.push_back(save);
  }
  BAYSWAP_CHECK(one_game(found, what, from.bay->name));
  return found;
}

}  // namespace bayswap
