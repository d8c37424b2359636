#include "cli/round_job.hpp"

#include <fmt/format.h>
#include <bayswap/cart_store.hpp>
#include <bayswap/state.hpp>

#include <algorithm>
#include <array>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

class RoundJob {
 public:
  RoundJob(const Globals& globals, const SyncOptions& options) : globals_(globals), options_(options) {}

  Result<RoundReport> run(const std::function<bool(const RoundReport&)>& may_write) {
    SyncRequest request;
    BAYSWAP_CHECK(read_words(request));
    BAYSWAP_TRY(books_, Books::load(globals_));
    BAYSWAP_CHECK(check_names());
    BAYSWAP_TRY(job_,
                SyncJob::open(globals_, options_.dry_run ? SyncJob::Mode::look : SyncJob::Mode::change));
    Logbook* logbook = job_->logbook ? &job_->logbook->book() : nullptr;
    request.carry = request_of(*books_, logbook);
    BAYSWAP_TRY(maps_, state_maps_of(globals_));
    request.state_maps = &*maps_;
    request.now = job_->now();
    request.in_use = [this, logbook](const std::vector<std::string>& paths) -> std::optional<std::string> {
      return logbook != nullptr ? in_use(paths, job_->now(), *logbook) : std::nullopt;
    };
    request.bay_in_use = [this](const Bay& bay) {
      auto why = bay_in_use(bay);
      if (why) report_.busy[bay.name] = *why;
      return why;
    };
    BAYSWAP_CHECK(open_bays());
    BAYSWAP_TRY(SyncRound round, SyncRound::begin(*job_->replica, job_->own(), std::move(request)));
    round_ = &round;
    look(logbook);
    BAYSWAP_CHECK(exchange());
    BAYSWAP_CHECK(plan());
    take_report();
    if (options_.dry_run || !report_.stopped_by.empty()) return std::move(report_);
    // What was settled without writing is to be remembered all the same.
    if (report_.to_write() > 0 && !may_write(report_)) return std::move(report_);
    BAYSWAP_CHECK(write(*logbook));
    take_report();
    BAYSWAP_CHECK(keep_open_rows(job_->own(), report_.rows, job_->now()));
    BAYSWAP_CHECK(count_what_waits());
    report_.done = true;
    return std::move(report_);
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
      constexpr std::array<std::string_view, 9> commands{
          "set", "join", "status", "devices", "remove", "conflicts", "resolve", "prune", "key"};
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
          away(name, bay.error());
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
        away(name, opened.error());
        continue;
      }
      bays_.push_back({*std::move(opened), {}, false});
    }
    return {};
  }

  // A medium that is not there, or a handheld that is switched off, is left out of a round of all bays; what
  // was named, or is there and can't be looked at, was meant.
  void away(const std::string& bay, const Error& why) {
    report_.away.emplace_back(bay, why.message);
    const auto known = find_bay(books_->home, bay);
    const bool is_off =
        why.code == ErrorCode::not_found || (why.code == ErrorCode::io && known && !is_on_disk(known->root));
    if (!options_.bays.empty() || !is_off) report_.is_unlooked = true;
  }

  void look(Logbook* logbook) {
    for (OneBay& bay : bays_) {
      const auto looked = round_->look(
          books_->catalog, {&bay.opened->bay, bay.opened->store.get(), books_->view_options()}, logbook);
      bay.looked = looked.has_value();
      if (!looked) away(bay.opened->bay.name, looked.error());
    }
    if (!report_.away.empty() && std::ranges::none_of(bays_, &OneBay::looked)) report_.is_unlooked = true;
  }

  // A sync folder that can't be reached is no reason not to keep this device's bays in step.
  Result<void> exchange() {
    auto done = round_->exchange(options_.dry_run ? nullptr : job_->light());
    if (job_->logbook) BAYSWAP_CHECK(job_->logbook->resume());
    if (!done && job_->light() == nullptr) return tl::unexpected(done.error());
    if (!done) {
      job_->unreachable = done.error();
      return {};
    }
    report_.exchanged = *done;
    if (options_.dry_run && job_->light() != nullptr) {
      auto taken = job_->replica->exchange(*job_->light(), {}, false);
      if (taken)
        report_.exchanged = *taken;
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

  void take_report() {
    report_.device = job_->replica->device();
    report_.rows = round_->rows();
    report_.unreachable = job_->unreachable;
    report_.stopped_by = round_->stopped_by();
    report_.planned.clear();
    for (const OneBay& bay : bays_)
      if (!bay.plans.empty()) report_.planned.push_back(bay.opened->bay.name);
  }

  // What did not get there: to the sync folder, or into bays that are away.
  Result<void> count_what_waits() {
    report_.unsent = job_->replica->unsent();
    if (report_.away.empty()) return {};
    BAYSWAP_TRY(const History* history, job_->replica->history());
    BAYSWAP_TRY(const auto bays, bay_status(job_->own(), *history));
    for (const BayStatus& bay : bays)
      if (std::ranges::find(report_.away, bay.bay, [](const auto& one) { return one.first; }) !=
          report_.away.end())
        report_.waiting_away += bay.waiting;
    return {};
  }

  Result<void> write(Logbook& logbook) {
    for (OneBay& bay : bays_) {
      if (!bay.looked) continue;
      BAYSWAP_CHECK(round_->run(bay.opened->bay.name, bay.plans, logbook,
                                [&](std::span<const Plan* const> plans, std::optional<std::int64_t> first) {
                                  return run_whole(plans, *bay.opened->store, *job_->logbook, first);
                                }));
      std::vector<const Plan*> taught;
      taught.reserve(bay.plans.size());
      for (const Plan& plan : bay.plans) taught.push_back(&plan);
      remember(globals_, *books_, taught);
    }
    return {};
  }

  const Globals& globals_;
  const SyncOptions& options_;
  std::unique_ptr<Books> books_;
  std::unique_ptr<SyncJob> job_;
  std::vector<OneBay> bays_;
  std::optional<StateMaps> maps_;
  SyncRound* round_ = nullptr;
  RoundReport report_;
};

}  // namespace

std::size_t RoundReport::count(SyncRow::Outcome outcome) const {
  return static_cast<std::size_t>(std::ranges::count(rows, outcome, &SyncRow::outcome));
}

std::size_t RoundReport::to_write() const {
  return count(SyncRow::Outcome::written) + count(SyncRow::Outcome::removed);
}

int RoundReport::exit_code() const {
  if (!stopped_by.empty()) return exit_refused;
  const std::size_t open = count(SyncRow::Outcome::waits) + count(SyncRow::Outcome::asked) +
                           count(SyncRow::Outcome::conflict) + count(SyncRow::Outcome::failed);
  return unreachable || is_unlooked || open + unsent + waiting_away > 0 ? exit_problems : exit_done;
}

Result<RoundReport> make_round(const Globals& globals, const SyncOptions& options,
                               const std::function<bool(const RoundReport&)>& may_write) {
  return RoundJob(globals, options).run(may_write);
}

}  // namespace bayswap::cli
