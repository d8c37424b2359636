// Which saves of a bay are meant?
#include <fmt/format.h>
#include <bayswap/carry.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/select.hpp"

namespace bayswap {
namespace {

std::string bare_id(std::string_view text) {
  std::string digits;
  for (const char c : lower(text))
    if (c != '/' && c != '-') digits += c;
  return digits;
}

// Its name on the disk or on its card.
std::string own_name(const HeldSave& save) {
  return save.kind == SaveKind::card_entry ? save.entry : std::string(name_of(save.path));
}

std::vector<std::string> names_of(const HeldSave& save) {
  std::vector<std::string> names{save.facts.game.code, own_name(save),        save.entry,
                                 save.label,           save.facts.game.title, save.facts.folder};
  if (save.facts.rom_path) {
    names.emplace_back(stem_of(*save.facts.rom_path));
    names.emplace_back(name_of(*save.facts.rom_path));
  }
  for (const HeldFile& file : save.held) names.emplace_back(stem_of(file.path));
  std::erase(names, "");
  return names;
}

// How well a save fits what was asked for, from the least to the best.
enum class Fit { none, somewhere, beginning, title, exact, itself };

Fit fit_of(const std::string& wanted, const std::string& wanted_title, const HeldSave& save) {
  const std::string id = bare_id(title_id_text(save.facts.game));
  const std::string digits = bare_id(wanted);
  if (!id.empty() && (digits == id || (digits.size() == 8 && id.ends_with(digits)))) return Fit::itself;
  Fit best = Fit::none;
  for (const std::string& name : names_of(save)) {
    const std::string low = folded(name);
    if (low == wanted)
      return low == folded(own_name(save)) || low == folded(save.entry) ? Fit::itself : Fit::exact;
    // But for accents, articles and the like.
    if (!wanted_title.empty() && normalized_title(name) == wanted_title) best = std::max(best, Fit::title);
    if (low.starts_with(wanted)) best = std::max(best, Fit::beginning);
    if (low.find(wanted) != std::string::npos) best = std::max(best, Fit::somewhere);
  }
  return best;
}

bool is_within(const std::string& path, const std::string& folder) {
  return path == folder || path.starts_with(folder + "/");
}

bool is_at(const HeldSave& save, const std::string& below) {
  if (is_within(save.path, below)) return true;
  for (const HeldFile& file : save.held)
    if (file.path == below) return true;
  const bool is_tree = save.kind == SaveKind::folder || save.kind == SaveKind::package_files;
  return is_tree && save.place.empty() && is_within(below, save.path);
}

Error ambiguous(const BayView& view, const std::string& what, const std::vector<const HeldSave*>& found) {
  constexpr std::size_t max_named = 12;
  std::vector<std::string> named;
  std::vector<std::string> values;
  for (const HeldSave* save : found) {
    values.push_back(designator(*save));
    if (named.size() < max_named) named.push_back(in_words(*save));
  }
  const std::string more =
      found.size() > max_named ? fmt::format(" and {} more", found.size() - max_named) : "";
  return {ErrorCode::bad_usage,
          fmt::format("'{}' could be several saves of {}: {}{}", printable(what), view.bay().name,
                      joined(named, ", "), more),
          "name one of them by its path",
          {Remedy::Kind::save, std::move(values)}};
}

// Several saves of one game go together: its slots, its accounts, its entries. Saves of several games, or two
// that are the same one, don't.
Result<void> one_game(const BayView& view, const std::string& what, std::vector<const HeldSave*>& found) {
  // What the bay's own programs read comes first.
  if (std::any_of(found.begin(), found.end(), [](const HeldSave* save) { return save->misplaced.empty(); }))
    std::erase_if(found, [](const HeldSave* save) { return !save->misplaced.empty(); });
  std::set<SaveKey> keys;
  bool several = false;
  for (const HeldSave* save : found) {
    SaveKey key = save->key();
    several = several || !keys.insert(key).second || key.game != found.front()->key().game;
  }
  // One game can be known by more and by less: an id here, a code there.
  if (several && keys.size() == found.size())
    several = std::any_of(found.begin(), found.end(), [&](const HeldSave* save) {
      const GameMatch match = compare(save->facts.game, found.front()->facts.game);
      return save->key().game != found.front()->key().game && match != GameMatch::same &&
             match != GameMatch::other_revision;
    });
  if (!several) return {};
  return tl::unexpected(ambiguous(view, what, found));
}

// What a save keeps elsewhere goes with it.
void add_extra_places(const std::vector<HeldSave>& saves, std::vector<const HeldSave*>& found) {
  const std::vector<const HeldSave*> wholes = found;
  for (const HeldSave& part : saves)
    if (!part.place.empty() && std::find(found.begin(), found.end(), &part) == found.end() &&
        std::any_of(wholes.begin(), wholes.end(),
                    [&](const HeldSave* whole) { return is_extra_place_of(part, *whole); }))
      found.push_back(&part);
}

class Selector {
 public:
  Selector(BayView& view, Store& outside, const std::string& what, const std::vector<HeldSave>& saves)
      : view_(view), outside_(outside), what_(what), saves_(saves) {}

  /// After run(): the words are only a part of what was found's names.
  [[nodiscard]] bool is_weak() const { return is_weak_; }

  Result<std::vector<const HeldSave*>> run() {
    if (what_.empty())
      return fail(ErrorCode::bad_usage, "no save is named", "name a title, a code or a path");
    by_path();
    if (found_.empty()) {
      BAYSWAP_CHECK(by_rom());
      if (!found_.empty()) return one();
      by_words();
    }
    if (found_.empty()) return std::vector<const HeldSave*>{};
    return one();
  }

 private:
  Result<std::vector<const HeldSave*>> one() {
    BAYSWAP_CHECK(one_game(view_, what_, found_));
    add_extra_places(saves_, found_);
    return std::move(found_);
  }
  void add(const HeldSave& save) {
    if (save.health != Health::deleted) found_.push_back(&save);
  }

  // A path in the bay: relative to the user's folder, or below the bay's root; "card: entry" for an entry of
  // a card.
  void by_path() {
    const std::string root = normalized(view_.store().absolute_path("."));
    const auto below_root = [&](const std::string& path) {
      const std::string whole = outside_.absolute_path(path);
      return is_within(whole, root) && whole != root ? whole.substr(root.size() + 1) : normalized(path);
    };
    const std::string below = below_root(what_);
    for (const HeldSave& save : saves_) {
      if (is_at(save, below)) add(save);
      if (save.entry.empty()) continue;
      const auto colon = what_.rfind(':');
      if (colon == std::string::npos) continue;
      std::string entry = what_.substr(colon + 1);
      while (entry.starts_with(' ')) entry.erase(0, 1);
      if (folded(entry) == folded(save.entry) && below_root(what_.substr(0, colon)) == save.path) add(save);
    }
  }

  // A ROM or a disc, wherever it is.
  Result<void> by_rom() {
    BAYSWAP_TRY(const auto info, outside_.stat(what_));
    if (!info || info->kind != FileInfo::Kind::file) return {};
    auto facts = identify_rom(outside_, what_);
    if (!facts) {
      if (facts.error().code == ErrorCode::io) return tl::unexpected(std::move(facts.error()));
      return fail(ErrorCode::not_recognised, fmt::format("{} is not a ROM Bay Swap knows", what_),
                  "name the game's ROM or its title; to convert a loose save, use convert");
    }
    if (view_.options().titles != nullptr) view_.options().titles->complete(facts->game);
    const std::string title = normalized_title(stem_of(what_));
    std::vector<const HeldSave*> exact;
    for (const HeldSave& save : saves_) {
      const GameMatch match = compare(save.facts.game, facts->game);
      const bool by_name = match == GameMatch::unknown && save.facts.rom_path &&
                           normalized_title(stem_of(*save.facts.rom_path)) == title;
      if (match == GameMatch::same || match == GameMatch::other_revision || by_name) add(save);
      if (save.facts.rom_path &&
          view_.store().absolute_path(*save.facts.rom_path) == outside_.absolute_path(what_) &&
          save.health != Health::deleted)
        exact.push_back(&save);
    }
    // Of two dumps of one game the one that was named.
    if (!exact.empty()) found_ = exact;
    if (found_.empty())
      return fail(ErrorCode::not_found,
                  fmt::format("{} has no save of {} ({})", view_.bay().name,
                              facts->game.title.empty() ? std::string(stem_of(what_)) : facts->game.title,
                              facts->game.code.empty() ? title_id_text(facts->game) : facts->game.code),
                  "", {Remedy::Kind::scan_bay, {view_.bay().name}});
    return {};
  }

  void by_words() {
    const std::string wanted = folded(what_);
    const std::string title = normalized_title(what_);
    Fit best = Fit::somewhere;
    for (const HeldSave& save : saves_) {
      const Fit how = save.health == Health::deleted ? Fit::none : fit_of(wanted, title, save);
      if (how < best) continue;
      if (how > best) found_.clear();
      best = how;
      found_.push_back(&save);
    }
    is_weak_ = !found_.empty() && best < Fit::title;
  }

  BayView& view_;
  Store& outside_;
  const std::string& what_;
  const std::vector<HeldSave>& saves_;
  std::vector<const HeldSave*> found_;
  bool is_weak_ = false;
};

}  // namespace

std::string designator(const HeldSave& save) {
  return save.kind == SaveKind::card_entry ? fmt::format("{}: {}", save.path, save.entry) : save.path;
}

std::string in_words(const HeldSave& save) {
  const std::string label = printable(save.label.empty() ? save.name() : save.label);
  return fmt::format("{} ({}, {})", label, tag(save.rule->platform), printable(designator(save)));
}

bool is_extra_place_of(const HeldSave& part, const HeldSave& whole) {
  if (whole.rule != part.rule || !whole.place.empty() || part.place.empty()) return false;
  const std::uint64_t id = whole.facts.game.title_id;
  return (id != 0 && id == part.facts.game.title_id) ||
         (!part.facts.folder.empty() && part.facts.folder == whole.facts.folder);
}

Result<std::vector<const HeldSave*>> find_saves(BayView& view, Store& outside, const std::string& what) {
  BAYSWAP_TRY(const auto names, view.saves(BayView::Depth::names));
  // Names tell mostly enough; what saves call themselves takes reading them all, and so does what lies there
  // under another name.
  Selector by_name(view, outside, what, *names);
  auto found = by_name.run();
  if (found && !found->empty() && !by_name.is_weak()) return found;
  if (!found && !by_name.is_weak() && found.error().code != ErrorCode::not_found &&
      found.error().code != ErrorCode::not_recognised)
    return found;
  BAYSWAP_TRY(const auto whole, view.saves());
  return Selector(view, outside, what, *whole).run();
}

Error no_such_save(BayView& view, const std::string& what) {
  std::vector<std::string> names;
  if (const auto saves = view.saves())
    for (const HeldSave& save : **saves)
      for (std::string& name : names_of(save)) names.push_back(std::move(name));
  std::string best;
  std::size_t nearest = what.size() / 3 + 2;
  for (const std::string& name : names) {
    const std::size_t distance = std::min(edit_distance(lower(what), lower(name)),
                                          edit_distance(normalized_title(what), normalized_title(name)));
    if (distance >= nearest) continue;
    nearest = distance;
    best = name;
  }
  return {ErrorCode::not_found,
          fmt::format("{} has no save called '{}'", view.bay().name, printable(what)),
          best.empty() ? "a path works as well" : fmt::format("did you mean '{}'?", printable(best)),
          {Remedy::Kind::scan_bay, {view.bay().name}}};
}

}  // namespace bayswap
