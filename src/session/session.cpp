// Sessions, and plans that run under their guard.
#include <bayswap/cart_store.hpp>
#include <bayswap/session.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cart/verdict.hpp"
#include "session/impl.hpp"
#include "session/watched_store.hpp"

namespace bayswap {

Result<void> check_contacts(const Plan& plan, Store& target) {
  for (const FileChange& change : plan.changes) {
    const FileTraits traits = target.file_traits(change.path);
    if (!traits.may_tear || traits.runs_on || !change.before) continue;
    const CartVerdict verdict = verdict_of({}, CartDump{*change.before, {}, 0});
    if (!verdict.contacts.empty())
      return fail(
          ErrorCode::unsafe,
          fmt::format("what is on the cartridge can't be read right: {}; nothing was written",
                      joined(verdict.contacts, "; ")),
          "clean the contacts and put it in again; `bayswap cart write --accept damaged` writes a file "
          "all the same");
  }
  return {};
}

void SessionPlan::accept(IssueCode code) {
  if (!is_acceptable(code)) return;
  for (PlanIssue& issue : plan_.issues)
    if (issue.code == code && issue.level == PlanIssue::Level::refusal)
      issue.level = PlanIssue::Level::warning;
}

std::string_view to_text(ProgressEvent::What what) {
  switch (what) {
    case ProgressEvent::What::reading:
      return "reading";
    case ProgressEvent::What::checking:
      return "checking";
    case ProgressEvent::What::writing:
      return "writing";
  }
  return "reading";
}

std::string label_of(const Plan& plan) {
  return plan.game && !plan.game->title.empty() ? plan.game->title : plan.reason;
}

Result<void> check_idle(const Plan& plan, Store& target, std::int64_t now, Logbook& logbook) {
  std::vector<std::string> paths;
  for (const FileChange& change : plan.changes) paths.push_back(target.absolute_path(change.path));
  if (paths.empty()) return {};
  if (const auto why = in_use(paths, now, logbook))
    return fail(ErrorCode::busy, fmt::format("nothing was changed: {}", *why),
                "close the program that uses it and try again");
  return {};
}

Result<std::optional<std::int64_t>> SessionPlan::run(const Progress& progress) {
  Session::Impl& session = *session_->impl_;
  if (const PlanIssue* refusal = plan_.refusal())
    return fail(ErrorCode::unsafe, refusal->text, refusal->hint, refusal->remedy);
  if (plan_.changes.empty()) return std::optional<std::int64_t>();
  if (progress && !progress({ProgressEvent::What::writing, label_of(plan_), 0, 1}))
    return fail(ErrorCode::cancelled, "it was cancelled; nothing was changed", "run it again");
  BAYSWAP_CHECK(session.logbook->resume());
  BAYSWAP_CHECK(check_idle(plan_, *target_, session.options.clock(), session.logbook->book()));
  BAYSWAP_CHECK(check_contacts(plan_, *target_));
  BAYSWAP_TRY(const std::int64_t entry, bayswap::run(plan_, *target_, session.logbook->book()));
  // The entry is made, whatever becomes of what it taught.
  const Plan* const plan = &plan_;
  session.learn(std::span(&plan, 1));
  return std::optional(entry);
}

void Session::Impl::learn(std::span<const Plan* const> plans) {
  const auto taught = keep_lessons(books, plans);
  if (!taught && options.events.left_out) options.events.left_out(taught.error());
}

Session::Session(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Session::~Session() = default;

Result<std::unique_ptr<Session>> Session::open(const Home& home, SessionOptions options) {
  auto impl = std::make_unique<Impl>();
  if (!options.clock) options.clock = system_clock();
  impl->options = std::move(options);
  BAYSWAP_TRY(impl->logbook, LockedLogbook::open(home, impl->options));
  BAYSWAP_CHECK(impl->books.read(home, impl->options.events.left_out));
  return std::unique_ptr<Session>(new Session(std::move(impl)));
}

const Home& Session::home() const {
  return impl_->books.home;
}
const Catalog& Session::catalog() const {
  return impl_->books.catalog;
}
Logbook& Session::logbook() {
  return impl_->logbook->book();
}

Result<const std::vector<HeldSave>*> OpenPlace::saves(BayView::Depth depth) const {
  auto found = view->saves(depth);
  BAYSWAP_CHECK(static_cast<const WatchedStore&>(*watched).check());
  return found;
}

Result<std::shared_ptr<OpenPlace>> Session::look(const std::string& place, Progress progress) {
  auto opened = std::make_shared<OpenPlace>();
  BAYSWAP_TRY(opened->bay, bay_or_place(impl_->books, place, opened->is_place, {}));
  BAYSWAP_TRY(opened->store, open_place(opened->bay));
  opened->watched = std::make_unique<WatchedStore>(*opened->store, std::move(progress));
  opened->view = std::make_unique<BayView>(impl_->books.catalog, opened->bay, *opened->watched,
                                           impl_->books.view_options());
  return opened;
}

CarryRequest Session::request() {
  return request_of(impl_->books, &impl_->logbook->book());
}

CarryRequest Session::Impl::with_accounts(CarryRequest request, const OpenPlace& source,
                                          const OpenPlace& target) const {
  const AccountMap known = books.accounts.between(source.bay.name, target.bay.name);
  request.accounts.insert(request.accounts.end(), known.begin(), known.end());
  return request;
}

Result<SessionPlan> Session::carry(const CarryRequest& request, const std::string& from,
                                   const std::string& to) {
  BAYSWAP_TRY(auto source, look(from));
  BAYSWAP_TRY(auto target, look(to));
  LocalStore outside;
  const CarryRequest whole = impl_->with_accounts(request, *source, *target);
  BAYSWAP_TRY(Plan plan, plan_carry(*source->view, *target->view, outside, whole));
  note_hard_links(plan, *target->store);
  // The store lives as long as its place does.
  std::shared_ptr<Store> store(target, target->store.get());
  return SessionPlan(*this, std::move(plan), {std::move(source), std::move(target)}, std::move(store));
}

Result<SessionPlan> Session::carry(const std::string& what, const std::string& from, const std::string& to) {
  CarryRequest request = this->request();
  request.what = what;
  return carry(request, from, to);
}

Result<SessionPlan> Session::carry_file(const CarryRequest& request, const std::string& to,
                                        const std::string& game) {
  BAYSWAP_TRY(auto target, look(to));
  BAYSWAP_TRY(const auto found, find_candidates(*target->view, request.what, game));
  const auto likeliest = clearly_likeliest(found);
  if (!likeliest) {
    std::vector<std::string> choices;
    for (const Candidate& one : found) choices.push_back(one.where);
    return fail(ErrorCode::unsafe, fmt::format("{} has several saves that are about as likely", request.what),
                "say which game it is", {Remedy::Kind::save, std::move(choices)});
  }
  Candidate one = found[*likeliest];
  one.told = one.told || !game.empty();
  BAYSWAP_TRY(Plan plan, plan_file_carry(*target->view, one, request));
  note_hard_links(plan, *target->store);
  std::shared_ptr<Store> store(target, target->store.get());
  return SessionPlan(*this, std::move(plan), {std::move(target)}, std::move(store));
}

Result<std::vector<BackedUpSave>> Session::backup(const std::string& place, const std::string& what,
                                                  Progress progress) {
  BAYSWAP_CHECK(impl_->logbook->resume());
  BAYSWAP_TRY(const auto opened, look(place, std::move(progress)));
  LocalStore outside;
  auto kept = backup_saves(*opened->view, outside, what, impl_->logbook->book());
  BAYSWAP_CHECK(static_cast<const WatchedStore&>(*opened->watched).check());
  return kept;
}

Result<void> Session::rest() {
  return impl_->logbook->rest();
}
Result<void> Session::resume() {
  return impl_->logbook->resume();
}

Result<SessionPlan> Session::undo(std::optional<std::int64_t> entry) {
  auto files = std::make_shared<AnyStore>();
  BAYSWAP_TRY(Plan plan, plan_undo(impl_->logbook->book(), entry, *files, bay_roots(impl_->books.home)));
  return SessionPlan(*this, std::move(plan), {}, std::move(files));
}

Result<SessionPlan> Session::restore(std::int64_t entry, bool before) {
  auto files = std::make_shared<AnyStore>();
  BAYSWAP_TRY(Plan plan,
              plan_restore(impl_->logbook->book(), entry, before, *files, bay_roots(impl_->books.home)));
  return SessionPlan(*this, std::move(plan), {}, std::move(files));
}

}  // namespace bayswap
