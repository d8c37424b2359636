// Places as players have them, made at random, and found out by looking: of each, every save is found and
// nothing else is taken for one; and a save that is carried from one to another lands where its game looks
// for it.
#include <bayswap/carry.hpp>
#include <bayswap/detect.hpp>

#include <map>
#include <set>

#include "support/random_places.hpp"

namespace bayswap::test {
namespace {

Bay detected(const Catalog& catalog, Store& store, const std::string& name) {
  const auto found = detect_place(catalog, store);
  RC_ASSERT(found.has_value());
  return bay_of(*found, name, "/" + name);
}

#ifdef BAYSWAP_SANITIZED
constexpr int examples = 30;
#else
constexpr int examples = 100;
#endif

TEST(RandomPlaces, EverySaveIsFoundAndNothingElse) {
  const Catalog catalog;
  expect_property_of(examples, "what was put there is what is found", [&] {
    const std::vector<Game> games = some_games();
    Place place(games);
    for (std::size_t i = 0; i < games.size(); ++i)
      if (i == 0 || die(4) > 0) {
        place.keep(games[i], static_cast<std::uint32_t>(i));
        place.litter(games[i]);
      }
    const auto store = place.store();
    const auto found = detect_place(catalog, *store);
    RC_ASSERT(found.has_value());
    std::map<std::string, std::string> saves;
    std::string said;
    for (const DetectedRule& rule : found->rules) {
      said +=
          std::string(tag(rule.rule.platform)) + " " + rule.rule.path.text() + " " + rule.rule.layout + "\n";
      for (const DetectedSave& one : rule.saves) saves[one.path] = tag(one.platform);
    }
    for (const UnsettledFiles& files : found->unsettled)
      said += "? " + files.paths.front() + " " + files.reason + "\n";
    if (saves != place.saves || !found->unsettled.empty()) RC_FAIL(place.text() + said);
  });
}

TEST(RandomPlaces, ACarriedSaveLandsWhereItsGameLooks) {
  const Catalog catalog;
  expect_property_of(examples, "one player's saves, at another player's", [&] {
    const std::vector<Game> games = some_games();
    Place from(games);
    // The other player's files have names of their own, where headers tell which game it is.
    std::vector<Game> own = games;
    if (die(3) == 0)
      for (Game& game : own)
        if (game.console.tag != "nes") game.stem = "My " + game.stem.substr(0, game.stem.find(' '));
    Place to(own);
    std::set<std::string> shown;  // consoles of which the target has a save to learn from
    std::vector<std::size_t> missing;
    for (std::size_t i = 0; i < games.size(); ++i) {
      from.keep(games[i], static_cast<std::uint32_t>(i));
      if (die(2) == 0) {
        to.keep(own[i], static_cast<std::uint32_t>(i + 100));
        shown.insert(games[i].console.tag);
      } else {
        missing.push_back(i);
      }
    }
    const auto from_store = from.store();
    const auto to_store = to.store();
    const Bay from_bay = detected(catalog, *from_store, "from");
    const Bay to_bay = detected(catalog, *to_store, "to");
    for (const std::size_t i : missing) {
      CarryRequest request;
      request.what = from.habit.save(games[i]);
      const auto plan =
          plan_carry(catalog, {&from_bay, from_store.get()}, {&to_bay, to_store.get()}, *from_store, request);
      const std::string all = request.what + "\n" + from.text() + to_toml(from_bay) + "-> " +
                              to.habit.save(own[i]) + "\n" + to.text() + to_toml(to_bay);
      if (!shown.contains(games[i].console.tag) && (!plan || plan->refusal() != nullptr)) continue;
      if (!plan) RC_FAIL(plan.error().message + "\n" + all);
      if (plan->refusal() != nullptr) RC_FAIL(plan->refusal()->text + "\n" + all);
      RC_ASSERT(plan->changes.size() == 1);
      const FileChange& change = plan->changes.front();
      // Without an example the extension is that of the others: another program's saves would tell nothing.
      if (!shown.contains(games[i].console.tag) && !to.habit.one_program) continue;
      const std::string wanted = to.habit.save(own[i]);
      // Of two extensions in use either may be the one.
      const auto bare = [&](const std::string& path) {
        return to.habit.mixed ? path.substr(0, path.rfind('.')) : path;
      };
      if (bare(change.path) != bare(wanted)) RC_FAIL(change.path + "\n" + all);
      if (!change.after || *change.after != from.files.at(request.what))
        RC_FAIL("other bytes in " + change.path + "\n" + all);
    }
  });
}

// All of one player's saves at once, into a place with files and saves of its own, and taken back.
TEST(RandomPlaces, AllSavesGoOverAtOnceAndComeBack) {
  const Catalog catalog;
  std::size_t carried = 0;
  expect_property_of(examples / 2, "each save has a row, and the place is as it was after an undo", [&] {
    const std::vector<Game> games = some_games(6);
    Place from(games);
    Place to(games);
    for (std::size_t i = 0; i < games.size(); ++i) {
      from.keep(games[i], static_cast<std::uint32_t>(i));
      from.litter(games[i]);
      const int there = die(4);  // nothing, the same, another, one that was cut off
      if (there > 0) to.keep(games[i], static_cast<std::uint32_t>(there == 1 ? i : i + 100));
      if (there == 3) to.files[to.habit.save(games[i])] = noise(games[i].size / 2 + 3, 7);
      to.litter(games[i]);
    }
    const auto from_store = from.store();
    const auto to_store = to.store();
    const Files before = to_store->files();
    const Bay from_bay = detected(catalog, *from_store, "from");
    const Bay to_bay = detected(catalog, *to_store, "to");
    BayView from_view(catalog, from_bay, *from_store);
    BayView to_view(catalog, to_bay, *to_store);
    auto batch = plan_all(from_view, to_view, {});
    RC_ASSERT(batch.has_value());
    std::set<std::string> rows;
    for (const BatchRow& row : batch->rows) RC_ASSERT(rows.insert(row.path).second);
    for (const auto& [path, console] : from.saves)
      if (!rows.contains(path)) RC_FAIL("no row for " + path + "\n" + from.text());
    RC_ASSERT(rows.size() == from.saves.size());
    std::map<std::string, std::string> sources;  // by the place they go to
    for (const BatchRow& row : batch->rows)
      if (row.outcome == BatchRow::Outcome::carried)
        for (const FileChange& change : batch->plans[*row.plan].changes)
          RC_ASSERT(sources.emplace(change.path, row.path).second);

    MemoryStore blobs;
    Logbook book = *Logbook::open(blobs, ":memory:");
    run_batch(*batch, *to_store, book);
    for (const BatchRow& row : batch->rows) RC_ASSERT(row.outcome != BatchRow::Outcome::failed);
    for (const auto& [path, bytes] : to_store->files()) {
      const auto source = sources.find(path);
      if (source == sources.end())
        RC_ASSERT(before.contains(path) && before.at(path) == bytes);
      else
        RC_ASSERT(bytes == from.files.at(source->second));
    }
    RC_ASSERT(std::ranges::all_of(before,
                                  [&](const auto& file) { return to_store->files().contains(file.first); }));
    carried += sources.size();
    if (sources.empty()) return;
    const auto undo = plan_undo(book, {}, *to_store);
    RC_ASSERT(undo.has_value());
    RC_ASSERT(run(*undo, *to_store, book).has_value());
    RC_ASSERT(to_store->files() == before);
  });
  EXPECT_GT(carried, static_cast<std::size_t>(examples) / 2);
}

// Where two players have a stick together, each with habits of their own, a save goes where one of them looks
// for it, or nowhere.
TEST(RandomPlaces, OnAStickOfTwoPlayersASaveGoesWhereOneOfThemLooks) {
  const Catalog catalog;
  std::size_t planned = 0;
  expect_property_of(examples, "one player's saves, on the stick of two others", [&] {
    const std::vector<Game> games = some_games(10);
    Place from(games);
    Files files;
    std::set<std::size_t> there;  // games that have a save on the stick
    std::vector<std::set<std::string>> wanted(games.size());
    std::set<std::string> shown;  // consoles of which each player has a save to learn an extension from
    for (const char* prefix : {"Ida/", "Mila/"}) {
      Habit habit;
      habit.prefix = prefix;
      habit.mixed = false;
      std::vector<std::size_t> own;
      for (std::size_t i = 0; i < games.size(); ++i)
        if (die(3) > 0) own.push_back(i);
      std::vector<Game> its_games;
      for (const std::size_t i : own) its_games.push_back(games[i]);
      Place place(its_games, habit);
      for (const std::size_t i : own) {
        wanted[i].insert(place.habit.save(games[i]));
        if (die(3) == 0) continue;
        place.keep(games[i], static_cast<std::uint32_t>(i + 100));
        there.insert(i);
        shown.insert(prefix + games[i].console.tag);
      }
      files.insert(place.files.begin(), place.files.end());
    }
    const auto stick = store_of(files);
    const Bay to_bay = detected(catalog, *stick, "stick");
    for (std::size_t i = 0; i < games.size(); ++i) from.keep(games[i], static_cast<std::uint32_t>(i));
    const auto from_store = from.store();
    const Bay from_bay = detected(catalog, *from_store, "from");
    for (std::size_t i = 0; i < games.size(); ++i) {
      if (there.contains(i)) continue;
      CarryRequest request;
      request.what = from.habit.save(games[i]);
      const auto plan =
          plan_carry(catalog, {&from_bay, from_store.get()}, {&to_bay, stick.get()}, *from_store, request);
      if (!plan || plan->refusal() != nullptr) continue;
      RC_ASSERT(plan->changes.size() == 1);
      ++planned;
      // It says that it is not sure.
      if (std::ranges::any_of(plan->issues, [](const PlanIssue& issue) {
            return issue.code == IssueCode::first_save || issue.code == IssueCode::odd_target;
          }))
        continue;
      const std::string& path = plan->changes.front().path;
      const bool is_shown = shown.contains(path.substr(0, path.find('/') + 1) + games[i].console.tag);
      const auto as_far_as_shown = [&](const std::string& full) {
        return is_shown ? full : full.substr(0, full.rfind('.'));
      };
      if (std::ranges::any_of(wanted[i], [&](const std::string& one) {
            return as_far_as_shown(one) == as_far_as_shown(path);
          }))
        continue;
      std::string all = request.what + " to " + path + "\n" + to_toml(to_bay);
      for (const auto& [name, bytes] : files) all += name + " " + std::to_string(bytes.size()) + "\n";
      for (const std::string& one : wanted[i]) all += "-> " + one + "\n";
      RC_FAIL(all);
    }
  });
  EXPECT_GT(planned, static_cast<std::size_t>(examples) / 4);
}

}  // namespace
}  // namespace bayswap::test
