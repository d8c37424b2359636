#include "cli/batch_table.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {
namespace {

using Outcome = BatchRow::Outcome;

std::string outcome_words(const BatchRow& row, bool as_plan) {
  return as_plan && row.outcome == Outcome::carried ? "carry" : std::string(to_text(row.outcome));
}

// Which side has the newer one.
std::string newer_side(const BatchRow& row) {
  if (row.issue == IssueCode::newer) return "the target's";
  if (row.outcome != Outcome::carried || !row.modified) return "";
  if (!row.target_modified) return "only here";
  if (*row.modified == *row.target_modified) return "same date";
  return *row.modified > *row.target_modified ? "the source's" : "the target's";
}

std::string why_in_words(const BatchRow& row) {
  std::string why = row.why;
  if (row.issue && is_acceptable(*row.issue)) why += fmt::format(" (--accept {})", to_text(*row.issue));
  if (row.entry) why += fmt::format(" (entry {})", *row.entry);
  return why;
}

}  // namespace

int BatchTable::exit_code(const Batch& batch) const {
  return batch.count(Outcome::refused) + batch.count(Outcome::failed) > 0 ? exit_problems : exit_done;
}

void BatchTable::print(const Batch& batch, bool as_plan) const {
  if (globals.json) {
    Json list = Json::array();
    for (const BatchRow& row : batch.rows) {
      Json one = to_json(row);
      one["outcome"] = outcome_words(row, as_plan);
      list.push_back(std::move(one));
    }
    Json json{{"from", from}, {"to", to}, {"dry_run", as_plan}};
    for (const Outcome outcome :
         {Outcome::carried, Outcome::same, Outcome::refused, Outcome::failed, Outcome::left})
      json[std::string(to_text(outcome))] = as_plan && outcome == Outcome::carried ? 0 : batch.count(outcome);
    json["to_carry"] = as_plan ? batch.count(Outcome::carried) : 0;
    json["saves"] = std::move(list);
    print_json(json);
    return;
  }
  std::vector<std::vector<std::string>> rows;
  for (const BatchRow& row : batch.rows)
    rows.push_back({printable(row.save), std::string(tag(row.platform)), outcome_words(row, as_plan),
                    newer_side(row), row.modified ? local_time(*row.modified) : "",
                    printable(why_in_words(row))});
  if (!globals.quiet)
    print_table({"save", "platform", as_plan ? "plan" : "outcome", "newer", "saved", "where, or why not"},
                rows);
  fmt::print("{}: {} {}, {} the same already, {} refused, {} failed, {} left.\n",
             counted(batch.rows.size(), "save"), batch.count(Outcome::carried),
             as_plan ? "to carry" : "carried", batch.count(Outcome::same), batch.count(Outcome::refused),
             batch.count(Outcome::failed), batch.count(Outcome::left));
  if (as_plan) return;
  if (batch.count(Outcome::refused) + batch.count(Outcome::failed) > 0)
    fmt::print("`bayswap carry SAVE --from {} --to {}` shows what one of those needs.\n", from, to);
  std::vector<std::int64_t> entries;
  for (const BatchRow& row : batch.rows)
    if (row.entry) entries.push_back(*row.entry);
  if (!entries.empty()) {
    const auto [first, last] = std::minmax_element(entries.begin(), entries.end());
    fmt::print(
        "{}\n",
        toned(Tone::good, *first == *last
                              ? fmt::format("Done: logbook entry {}. `bayswap undo` takes it back.", *first)
                              : fmt::format("Done: logbook entries {} to {}. `bayswap undo` takes them "
                                            "all back, `bayswap undo N` one of them.",
                                            *first, *last)));
  }
}

}  // namespace bayswap::cli
