// A change to a memory card, planned.
#include <fmt/format.h>
#include <bayswap/card_folder.hpp>
#include <bayswap/conversion.hpp>

#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_image_bytes = std::size_t{80} << 20;

// What is about to be written must open, and be no worse than it was.
Result<void> proved(const std::string& path, const Blob& after, int slot, std::size_t problems_before) {
  BAYSWAP_TRY(const auto again, open_card(after, slot));
  const auto problems = again->check();
  if (problems.size() > problems_before)
    return fail(ErrorCode::damaged,
                fmt::format("{}: the change would break the card: {}", path, problems.front().text),
                "nothing was written; repair the card first", {Remedy::Kind::repair_card, {path}});
  return {};
}

}  // namespace

Result<CardChange> plan_card_change(Store& disk, const std::string& path, int slot,
                                    std::optional<CardKind> kind, const std::string& reason,
                                    const std::function<Result<void>(Card&)>& change) {
  CardChange out;
  out.plan.kind = EntryKind::card;
  out.plan.reason = reason;
  out.plan.from_files.push_back(disk.absolute_path(path));
  BAYSWAP_TRY(const auto info, disk.stat(path));
  if (info && info->kind == FileInfo::Kind::folder) {
    out.is_folder = true;
    out.folder = std::make_unique<LocalStore>(disk.absolute_path(path));
    BAYSWAP_TRY(auto folder, CardFolder::open(*out.folder, kind));
    BAYSWAP_CHECK(change(*folder));
    BAYSWAP_TRY(out.plan.changes, folder->changes(*out.folder));
    out.card = std::move(folder);
    note_hard_links(out.plan, *out.folder);
    return out;
  }
  BAYSWAP_TRY(const Blob before, disk.read(path, max_image_bytes));
  auto opened = open_card(before, slot);
  if (!opened)
    return fail(opened.error().code, fmt::format("{}: {}", path, opened.error().message), opened.error().hint,
                opened.error().remedy);
  out.card = *std::move(opened);
  const std::size_t problems_before = out.card->check().size();
  BAYSWAP_CHECK(change(*out.card));
  if (const Blob after = out.card->image(); after != before) {
    BAYSWAP_CHECK(proved(path, after, slot, problems_before));
    out.plan.changes.push_back({path, before, after, std::nullopt});
    if (std::string stale = out.card->stale_once_changed(); !stale.empty())
      out.plan.add({PlanIssue::Level::warning, IssueCode::signature, std::move(stale), {}});
  }
  note_hard_links(out.plan, disk);
  return out;
}

}  // namespace bayswap
