#include <bayswap/carry.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/progress_store.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {
namespace {

constexpr std::size_t max_shown = 10;

std::string described(const Candidate& one) {
  const GameId& game = one.facts.game;
  std::string text = game.title.empty() ? std::string() : game.title;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  if (!id.empty()) text += (text.empty() ? "" : ", ") + id;
  return text.empty() ? "unknown game" : text;
}

Json candidate_json(const Candidate& one) {
  return {{"where", one.where},
          {"platform", tag(one.rule->platform)},
          {"game", to_json(one.facts.game)},
          {"files", one.files.size()},
          {"score", one.score},
          {"told", one.told},
          {"reasons", one.reasons}};
}

void show_ranking(const std::vector<Candidate>& found) {
  std::vector<std::vector<std::string>> rows;
  for (std::size_t i = 0; i < std::min(found.size(), max_shown); ++i)
    rows.push_back({std::to_string(i + 1), fmt::format("{:.0f} %", found[i].score * 100),
                    std::string(tag(found[i].rule->platform)), printable(described(found[i])),
                    printable(found[i].where), joined(found[i].reasons, "; ")});
  print_table({"", "likely", "platform", "game", "where", "because"}, rows, {0, 1});
  if (found.size() > max_shown) fmt::print("... and {} less likely ones.\n", found.size() - max_shown);
}

}  // namespace

Result<int> carry_file(const Globals& globals, const FileCarryOptions& options) {
  BAYSWAP_TRY(const auto books, Books::load(globals));
  BAYSWAP_TRY(const auto to, OpenedBay::open(*books, options.to));
  std::unique_ptr<LockedLogbook> logbook;
  BAYSWAP_TRY(logbook, options.dry_run ? look_at_logbook(globals) : open_logbook(globals));
  CarryRequest request = request_of(*books, logbook ? &logbook->book() : nullptr);
  request.what = options.what;
  request.slot = options.slot;
  request.exact = options.exact;
  BAYSWAP_TRY(request.accept, accepted_from_words(options.accept));
  BAYSWAP_TRY(request.chips, chips_from_words(options.chips));
  BAYSWAP_TRY(request.region, region_from_word(options.region));
  if (!options.account.empty()) {
    request.accounts.emplace_back("", options.account);
    request.accounts_said = 1;
  }
  Globals shown = globals;
  shown.quiet = shown.quiet || to->progress != nullptr;  // a cartridge has a line of its own
  ProgressStore reading(*to->store, shown, "Reading file");
  BayView view(books->catalog, to->bay, reading, books->view_options());
  BAYSWAP_TRY(const auto found, find_candidates(view, options.what, options.game));
  reading.end();
  std::size_t chosen = options.choice;
  if (found.size() > 1 && !globals.json && !globals.quiet) show_ranking(found);
  if (chosen > found.size())
    return fail(ErrorCode::bad_usage,
                fmt::format("--choose {}: there are {} to choose from", chosen, found.size()),
                "name one of the numbers");
  if (chosen == 0 && clearly_likeliest(found)) chosen = 1;
  if (chosen == 0 && has_terminal() && !globals.json) chosen = ask_number(found.size());
  if (chosen == 0) {
    if (globals.json) {
      Json list = Json::array();
      for (const Candidate& one : found) list.push_back(candidate_json(one));
      print_json({{"done", false}, {"candidates", std::move(list)}});
    }
    return fail(ErrorCode::unsafe, fmt::format("{} has several saves that are about as likely", options.what),
                "pass --game, or --choose with its number");
  }
  Candidate one = found[chosen - 1];
  one.told = one.told || options.choice > 0 || !options.game.empty();
  if (!globals.json && !globals.quiet)
    print_field("taking", fmt::format("{} ({}): {}", one.where, described(one), joined(one.reasons, "; ")));
  BAYSWAP_TRY(const Plan plan, plan_file_carry(view, one, request));
  const ShowOptions how{options.yes, true, options.explain};
  if (options.dry_run) {
    const int code = show_only(globals, plan, how);
    if (code == exit_done && !globals.json) say(globals.quiet, "A dry run: nothing was changed.");
    return code;
  }
  BAYSWAP_CHECK(wait_until_idle(globals, plan, *to->store, logbook->book(), options.wait));
  return show_and_run(globals, plan, *to->store, *logbook, how);
}

}  // namespace bayswap::cli
