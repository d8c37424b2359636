#include <bayswap/bay_view.hpp>
#include <bayswap/cart_store.hpp>
#include <bayswap/remote_store.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/bay_files.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/look_view.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

std::string platforms_of(const Bay& bay) {
  std::vector<std::string> tags;
  for (const PlatformRule& rule : bay.rules) tags.emplace_back(tag(rule.platform));
  return joined(tags, ", ");
}

// A template, with what the options say otherwise.
Result<Bay> bay_from_template(const BayAddOptions& options) {
  if (options.root.empty())
    return fail(ErrorCode::bad_usage, "--root is missing",
                "pass the folder that contains everything: --root DIR");
  BAYSWAP_TRY(Bay bay, bay_like(options.like, options.name, AnyStore().absolute_path(options.root)));
  if (!options.about.empty()) bay.about = options.about;
  if (!options.platform.empty()) {
    BAYSWAP_TRY(const Platform platform, platform_named(options.platform));
    const PlatformRule* rule = bay.rule(platform);
    if (rule == nullptr)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} has no rule for {}", options.like, printable(options.platform)),
                  fmt::format("it is for {}", platforms_of(bay)));
    const PlatformRule only = *rule;
    bay.rules.assign(1, only);
  }
  for (PlatformRule& rule : bay.rules) {
    if (!options.roms.empty()) rule.roms = options.roms;
    if (!options.layout.empty() && bay.rules.size() == 1) {
      rule.layout = options.layout;
      rule.other_layouts.clear();
    }
    if (options.path.empty()) continue;
    // Of card images only each platform's own.
    if (bay.rules.size() > 1 && rule.keeping != Keeping::file && rule.keeping != bay.rules.front().keeping)
      continue;
    BAYSWAP_TRY(rule.path, NameRule::parse(options.path));
  }
  return bay;
}

// A place that is looked at; what is open is asked, where there is somebody to ask.
Result<Bay> bay_from_look(const Globals& globals, const Catalog& catalog, const BayAddOptions& options) {
  std::optional<Platform> unsettled_as;
  if (!options.platform.empty()) {
    BAYSWAP_TRY(unsettled_as, platform_named(options.platform));
  }
  Bay bay;
  bay.name = bay.origin = options.name;
  bay.root = AnyStore().absolute_path(options.root);
  BAYSWAP_TRY(const auto store, open_place(bay));
  BAYSWAP_TRY(Detection detection, look_at(globals, catalog, *store, unsettled_as));
  if (!globals.json && !globals.quiet) print_detection(detection, options.root);
  Bay found = bay_of(detection, options.name, bay.root);
  for (const UnsettledFiles& files : detection.unsettled) {
    std::vector<std::string> tags;
    for (const PlatformRule& rule : files.choices) tags.emplace_back(tag(rule.platform));
    if (tags.empty()) continue;
    const auto chosen =
        choose(globals, fmt::format("Which console are {} of?", joined(files.paths, ", ")), tags);
    for (const PlatformRule& rule : files.choices)
      if (chosen && *chosen == tag(rule.platform)) found.rules.push_back(rule);
  }
  if (found.rules.empty())
    return fail(ErrorCode::not_recognised,
                fmt::format("{}: found no saves or ROMs that show its rules; no bay was added", options.root),
                detection.unsettled.empty() ? "save once in a game there and try again, or name the form it "
                                              "has: `bayswap bay list --forms`, "
                                              "then --like FORM"
                                            : "pass the saves' console: --platform TAG");
  found.about = options.about.empty() ? "found by looking" : options.about;
  return found;
}

Result<Bay> bay_from_words(const Globals& globals, const Catalog& catalog, BayAddOptions options) {
  if (!options.folder.empty() && !options.root.empty())
    return fail(ErrorCode::bad_usage, "the folder is said twice", "leave --root out");
  if (options.root.empty()) options.root = options.folder;
  if (options.like.empty() && is_cart_path(options.root)) options.like = "cartridge";
  if (!options.like.empty()) return bay_from_template(options);
  if (options.path.empty() && options.layout.empty() && options.roms.empty()) {
    if (options.root.empty())
      return fail(ErrorCode::bad_usage, "which folder?",
                  "name it: bayswap bay add NAME DIR; `bayswap bay look` finds some");
    return bay_from_look(globals, catalog, options);
  }
  for (const auto& [word, value] : {std::pair{"--root", &options.root},
                                    {"--platform", &options.platform},
                                    {"--path", &options.path},
                                    {"--layout", &options.layout}})
    if (value->empty())
      return fail(ErrorCode::bad_usage, fmt::format("{} is missing", word),
                  "e.g. bayswap bay add tv --like stem-folder --root /media/tv; or with --root, --platform, "
                  "--path, --layout "
                  "and --roms; `bayswap bay list --forms` shows what --like knows");
  BAYSWAP_TRY(const Platform platform, platform_named(options.platform));
  BAYSWAP_TRY(NameRule rule, NameRule::parse(options.path));
  Bay bay;
  bay.name = options.name;
  bay.about = options.about;
  bay.root = AnyStore().absolute_path(options.root);
  PlatformRule made;
  made.platform = platform;
  made.path = std::move(rule);
  made.layout = options.layout;
  made.roms = options.roms;
  bay.rules.push_back(std::move(made));
  return bay;
}

struct Added {
  std::string path;
  std::string kept;  // where the one before it is; empty: there was none
  Bay bay;
  bool root_is_missing = false;
};

tl::unexpected<Error> already_there(const std::string& name, const std::string& path) {
  return fail(
      ErrorCode::unsafe, fmt::format("there is a bay called {} already ({})", name, path),
      "`bayswap bay edit` changes it; or choose another name, or pass --replace, which keeps the old file");
}

Result<Added> add(const Globals& globals, const BayAddOptions& options) {
  const bool is_file = options.name.ends_with(".toml") || options.name.find('/') != std::string::npos;
  BAYSWAP_TRY(const Home home, home_of(globals));
  if (!is_file && !is_bay_name(options.name))
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a name for a bay", printable(options.name)),
                "use lower-case letters, digits and dashes");
  LocalStore disk;
  if (!is_file && !options.replace) {
    const std::string known = join_path(home.bays, options.name + ".toml");
    BAYSWAP_TRY(const auto there, disk.stat(known));
    if (there) return already_there(options.name, known);
  }
  BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
  BAYSWAP_TRY(Bay bay, is_file ? find_bay(home, options.name) : bay_from_words(globals, catalog, options));
  bay.root = AnyStore().absolute_path(bay.root);
  const std::string path = join_path(home.bays, bay.name + ".toml");
  const std::string text = to_toml(bay);
  BAYSWAP_CHECK(parse_bay(text, bay.name, path, home.bays));  // what is written can be read
  for (const PlatformRule& rule : bay.rules)
    if (rule.keeping == Keeping::file) BAYSWAP_CHECK(catalog.find(rule.layout));
  Added added{path, "", bay};
  BAYSWAP_TRY(const auto known, disk.stat(path));
  if (known && options.replace) {
    BAYSWAP_TRY(added.kept, keep_old_bay_file(home, path));
  }
  if (!is_file && is_on_disk(bay.root)) {
    BAYSWAP_TRY(const auto root, disk.stat(bay.root));
    added.root_is_missing = !root;
  }
  make_bays_folder(home);
  const ByteView bytes(reinterpret_cast<const Byte*>(text.data()), text.size());
  auto written = options.replace ? disk.replace(path, bytes) : disk.create(path, bytes);
  if (!written && written.error().code == ErrorCode::unsafe) return already_there(bay.name, path);
  BAYSWAP_CHECK(written);
  return added;
}

Json bay_json(const Bay& bay) {
  Json rules = Json::array();
  for (const PlatformRule& rule : bay.rules)
    rules.push_back({{"platform", tag(rule.platform)},
                     {"path", rule.path.text()},
                     {"keeps", to_text(rule.keeping)},
                     {"layout", rule.layout},
                     {"roms", rule.roms}});
  return {{"name", bay.name},
          {"about", bay.about},
          {"root", bay.root},
          {"file", bay.origin},
          {"platforms", std::move(rules)}};
}

// What the ROM is called where its header has no title.
std::string called(const RomFile& rom) {
  return rom.facts.game.title.empty() ? std::string(stem_of(rom.path)) : in_words(rom.facts.game);
}

// One row a ROM: where its save is or would be, one that lies there under another name among it.
void add_saves(BayView& view, const PlatformRule& rule, Json& list,
               std::vector<std::vector<std::string>>& rows) {
  const auto roms = view.roms(rule);
  const auto saves = view.saves();
  if (!roms || !saves || rule.keeping != Keeping::file) return;
  for (const RomFile& rom : **roms) {
    const auto files = places(view.catalog(), rule, {rom.path, rom.facts.game, 1, {}});
    std::string path = files ? files->front().path : "";
    std::string state = files ? "no save yet" : files.error().message;
    std::string misplaced;
    std::uint64_t size = 0;
    const HeldSave* own = nullptr;
    for (const HeldSave& save : **saves)
      if (save.rule->platform == rule.platform && save.has_rom && save.facts.rom_path == rom.path &&
          (own == nullptr || save.misplaced.empty()))
        own = &save;
    if (own != nullptr) {
      path = own->path;
      size = own->size_bytes;
      misplaced = own->misplaced;
      state = fmt::format("saved {}{}", local_time(own->modified.value_or(0)),
                          misplaced.empty() ? "" : ", misplaced: " + misplaced);
    }
    list.push_back({{"rom", rom.path},
                    {"game", to_json(rom.facts.game)},
                    {"save", path},
                    {"size_bytes", size},
                    {"misplaced", misplaced},
                    {"exists", own != nullptr}});
    rows.push_back({called(rom), rom.path, path, own != nullptr ? std::to_string(size) : "", state});
  }
}

}  // namespace

int bay_add_command(const Globals& globals, const BayAddOptions& options) {
  const auto added = add(globals, options);
  if (!added) return report(added.error());
  if (globals.json) {
    Json json = bay_json(added->bay);
    json["file"] = added->path;
    json["kept"] = added->kept.empty() ? Json(nullptr) : Json(added->kept);
    print_json(json);
    return exit_done;
  }
  const std::string_view name = stem_of(added->path);
  say(globals.quiet,
      fmt::format("Wrote {}.{} `bayswap list {}` shows its saves.", added->path,
                  added->kept.empty() ? "" : fmt::format(" The old one is kept as {}.", added->kept), name));
  if (added->root_is_missing)
    say(globals.quiet,
        fmt::format("bayswap: note: {} does not exist; plug the medium in, or correct root in the file",
                    added->bay.root));
  return exit_done;
}

int bay_forms_command(const Globals& globals) {
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  for (const auto& [id, about] : bay_templates()) {
    list.push_back({{"id", id}, {"about", about}});
    rows.push_back({id, about});
  }
  if (globals.json) {
    print_json(list);
  } else {
    print_table({"form", "what it is"}, rows);
  }
  return exit_done;
}

int bay_list_command(const Globals& globals) {
  const auto home = home_of(globals);
  if (!home) return report(home.error());
  const auto bays = list_bays(*home);
  if (!bays) return report(bays.error());
  Json list = Json::array();
  std::vector<std::vector<std::string>> rows;
  AnyStore files;
  int worst = exit_done;
  for (const auto& [name, bay] : *bays) {
    if (!bay) {
      worst = exit_problems;
      rows.push_back({name, "", "can't be read", bay.error().message});
      list.push_back({{"name", name}, {"error", to_json(bay.error())}});
      continue;
    }
    const bool is_remote = !is_local_url(bay->root);  // may be long in answering: not asked
    const auto root = is_remote ? Result<std::optional<FileInfo>>() : files.stat(bay->root);
    const bool there = root && *root && (*root)->kind == FileInfo::Kind::folder;
    rows.push_back({name, platforms_of(*bay),
                    is_remote ? "on a server"
                    : there   ? "there"
                              : "not there",
                    is_remote ? bay->root : AnyStore().absolute_path(bay->root)});
    Json row = bay_json(*bay);
    row["there"] = is_remote ? Json(nullptr) : Json(there);
    list.push_back(std::move(row));
  }
  if (globals.json) {
    print_json(list);
  } else if (rows.empty()) {
    fmt::print(
        "No bays yet. `bayswap bay look` finds places with saves, `bayswap bay add NAME DIR` makes a bay of "
        "one.\n");
  } else {
    print_table({"bay", "platforms", "state", "folder"}, rows);
  }
  return worst;
}

int bay_show_command(const Globals& globals, const std::string& name) {
  const auto home = home_of(globals);
  if (!home) return report(home.error());
  const auto books = Books::load(globals);
  if (!books) return report(books.error());
  bool is_place = false;
  const auto bay = bay_or_place(**books, name, is_place);
  if (!bay) return report(bay.error());
  const auto store = open_place(*bay);
  const Result<void> there = store ? Result<void>{} : tl::unexpected(store.error());
  if (!there && globals.json) return report(there.error());
  Json saves = Json::array();
  std::vector<std::vector<std::string>> rows;
  if (there) {
    BayView view((*books)->catalog, *bay, **store, (*books)->view_options());
    for (const PlatformRule& rule : bay->rules) add_saves(view, rule, saves, rows);
  }
  if (globals.json) {
    Json json = bay_json(*bay);
    json["saves"] = std::move(saves);
    print_json(json);
    return exit_done;
  }
  fmt::print("{}\n", toned(Tone::bold, bay->name));
  if (!bay->about.empty()) print_field("about", bay->about);
  print_field("root", AnyStore().absolute_path(bay->root));
  print_field("file", bay->origin);
  for (const PlatformRule& rule : bay->rules)
    print_field(tag(rule.platform),
                fmt::format("{} as {}{}", rule.path.text(),
                            rule.keeping == Keeping::file ? rule.layout : std::string(to_text(rule.keeping)),
                            rule.roms.empty() ? "" : ", ROMs in " + rule.roms));
  if (!there) return report(there.error());
  const bool plain =
      std::ranges::any_of(bay->rules, [](const PlatformRule& rule) { return rule.keeping == Keeping::file; });
  if (!plain || rows.empty()) {
    fmt::print("{}`bayswap list {}` shows the saves.\n", plain ? "No ROM was found here. " : "", bay->name);
  } else {
    fmt::print("\n");
    print_table({"game", "ROM", "save", "bytes", "state"}, rows, {3});
  }
  return exit_done;
}

int bay_check_command(const Globals& globals, const std::vector<std::string>& names) {
  const auto home = home_of(globals);
  if (!home) return report(home.error());
  const auto books = Books::load(globals);
  if (!books) return report(books.error());
  std::vector<std::pair<std::string, Result<Bay>>> bays;
  if (names.empty()) {
    auto all = list_bays(*home);
    if (!all) return report(all.error());
    bays = *std::move(all);
  }
  for (const std::string& name : names) {
    bool is_place = false;
    auto bay = bay_or_place(**books, name, is_place);
    if (!bay && names.size() == 1) return report(bay.error());
    bays.emplace_back(name, std::move(bay));
  }
  Json list = Json::array();
  bool errors = false;
  for (const auto& [name, bay] : bays) {
    std::vector<BayProblem> problems;
    if (bay) {
      const auto store = open_place(*bay);
      if (store)
        problems = check_bay(*bay, (*books)->catalog, **store);
      else
        problems.push_back({true, store.error().message, store.error().hint});
    } else {
      problems.push_back({true, bay.error().message, bay.error().hint});
    }
    Json found = Json::array();
    if (!globals.json)
      fmt::print(
          "{}: {}\n", toned(Tone::bold, name),
          problems.empty() ? toned(Tone::good, "good") : fmt::format("{} to look at", problems.size()));
    for (const BayProblem& problem : problems) {
      errors = errors || problem.is_error;
      found.push_back({{"is_error", problem.is_error}, {"text", problem.text}, {"remedy", problem.hint}});
      if (!globals.json)
        print_field(problem.is_error ? "wrong" : "note",
                    problem.text + (problem.hint.empty() ? "" : "; " + problem.hint));
    }
    list.push_back({{"name", name}, {"problems", std::move(found)}});
  }
  if (globals.json) print_json(list);
  if (bays.empty() && !globals.json)
    fmt::print(
        "No bays yet. `bayswap bay look` finds places with saves, `bayswap bay add NAME DIR` makes a bay of "
        "one.\n");
  return errors ? exit_problems : exit_done;
}

}  // namespace bayswap::cli
