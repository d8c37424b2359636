#include <bayswap/card.hpp>
#include <bayswap/carry.hpp>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <map>
#include <thread>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

std::vector<ChipFact> chips_in_other_bays(const Home& home, const Catalog& catalog,
                                          const std::vector<std::string>& asked, const GameId& game) {
  std::vector<ChipFact> chips;
  const auto bays = list_bays(home);
  if (!bays) return chips;
  for (const auto& [name, bay] : *bays) {
    if (!bay || std::ranges::find(asked, bay->origin) != asked.end()) continue;
    LocalStore store(bay->root);
    add_chips(chips, chips_seen(catalog, *bay, store, game));
  }
  return chips;
}

// One carry command: its two bays opened, and what is known of games, titles and accounts.
class CarryJob {
 public:
  CarryJob(const Globals& globals, const CarryOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    BAYSWAP_CHECK(prepare());
    if (!options_.dry_run) {  // a dry run writes nothing, not even a lock
      BAYSWAP_TRY(logbook_, LockedLogbook::open(globals_));
    }
    return options_.all ? carry_all() : carry_one();
  }

 private:
  Result<void> prepare() {
    if (options_.what.empty() != options_.all)
      return fail(ErrorCode::bad_usage, options_.all ? "--all and a single save at once" : "which save?",
                  "name a ROM, a title, a code, a title id or a path; or say --all");
    BAYSWAP_TRY(home_, home_of(globals_));
    BAYSWAP_TRY(from_, find_bay(home_, options_.from));
    BAYSWAP_TRY(to_, find_bay(home_, options_.to));
    if (from_.origin == to_.origin)
      return fail(ErrorCode::bad_usage, fmt::format("the save is in {} already", from_.name),
                  "name two different bays");
    from_store_ = std::make_unique<LocalStore>(from_.root);
    to_store_ = std::make_unique<LocalStore>(to_.root);
    BAYSWAP_TRY(catalog_, catalog_of(globals_));
    BAYSWAP_TRY(titles_, TitleBook::load(home_));
    BAYSWAP_TRY(accounts_, AccountBook::load(home_));
    BAYSWAP_TRY(book_, ChipBook::load(home_));
    request_.what = options_.what;
    request_.rom = options_.rom;
    request_.slot = options_.slot;
    request_.exact = options_.exact;
    request_.replace_companions = options_.companions;
    request_.accept.insert(options_.accept.begin(), options_.accept.end());
    BAYSWAP_TRY(request_.chips, chips_from_words(options_.chips));
    request_.book = &book_;
    request_.titles = &titles_;
    request_.ask_others = [this](const GameId& game) {
      return chips_in_other_bays(home_, catalog_, {from_.origin, to_.origin}, game);
    };
    if (!options_.region.empty()) {
      request_.region = region_from_text(options_.region);
      if (!request_.region)
        return fail(ErrorCode::bad_usage, fmt::format("'{}' is no region", printable(options_.region)),
                    "e.g. japan, north-america, europe");
    }
    for (const std::string& words : options_.accounts) {
      const auto equals = words.find('=');
      std::string from = words.substr(0, equals);
      std::string to = equals == std::string::npos ? "" : words.substr(equals + 1);
      if (from.empty() || (to.empty() && equals != std::string::npos))
        return fail(ErrorCode::bad_usage, fmt::format("--account {}: expected FROM=TO", printable(words)),
                    "write FROM=TO, e.g. 80000001=80000002, or one account alone");
      request_.accounts.emplace_back(std::move(from), std::move(to));
    }
    said_ = request_.accounts;
    std::ranges::move(accounts_.between(from_.name, to_.name), std::back_inserter(request_.accounts));
    return {};
  }

  Result<Plan> plan(const CarryRequest& request) {
    return plan_carry(catalog_, {&from_, from_store_.get()}, {&to_, to_store_.get()}, disk_, request);
  }

  // Asked for where there is a choice and somebody to ask: whose it is, and whose it becomes.
  Result<Plan> plan_asking() {
    for (;;) {
      BAYSWAP_TRY(Plan plan, this->plan(request_));
      const auto& question = plan.account_question;
      if (!question || !has_terminal() || globals_.json || options_.yes) return plan;
      if (question->at_source)
        fmt::print(stderr, "Whose save of {} is it?\n", from_.name);
      else
        fmt::print(stderr, "Whose save is it in {}?\n", to_.name);
      for (std::size_t i = 0; i < question->choices.size(); ++i)
        fmt::print(stderr, "  {}  {}\n", i + 1, question->choices[i]);
      const std::size_t number = ask_number(question->choices.size());
      if (number == 0) return plan;
      const std::string& chosen = question->choices[number - 1];
      const std::pair answer =
          question->at_source ? std::pair{chosen, std::string()} : std::pair{question->own, chosen};
      request_.accounts.insert(request_.accounts.begin(), answer);
      said_.push_back(answer);
    }
  }

  void remember_accounts() {
    bool news = false;
    for (const auto& [from, to] : said_)
      if (!to.empty()) news = accounts_.learn(from_.name, to_.name, from, to) || news;
    if (!news) return;
    if (const auto kept = accounts_.save(home_); !kept) {
      report(kept.error());
      return;
    }
    say(globals_.quiet, fmt::format("Remembered whose account is whose in {}.", home_.accounts));
  }

  Result<int> carry_one() {
    BAYSWAP_TRY(const Plan plan, plan_asking());
    if (options_.dry_run) {
      const int code = show_only(globals_, plan);
      if (code == exit_done && !globals_.json) say(globals_.quiet, "A dry run: nothing was changed.");
      return code;
    }
    BAYSWAP_CHECK(wait_until_idle(globals_, plan, *to_store_, logbook_->book(), options_.wait));
    const int code = show_and_run(globals_, plan, *to_store_, *logbook_, options_.yes, true);
    if (code == exit_done && plan.game) remember(globals_, *plan.game, plan.learned);
    if (code == exit_done) remember_accounts();
    return code;
  }

  // ---- Everything that differs --------------------------------------------------------------------

  struct Row {
    std::string what;
    std::string outcome;  // "carried", "same", "refused", "failed"
    std::string text;
  };

  // Each once: what belongs to one game goes over together.
  Result<std::vector<std::pair<std::string, std::string>>> everything() {
    ScanOptions wish;
    wish.titles = &titles_;
    BAYSWAP_TRY(const auto saves, scan_bay(catalog_, from_, *from_store_, wish));
    std::vector<std::pair<std::string, std::string>> list;
    std::vector<const BaySave*> seen;
    for (const BaySave& save : saves) {
      if (save.health == "deleted" || to_.rule(save.rule->platform) == nullptr || !save.place.empty())
        continue;
      const bool known = std::ranges::any_of(seen, [&](const BaySave* other) {
        return other->path == save.path && save.rule->keeping != Keeping::card;
      });
      if (known) continue;
      seen.push_back(&save);
      const bool by_name = save.rule->keeping == Keeping::card || save.rule->keeping == Keeping::single;
      const std::string what = by_name ? save.entry
                               : save.facts.rom_path && save.rule->keeping == Keeping::file
                                   ? std::string(stem_of(*save.facts.rom_path))
                                   : save.path;
      if (std::ranges::find(list, what, [](const auto& row) { return row.first; }) != list.end()) continue;
      list.emplace_back(what, save.label.empty() ? save.name() : save.label);
    }
    return list;
  }

  Row carry_quietly(const std::string& what, const std::string& label) {
    CarryRequest request = request_;
    request.what = what;
    auto plan = this->plan(request);
    if (!plan) return {label, "failed", plan.error().message};
    if (const PlanIssue* refusal = plan->refusal()) return {label, "refused", refusal->text};
    if (plan->changes.empty()) return {label, "same", ""};
    // Two saves of the source never become one file: the second would take the place of the first.
    for (const FileChange& change : plan->changes) {
      const auto [first, is_new] = taken_.emplace(to_store_->absolute_path(change.path), label);
      const bool is_card = change.before && guess_card(change.before->view());
      if (!is_new && first->second != label && !is_card)
        return {label, "refused",
                fmt::format("{} and this one would both become {}", first->second,
                            to_store_->display_path(change.path))};
    }
    if (options_.dry_run) return {label, "would be carried", fmt::format("{} files", plan->changes.size())};
    if (const auto rest = wait_until_idle(globals_, *plan, *to_store_, logbook_->book(), options_.wait);
        !rest)
      return {label, "refused", rest.error().message};
    const auto id = run_whole(*plan, *to_store_, *logbook_);
    if (!id) return {label, "failed", id.error().message};
    return {label, "carried", fmt::format("logbook entry {}", *id)};
  }

  Result<int> carry_all() {
    BAYSWAP_TRY(const auto list, everything());
    if (list.empty()) {
      say(false, fmt::format("{} has no save that {} has a place for.", from_.name, to_.name));
      return exit_done;
    }
    if (!options_.dry_run && !options_.yes && !has_terminal())
      return fail(ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                  "say --yes to go ahead, or --dry-run to see what would be done");
    if (!options_.dry_run && !options_.yes &&
        !ask(fmt::format("Carry what differs of {} saves from {} to {}?", list.size(), from_.name,
                         to_.name))) {
      say(false, "Nothing was changed.");
      return exit_refused;
    }
    std::vector<Row> rows;
    for (const auto& [what, label] : list) {
      progress(rows.size(), list.size(), label);
      rows.push_back(carry_quietly(what, label));
    }
    progress(list.size(), list.size(), "");
    return summary(rows);
  }

  void progress(std::size_t done, std::size_t all, const std::string& label) const {
    if (globals_.quiet || globals_.json || !has_terminal()) return;
    constexpr std::size_t cells = 30;
    const std::size_t full = done * cells / all;
    fmt::print(stderr, "\r\x1b[2K[{}{}] {}/{} {}", std::string(full, '#'), std::string(cells - full, '-'),
               done, all, printable(label.substr(0, 40)));
    if (done == all) fmt::print(stderr, "\r\x1b[2K");
    std::fflush(stderr);
  }

  int summary(const std::vector<Row>& rows) const {
    std::size_t carried = 0;
    std::size_t same = 0;
    std::size_t refused = 0;
    std::size_t failed = 0;
    Json list = Json::array();
    std::vector<std::vector<std::string>> table;
    for (const Row& row : rows) {
      (row.outcome == "same"      ? same
       : row.outcome == "refused" ? refused
       : row.outcome == "failed"  ? failed
                                  : carried) += 1;
      list.push_back({{"save", row.what}, {"outcome", row.outcome}, {"text", row.text}});
      if (row.outcome != "same") table.push_back({printable(row.what), row.outcome, row.text});
    }
    if (globals_.json) {
      print_json({{"from", from_.name},
                  {"to", to_.name},
                  {"dry_run", options_.dry_run},
                  {"carried", carried},
                  {"same", same},
                  {"refused", refused},
                  {"failed", failed},
                  {"saves", std::move(list)}});
    } else {
      if (!table.empty()) print_table({"save", "outcome", ""}, table);
      fmt::print("{} {}, {} the same already, {} refused, {} failed.\n", carried,
                 options_.dry_run ? "would be carried" : "carried", same, refused, failed);
      if (refused + failed > 0)
        fmt::print("Carry those one by one to see what they need: bayswap carry SAVE --from {} --to {}\n",
                   from_.name, to_.name);
    }
    return refused + failed > 0 ? exit_problems : exit_done;
  }

  const Globals& globals_;
  const CarryOptions& options_;
  std::map<std::string, std::string> taken_;  // path at the target: label of the save that becomes it
  Home home_;
  Bay from_;
  Bay to_;
  LocalStore disk_;
  std::unique_ptr<LocalStore> from_store_;
  std::unique_ptr<LocalStore> to_store_;
  Catalog catalog_;
  TitleBook titles_;
  AccountBook accounts_;
  ChipBook book_;
  CarryRequest request_;
  AccountMap said_;
  std::unique_ptr<LockedLogbook> logbook_;
};

}  // namespace

int carry_command(const Globals& globals, const CarryOptions& options) {
  const auto code = CarryJob(globals, options).run();
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
