#include <bayswap/save_place.hpp>

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_container = std::size_t{256} << 20;

// Blank chips, clocks and controller paks come last: what a sheet is about comes first.
int rank(const Part& part) {
  if (is_blank(part)) return 3;
  if (part.role.kind == PartKind::rtc) return 2;
  return part.role.kind == PartKind::pak ? 1 : 0;
}

void add_parts(const Save& save, std::vector<SheetFile>& files) {
  std::vector<const Part*> parts;
  for (const Part& part : save.parts) parts.push_back(&part);
  std::ranges::stable_sort(parts, {}, [](const Part* part) { return rank(*part); });
  for (const Part* part : parts) files.push_back({to_text(part->role), part->bytes});
}

void add_item(SavePlace& place, const CardSave& item) {
  place.item = item;
  if (!item.payload.empty()) place.files.push_back({"data", item.payload});
  for (const CardFile& file : item.files) place.files.push_back({file.name, file.bytes});
  if (place.game) return;
  const CardEntry about = describe(item);
  GameId game;
  game.platform = platform_from_tag(to_text(item.kind)).value_or(Platform::ps1);
  game.code = about.code;
  place.game = game;
}

Result<SavePlace> open_entry(Store& store, const std::string& image, const std::string& entry,
                             SavePlace place) {
  place.kind = SavePlace::Kind::card_entry;
  place.path = image;
  place.entry = entry;
  BAYSWAP_TRY(const Blob bytes, store.read(image, max_container));
  BAYSWAP_TRY(const auto card, open_card(bytes));
  BAYSWAP_TRY(const CardSave item, card->read(entry));
  add_item(place, item);
  if (std::string stale = card->stale_once_changed(); !stale.empty()) place.notes.push_back(std::move(stale));
  return place;
}

Result<SavePlace> open_tree(Store& store, SavePlace place) {
  place.kind = SavePlace::Kind::folder;
  BAYSWAP_TRY(auto tree, read_tree(store, place.path));
  for (TreeFile& file : tree) place.files.push_back({file.path, std::move(file.bytes)});
  if (place.files.empty())
    return fail(ErrorCode::not_found, fmt::format("{}: the folder has no files", place.display_path),
                "name a save");
  return place;
}

Result<SavePlace> open_package(SavePlace place) {
  place.kind = SavePlace::Kind::package;
  BAYSWAP_TRY(const BlockPackage package, BlockPackage::open(place.bytes));
  BAYSWAP_TRY(auto files, files_of(package));
  for (TreeFile& file : files) place.files.push_back({file.path, std::move(file.bytes)});
  if (!place.game) {
    place.game.emplace();
    place.game->platform = Platform::x360;
    place.game->title_id = package.title_id();
    place.game->title = package.title_name();
  }
  return place;
}

tl::unexpected<Error> name_an_entry(const SavePlace& place, const Card& card) {
  std::vector<std::string> names;
  for (const CardEntry& entry : card.entries())
    if (entry.state != CardEntry::State::deleted)
      names.push_back(fmt::format("{}: {}", place.display_path, entry.name));
  return fail(ErrorCode::bad_usage,
              fmt::format("{} is a memory card with {}", place.display_path, counted(names.size(), "save")),
              names.empty() ? "it is empty" : "name one of them", {Remedy::Kind::save, names});
}

// The battery save in a state: by a map, or where the search is certain.
Result<SavePlace> open_state(const Catalog& catalog, const StateMaps& maps, const Hints& hints,
                             SavePlace place) {
  place.kind = SavePlace::Kind::state;
  const StateFile file(place.bytes);
  for (const StateMap* map : maps.all()) {
    if (hints.platform && saves_as(map->platform) != saves_as(*hints.platform)) continue;
    const auto own = map_for(*map, file);
    if (!own) continue;
    auto save = battery_in_state(*own, file, hints.chips);
    if (!save) continue;
    place.map = *own;
    place.battery = *std::move(save);
    break;
  }
  if (!place.map) {
    BatterySearch what;
    what.platform = hints.platform;
    what.chips = hints.chips;
    what.maps = &maps;
    BatteryFinds finds = find_batteries(catalog, file, what);
    if (finds.candidates.empty() || !finds.candidates.front().certain)
      return fail(
          ErrorCode::not_recognised,
          fmt::format("{} is a save state, and where its battery save is isn't certain", place.display_path),
          "put the game's ROM beside it, or teach the kind of state", {Remedy::Kind::rom, {}});
    place.map = finds.candidates.front().map;
    place.battery = finds.candidates.front().save;
  }
  add_parts(place.battery, place.files);
  if (place.files.empty())
    return fail(ErrorCode::not_recognised,
                fmt::format("{}: the state holds no battery save", place.display_path),
                "the game had not saved yet");
  return place;
}

Result<SavePlace> open_file(const Catalog& catalog, const StateMaps& maps, Store& store, const Hints& hints,
                            SavePlace place) {
  BAYSWAP_TRY(place.bytes, store.read(place.path, max_container));
  if (place.bytes.empty())
    return fail(ErrorCode::not_recognised, fmt::format("{} is empty", place.display_path),
                "copy it again from where it was made");
  const Finding finding = inspect(catalog, place.bytes, hints);
  if (!place.game) place.game = finding.game;
  switch (finding.kind) {
    case FileKind::package:
      return open_package(std::move(place));
    case FileKind::single_save: {
      auto item = single_save_from(place.bytes);
      if (!item) break;
      place.kind = SavePlace::Kind::single;
      add_item(place, *item);
      return place;
    }
    case FileKind::memory_card: {
      const auto card = open_card(place.bytes);
      if (card) return name_an_entry(place, **card);
      break;
    }
    case FileKind::save_state: {
      Hints own = hints;
      if (!own.platform) own.platform = finding.platform;
      return open_state(catalog, maps, own, std::move(place));
    }
    case FileKind::battery_save:
    case FileKind::controller_pak: {
      OpenOptions options;
      options.hints = hints;
      options.said = finding.layout;
      options.display_path = place.display_path;
      IssueList issues;
      auto opened = open_chips(catalog, place.bytes, options, issues);
      if (!opened || opened->save.parts.empty()) break;
      place.kind = SavePlace::Kind::chips;
      for (const PlanIssue& issue : issues.all()) place.notes.push_back(issue.text);
      add_parts(opened->save, place.files);
      place.chips.push_back({place.path, place.bytes, opened->layout, opened->save});
      if (!place.game && hints.platform) {
        place.game.emplace();
        place.game->platform = *hints.platform;
      }
      return place;
    }
    default:
      break;
  }
  place.kind = SavePlace::Kind::plain;
  place.files.push_back({std::string(name_of(place.path)), place.bytes});
  return place;
}

}  // namespace

std::string_view to_text(SavePlace::Kind kind) {
  switch (kind) {
    case SavePlace::Kind::chips:
      return "battery save";
    case SavePlace::Kind::state:
      return "battery save in a save state";
    case SavePlace::Kind::card_entry:
      return "memory card entry";
    case SavePlace::Kind::single:
      return "single save";
    case SavePlace::Kind::package:
      return "package";
    case SavePlace::Kind::folder:
      return "folder";
    case SavePlace::Kind::plain:
      return "file";
  }
  return "";
}

Result<SavePlace> open_save_place(const Catalog& catalog, const StateMaps& maps, Store& store,
                                  const std::string& path, const Hints& hints) {
  SavePlace place;
  place.path = path;
  place.display_path = path;
  place.game = hints.game;
  BAYSWAP_TRY(const auto info, store.stat(path));
  if (!info) {
    const std::size_t colon = path.rfind(": ");
    if (colon != std::string::npos) {
      BAYSWAP_TRY(const auto image, store.stat(path.substr(0, colon)));
      if (image) return open_entry(store, path.substr(0, colon), path.substr(colon + 2), std::move(place));
    }
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", path), "check the path");
  }
  if (info->kind == FileInfo::Kind::folder) return open_tree(store, std::move(place));
  return open_file(catalog, maps, store, hints, std::move(place));
}

std::vector<SheetFile> sheet_files_of(const Content& content) {
  SavePlace place;
  switch (content.kind) {
    case Content::Kind::chips:
      add_parts(content.chips, place.files);
      break;
    case Content::Kind::tree:
      for (const TreeFile& file : content.tree) place.files.push_back({file.path, file.bytes});
      break;
    case Content::Kind::item:
      add_item(place, *content.item);
      break;
    case Content::Kind::encrypted:
      break;
  }
  return std::move(place.files);
}

std::string on_another_card(const SheetShelf& sheets, const CardSave& save) {
  Content content;
  content.kind = Content::Kind::item;
  content.item = save;
  const CardEntry entry = describe(save);
  const auto platform = platform_from_tag(to_text(save.kind));
  std::optional<GameId> game;
  if (platform) game = GameId{*platform, entry.code, entry.title, entry.region};
  const Sheet* sheet = sheets.best(game, sheet_files_of(content));
  if (sheet == nullptr || sheet->bound_to_card().empty()) return {};
  return fmt::format("{}: the game may refuse it on another card: {}", save.name, sheet->bound_to_card());
}

Result<SavePlace> open_save_place(BayView& view, const HeldSave& save, const Hints& hints) {
  SavePlace place;
  place.path = save.path;
  place.display_path = view.store().display_path(save.path);
  place.game = save.facts.game;
  place.game->platform = save.rule->platform;
  switch (save.kind) {
    case SaveKind::battery:
      break;
    case SaveKind::folder:
    case SaveKind::shared_folder:
    case SaveKind::package_files:
      return open_tree(view.store(), std::move(place));
    case SaveKind::card_entry:
      place.display_path += ": " + save.entry;
      return open_entry(view.store(), save.path, save.entry, std::move(place));
    case SaveKind::package: {
      BAYSWAP_TRY(place.bytes, view.store().read(save.path, max_container));
      return open_package(std::move(place));
    }
    case SaveKind::single: {
      BAYSWAP_TRY(place.bytes, view.store().read(save.path, max_container));
      BAYSWAP_TRY(const CardSave item, single_save_from(place.bytes));
      place.kind = SavePlace::Kind::single;
      add_item(place, item);
      return place;
    }
    case SaveKind::card:
      return fail(ErrorCode::damaged, fmt::format("{} is a card that can't be read", place.display_path),
                  "rescue it first", {Remedy::Kind::rescue_card, {place.display_path}});
    case SaveKind::state:
    case SaveKind::config: {
      BAYSWAP_TRY(place.bytes, view.store().read(save.path, max_container));
      place.kind = SavePlace::Kind::plain;
      place.files.push_back({std::string(name_of(save.path)), place.bytes});
      return place;
    }
    case SaveKind::encrypted:
      return fail(ErrorCode::unsupported,
                  fmt::format("{} is encrypted: only its console can read it", place.display_path), "");
  }
  place.kind = SavePlace::Kind::chips;
  for (const HeldFile& file : save.held) {
    BAYSWAP_TRY(const Blob bytes, view.store().read(file.path));
    OpenOptions options;
    options.said = file.layout;
    options.hints = hints;
    options.hints.platform = save.rule->platform;
    options.role = file.role;
    options.display_path = view.store().display_path(file.path);
    options.origin = view.bay().origin;
    IssueList issues;
    BAYSWAP_TRY(const OpenedChips opened, open_chips(view.catalog(), bytes, options, issues));
    for (const PlanIssue& issue : issues.all()) place.notes.push_back(issue.text);
    place.chips.push_back({file.path, bytes, opened.layout, opened.save});
  }
  Save all;
  for (const SavePlace::ChipFile& file : place.chips)
    for (const Part& part : file.save.parts)
      if (all.find(part.role) == nullptr) all.parts.push_back(part);
  add_parts(all, place.files);
  return place;
}

}  // namespace bayswap
