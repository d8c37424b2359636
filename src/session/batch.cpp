// Every save that differs, planned and run within a session.
#include <bayswap/session.hpp>

#include <fmt/format.h>

#include "base/try.hpp"
#include "session/impl.hpp"
#include "session/watched_store.hpp"

namespace bayswap {

Result<SessionBatch> Session::carry_all(const CarryRequest& request, const std::string& from,
                                        const std::string& to, Progress progress) {
  BAYSWAP_TRY(auto source, look(from, progress));
  BAYSWAP_TRY(auto target, look(to, std::move(progress)));
  auto planned = plan_all(*source->view, *target->view, impl_->with_accounts(request, *source, *target));
  for (const OpenPlace* place : {source.get(), target.get()})
    BAYSWAP_CHECK(static_cast<const WatchedStore&>(*place->watched).check());
  BAYSWAP_TRY(Batch batch, std::move(planned));
  if (const auto& question = batch.account_question) {
    std::vector<std::string> values = question->choices;
    values.insert(values.begin(), question->own);
    return fail(ErrorCode::bad_usage,
                question->at_source ? fmt::format("{} has the saves of several accounts", source->bay.name)
                                    : fmt::format("{} has several accounts", target->bay.name),
                "say which account it is", {Remedy::Kind::account, std::move(values)});
  }
  for (const PlanIssue& issue : batch.issues)
    if (issue.level == PlanIssue::Level::refusal)
      return fail(ErrorCode::bad_usage, issue.text, issue.hint, issue.remedy);
  for (Plan& plan : batch.plans) note_hard_links(plan, *target->store);
  std::shared_ptr<Store> store(target, target->store.get());
  return SessionBatch(*this, std::move(batch), {std::move(source), std::move(target)}, std::move(store));
}

Result<void> SessionBatch::run(const Progress& progress) {
  Session::Impl& session = *session_->impl_;
  BAYSWAP_CHECK(session.logbook->resume());
  Logbook& logbook = session.logbook->book();
  std::size_t done = 0;
  bool is_cancelled = false;
  run_batch(
      batch_, *target_, logbook, [&](std::span<const Plan* const> plans, std::optional<std::int64_t> first) {
        std::vector<Result<std::int64_t>> results(
            plans.size(), fail(ErrorCode::cancelled, "it was cancelled before it", ""));
        is_cancelled =
            is_cancelled || (progress && !progress({ProgressEvent::What::writing, label_of(*plans.front()),
                                                    done, batch_.plans.size()}));
        done += plans.size();
        if (is_cancelled) return results;
        // Those that no program uses run together.
        std::vector<const Plan*> free;
        std::vector<std::size_t> numbers;
        for (std::size_t i = 0; i < plans.size(); ++i) {
          auto ready = check_idle(*plans[i], *target_, session.options.clock(), logbook);
          if (ready) ready = check_contacts(*plans[i], *target_);
          if (!ready) {
            results[i] = tl::unexpected(std::move(ready.error()));
            continue;
          }
          free.push_back(plans[i]);
          numbers.push_back(i);
        }
        auto ran = run_together(free, *target_, logbook, first);
        for (std::size_t n = 0; n < ran.size(); ++n) results[numbers[n]] = std::move(ran[n]);
        return results;
      });
  std::vector<const Plan*> taught;
  std::vector<bool> ran(batch_.plans.size());
  for (const BatchRow& row : batch_.rows)
    if (row.entry && row.plan) ran[*row.plan] = true;
  for (std::size_t i = 0; i < ran.size(); ++i)
    if (ran[i]) taught.push_back(&batch_.plans[i]);
  if (!taught.empty()) session.learn(taught);
  if (is_cancelled)
    return fail(ErrorCode::cancelled, fmt::format("it was cancelled after {} saves", taught.size()),
                "what was carried can be undone; run it again for the rest");
  return {};
}

}  // namespace bayswap
