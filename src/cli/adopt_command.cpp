#include <bayswap/carry.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

constexpr double clear_lead = 0.1;
constexpr std::size_t max_shown = 10;

std::string described(const Candidate& one) {
  const GameId& game = one.facts.game;
  std::string text = game.title.empty() ? std::string() : game.title;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  if (!id.empty()) text += (text.empty() ? "" : ", ") + id;
  return text.empty() ? "unknown game" : text;
}

Json to_json(const Candidate& one) {
  return {{"where", one.where},
          {"platform", tag(one.rule->platform)},
          {"game", cli::to_json(one.facts.game)},
          {"files", one.files.size()},
          {"score", one.score},
          {"reasons", one.reasons}};
}

void show_ranking(const std::vector<Candidate>& found) {
  std::vector<std::vector<std::string>> rows;
  for (std::size_t i = 0; i < std::min(found.size(), max_shown); ++i)
    rows.push_back({std::to_string(i + 1), fmt::format("{:.0f} %", found[i].score * 100),
                    std::string(tag(found[i].rule->platform)), printable(described(found[i])),
                    printable(found[i].where), joined(found[i].reasons, "; ")});
  print_table({"", "likely", "for", "game", "where", "because"}, rows, {0, 1});
  if (found.size() > max_shown) fmt::print("... and {} less likely ones.\n", found.size() - max_shown);
}

Result<int> adopt(const Globals& globals, const AdoptOptions& options) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const Bay to, find_bay(home, options.to));
  LocalStore store(to.root);
  BAYSWAP_TRY(const Catalog catalog, catalog_of(globals));
  BAYSWAP_TRY(const TitleBook titles, TitleBook::load(home));
  BAYSWAP_TRY(const ChipBook book, ChipBook::load(home));
  CarryRequest request;
  request.what = options.what;
  request.slot = options.slot;
  request.exact = options.exact;
  request.titles = &titles;
  request.book = &book;
  request.accept.insert(options.accept.begin(), options.accept.end());
  BAYSWAP_TRY(request.chips, chips_from_words(options.chips));
  if (!options.region.empty()) {
    request.region = region_from_text(options.region);
    if (!request.region)
      return fail(ErrorCode::bad_usage, fmt::format("'{}' is no region", printable(options.region)),
                  "e.g. japan, north-america, europe");
  }
  if (!options.account.empty()) request.accounts.emplace_back("", options.account);
  std::unique_ptr<LockedLogbook> logbook;
  if (!options.dry_run) {
    BAYSWAP_TRY(logbook, LockedLogbook::open(globals));
  }
  BAYSWAP_TRY(const auto found, find_adoptable(catalog, options.what, {&to, &store}, options.game, &titles));
  std::size_t chosen = options.choice;
  const bool clear = found.size() == 1 || found[0].score - found[1].score >= clear_lead;
  if (found.size() > 1 && !globals.json && !globals.quiet) show_ranking(found);
  if (chosen > found.size())
    return fail(ErrorCode::bad_usage,
                fmt::format("--choose {}: there are {} to choose from", chosen, found.size()),
                "name one of the numbers");
  if (chosen == 0 && clear) chosen = 1;
  if (chosen == 0 && has_terminal() && !globals.json) chosen = ask_number(found.size());
  if (chosen == 0) {
    if (globals.json) {
      Json list = Json::array();
      for (const Candidate& one : found) list.push_back(to_json(one));
      print_json({{"done", false}, {"candidates", std::move(list)}});
    }
    return fail(ErrorCode::unsafe, fmt::format("{} has several saves that are about as likely", options.what),
                "say --game, or --choose with its number");
  }
  const Candidate& one = found[chosen - 1];
  if (!globals.json && !globals.quiet)
    print_field("taking", fmt::format("{} ({}): {}", one.where, described(one), joined(one.reasons, "; ")));
  BAYSWAP_TRY(const Plan plan, plan_adopt(catalog, one, {&to, &store}, request));
  if (options.dry_run) {
    const int code = show_only(globals, plan);
    if (code == exit_done && !globals.json) say(globals.quiet, "A dry run: nothing was changed.");
    return code;
  }
  BAYSWAP_CHECK(wait_until_idle(globals, plan, store, logbook->book(), options.wait));
  return show_and_run(globals, plan, store, *logbook, options.yes, true);
}

}  // namespace

int adopt_command(const Globals& globals, const AdoptOptions& options) {
  const auto code = adopt(globals, options);
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
