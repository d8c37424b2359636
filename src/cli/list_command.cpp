#include <bayswap/bay_view.hpp>
#include <bayswap/cart_store.hpp>

#include <algorithm>
#include <utility>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/tracing_store.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/last_answer.hpp"
#include "cli/output.hpp"
#include "cli/progress_store.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

// Looks at the other bays only if something here is nameless. Notes what it looked at.
void compare_with_others(const Books& books, BayView& view, std::vector<HeldSave>& saves,
                         std::vector<Watched>& watched) {
  if (std::ranges::none_of(saves, is_nameless)) return;
  const auto bays = list_bays(books.home);
  if (!bays) return;
  struct Other {
    std::unique_ptr<Store> store;
    std::unique_ptr<TracingStore> traced;
    std::unique_ptr<BayView> view;
  };
  std::vector<Other> others;
  std::vector<BayView*> views;
  for (const auto& [name, bay] : *bays) {
    if (!bay || bay->origin == view.bay().origin) continue;
    Other other;
    if (!is_on_disk(bay->root)) continue;
    other.store = std::make_unique<LocalStore>(bay->root);
    other.traced = std::make_unique<TracingStore>(*other.store);
    other.view = std::make_unique<BayView>(books.catalog, *bay, *other.traced, books.view_options());
    views.push_back(other.view.get());
    others.push_back(std::move(other));
  }
  find_resemblances(view, saves, views);
  for (const Other& other : others) watched.push_back({other.view->bay().root, other.traced->trace()});
}

bool has_slots(const PlatformRule& rule) {
  return rule.path.uses_slot();
}

std::vector<std::string> row_of(const HeldSave& save) {
  const GameId& game = save.facts.game;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  std::string label = save.label;
  if (!save.place.empty()) label += fmt::format("{}[{}]", label.empty() ? "" : " ", save.place);
  if (!save.resembles.empty()) label = fmt::format("like {}", save.resembles);
  return {std::string(tag(save.rule->platform)),
          printable(label),
          printable(id),
          game.region == Region::unknown ? "" : std::string(name(game.region)),
          has_slots(*save.rule) && save.place.empty() ? std::to_string(save.facts.slot) : "",
          std::to_string(save.size_bytes),
          save.modified ? local_time(*save.modified) : "",
          save.misplaced.empty() ? std::string(to_text(save.health)) : "misplaced",
          printable(save.rule->keeping == Keeping::card ? fmt::format("{}: {}", save.path, save.entry)
                                                        : save.path)};
}

std::string as_table(const std::vector<HeldSave>& saves, const Bay& bay) {
  if (saves.empty())
    return fmt::format("No save was found in {}. `bayswap bay show {}` says where it looks.\n", bay.root,
                       bay.name);
  std::vector<std::vector<std::string>> rows;
  rows.reserve(saves.size());
  for (const HeldSave& save : saves) rows.push_back(row_of(save));
  std::string text =
      table_text({"platform", "save", "id", "region", "slot", "bytes", "changed", "health", "on the disk"},
                 rows, {4, 5});
  const std::vector<std::string> accounts = accounts_of(saves);
  if (!accounts.empty()) text += fmt::format("\nAccounts here: {}\n", joined(accounts, ", "));
  return text;
}

std::string as_json(const std::vector<HeldSave>& saves, const Bay& bay, const std::vector<Error>& unread) {
  Json list = Json::array();
  for (const HeldSave& save : saves) list.push_back(to_json(save));
  Json errors = Json::array();
  for (const Error& error : unread) errors.push_back(to_json(error));
  return json_text({{"bay", bay.name},
                    {"root", bay.root},
                    {"accounts", accounts_of(saves)},
                    {"saves", std::move(list)},
                    {"unreadable", std::move(errors)}});
}

Result<int> scan(const Globals& globals, const std::string& name) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  auto named = find_bay(home, name);
  std::optional<LastAnswer> last;
  if (named) {
    BAYSWAP_TRY(const TitleBook titles, TitleBook::load(home));
    BAYSWAP_TRY(const PairBook pairs, PairBook::load(home));
    last.emplace(globals, home, *named, "scan", titles.to_toml() + pairs.to_toml());
  }
  if (const auto text = last ? last->still_right() : std::nullopt) {
    print_document(*text);
    return exit_done;
  }
  BAYSWAP_TRY(const auto books, Books::load(globals));
  bool is_place = false;
  if (!named) named = bay_or_place(*books, name, is_place);
  if (!named) return tl::unexpected(std::move(named.error()));
  const Bay& bay = *named;
  BAYSWAP_TRY(const auto place, open_place(bay));
  ProgressStore reading(*place, globals, "Reading file");
  TracingStore store(reading);
  BAYSWAP_CHECK(store.list("."));
  LocalStore disk;
  const std::string memory_path =
      normalized(join_path(home.data, fmt::format("../scans/{}.scan", is_place ? "place" : bay.name)));
  ScanMemory memory = ScanMemory::load(disk, memory_path);
  std::vector<Error> unread;
  ViewOptions options = books->view_options();
  if (!is_place) options.memory = &memory;
  options.on_error = [&](const std::string& /*path*/, const Error& error) { unread.push_back(error); };
  BayView view(books->catalog, bay, store, options);
  BAYSWAP_TRY(const auto found, view.saves());
  std::vector<HeldSave> saves = *found;
  std::vector<Watched> watched;
  compare_with_others(*books, view, saves, watched);
  reading.end();
  if (!is_place && memory.changed()) (void)memory.save(disk, memory_path);
  const std::string text = globals.json ? as_json(saves, bay, unread) : as_table(saves, bay);
  print_document(text);
  for (const Error& error : unread)
    say(globals.quiet, fmt::format("bayswap: passed over: {}", error.message));
  watched.push_back({bay.root, store.trace()});
  const bool is_damaged =
      std::ranges::any_of(saves, [](const HeldSave& save) { return save.health == Health::damaged; });
  if (is_damaged)
    say(globals.quiet,
        "What is damaged: `bayswap card check IMAGE` names it on a card, `bayswap inspect FILE` elsewhere.");
  if (last && unread.empty() && !is_damaged) last->keep(text, watched);
  return is_damaged || !unread.empty() ? exit_problems : exit_done;
}

}  // namespace

int list_command(const Globals& globals, const std::string& name) {
  return exit_code_of(scan(globals, name));
}

}  // namespace bayswap::cli
