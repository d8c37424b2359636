// Plans over the C interface.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "answer/answers.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "c/handles.hpp"
#include "c/request.hpp"

namespace bayswap::c {
namespace {

std::string plain_hint(const std::string& hint, const Remedy& /*remedy*/,
                       std::optional<IssueCode> /*acceptable*/) {
  return hint;
}

// The refusals that the user accepts.
Result<std::set<IssueCode>> accepted(Request& asked) {
  std::set<IssueCode> codes;
  for (const std::string& word : asked.texts("accept")) {
    const auto code = issue_code_from_text(word);
    if (!code || !is_acceptable(*code))
      return fail(ErrorCode::bad_usage,
                  fmt::format("'{}' in \"accept\" is nothing that can be accepted", printable(word)),
                  "an issue that can has \"acceptable\": true");
    codes.insert(*code);
  }
  return codes;
}

// What a carry of one save, of all, and the taking over of a file have in common.
Result<CarryRequest> carry_request(Session& session, Request& asked) {
  CarryRequest request = session.request();
  request.slot = static_cast<int>(std::clamp<std::int64_t>(asked.number("slot"), 0, INT32_MAX));
  request.exact = asked.flag("exact");
  BAYSWAP_TRY(request.accept, accepted(asked));
  if (const std::string region = asked.text("region"); !region.empty()) {
    request.region = region_from_text(region);
    if (!request.region)
      return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a region", printable(region)),
                  "e.g. japan, europe");
  }
  if (const std::string account = asked.text("account"); !account.empty()) {
    const auto equals = account.find('=');
    if (equals == std::string::npos)
      request.accounts.emplace_back("", account);
    else
      request.accounts.emplace_back(account.substr(0, equals), account.substr(equals + 1));
    request.accounts_said = 1;
  }
  return request;
}

Result<std::string> needed_text(Request& asked, const std::string& key) {
  std::string text = asked.text(key);
  if (text.empty()) {
    BAYSWAP_CHECK(asked.end());
    return fail(ErrorCode::bad_usage, fmt::format("the request has no \"{}\"", key),
                "docs/schema/requests.json has what it can be");
  }
  return text;
}

Result<std::unique_ptr<bsw_plan>> plan_of(const std::shared_ptr<HomeState>& home, Request& asked,
                                          const Progress& progress) {
  Session& session = *home->session;
  const std::string verb = asked.text("do");
  const auto single = [&](SessionPlan plan) {
    return std::make_unique<bsw_plan>(bsw_plan{home, "", "", std::move(plan)});
  };
  if (verb == "undo" || verb == "restore") {
    const bool has_entry = asked.has("entry");
    const std::int64_t entry = asked.number("entry");
    const bool before = verb == "restore" && asked.flag("before");
    BAYSWAP_TRY(const auto codes, accepted(asked));
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_CHECK(session.resume());
    if (verb == "restore" && !has_entry)
      return fail(ErrorCode::bad_usage, "the request has no \"entry\"",
                  "pass the number of an entry of the logbook");
    BAYSWAP_TRY(SessionPlan plan, verb == "restore" ? session.restore(entry, before)
                                  : has_entry       ? session.undo(entry)
                                                    : session.undo());
    for (const IssueCode code : codes) plan.accept(code);
    return single(std::move(plan));
  }
  if (verb != "carry" && verb != "carry-all" && verb != "carry-file")
    return fail(ErrorCode::bad_usage, fmt::format("\"do\" is '{}'", printable(verb)),
                "it is carry, carry-all, carry-file, undo or restore");
  BAYSWAP_TRY(CarryRequest request, carry_request(session, asked));
  BAYSWAP_TRY(const std::string to, needed_text(asked, "to"));
  if (verb != "carry-all") {
    BAYSWAP_TRY(request.what, needed_text(asked, "what"));
  }
  if (verb == "carry-file") {
    const std::string game = asked.text("game");
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_CHECK(session.resume());
    BAYSWAP_TRY(SessionPlan plan, session.carry_file(request, to, game));
    return single(std::move(plan));
  }
  BAYSWAP_TRY(const std::string from, needed_text(asked, "from"));
  if (verb == "carry") {
    request.rom = asked.text("rom");
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_CHECK(session.resume());
    BAYSWAP_TRY(SessionPlan plan, session.carry(request, from, to));
    return single(std::move(plan));
  }
  BAYSWAP_CHECK(asked.end());
  BAYSWAP_CHECK(session.resume());
  BAYSWAP_TRY(SessionBatch batch, session.carry_all(request, from, to, progress));
  return std::make_unique<bsw_plan>(bsw_plan{home, from, to, std::move(batch)});
}

Json batch_json(const bsw_plan& plan, const Batch& batch) {
  using Outcome = BatchRow::Outcome;
  Json list = Json::array();
  for (const BatchRow& row : batch.rows) list.push_back(to_json(row));
  Json json{{"from", plan.from}, {"to", plan.to}, {"dry_run", !plan.has_run}};
  for (const Outcome outcome :
       {Outcome::carried, Outcome::same, Outcome::refused, Outcome::failed, Outcome::left})
    json[to_text(outcome)] = outcome == Outcome::carried && !plan.has_run ? 0 : batch.count(outcome);
  json["to_carry"] = plan.has_run ? 0 : batch.count(Outcome::carried);
  json["saves"] = std::move(list);
  return json;
}

Json shown(const bsw_plan& plan) {
  if (const auto* batch = std::get_if<SessionBatch>(&plan.what)) return batch_json(plan, batch->batch());
  return plan_json(std::get<SessionPlan>(plan.what).plan(), plain_hint);
}

}  // namespace
}  // namespace bayswap::c

using namespace bayswap;     // NOLINT(google-build-using-namespace): the functions are C's, outside of any
using namespace bayswap::c;  // NOLINT(google-build-using-namespace)

extern "C" {

bsw_status bsw_plan_make(bsw_home* home, const char* request, bsw_event event, void* user, bsw_plan** plan) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, plan}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_TRY(auto made, plan_of(home->state, asked, progress_from(event, user)));
    *plan = made.release();
    return {};
  });
}

bsw_status bsw_plan_show(const bsw_plan* plan, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({plan, json}));
    BAYSWAP_TRY(const auto use, HomeUse::begin(*plan->state));
    *json = text_out(shown(*plan));
    return {};
  });
}

bsw_status bsw_plan_run(bsw_plan* plan, bsw_event event, void* user, int64_t* entry, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({plan}));
    BAYSWAP_TRY(const auto use, HomeUse::begin(*plan->state));
    if (plan->has_run)
      return fail(ErrorCode::bad_usage, "the plan has run already",
                  "make a new one: the files are not as they were");
    const Progress progress = progress_from(event, user);
    std::int64_t first = 0;
    if (auto* single = std::get_if<SessionPlan>(&plan->what)) {
      BAYSWAP_TRY(const auto made, single->run(progress));
      plan->has_run = true;
      first = made.value_or(0);
    } else {
      auto& batch = std::get<SessionBatch>(plan->what);
      BAYSWAP_CHECK(
          plan->state->session->resume());  // while another process has the folder, it may be tried again
      plan->has_run = true;
      BAYSWAP_CHECK(batch.run(progress));
      for (const BatchRow& row : batch.batch().rows)
        if (row.entry && (first == 0 || *row.entry < first)) first = *row.entry;
    }
    if (json != nullptr) *json = text_out(shown(*plan));
    if (entry != nullptr) *entry = first;
    return {};
  });
}

void bsw_plan_free(bsw_plan* plan) {
  delete plan;
}

}  // extern "C"
