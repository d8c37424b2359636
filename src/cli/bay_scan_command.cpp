#include <bayswap/bay_saves.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

constexpr double alike_enough = 0.6;

// A save whose name says nothing: which one of the other bays is it most like?
void find_resemblances(const Home& home, const Catalog& catalog, const Bay& bay, Store& store, const TitleBook& titles,
                       std::vector<BaySave>& saves) {
  const auto is_nameless = [](const BaySave& save) {
    return save.label.empty() && save.facts.game.title.empty() && save.kind == "folder";
  };
  if (std::ranges::none_of(saves, is_nameless)) return;
  const auto bays = list_bays(home);
  if (!bays) return;
  struct Known {
    std::string name;
    std::vector<TreeFile> files;
    Platform platform;
  };
  std::vector<Known> known;
  for (const auto& [name, other] : *bays) {
    if (!other || other->origin == bay.origin) continue;
    LocalStore there(other->root);
    ScanWish wish;
    wish.titles = &titles;
    const auto found = scan_bay(catalog, *other, there, wish);
    if (!found) continue;
    for (const BaySave& save : *found) {
      if (save.label.empty() || save.kind != "folder") continue;
      if (auto files = read_tree(there, save.path))
        known.push_back({fmt::format("{} ({})", save.label, name), *std::move(files), save.rule->platform});
    }
  }
  for (BaySave& save : saves) {
    if (!is_nameless(save)) continue;
    const auto files = read_tree(store, save.path);
    double best = alike_enough;
    for (const Known& one : known) {
      if (!files || one.platform != save.rule->platform) continue;
      const Likeness how = likeness(*files, one.files);
      if (how.score < best) continue;
      best = how.score;
      save.resembles = one.name;
    }
  }
}

bool has_slots(const PlatformRule& rule) {
  return rule.path.uses("slot") || rule.path.uses("slot.8") || rule.path.uses("slot.letter");
}

Json to_json(const BaySave& save) {
  return {{"platform", tag(save.rule->platform)},
          {"game", cli::to_json(save.facts.game)},
          {"label", save.label},
          {"kind", save.kind},
          {"place", save.place},
          {"slot", has_slots(*save.rule) ? Json(save.facts.slot) : Json(nullptr)},
          {"account", save.facts.account},
          {"path", save.path},
          {"entry", save.entry},
          {"name", save.name()},
          {"files", save.files},
          {"size_bytes", save.size_bytes},
          {"modified", save.modified ? Json(utc_time(*save.modified)) : Json(nullptr)},
          {"health", save.health},
          {"health_note", save.health_note},
          {"thumbnail", save.thumbnail},
          {"resembles", save.resembles}};
}

std::vector<std::string> row_of(const BaySave& save) {
  const GameId& game = save.facts.game;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  std::string label = save.label;
  if (!save.place.empty()) label += fmt::format(" [{}]", save.place);
  if (!save.resembles.empty()) label = fmt::format("like {}", save.resembles);
  return {std::string(tag(save.rule->platform)),
          printable(label),
          printable(id),
          game.region == Region::unknown ? "" : std::string(name(game.region)),
          save.facts.account,
          has_slots(*save.rule) && save.place.empty() ? std::to_string(save.facts.slot) : "",
          std::to_string(save.size_bytes),
          save.modified ? local_time(*save.modified) : "",
          save.health,
          printable(save.rule->keeping == Keeping::card ? fmt::format("{}: {}", save.path, save.entry) : save.path)};
}

}  // namespace

int bay_scan_command(const Globals& globals, const std::string& name) {
  const auto home = home_of(globals);
  if (!home) return report(home.error());
  const auto bay = find_bay(*home, name);
  if (!bay) return report(bay.error());
  const auto catalog = load_catalog(*home);
  if (!catalog) return report(catalog.error());
  const auto titles = TitleBook::load(*home);
  if (!titles) return report(titles.error());
  LocalStore store(bay->root);
  const auto root = store.list(".");
  if (!root) return report(root.error());
  LocalStore disk;
  const std::string memory_path = join_path(home->data, fmt::format("../scans/{}.scan", bay->name));
  ScanMemory memory = ScanMemory::load(disk, tidied(memory_path));
  ScanWish wish;
  wish.titles = &*titles;
  wish.memory = &memory;
  std::vector<std::pair<std::string, Error>> unread;
  wish.on_error = [&](const std::string& path, const Error& error) { unread.emplace_back(path, error); };
  auto saves = scan_bay(*catalog, *bay, store, wish);
  if (!saves) return report(saves.error());
  find_resemblances(*home, *catalog, *bay, store, *titles, *saves);
  // A home folder that can't be written only makes the next scan slower.
  if (memory.changed()) (void)memory.save(disk, tidied(memory_path));
  const std::vector<std::string> accounts = accounts_of(*saves);
  if (globals.json) {
    Json list = Json::array();
    for (const BaySave& save : *saves) list.push_back(to_json(save));
    Json errors = Json::array();
    for (const auto& [path, error] : unread) errors.push_back(cli::to_json(error));
    print_json({{"bay", bay->name},
                {"root", bay->root},
                {"accounts", accounts},
                {"saves", std::move(list)},
                {"unreadable", std::move(errors)}});
  } else if (saves->empty()) {
    fmt::print("No save was found in {}. `bayswap bay show {}` says where it looks.\n", bay->root, bay->name);
  } else {
    std::vector<std::vector<std::string>> rows;
    rows.reserve(saves->size());
    for (const BaySave& save : *saves) rows.push_back(row_of(save));
    print_table({"for", "save", "id", "region", "account", "slot", "bytes", "changed", "health", "on disk"}, rows, {5, 6});
    if (!accounts.empty()) fmt::print("\nAccounts here: {}\n", fmt::join(accounts, ", "));
  }
  for (const auto& [path, error] : unread)
    say(globals.quiet, fmt::format("bayswap: passed over: {}", error.message));
  return exit_done;
}

}  // namespace bayswap::cli
