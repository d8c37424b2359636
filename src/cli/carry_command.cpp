#include <bayswap/cart_store.hpp>
#include <bayswap/inspect.hpp>
#include <bayswap/state_plan.hpp>

#include <algorithm>
#include <chrono>
#include <cstdio>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/select.hpp"
#include "cli/batch_table.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/desk_place.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "cli/state_job.hpp"

namespace bayswap::cli {
namespace {

std::vector<ChipFact> chips_in_other_bays(const Books& books, const std::vector<std::string>& asked,
                                          const GameId& game) {
  std::vector<ChipFact> chips;
  const auto bays = list_bays(books.home);
  if (!bays) return chips;
  for (const auto& [name, bay] : *bays) {
    if (!bay || !is_on_disk(bay->root) || std::ranges::find(asked, bay->origin) != asked.end()) continue;
    const auto store = open_place(*bay);
    if (!store) continue;
    BayView view(books.catalog, *bay, **store, books.view_options());
    add_chips(chips, chips_seen(view, game));
  }
  return chips;
}

// "gb at saves/{rom.stem}{ext}, ps1 at cards/{rom.stem}.mcr".
std::string rules_in_words(const Bay& bay) {
  std::vector<std::string> rules;
  for (const PlatformRule& rule : bay.rules)
    rules.push_back(fmt::format("{} at {}", tag(rule.platform), rule.path.text()));
  return joined(rules, ", ");
}

// One carry command: its two bays opened, and what is known of games, titles and accounts.
class CarryJob {
 public:
  CarryJob(const Globals& globals, const CarryOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    auto code = prepare_and_carry();
    // What the error offers is typed in the place of what was typed.
    if (!code && code.error().remedy.kind == Remedy::Kind::save && from_ && from_->is_place && !says_from_)
      for (std::string& one : code.error().remedy.values) one = from_->store->display_path(one);
    return code;
  }

 private:
  Result<int> prepare_and_carry() {
    if (options_.outside || !options_.game.empty() || options_.choice > 0) {
      BAYSWAP_TRY(const FileCarryOptions file, as_file_carry());
      return carry_file(globals_, file);
    }
    if (const auto ready = prepare(); !ready) {
      if (!is_loose_file(ready.error())) return tl::unexpected(ready.error());
      BAYSWAP_TRY(const FileCarryOptions file, as_file_carry());
      return carry_file(globals_, file);
    }
    if (options_.states) return carry_states();
    if (options_.from_state) {
      BAYSWAP_CHECK(use_state());
    }
    return options_.all ? carry_all() : carry_one();
  }

  Result<void> prepare() {
    if (options_.what.empty() != options_.all)
      return fail(ErrorCode::bad_usage, options_.all ? "--all and a single save at once" : "which save?",
                  "name a ROM, a title, a code, a title id or a path; or pass --all");
    if (options_.all && !options_.rom.empty())
      return fail(ErrorCode::bad_usage, "--rom has no effect with --all", "leave it out, or name one save");
    if (options_.all && !options_.chips.empty())
      return fail(ErrorCode::bad_usage, "--chip is about one game, and --all about all of them",
                  "leave it out, or name one save");
    if ((options_.states || options_.from_state) && options_.all)
      return fail(ErrorCode::bad_usage, "states are carried one game at a time",
                  "name a game instead of --all");
    if (options_.states && options_.from_state)
      return fail(ErrorCode::bad_usage, "--states and --from-state at once",
                  "--states takes the states themselves, --from-state the battery save in one");
    if (options_.states)
      for (const auto& [said, word] :
           {std::pair(!options_.rom.empty(), "rom"), std::pair(!options_.chips.empty(), "chip"),
            std::pair(!options_.region.empty(), "region"), std::pair(!options_.accounts.empty(), "account"),
            std::pair(options_.exact, "exact"), std::pair(options_.companions, "companions")})
        if (said)
          return fail(ErrorCode::bad_usage, fmt::format("--{} has no effect on states", word),
                      "leave it out");
    BAYSWAP_TRY(books_, Books::load(globals_));
    says_from_ = !options_.from.empty();
    if (!says_from_ && !options_.all) {
      const Address address = address_of(*books_, options_.what);
      options_.from = address.place;
      options_.what = address.what;
    }
    const bool to_new_file = !options_.all && !options_.states && names_a_new_file(*books_, options_.to);
    if (!to_new_file) {
      BAYSWAP_TRY(to_, OpenedBay::open(*books_, options_.to));
    }
    if (!options_.from.empty()) {
      BAYSWAP_TRY(from_, OpenedBay::open(*books_, options_.from));
    } else if (options_.all) {
      return fail(ErrorCode::bad_usage, "which saves? --from is missing", "pass --from BAY, or --from DIR");
    } else {
      BAYSWAP_TRY(from_, OpenedBay::that_has(*books_, options_.what, to_ ? to_->bay.origin : ""));
    }
    if (options_.what.empty() && !options_.all) {
      BAYSWAP_TRY(options_.what, only_save());
    }
    if (to_new_file) {
      is_new_file_ = true;
      BAYSWAP_TRY(to_, place_for_one(*books_, *from_->view, options_.what, options_.to));
    }
    if (from_->bay.origin == to_->bay.origin)
      return fail(ErrorCode::bad_usage, fmt::format("the save is in {} already", from_->bay.name),
                  "name two different places");
    for (const OpenedBay* place : {from_.get(), to_.get()})
      if (place->is_place && !(to_new_file && place == to_.get()))
        say(globals_.quiet || globals_.json,
            fmt::format("Looked at {}: {}.", place->bay.name, rules_in_words(place->bay)));
    BAYSWAP_TRY(logbook_, options_.dry_run ? look_at_logbook(globals_) : open_logbook(globals_));
    request_ = request_of(*books_, logbook_ ? &logbook_->book() : nullptr);
    request_.what = options_.what;
    request_.rom = options_.rom;
    if (!options_.states && !options_.from_state && !options_.slot.empty()) {
      BAYSWAP_TRY(request_.slot, slot_number(options_.slot));
    }
    request_.exact = options_.exact;
    request_.replace_companions = options_.companions;
    BAYSWAP_TRY(request_.accept, accepted_from_words(options_.accept));
    BAYSWAP_TRY(request_.chips, chips_from_words(options_.chips));
    BAYSWAP_TRY(request_.region, region_from_word(options_.region));
    request_.ask_others = [this](const GameId& game) {
      return chips_in_other_bays(*books_, {from_->bay.origin, to_->bay.origin}, game);
    };
    for (const std::string& words : options_.accounts) {
      const auto equals = words.find('=');
      std::string own = words.substr(0, equals);
      std::string theirs = equals == std::string::npos ? "" : words.substr(equals + 1);
      if (own.empty() || (theirs.empty() && equals != std::string::npos))
        return fail(ErrorCode::bad_usage, fmt::format("--account {}: expected FROM=TO", printable(words)),
                    "write FROM=TO, e.g. 80000001=80000002, or one account alone");
      request_.accounts.emplace_back(std::move(own), std::move(theirs));
    }
    request_.accounts_said = request_.accounts.size();
    said_ = request_.accounts;
    std::ranges::move(books_->accounts.between(from_->bay.name, to_->bay.name),
                      std::back_inserter(request_.accounts));
    return {};
  }

  // Of a place that was named without a game.
  Result<std::string> only_save() {
    BAYSWAP_TRY(const auto saves, from_->view->saves(BayView::Depth::names));
    if (saves->size() == 1) return designator(saves->front());
    return fail(ErrorCode::bad_usage,
                fmt::format("{} has {}", from_->bay.name, counted(saves->size(), "save")),
                "name one, e.g. PLACE:GAME; or pass --all");
  }

  // A file whose own name and bytes do not say which game's it is: what it is like, and what is there, may.
  [[nodiscard]] bool is_loose_file(const Error& error) const {
    if (error.code != ErrorCode::not_recognised || from_ || !to_ || !options_.from.empty() ||
        options_.states || options_.from_state || !options_.rom.empty())
      return false;
    LocalStore disk;
    const auto info = disk.stat(options_.what);
    return info && *info && (*info)->kind == FileInfo::Kind::file && !identify_rom(disk, options_.what);
  }
  [[nodiscard]] Result<FileCarryOptions> as_file_carry() const {
    if (options_.what.empty())
      return fail(ErrorCode::bad_usage, "which file?", "pass the path of a file, a folder or an archive");
    for (const auto& [said, word] :
         {std::pair(options_.companions, "companions"), std::pair(options_.states, "states"),
          std::pair(options_.from_state, "from-state"), std::pair(options_.all, "all"),
          std::pair(!options_.rom.empty(), "rom"), std::pair(!options_.from.empty(), "from")})
      if (said)
        return fail(ErrorCode::bad_usage, fmt::format("--{} has no effect on a file from outside", word), "",
                    {Remedy::Kind::leave_out, {word}});
    FileCarryOptions file;
    file.game = options_.game;
    file.choice = options_.choice;
    file.what = options_.what;
    file.to = options_.to;
    file.region = options_.region;
    file.chips = options_.chips;
    file.accept = options_.accept;
    if (!options_.slot.empty()) {
      BAYSWAP_TRY(file.slot, slot_number(options_.slot));
    }
    if (options_.accounts.size() > 1 ||
        (!options_.accounts.empty() && options_.accounts.front().find('=') != std::string::npos))
      return fail(ErrorCode::bad_usage, "a file alone is of no account",
                  "pass the account that gets it: --account NAME");
    if (!options_.accounts.empty()) file.account = options_.accounts.front();
    file.exact = options_.exact;
    file.wait = options_.wait;
    file.dry_run = options_.dry_run;
    file.yes = options_.yes;
    file.explain = options_.explain;
    return file;
  }

  static Result<int> slot_number(const std::string& word) {
    const auto slot = state_slot_from_text(word);
    if (!slot || slot->automatic || slot->number < 1 || slot->number > 99)
      return fail(ErrorCode::bad_usage, fmt::format("--slot {} is no slot", printable(word)),
                  "a slot is a number from 1 to 99; auto and all are for states");
    return slot->number;
  }

  // The states of the game that --slot names; all of them where nothing does.
  Result<std::vector<HeldState>> wanted_states() {
    BAYSWAP_TRY(std::vector<HeldState> states, find_states(*from_->view, options_.what));
    const std::string slots = slots_in_words(states);
    if (states.empty())
      return fail(ErrorCode::not_found,
                  fmt::format("no state of '{}' is in {}", printable(options_.what), from_->bay.name),
                  "`bayswap state list` shows what there is");
    if (options_.slot.empty() || options_.slot == "all") return states;
    const auto slot = state_slot_from_text(options_.slot);
    if (!slot)
      return fail(ErrorCode::bad_usage, fmt::format("--slot {} is no slot", printable(options_.slot)),
                  "a slot is a number from 0 to 999, auto, or all");
    std::erase_if(states, [&](const HeldState& one) { return one.slot != *slot; });
    if (states.empty())
      return fail(ErrorCode::not_found,
                  fmt::format("no state of '{}' is in slot {}", printable(options_.what), options_.slot),
                  "it has slots " + slots);
    return states;
  }

  Result<int> carry_states() {
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals_));
    BAYSWAP_TRY(const auto states, wanted_states());
    BAYSWAP_TRY(const Plan plan, plan_state_carry(*from_->view, *to_->view, states, maps, request_.accept));
    return run_plan(plan);
  }

  // From now on the bay is as it would be if the game had saved when the state was made.
  Result<void> use_state() {
    BAYSWAP_TRY(const auto states, wanted_states());
    if (states.size() > 1) {
      std::vector<std::string> each;
      each.reserve(states.size());
      for (const HeldState& one : states) each.push_back(fmt::format("{} ({})", to_text(one.slot), one.path));
      return fail(ErrorCode::bad_usage,
                  fmt::format("several states of '{}' are meant", printable(options_.what)),
                  fmt::format("pass --slot, or the path of one: {}", joined(each, ", ")));
    }
    const HeldState& state = states.front();
    if (state.any_platform)
      return fail(ErrorCode::bad_usage, fmt::format("the platform of {} is unknown", state.path),
                  "put its ROM into the bay; or take the battery save out with `bayswap state export "
                  "--platform TAG`");
    StateOptions of_state;
    of_state.state = from_->store->display_path(state.path);
    of_state.platform = tag(state.rule->platform);
    of_state.chips = options_.chips;
    if (state.rom != nullptr) of_state.rom = from_->store->display_path(state.rom->path);
    StateJob job(globals_, of_state);
    BAYSWAP_TRY(const StateMaps maps, state_maps_of(globals_));
    BAYSWAP_CHECK(job.learn_about_the_game(books_->catalog, of_state.state));
    BAYSWAP_TRY(const Blob bytes, from_->store->read(state.path, max_state_bytes));
    BAYSWAP_TRY(const FoundBattery found, job.battery(books_->catalog, maps, bytes));
    BAYSWAP_TRY(source_, source_of_state(*from_->view, state, found.save));
    request_.what = source_.path;
    from_state_ =
        std::make_unique<BayView>(books_->catalog, from_->bay, *source_.store, books_->view_options());
    say(globals_.quiet || globals_.json, fmt::format("The battery save in the state of slot {} ({}). In the "
                                                     "other program, start the game and load from "
                                                     "the game's own menu.",
                                                     to_text(state.slot), state.path));
    return {};
  }

  [[nodiscard]] bool may_ask() const { return has_terminal() && !globals_.json && !options_.yes; }

  // Asks whose it is, or whose it becomes. False where nobody answers.
  bool answer(const AccountQuestion& question) {
    if (!may_ask()) return false;
    const auto chosen =
        choose(globals_,
               question.at_source ? fmt::format("Which account of {} has it?", from_->bay.name)
                                  : fmt::format("Which account in {} gets it?", to_->bay.name),
               question.choices);
    if (!chosen) return false;
    const std::pair said =
        question.at_source ? std::pair{*chosen, std::string()} : std::pair{question.own, *chosen};
    request_.accounts.insert(request_.accounts.begin(), said);
    ++request_.accounts_said;
    said_.push_back(said);
    return true;
  }

  Result<Plan> plan_asking() {
    for (;;) {
      auto plan = plan_carry(from_state_ ? *from_state_ : *from_->view, *to_->view, disk_, request_);
      if (!plan) {
        const Remedy& remedy = plan.error().remedy;
        if (remedy.kind != Remedy::Kind::save || !may_ask()) return plan;
        fmt::print(stderr, "{}\n", printable(plan.error().message));
        const auto chosen = choose(globals_, "Which one?", remedy.values);
        if (!chosen) return plan;
        request_.what = *chosen;
        continue;
      }
      // A file on its own has no ROM, and is played by nobody.
      if (is_new_file_)
        std::erase_if(plan->issues, [](const PlanIssue& issue) { return issue.code == IssueCode::one_rom; });
      if (plan->account_question && answer(*plan->account_question)) continue;
      const PlanIssue* refusal = plan->refusal();
      if (refusal == nullptr || refusal->code != IssueCode::which_rom || !may_ask()) return plan;
      fmt::print(stderr, "{}\n", printable(refusal->text));
      const auto rom = choose(globals_, "Which one do you play?", refusal->remedy.values);
      if (!rom) return plan;
      request_.rom = *rom;
    }
  }

  void remember_accounts() {
    if (from_->is_place || to_->is_place) return;  // used for this once
    bool news = false;
    for (const auto& [own, theirs] : said_)
      if (!theirs.empty()) news = books_->accounts.learn(from_->bay.name, to_->bay.name, own, theirs) || news;
    if (!news) return;
    if (const auto kept = books_->accounts.save(books_->home); !kept) {
      report(kept.error());
      return;
    }
    say(globals_.quiet, fmt::format("The pair of accounts is remembered in {}.", books_->home.accounts));
  }

  Result<int> carry_one() {
    BAYSWAP_TRY(const Plan plan, plan_asking());
    return run_plan(plan);
  }

  Result<int> run_plan(const Plan& plan) {
    const ShowOptions how{options_.yes, true, options_.explain};
    if (options_.dry_run) {
      const int code = show_only(globals_, plan, how);
      if (code == exit_done && !globals_.json) say(globals_.quiet, "A dry run: nothing was changed.");
      return code;
    }
    BAYSWAP_CHECK(wait_until_idle(globals_, plan, *to_->store, logbook_->book(), options_.wait));
    const int code = show_and_run(globals_, plan, *to_->store, *logbook_, how);
    if (code == exit_done) {
      remember(globals_, *books_, plan);
      remember_accounts();
    }
    return code;
  }

  Result<int> carry_all() {
    Batch batch;
    for (;;) {
      BAYSWAP_TRY(batch, plan_all(*from_->view, *to_->view, request_));
      if (!batch.account_question || !answer(*batch.account_question)) break;
    }
    const BatchTable table{globals_, from_->bay.name, to_->bay.name};
    int refused = exit_done;
    for (const PlanIssue& issue : batch.issues) refused = report(issue);
    if (refused != exit_done) return refused;
    if (batch.rows.empty()) {
      if (globals_.json)
        table.print(batch, false);
      else
        say(false, fmt::format("{} has no saves.", from_->bay.name));
      return exit_done;
    }
    if (options_.dry_run || batch.plans.empty()) {
      table.print(batch, options_.dry_run);
      if (options_.dry_run && !globals_.json) say(globals_.quiet, "A dry run: nothing was changed.");
      return table.exit_code(batch);
    }
    if (!options_.yes) {
      if (!has_terminal())
        return fail(ErrorCode::unsafe, "nothing was changed: there is no terminal to ask on",
                    "pass --yes to go ahead, or --dry-run to see what would be done");
      table.print(batch, true);
      if (!ask(fmt::format("Carry {} of these {} saves from {} to {}?",
                           batch.count(BatchRow::Outcome::carried), batch.rows.size(), from_->bay.name,
                           to_->bay.name))) {
        say(false, "Nothing was changed.");
        return exit_refused;
      }
    }
    run_all(batch);
    table.print(batch, false);
    std::set<std::size_t> ran;
    for (const BatchRow& row : batch.rows)
      if (row.entry && row.plan) ran.insert(*row.plan);
    std::vector<const Plan*> taught;
    taught.reserve(ran.size());
    for (const std::size_t i : ran) taught.push_back(&batch.plans[i]);
    remember(globals_, *books_, taught);
    if (batch.count(BatchRow::Outcome::carried) > 0) remember_accounts();
    return table.exit_code(batch);
  }

  void run_all(Batch& batch) {
    Plan whole;  // one look at all files: whether any program has one open
    for (const Plan& plan : batch.plans)
      whole.changes.insert(whole.changes.end(), plan.changes.begin(), plan.changes.end());
    const bool idle =
        wait_until_idle(globals_, whole, *to_->store, logbook_->book(), options_.wait).has_value();
    std::size_t done = 0;
    // Between two groups of saves, and while it waits, Ctrl-C stops the rest.
    run_batch(batch, *to_->store, logbook_->book(),
              [&](std::span<const Plan* const> plans, std::optional<std::int64_t> first) {
                progress(done, batch.plans.size(),
                         plans.front()->game ? plans.front()->game->title : plans.front()->reason);
                done += plans.size();
                return idle ? run_whole(plans, *to_->store, *logbook_, first) : run_idle(plans, first);
              });
    progress(batch.plans.size(), batch.plans.size(), "");
  }

  // Only those whose files no program uses.
  std::vector<Result<std::int64_t>> run_idle(std::span<const Plan* const> plans,
                                             std::optional<std::int64_t> first) {
    std::vector<Result<std::int64_t>> results;
    for (const Plan* plan : plans) {
      auto idle = wait_until_idle(globals_, *plan, *to_->store, logbook_->book(), options_.wait);
      results.push_back(idle ? run_whole(*plan, *to_->store, *logbook_, first)
                             : Result<std::int64_t>(tl::unexpected(std::move(idle.error()))));
      if (results.back() && !first) first = *results.back();
    }
    return results;
  }

  void progress(std::size_t done, std::size_t all, const std::string& label) const {
    print_progress(globals_, done, all, label);
  }

  const Globals& globals_;
  CarryOptions options_;
  LocalStore disk_;
  std::unique_ptr<Books> books_;
  std::unique_ptr<OpenedBay> from_;
  std::unique_ptr<OpenedBay> to_;
  bool says_from_ = false;    // by --from, not with the save
  bool is_new_file_ = false;  // the target is a file that does not exist yet
  CarryRequest request_;
  AccountMap said_;
  std::unique_ptr<LockedLogbook> logbook_;
  StateSource source_;                   // of --from-state
  std::unique_ptr<BayView> from_state_;  // over it
};

}  // namespace

// "GAME@7" or "PLACE:GAME@7": as an entry of the logbook or a version had it.
Result<std::optional<RestoreOptions>> as_restore(const Globals& globals, const CarryOptions& options) {
  if (options.all || options.states || options.from_state || options.what.find('@') == std::string::npos)
    return std::nullopt;
  BAYSWAP_TRY(const Home home, home_of(globals));
  LocalStore disk;
  if (address_from_text(home, disk, options.what).version.empty()) return std::nullopt;
  for (const auto& [said, word] :
       {std::pair(!options.from.empty(), "from"), std::pair(!options.rom.empty(), "rom"),
        std::pair(!options.chips.empty(), "chip"), std::pair(!options.slot.empty(), "slot"),
        std::pair(!options.region.empty(), "region"), std::pair(!options.accounts.empty(), "account"),
        std::pair(options.exact, "exact"), std::pair(options.companions, "companions")})
    if (said)
      return fail(ErrorCode::bad_usage, fmt::format("--{} has no effect on a version", word), "leave it out");
  RestoreOptions restore;
  restore.what = options.what;
  restore.to = options.to;
  restore.accept = options.accept;
  restore.wait = options.wait;
  restore.dry_run = options.dry_run;
  restore.yes = options.yes;
  restore.explain = options.explain;
  return restore;
}

int carry_command(const Globals& globals, const CarryOptions& options) {
  const auto restore = as_restore(globals, options);
  if (!restore) return report(restore.error());
  if (*restore) return restore_command(globals, **restore);
  return exit_code_of(CarryJob(globals, options).run());
}

}  // namespace bayswap::cli
