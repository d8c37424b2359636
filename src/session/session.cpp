// Sessions, and plans that run under their guard.
#include <bayswap/cart_store.hpp>
#include <bayswap/session.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "cart/verdict.hpp"
#include "session/books.hpp"

namespace bayswap {

struct Session::Impl {
  SessionOptions options;
  KnownBooks books;
  std::unique_ptr<LockedLogbook> logbook;
};

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

Result<std::optional<std::int64_t>> SessionPlan::run() {
  Session::Impl& session = *session_->impl_;
  if (const PlanIssue* refusal = plan_.refusal())
    return fail(ErrorCode::unsafe, refusal->text, refusal->hint, refusal->remedy);
  if (plan_.changes.empty()) return std::optional<std::int64_t>();
  BAYSWAP_CHECK(session.logbook->resume());
  std::vector<std::string> paths;
  for (const FileChange& change : plan_.changes) paths.push_back(target_->absolute_path(change.path));
  if (const auto why = in_use(paths, session.options.clock(), session.logbook->book()))
    return fail(ErrorCode::busy, fmt::format("nothing was changed: {}", *why),
                "close the program that uses it and try again");
  BAYSWAP_CHECK(check_contacts(plan_, *target_));
  BAYSWAP_TRY(const std::int64_t entry, bayswap::run(plan_, *target_, session.logbook->book()));
  // The entry is made, whatever becomes of what it taught.
  const Plan* const plan = &plan_;
  const auto taught = keep_lessons(session.books, std::span(&plan, 1));
  if (!taught && session.options.events.left_out) session.options.events.left_out(taught.error());
  return std::optional(entry);
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

Result<std::shared_ptr<OpenPlace>> Session::look(const std::string& place) {
  auto opened = std::make_shared<OpenPlace>();
  BAYSWAP_TRY(opened->bay, bay_or_place(impl_->books, place, opened->is_place, {}));
  BAYSWAP_TRY(opened->store, open_place(opened->bay));
  opened->view = std::make_unique<BayView>(impl_->books.catalog, opened->bay, *opened->store,
                                           impl_->books.view_options());
  return opened;
}

CarryRequest Session::request() {
  return request_of(impl_->books, &impl_->logbook->book());
}

Result<SessionPlan> Session::carry(const CarryRequest& request, const std::string& from,
                                   const std::string& to) {
  BAYSWAP_TRY(auto source, look(from));
  BAYSWAP_TRY(auto target, look(to));
  LocalStore outside;
  CarryRequest whole = request;
  const AccountMap known = impl_->books.accounts.between(source->bay.name, target->bay.name);
  whole.accounts.insert(whole.accounts.end(), known.begin(), known.end());
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
