#include <bayswap/cart_store.hpp>

#include <algorithm>
#include <cstdlib>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/look_view.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

bool is_within(const std::string& path, const std::string& folder) {
  return path == folder || folder == "/" || path.starts_with(folder + "/");
}

// The bays of the home folder that a place is in, or that are in it.
std::vector<std::string> bays_at(const Globals& globals, const std::string& root) {
  std::vector<std::string> names;
  const auto home = home_of(globals);
  const auto bays = home ? list_bays(*home) : tl::unexpected(home.error());
  if (!bays) return names;
  for (const auto& [name, bay] : *bays)
    if (bay && is_on_disk(bay->root)) {
      const std::string own = normalized(AnyStore().absolute_path(bay->root));
      if (is_within(root, own) || is_within(own, root)) names.push_back(name);
    }
  return names;
}

std::string add_line(const std::string& name, const std::string& root) {
  return fmt::format("bayswap bay add {} {}", name, shell_word(root));
}

std::string name_from(const std::string& root) {
  std::string name;
  for (const char c : lower(name_of(root))) {
    const bool is_kept = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
    if (is_kept) name += c;
    if (!is_kept && !name.empty() && name.back() != '-') name += '-';
  }
  while (name.ends_with('-')) name.pop_back();
  return name.empty() ? "place" : name.substr(0, 40);
}

Result<int> look_at_folder(const Globals& globals, const Catalog& catalog, const std::string& folder,
                           const std::string& platform) {
  std::optional<Platform> unsettled_as;
  if (!platform.empty()) {
    BAYSWAP_TRY(unsettled_as, platform_named(platform));
  }
  Bay bay;
  bay.name = "place";
  bay.origin = folder;
  bay.root = AnyStore().absolute_path(folder);
  if (is_cart_path(folder))
    return fail(ErrorCode::bad_usage, "a cartridge is looked at by its own command",
                "use `bayswap cart look`");
  BAYSWAP_TRY(const auto store, open_place(bay));
  BAYSWAP_TRY(const Detection detection, look_at(globals, catalog, *store, unsettled_as));
  const std::vector<std::string> covered = bays_at(globals, normalized(bay.root));
  if (globals.json) {
    Json json = to_json(detection, bay.root);
    json["bays"] = covered;
    print_json(json);
    return exit_done;
  }
  print_detection(detection, folder);
  if (!covered.empty())
    say(globals.quiet,
        fmt::format("{} here: {}.", covered.size() == 1 ? "A bay is" : "Bays are", joined(covered, ", ")));
  else if (detection.rules.empty())
    say(globals.quiet,
        "No saves were found. If there are some, `bayswap inspect` says what each file is, and "
        "`bayswap bay add --like FORM` describes the place by hand.");
  else
    say(globals.quiet, fmt::format("`{}{}` makes a bay of it.", add_line(name_from(bay.root), bay.root),
                                   platform.empty() ? "" : " --platform " + platform));
  return exit_done;
}

// Where people keep things: the home folder, and the disks and sticks that are mounted.
std::vector<std::pair<std::string, bool>> places_to_search() {
  std::vector<std::pair<std::string, bool>> places;
  if (const char* const home = std::getenv("HOME"); home != nullptr && *home != '\0')
    places.emplace_back(home, false);
  LocalStore disk;
  const auto add_children = [&](const std::string& folder) {
    const auto entries = disk.list(folder);
    for (const FileInfo& entry : entries ? *entries : std::vector<FileInfo>{})
      if (entry.kind == FileInfo::Kind::folder && !entry.link)
        places.emplace_back(join_path(folder, entry.name), true);
  };
  const char* const user = std::getenv("USER");
  add_children("/mnt");
  const auto media = disk.list("/media");
  for (const FileInfo& entry : media ? *media : std::vector<FileInfo>{}) {
    if (entry.kind != FileInfo::Kind::folder || entry.link) continue;
    const std::string path = join_path("/media", entry.name);
    // Desktops mount below a folder of the user's name.
    if (user != nullptr && entry.name == user)
      add_children(path);
    else
      places.emplace_back(path, true);
  }
  if (user != nullptr) add_children(join_path("/run/media", user));
  return places;
}

Result<int> search(const Globals& globals, const Catalog& catalog) {
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  std::vector<std::string> unclear;  // may be saves, of no console that can be told
  bool is_incomplete = false;
  for (const auto& [folder, is_medium] : places_to_search()) {
    LocalStore store(folder);
    DetectOptions options = look_options(globals);
    const auto found = find_places_with_saves(catalog, store, is_medium, options);
    end_look(globals);
    if (!found) {
      say(globals.quiet, fmt::format("bayswap: note: {}", found.error().message));
      continue;
    }
    for (const DetectedPlace& place : *found) {
      const std::string root = place.root == "." ? folder : join_path(folder, place.root);
      const std::vector<std::string> covered = bays_at(globals, normalized(root));
      is_incomplete = is_incomplete || place.detection.incomplete;
      Json json = to_json(place.detection, root);
      json["name"] = place.suggested_name;
      json["bays"] = covered;
      json["add"] = covered.empty() ? Json(add_line(place.suggested_name, root)) : Json(nullptr);
      list.push_back(std::move(json));
      if (place.detection.saves() == 0)
        unclear.push_back(root);
      else
        rows.push_back(
            {root, std::to_string(place.detection.saves()), platforms_in(place.detection),
             covered.empty() ? add_line(place.suggested_name, root) : "bay " + joined(covered, ", ")});
    }
  }
  if (globals.json) {
    print_json({{"places", std::move(list)}});
    return exit_done;
  }
  if (rows.empty() && unclear.empty()) {
    say(false,
        "No place with saves was found in your home folder or on a mounted disk. `bayswap bay look DIR` "
        "looks "
        "at one folder more closely.");
    return exit_done;
  }
  if (!rows.empty()) print_table({"place", "saves", "platforms", "what adds it"}, rows, {1});
  for (const std::string& root : unclear)
    fmt::print("{}: may be saves, but of which console is not clear\n", printable(root));
  say(globals.quiet, "`bayswap bay look DIR` shows what was found in one of them, and why.");
  if (is_incomplete)
    say(globals.quiet, "bayswap: note: some places hold more than one look takes; look at them alone");
  return exit_done;
}

}  // namespace

int bay_look_command(const Globals& globals, const std::string& folder, const std::string& platform) {
  const auto catalog = catalog_of(globals);
  if (!catalog) return report(catalog.error());
  if (folder.empty() && !platform.empty())
    return report({ErrorCode::bad_usage, "--platform is for the look at one folder",
                   "name it: bayswap bay look DIR --platform " + platform});
  const auto code =
      folder.empty() ? search(globals, *catalog) : look_at_folder(globals, *catalog, folder, platform);
  return exit_code_of(code);
}

}  // namespace bayswap::cli
