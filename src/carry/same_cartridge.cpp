#include "carry/same_cartridge.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"

namespace bayswap {

bool may_be_left_by(ByteView now, ByteView before, ByteView after) {
  if (now.size() != before.size() || now.size() != after.size()) return true;
  // The unit that was being written, or a number and its checksum.
  const std::size_t max_others = std::min<std::size_t>(256, now.size() / 16);
  std::size_t others = 0;
  for (std::size_t i = 0; i < now.size(); ++i) {
    const Byte b = now[i];
    if (b != before[i] && b != after[i] && b != 0xff && b != (before[i] & after[i])) ++others;
  }
  return others <= max_others;
}

Result<void> check_same_cartridge(Logbook& logbook, Store& files, const LoggedChange& change,
                                  const std::optional<Blob>& now, std::int64_t entry, Plan& plan) {
  const FileTraits traits = files.file_traits(change.path);
  const auto& left = change.after ? change.after : change.before;
  if (!traits.may_tear || traits.runs_on || !now || !left) return {};
  BAYSWAP_TRY(const Blob after, logbook.bytes(*left));
  Blob before = after;
  if (change.before) {
    BAYSWAP_TRY(before, logbook.bytes(*change.before));
  }
  if (!may_be_left_by(now->view(), before.view(), after.view()))
    plan.add(
        {PlanIssue::Level::refusal,
         IssueCode::odd_target,
         fmt::format("{} holds neither what it held before entry {} nor what was written then: it may be "
                     "another cartridge of the same game",
                     files.display_path(change.path), entry),
         "put the right one in; what was played on it since looks the same",
         {Remedy::Kind::accept, {std::string(to_text(IssueCode::odd_target))}}});
  return {};
}

Result<void> check_same_cartridge(Logbook& logbook, Store& files, const std::string& path,
                                  const std::optional<Blob>& now, std::int64_t entry, Plan& plan) {
  if (!files.file_traits(path).may_tear) return {};
  LoggedChange last;
  last.path = path;
  BAYSWAP_TRY(last.after, logbook.newest_of(path));
  return check_same_cartridge(logbook, files, last, now, entry, plan);
}

void accept_issues(Plan& plan, const std::set<IssueCode>& codes) {
  for (PlanIssue& issue : plan.issues)
    if (issue.level == PlanIssue::Level::refusal && codes.contains(issue.code))
      issue.level = PlanIssue::Level::warning;
}

}  // namespace bayswap
