// Issues and steps of a plan: what is wrong with it or worth knowing, and what it does. Belongs to
// bayswap::core.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <optional>
#include <set>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The kinds of issues. Their texts (see to_text) are stable: users pass them, and JSON contains them.
enum class IssueCode {
  // Refused unless accepted by name (see is_acceptable).
  wrong_region,
  wrong_game,
  odd_target,
  unwritten,
  short_file,
  damaged,
  cut,
  newer,
  byte_order,
  no_rom,
  part,
  // Refused until the cause is resolved.
  empty,
  which_account,
  which_save,
  which_rom,
  same_place,
  base_needed,
  no_effect,
  read_only,
  foreign_path,
  // Warnings and notes.
  mirrored,
  stuck_bit,
  half_empty,
  either_layout,
  conversion,
  other_layout,
  other_program,
  other_revision,
  one_rom,
  chip_doubtful,
  same,
  no_place,
  first_save,
  title_id,
  old_region,
  signature,
  misplaced,
  hard_links,
  foreign_entry,
  changed_since,
  companion_missing,
  companion_kept,
  companion_damaged,
  shared,
};
/// "wrong-region", ...
[[nodiscard]] std::string_view to_text(IssueCode code);
[[nodiscard]] std::optional<IssueCode> issue_code_from_text(std::string_view text);
/// Returns whether a user can accept issues of this kind.
[[nodiscard]] bool is_acceptable(IssueCode code);
/// Returns the texts of all acceptable kinds, in the order of IssueCode.
[[nodiscard]] std::vector<std::string> acceptable_issues();

struct PlanIssue {
  enum class Level { note, warning, refusal };
  Level level{};
  IssueCode code{};
  std::string text;  // a sentence: place, fact, value
  std::string hint;  // a sentence that says what to do; may be empty
  Remedy remedy = {};
};
[[nodiscard]] std::string_view to_text(PlanIssue::Level level);

/// One line of a plan.
struct Step {
  std::string action;  // "keep", "convert", "graft", "name", "place", "leave", "remove", ...
  std::string text;
  std::string why;
};

/// Collects issues. Those that a user has to accept are refusals unless `accepted` contains them.
class IssueList {
 public:
  IssueList() = default;
  explicit IssueList(const std::set<IssueCode>& accepted) : accepted_(accepted) {}

  /// Adds an issue, unless one with this code and text is in the list.
  void add(PlanIssue issue);
  void note(IssueCode code, std::string text, std::string hint = {}, Remedy remedy = {});
  void warn(IssueCode code, std::string text, std::string hint = {}, Remedy remedy = {});
  void refuse(IssueCode code, std::string text, std::string hint = {}, Remedy remedy = {});
  /// Adds a refusal, or a warning if the issue was accepted. Returns whether it was accepted.
  bool unless_accepted(IssueCode code, std::string text, std::string hint = {}, Remedy remedy = {});
  [[nodiscard]] bool is_accepted(IssueCode code) const { return accepted_.contains(code); }

  /// Returns the first refusal; nullptr if there is none.
  [[nodiscard]] const PlanIssue* refusal() const;
  [[nodiscard]] const std::vector<PlanIssue>& all() const { return issues_; }
  [[nodiscard]] std::vector<PlanIssue> take() { return std::move(issues_); }

 private:
  std::set<IssueCode> accepted_;
  std::vector<PlanIssue> issues_;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
