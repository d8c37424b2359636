#include <bayswap/issue.hpp>

#include <algorithm>
#include <array>

namespace bayswap {
namespace {

constexpr std::array<std::pair<IssueCode, std::string_view>, 44> words{{
    {IssueCode::wrong_region, "wrong-region"},
    {IssueCode::wrong_game, "wrong-game"},
    {IssueCode::odd_target, "odd-target"},
    {IssueCode::unwritten, "unwritten"},
    {IssueCode::short_file, "short"},
    {IssueCode::damaged, "damaged"},
    {IssueCode::cut, "cut"},
    {IssueCode::newer, "newer"},
    {IssueCode::byte_order, "byte-order"},
    {IssueCode::no_rom, "no-rom"},
    {IssueCode::part, "part"},
    {IssueCode::empty, "empty"},
    {IssueCode::which_account, "which-account"},
    {IssueCode::which_save, "which-save"},
    {IssueCode::which_rom, "which-rom"},
    {IssueCode::same_place, "same-place"},
    {IssueCode::base_needed, "base-needed"},
    {IssueCode::no_effect, "no-effect"},
    {IssueCode::read_only, "read-only"},
    {IssueCode::foreign_path, "foreign-path"},
    {IssueCode::mirrored, "mirrored"},
    {IssueCode::stuck_bit, "stuck-bit"},
    {IssueCode::half_empty, "half-empty"},
    {IssueCode::either_layout, "either"},
    {IssueCode::conversion, "convert"},
    {IssueCode::other_layout, "other-layout"},
    {IssueCode::other_program, "other-program"},
    {IssueCode::other_revision, "other-revision"},
    {IssueCode::one_rom, "one-rom"},
    {IssueCode::chip_doubtful, "chip-doubtful"},
    {IssueCode::same, "same"},
    {IssueCode::first_save, "first-save"},
    {IssueCode::no_place, "no-place"},
    {IssueCode::title_id, "title-id"},
    {IssueCode::old_region, "old-region"},
    {IssueCode::signature, "signature"},
    {IssueCode::misplaced, "misplaced"},
    {IssueCode::hard_links, "hard-links"},
    {IssueCode::foreign_entry, "foreign-entry"},
    {IssueCode::changed_since, "changed-since"},
    {IssueCode::companion_missing, "companion-missing"},
    {IssueCode::companion_kept, "companion-kept"},
    {IssueCode::companion_damaged, "companion-damaged"},
    {IssueCode::shared, "shared"},
}};

}  // namespace

std::string_view to_text(IssueCode code) {
  const auto row = std::ranges::find(words, code, [](const auto& one) { return one.first; });
  return row == words.end() ? "unknown" : row->second;
}

std::optional<IssueCode> issue_code_from_text(std::string_view text) {
  for (const auto& [code, word] : words)
    if (word == text) return code;
  return std::nullopt;
}

bool is_acceptable(IssueCode code) {
  return code <= IssueCode::part;
}

std::vector<std::string> acceptable_issues() {
  std::vector<std::string> list;
  for (const auto& [code, word] : words)
    if (is_acceptable(code)) list.emplace_back(word);
  return list;
}

std::string_view to_text(PlanIssue::Level level) {
  switch (level) {
    case PlanIssue::Level::note:
      return "note";
    case PlanIssue::Level::warning:
      return "warning";
    case PlanIssue::Level::refusal:
      return "refusal";
  }
  return "note";
}

void IssueList::add(PlanIssue issue) {
  const bool known = std::ranges::any_of(
      issues_, [&](const PlanIssue& one) { return one.code == issue.code && one.text == issue.text; });
  if (!known) issues_.push_back(std::move(issue));
}
void IssueList::note(IssueCode code, std::string text, std::string hint, Remedy remedy) {
  add({PlanIssue::Level::note, code, std::move(text), std::move(hint), std::move(remedy)});
}
void IssueList::warn(IssueCode code, std::string text, std::string hint, Remedy remedy) {
  add({PlanIssue::Level::warning, code, std::move(text), std::move(hint), std::move(remedy)});
}
void IssueList::refuse(IssueCode code, std::string text, std::string hint, Remedy remedy) {
  add({PlanIssue::Level::refusal, code, std::move(text), std::move(hint), std::move(remedy)});
}
bool IssueList::unless_accepted(IssueCode code, std::string text, std::string hint, Remedy remedy) {
  const bool accepted = is_accepted(code);
  add({accepted ? PlanIssue::Level::warning : PlanIssue::Level::refusal, code, std::move(text),
       std::move(hint), std::move(remedy)});
  return accepted;
}

const PlanIssue* IssueList::refusal() const {
  const auto found = std::ranges::find(issues_, PlanIssue::Level::refusal, &PlanIssue::level);
  return found == issues_.end() ? nullptr : &*found;
}

}  // namespace bayswap
