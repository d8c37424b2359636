#include "session/books.hpp"

#include <bayswap/cart_store.hpp>
#include <bayswap/save_place.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {

Result<void> KnownBooks::read(const Home& from, const std::function<void(const Error&)>& left_out) {
  home = from;
  std::vector<Error> skipped;
  BAYSWAP_TRY(catalog, load_catalog(home, &skipped));
  if (left_out)
    for (const Error& error : skipped) left_out(error);
  BAYSWAP_TRY(titles, TitleBook::load(home));
  BAYSWAP_TRY(accounts, AccountBook::load(home));
  BAYSWAP_TRY(chips, ChipBook::load(home));
  BAYSWAP_TRY(pairs, PairBook::load(home));
  return {};
}

ViewOptions KnownBooks::view_options() const {
  ViewOptions options;
  options.titles = &titles;
  options.pairs = &pairs;
  return options;
}

namespace {

// A path that is there, and no bay file.
bool names_a_place(const std::string& name) {
  if (!is_on_disk(name)) return true;
  if (name.ends_with(".toml")) return false;
  const auto info = LocalStore().stat(name);
  return info && *info;
}

// The only bay whose root the folder is.
std::optional<Bay> bay_with_root(const Home& home, const std::string& folder) {
  const auto bays = list_bays(home);
  std::optional<Bay> only;
  if (!bays) return only;
  const std::string root = normalized(LocalStore().absolute_path(folder));
  for (const auto& [name, bay] : *bays) {
    if (!bay || !is_on_disk(bay->root) || normalized(LocalStore().absolute_path(bay->root)) != root) continue;
    if (only) return std::nullopt;
    only = *bay;
  }
  return only;
}

// A bay, or a place by its folder; a bay file of no name is gone with its path.
bool lasts(const std::string& bay) {
  return is_bay_name(bay) || bay.starts_with('/');
}

}  // namespace

Result<Bay> bay_or_place(const KnownBooks& books, const std::string& name, bool& is_place,
                         const DetectOptions& options) {
  is_place = false;
  auto bay = find_bay(books.home, name);
  // A bay whose file has a mistake is that bay still, and not the folder that is called like it.
  if (bay || !names_a_place(name) || has_bay_file(books.home, name)) return bay;
  if (auto known = bay_with_root(books.home, name)) return *std::move(known);
  bay = bay_for_path(books.catalog, name, options);
  is_place = bay.has_value();
  return bay;
}

CarryRequest request_of(const KnownBooks& books, Logbook* logbook) {
  CarryRequest request;
  request.titles = &books.titles;
  request.book = &books.chips;
  request.pairs = &books.pairs;
  // The sheets are read by the first save of a card.
  request.on_another_card = [home = books.home,
                             shelf = std::make_shared<std::optional<SheetShelf>>()](const CardSave& save) {
    if (!*shelf) (void)load_sheets(home, shelf->emplace());
    return on_another_card(**shelf, save);
  };
  if (logbook == nullptr) return request;
  // Read once, by the first save that takes another's place.
  using Writes = std::map<std::string, std::vector<FileWrite>>;
  request.writes_of = [logbook, known = std::make_shared<std::optional<Writes>>()](
                          const std::string& path) -> std::span<const FileWrite> {
    if (!*known) *known = logbook->writes().value_or(Writes{});
    const auto found = (*known)->find(path);
    return found == (*known)->end() ? std::span<const FileWrite>{}
                                    : std::span<const FileWrite>(found->second);
  };
  return request;
}

std::vector<std::string> bay_roots(const Home& home) {
  std::vector<std::string> roots;
  const auto bays = list_bays(home);
  if (!bays) return roots;
  for (const auto& [name, bay] : *bays)
    if (bay) roots.push_back(is_cart_path(bay->root) ? bay->root : AnyStore().absolute_path(bay->root));
  return roots;
}

Result<Taught> keep_lessons(KnownBooks& books, std::span<const Plan* const> plans) {
  Taught taught;
  // Others may have learned since the books were read.
  const bool has_chips =
      std::ranges::any_of(plans, [](const Plan* plan) { return plan->game && !plan->learned.empty(); });
  if (has_chips) {
    BAYSWAP_TRY(books.chips, ChipBook::load(books.home));
  }
  for (const Plan* plan : plans) {
    bool is_news = false;
    if (plan->game)
      for (const ChipFact& chip : plan->learned) is_news = books.chips.learn(*plan->game, chip) || is_news;
    if (is_news) taught.games.push_back(*plan->game);
    for (const RomPair& pair : plan->pairs)
      if (lasts(pair.bay) && lasts(pair.rom_bay))
        taught.has_pair = books.pairs.learn(pair) || taught.has_pair;
  }
  if (!taught.games.empty()) BAYSWAP_CHECK(books.chips.save(books.home));
  if (taught.has_pair) BAYSWAP_CHECK(books.pairs.save(books.home));
  return taught;
}

}  // namespace bayswap
