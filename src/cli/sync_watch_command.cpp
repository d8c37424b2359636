// Rounds of sync by themselves: as something changes (--watch), or one for a timer (--once).
#include <algorithm>
#include <chrono>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"
#include "cli/round_job.hpp"
#include "fs/folder_watch.hpp"

namespace bayswap::cli {
namespace {

using Clock = std::chrono::steady_clock;
using std::chrono::seconds;
using Outcome = SyncRow::Outcome;

// A round waits for files that changed in the last 2 seconds (carry.hpp). Half a second is added, because
// some disks keep times in whole seconds.
constexpr std::chrono::milliseconds rest{2500};
constexpr seconds ask_sync_folder{5};   // where it can't be watched
constexpr seconds ask_unseen_bays{10};  // of a network, which change unseen
constexpr seconds look_again{300};      // whatever was seen or not: sleep, clocks, lost events
constexpr seconds after_failure{20};

// One line an event; what stays as it is is told once.
class Teller {
 public:
  explicit Teller(const Globals& globals) : globals_(globals) {}

  void report(const RoundReport& round) {
    std::map<std::string, std::string> now;
    for (const SyncRow& row : round.rows) {
      const std::string key = fmt::format("{} {} {}", row.bay, row.path, row.save);
      const std::string what = event_of(row);
      const bool stays = row.outcome == Outcome::waits || row.outcome == Outcome::asked ||
                         row.outcome == Outcome::conflict || row.outcome == Outcome::failed;
      if (stays) now[key] = what;
      if (!stays || told_[key] != what)
        print_event(to_text(row.outcome), what,
                    {{"save", row.save}, {"bay", row.bay}, {"platform", tag(row.platform)}});
    }
    for (const auto& [bay, why] : round.away) standing(now, bay, "away", fmt::format("{}: {}", bay, why));
    for (const auto& [bay, why] : round.busy)
      standing(now, bay + " busy", "busy", fmt::format("{}: {}", bay, why));
    if (round.unreachable) standing(now, "sync_folder", "unreachable", round.unreachable->message);
    if (round.unsent > 0)
      standing(now, "unsent", "unsent",
               fmt::format("{} not at the sync folder yet", counted(round.unsent, "version")));
    if (!round.unreachable && told_.contains("sync_folder")) print_event("reached", round.device.url);
    if (!round.stopped_by.empty())
      standing(
          now, "stopped", "stopped",
          fmt::format("{}: more than a third of its saves are gone or empty at once; `bayswap sync {}` asks",
                      round.stopped_by, round.stopped_by));
    if (round.exchanged.sent > 0) print_event("sent", bytes_in_words(round.exchanged.sent_bytes));
    if (round.exchanged.received > 0) print_event("received", counted(round.exchanged.received, "version"));
    if (round.exchanged.rebuilt) print_event("rebuilt", "the sync folder had lost this device's reports");
    told_ = std::move(now);
  }

  void failed(const Error& error) {
    std::map<std::string, std::string> now = told_;
    standing(now, "round", "failed", error.hint.empty() ? error.message : error.message + ": " + error.hint);
    told_ = std::move(now);
  }
  void went() { told_.erase("round"); }

  void print_event(std::string_view event, const std::string& what, const Json& more = {}) const {
    if (globals_.quiet) return;
    const std::int64_t now = clock_of_process()();
    if (globals_.json) {
      Json line{{"time", utc_time(now)}, {"event", event}, {"what", what}};
      line.update(more);
      print_document(line.line() + "\n");
    } else {
      fmt::print("{}  {:<11} {}\n", local_time(now), event, printable(what));
    }
    std::fflush(stdout);
  }

 private:
  static std::string event_of(const SyncRow& row) {
    return fmt::format("{} ({}) in {}{}{}", row.save, tag(row.platform), row.bay, row.why.empty() ? "" : ": ",
                       row.why);
  }
  void standing(std::map<std::string, std::string>& now, const std::string& key, std::string_view event,
                const std::string& what) {
    now[key] = what;
    const auto before = told_.find(key);
    if (before == told_.end() || before->second != what) print_event(event, what);
  }

  const Globals& globals_;
  std::map<std::string, std::string> told_;
};

class Watcher {
 public:
  Watcher(const Globals& globals, const SyncOptions& options)
      : globals_(globals), options_(options), teller_(globals) {
    options_.yes = true;
  }

  Result<int> run() {
    BAYSWAP_TRY(const Home home, home_of(globals_));
    {
      BAYSWAP_TRY(const auto job, SyncJob::open(globals_, SyncJob::Mode::look));  // has joined
      url_ = job->replica->device().url;
    }
    const auto alone = FileLock::acquire(join_path(home.data, "watch"), 0);
    if (!alone && alone.error().code == ErrorCode::busy)
      return fail(ErrorCode::busy, "this device is watched already, by another `bayswap sync --watch`",
                  "end that one first");
    if (!alone) return tl::unexpected(alone.error());
    watch_everything(home);
    teller_.print_event("watching", url_);
    round();
    for (;;) {
      const auto changed = watch_.wait(std::chrono::milliseconds(250));
      const auto now = Clock::now();
      if (!changed.empty()) {
        // Each change starts the wait anew, but not for ever: a game that saves all the time is told too.
        constexpr seconds longest{20};
        if (!first_change_) first_change_ = now;
        due_ = std::min<Clock::time_point>(now + rest, *first_change_ + longest);
      }
      if (slept(now)) due_ = now;
      if (now < due_) continue;
      watch_everything(home);  // bays that were added, media that came back
      round();
    }
  }

 private:
  void round() {
    first_change_.reset();
    const auto report = make_round(globals_, options_, [](const RoundReport&) { return true; });
    if (!report) {
      teller_.failed(report.error());
      due_ = Clock::now() + after_failure;
      return;
    }
    teller_.went();
    teller_.report(*report);
    // Files that were still changing are looked at again soon.
    const bool waits = report->count(Outcome::waits) > 0;
    auto next = unseen_sync_folder_ || report->unreachable ? ask_sync_folder : look_again;
    if (unseen_bays_ || !report->away.empty() || !report->busy.empty())
      next = std::min(next, ask_unseen_bays);
    due_ = Clock::now() + (waits ? std::chrono::milliseconds(rest) : std::chrono::milliseconds(next));
  }

  // Anew each time: the folder of a medium that was away is another one than it was.
  void watch_everything(const Home& home) {
    unseen_sync_folder_ = !is_local_url(url_) || !watch_.add(join_path(path_of_url(url_), "devices"));
    unseen_bays_ = false;
    const auto bays = list_bays(home);
    if (!bays) return;
    for (const auto& [name, bay] : *bays) {
      if (!bay || !bay->sync.takes_part ||
          (!options_.bays.empty() && std::ranges::find(options_.bays, name) == options_.bays.end()))
        continue;
      if (!is_on_disk(bay->root) || !watch_.add(bay->root)) unseen_bays_ = true;
    }
  }

  // The clock of the wall went on and this process did not.
  bool slept(Clock::time_point now) {
    const auto wall = std::chrono::system_clock::now();
    const auto passed = now - last_;
    const auto passed_outside = wall - last_wall_;
    last_ = now;
    last_wall_ = wall;
    constexpr seconds jump{30};
    return passed_outside > passed + jump || passed_outside + jump < passed;
  }

  const Globals& globals_;
  SyncOptions options_;
  Teller teller_;
  FolderWatch watch_;
  std::string url_;
  bool unseen_sync_folder_ = false;
  bool unseen_bays_ = false;
  Clock::time_point due_;
  std::optional<Clock::time_point> first_change_;
  Clock::time_point last_ = Clock::now();
  std::chrono::system_clock::time_point last_wall_ = std::chrono::system_clock::now();
};

Result<int> once(const Globals& globals, SyncOptions options) {
  options.yes = true;
  Teller teller(globals);
  BAYSWAP_TRY(const RoundReport report,
              make_round(globals, options, [](const RoundReport&) { return true; }));
  teller.report(report);
  return report.exit_code();
}

}  // namespace

int sync_watch_command(const Globals& globals, const SyncOptions& options) {
  return exit_code_of(options.once ? once(globals, options) : Watcher(globals, options).run());
}

}  // namespace bayswap::cli
