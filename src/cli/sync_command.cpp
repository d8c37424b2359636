// One round: what changed becomes versions, what is newer elsewhere is written here.
#include <bayswap/cart_store.hpp>

#include <algorithm>
#include <array>
#include <map>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/sync_job.hpp"

namespace bayswap::cli {
namespace {

using Outcome = SyncRow::Outcome;

class RoundJob {
 public:
  RoundJob(const Globals& globals, const SyncOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    SyncRequest request;
    BAYSWAP_CHECK(read_words(request));
    BAYSWAP_TRY(books_, Books::load(globals_));
    BAYSWAP_CHECK(check_names());
    BAYSWAP_TRY(job_,
                SyncJob::open(globals_, options_.dry_run ? SyncJob::Mode::look : SyncJob::Mode::change));
    Logbook* logbook = job_->logbook ? &job_->logbook->book() : nullptr;
    request.carry = request_of(*books_, logbook);
    request.now = job_->now();
    request.in_use = [this, logbook](const std::vector<std::string>& paths) -> std::optional<std::string> {
      return logbook != nullptr ? in_use(paths, job_->now(), *logbook) : std::nullopt;
    };
    request.bay_in_use = [this](const Bay& bay) {
      auto why = bay_in_use(bay);
      if (why) busy_[bay.name] = *why;
      return why;
    };
    BAYSWAP_CHECK(open_bays());
    BAYSWAP_TRY(SyncRound round, SyncRound::begin(*job_->replica, job_->own(), std::move(request)));
    round_ = &round;
    look(logbook);
    BAYSWAP_CHECK(exchange());
    BAYSWAP_CHECK(plan());
    if (!may_write()) return finish(false);
    BAYSWAP_CHECK(write(*logbook));
    return finish(true);
  }

 private:
  struct OneBay {
    std::unique_ptr<OpenedBay> opened;
    std::vector<Plan> plans;
    bool looked = false;
  };

  Result<void> read_words(SyncRequest& request) const {
    for (const std::string& word : options_.accept) {
      if (word == "many") {
        request.accept_many = true;
        continue;
      }
      bool known = false;
      for (const Loss loss : {Loss::deleted, Loss::empty, Loss::damaged})
        if (word == to_text(loss) && loss != Loss::damaged)
          known = request.accept.insert(loss).second || true;
      if (!known)
        return fail(ErrorCode::bad_usage, fmt::format("--accept does not know '{}'", printable(word)),
                    "it knows deleted, empty and many");
    }
    return {};
  }

  // A word that is no bay may be meant as a command.
  Result<void> check_names() const {
    for (const std::string& name : options_.bays) {
      const auto bay = find_bay(books_->home, name);
      if (bay || bay.error().code != ErrorCode::bad_usage) continue;
      constexpr std::array<std::string_view, 8> commands{"join",   "leave",     "status",  "devices",
                                                         "forget", "conflicts", "resolve", "prune"};
      const std::string near = did_you_mean(name, commands);
      if (near.empty()) return tl::unexpected(bay.error());
      return fail(ErrorCode::bad_usage,
                  fmt::format("'{}' is neither a bay nor a command of bayswap sync", printable(name)), near);
    }
    return {};
  }

  Result<void> open_bays() {
    std::vector<std::string> names = options_.bays;
    if (names.empty()) {
      BAYSWAP_TRY(const auto all, list_bays(books_->home));
      for (const auto& [name, bay] : all) {
        if (!bay)
          away(name, bay.error().message);
        else if (bay->sync.takes_part && !is_cart_path(bay->root))  // a cartridge is read where it is named
          names.push_back(name);
      }
    }
    for (const std::string& name : names) {
      auto opened = OpenedBay::open(*books_, name);
      if (!opened && (!options_.bays.empty() && opened.error().code == ErrorCode::bad_usage))
        return tl::unexpected(opened.error());
      if (!opened) {
        if (!options_.bays.empty() && !find_bay(books_->home, name)) return tl::unexpected(opened.error());
        away(name, opened.error().message);
        continue;
      }
      bays_.push_back({*std::move(opened), {}, false});
    }
    return {};
  }

  void away(const std::string& bay, const std::string& why) { away_.emplace_back(bay, why); }

  void look(Logbook* logbook) {
    for (OneBay& bay : bays_) {
      const auto looked = round_->look(
          books_->catalog, {&bay.opened->bay, bay.opened->store.get(), books_->view_options()}, logbook);
      bay.looked = looked.has_value();
      if (!looked) away(bay.opened->bay.name, looked.error().message);
    }
  }

  // A lighthouse that can't be reached is no reason not to keep this device's bays in step.
  Result<void> exchange() {
    auto done = round_->exchange(options_.dry_run ? nullptr : job_->light());
    if (!done && job_->light() == nullptr) return tl::unexpected(done.error());
    if (!done) {
      job_->unreachable = done.error();
      return {};
    }
    exchanged_ = *done;
    if (options_.dry_run && job_->light() != nullptr) {
      auto taken = job_->replica->exchange(*job_->light(), {}, false);
      if (taken)
        exchanged_ = *taken;
      else
        job_->unreachable = taken.error();
    }
    return {};
  }

  Result<void> plan() {
    for (OneBay& bay : bays_) {
      if (!bay.looked) continue;
      BAYSWAP_TRY(bay.plans,
                  round_->plan(bay.opened->bay.name, job_->unreachable ? nullptr : job_->light(),
                               !options_.dry_run && job_->logbook ? &job_->logbook->book() : nullptr));
    }
    return {};
  }

  [[nodiscard]] std::size_t count(Outcome outcome) const {
    return static_cast<std::size_t>(std::ranges::count(round_->rows(), outcome, &SyncRow::outcome));
  }
  [[nodiscard]] std::size_t to_write() const { return count(Outcome::written) + count(Outcome::removed); }

  bool may_write() {
    if (options_.dry_run || !round_->stopped_by().empty()) return false;
    if (to_write() == 0) return true;  // what was settled without writing is still to be remembered
    if (options_.yes) return true;
    if (!has_terminal()) {
      is_unasked_ = true;
      return false;
    }
    print_rows(true);
    std::fflush(stdout);
    is_shown_ = true;
    if (ask(fmt::format("Write {} into {}?", counted(to_write(), "save"), bays_in_words()))) return true;
    say(false, "Nothing was written; what changed here is noted.");
    return false;
  }

  [[nodiscard]] std::string bays_in_words() const {
    std::vector<std::string> names;
    for (const OneBay& bay : bays_)
      if (!bay.plans.empty()) names.push_back(bay.opened->bay.name);
    return joined(names, ", ");
  }

  Result<void> write(Logbook& logbook) {
    for (OneBay& bay : bays_) {
      if (!bay.looked) continue;
      BAYSWAP_CHECK(round_->run(bay.opened->bay.name, bay.plans, logbook,
                                [&](const Plan& plan, std::optional<std::int64_t> first) {
                                  return run_whole(plan, *bay.opened->store, *job_->logbook, first);
                                }));
      for (const Plan& plan : bay.plans) remember(globals_, *books_, plan);
    }
    return {};
  }

  // ---- What is shown -------------------------------------------------------------------------------------

  [[nodiscard]] static std::string in_words(const SyncRow& row, bool as_plan) {
    if (as_plan && row.outcome == Outcome::written) return "write";
    if (as_plan && row.outcome == Outcome::removed) return "remove";
    return std::string(to_text(row.outcome));
  }

  static std::string why_in_words(const SyncRow& row) {
    std::string why = row.why;
    if (row.loss && *row.loss != Loss::damaged)
      why += fmt::format(" (--accept {}, or resolve)", to_text(*row.loss));
    if (row.loss == Loss::damaged) why += " (resolve)";
    if (row.entry) why += fmt::format(" (entry {})", *row.entry);
    return why;
  }

  void print_rows(bool as_plan) const {
    // What was only noted is nothing to decide: many of them are a number.
    constexpr std::size_t few = 12;
    const bool with_noted = count(Outcome::noted) <= few;
    std::vector<std::vector<std::string>> rows;
    for (const SyncRow& row : round_->rows())
      if (with_noted || row.outcome != Outcome::noted)
        rows.push_back({printable(row.save), std::string(tag(row.platform)), row.bay, in_words(row, as_plan),
                        printable(why_in_words(row))});
    if (!rows.empty()) print_table({"save", "for", "bay", as_plan ? "plan" : "outcome", "why"}, rows);
  }

  [[nodiscard]] int exit_word(bool done) const {
    if (!round_->stopped_by().empty() || is_unasked_) return exit_refused;
    const bool open = count(Outcome::asked) + count(Outcome::conflict) + count(Outcome::failed) > 0;
    (void)done;
    return open ? exit_problems : exit_done;
  }

  Result<int> finish(bool done) {
    if (globals_.json) {
      print_document(done);
      return exit_word(done);
    }
    if (!globals_.quiet && (!is_shown_ || done)) print_rows(!done);
    for (const auto& [bay, why] : away_)
      say(globals_.quiet, fmt::format("bayswap: {} is left as it was: {}", bay, printable(why)));
    for (const auto& [bay, why] : busy_)
      say(globals_.quiet, fmt::format("bayswap: {} is read and not written now: {}", bay, printable(why)));
    if (job_->unreachable)
      say(globals_.quiet,
          fmt::format("bayswap: the lighthouse can't be reached: {}. What changed is kept here and "
                      "goes with the next round",
                      printable(job_->unreachable->message)));
    if (!round_->stopped_by().empty()) {
      return report(
          {ErrorCode::unsafe,
           fmt::format("more than a third of the saves of {} are gone or empty at once: nothing was written",
                       round_->stopped_by()),
           "see that it is the right medium; --accept many goes on, and asks about each save"});
    }
    print_summary(done);
    if (is_unasked_)
      return report({ErrorCode::unsafe, "nothing was written: there is no terminal to ask on",
                     "say --yes to go ahead, or --dry-run to see what would be done"});
    return exit_word(done);
  }

  void print_summary(bool done) const {
    if (globals_.quiet) return;
    const std::size_t written = to_write();
    fmt::print("{} noted, {} {}, {} waiting, {} to be answered.\n", count(Outcome::noted), written,
               done ? "written" : "to write", count(Outcome::waits),
               count(Outcome::asked) + count(Outcome::conflict));
    if (exchanged_.sent > 0)
      fmt::print("{} sent to the lighthouse.\n", bytes_in_words(exchanged_.sent_bytes));
    if (exchanged_.rebuilt) fmt::print("The lighthouse had lost what this device told; it has it again.\n");
    if (count(Outcome::conflict) > 0)
      fmt::print(
          "`bayswap sync conflicts` shows both sides, `bayswap sync resolve GAME --keep N` decides.\n");
    if (std::ranges::any_of(round_->rows(), [](const SyncRow& row) { return row.loss.has_value(); }))
      fmt::print("`bayswap sync resolve GAME --keep back` puts a lost save back with the next round.\n");
    if (options_.dry_run) say(globals_.quiet, "A dry run: nothing was changed.");
    if (done && written > 0)
      fmt::print("{}\n", toned(Tone::good, "Done. `bayswap undo` takes what was written into a bay back."));
  }

  void print_document(bool done) const {
    Json rows = Json::array();
    for (const SyncRow& row : round_->rows())
      rows.push_back({{"save", row.save},
                      {"platform", tag(row.platform)},
                      {"bay", row.bay},
                      {"path", row.path},
                      {"outcome", to_text(row.outcome)},
                      {"why", row.why},
                      {"loss", row.loss ? Json(to_text(*row.loss)) : Json(nullptr)},
                      {"version", row.version ? Json(row.version->hex()) : Json(nullptr)},
                      {"entry", row.entry ? Json(*row.entry) : Json(nullptr)}});
    Json left = Json::array();
    for (const auto& [bay, why] : away_) left.push_back({{"bay", bay}, {"why", why}});
    const DeviceInfo& device = job_->replica->device();
    print_json({{"device", device.name},
                {"lighthouse",
                 {{"url", device.url},
                  {"reached", !job_->unreachable},
                  {"why", job_->unreachable ? Json(job_->unreachable->message) : Json(nullptr)},
                  {"sent", exchanged_.sent},
                  {"sent_bytes", exchanged_.sent_bytes},
                  {"received", exchanged_.received},
                  {"missing", exchanged_.missing},
                  {"given", exchanged_.given},
                  {"rebuilt", exchanged_.rebuilt}}},
                {"done", done},
                {"stopped_by", round_->stopped_by().empty() ? Json(nullptr) : Json(round_->stopped_by())},
                {"bays_left", std::move(left)},
                {"saves", std::move(rows)}});
  }

  const Globals& globals_;
  const SyncOptions& options_;
  std::unique_ptr<Books> books_;
  std::unique_ptr<SyncJob> job_;
  std::vector<OneBay> bays_;
  std::vector<std::pair<std::string, std::string>> away_;
  std::map<std::string, std::string> busy_;  // bays that may not be written, and why
  SyncRound* round_ = nullptr;
  Exchanged exchanged_;
  bool is_unasked_ = false;
  bool is_shown_ = false;
};

}  // namespace

int sync_command(const Globals& globals, const SyncOptions& options) {
  const auto code = RoundJob(globals, options).run();
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
