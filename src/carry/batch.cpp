// Everything that differs: planned whole, shown, and then run.
#include <fmt/format.h>
#include <bayswap/carry.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/planner.hpp"
#include "carry/select.hpp"

namespace bayswap {
namespace {

using Outcome = BatchRow::Outcome;

// With what tells it from others of the same title. A folder's number says nothing: its id, or its path.
std::string label_of(const HeldSave& save) {
  std::string label = save.label;
  const bool is_number =
      std::all_of(save.name().begin(), save.name().end(), [](char c) { return c >= '0' && c <= '9'; });
  if (label.empty() && !is_number) label = save.name();
  if (label.empty()) label = title_id_text(save.facts.game);
  if (label.empty()) label = save.path;
  if (!save.facts.account.empty()) label += fmt::format(" ({})", save.facts.account);
  if (!save.place.empty()) label += fmt::format(" ({})", save.place);
  return label;
}

void newest_in(Store& store, const std::string& folder, int depth, std::optional<std::int64_t>& newest) {
  constexpr int deepest = 16;
  const auto entries = depth > deepest ? fail(ErrorCode::unsupported, "") : store.list(folder);
  if (!entries) return;
  for (const FileInfo& entry : *entries) {
    if (entry.link) continue;
    if (entry.kind == FileInfo::Kind::folder)
      newest_in(store, join_path(folder, entry.name), depth + 1, newest);
    if (entry.kind == FileInfo::Kind::file)
      newest = std::max(newest.value_or(entry.modified), entry.modified);
  }
}

class BatchPlanner {
 public:
  BatchPlanner(BayView& from, BayView& to, const CarryRequest& request)
      : from_(from), to_(to), planner_(&from, to, nullptr, request) {}

  Result<Batch> run() {
    BAYSWAP_TRY(saves_, from_.saves());
    for (const HeldSave& save : *saves_)
      if (save.place.empty() && save.misplaced.empty()) fitting_.insert(save.key());
    for (const HeldSave& save : *saves_)
      if (save.place.empty()) add(save);
    for (const HeldSave& save : *saves_)
      if (!save.place.empty()) add_extra_place(save);
    BAYSWAP_CHECK(planner_.merge(passages_, true));
    BAYSWAP_CHECK(from_.check());
    BAYSWAP_CHECK(to_.check());
    settle_rows();
    make_plans();
    check_options();
    batch_.account_question = planner_.resolver().account_question();
    return std::move(batch_);
  }

 private:
  std::size_t new_row(const HeldSave& save, Outcome outcome, std::string why) {
    BatchRow row;
    row.save = label_of(save);
    row.path = designator(save);
    row.platform = save.rule->platform;
    row.outcome = outcome;
    row.why = std::move(why);
    row.modified = save.modified;
    batch_.rows.push_back(std::move(row));
    return batch_.rows.size() - 1;
  }

  void add(const HeldSave& save) {
    if (save.health == Health::deleted) {
      new_row(save, Outcome::left, "it is deleted on its card");
      return;
    }
    if (to_.bay().rule(save.rule->platform) == nullptr) {
      new_row(save, Outcome::left,
              fmt::format("{} has no rule for {}", to_.bay().name, tag(save.rule->platform)));
      return;
    }
    if (save.kind == SaveKind::card) {
      new_row(save, Outcome::failed, save.health_note);
      return;
    }
    if (!save.misplaced.empty() && fitting_.contains(save.key())) {
      new_row(save, Outcome::left, save.misplaced);
      return;
    }
    if (save.health == Health::empty) {
      new_row(save, Outcome::left, "it is empty");
      return;
    }
    rows_of_.push_back(new_row(save, Outcome::failed, ""));
    passages_.push_back(planner_.resolve(save));
  }

  // With the save it belongs to, or left alone.
  void add_extra_place(const HeldSave& part) {
    for (std::size_t i = 0; i < passages_.size(); ++i) {
      if (passages_[i].held == nullptr || !is_extra_place_of(part, *passages_[i].held)) continue;
      rows_of_.push_back(rows_of_[i]);
      passages_.push_back(planner_.resolve(part));
      return;
    }
    new_row(part, Outcome::left, "it belongs to a save that is not here");
  }

  // What became of each row, by all its passages.
  void settle_rows() {
    for (std::size_t i = 0; i < passages_.size(); ++i) {
      const Passage& passage = passages_[i];
      BatchRow& row = batch_.rows[rows_of_[i]];
      const bool is_extra = passage.held != nullptr && !passage.held->place.empty();
      if (passage.error) {
        row.outcome = Outcome::failed;
        row.why = passage.error->message;
        continue;
      }
      if (is_extra && (row.outcome == Outcome::failed || row.outcome == Outcome::refused)) continue;
      if (const PlanIssue* refusal = passage.arrival->issues.refusal()) {
        row.outcome = Outcome::refused;
        row.issue = refusal->code;
        row.why = refusal->text;
        continue;
      }
      if (!passage.arrival->brought && !is_extra) {
        row.outcome = Outcome::left;
        row.why = "it holds nothing that the target keeps";
        continue;
      }
      const bool changes = changes_something(passage);
      if (!is_extra) row.outcome = changes ? Outcome::carried : Outcome::same;
      if (is_extra && changes && row.outcome == Outcome::same) row.outcome = Outcome::carried;
      if (!changes || !row.why.empty()) continue;
      const Spot& spot = passage.arrival->spots.front();
      row.why = spot.path + (spot.entry.empty() ? "" : ": " + spot.entry);
      row.target_modified = time_there(spot);
    }
  }

  // When the save that is replaced was written: the file, the newest file of a folder, or by the card's own
  // date.
  std::optional<std::int64_t> time_there(const Spot& spot) {
    if (const auto there = to_.saves(BayView::Depth::names))
      for (const HeldSave& save : **there)
        if (save.path == spot.path && !save.entry.empty() && save.health != Health::deleted &&
            (save.entry == spot.entry || save.kind == SaveKind::single))
          return save.modified;
    if (!spot.entry.empty()) return std::nullopt;
    const auto info = to_.store().stat(spot.path);
    if (!info || !*info) return std::nullopt;
    if ((*info)->kind == FileInfo::Kind::file) return (*info)->modified;
    std::optional<std::int64_t> newest;
    newest_in(to_.store(), spot.path, 0, newest);
    return newest;
  }

  // Of several saves that go onto one card the last one has the change.
  [[nodiscard]] static bool changes_something(const Passage& passage) {
    if (!passage.arrival->changes.empty()) return true;
    return std::any_of(passage.arrival->steps.begin(), passage.arrival->steps.end(),
                       [](const Step& step) { return step.action == "add" || step.action == "replace"; });
  }

  void make_plans() {
    // By file: passages that share a card share a plan, and so do the passages of one row.
    std::map<std::string, std::size_t> group_of_path;
    std::map<std::size_t, std::size_t> group_of_row;
    std::vector<std::vector<Passage*>> groups;
    for (std::size_t i = 0; i < passages_.size(); ++i) {
      Passage& passage = passages_[i];
      const BatchRow& row = batch_.rows[rows_of_[i]];
      if (row.outcome != Outcome::carried || passage.error || !passage.arrival ||
          passage.arrival->spots.empty())
        continue;
      const std::string& path = passage.arrival->spots.front().path;
      std::size_t group = groups.size();
      if (const auto known = group_of_row.find(rows_of_[i]); known != group_of_row.end())
        group = known->second;
      else if (const auto same = group_of_path.find(path); same != group_of_path.end())
        group = same->second;
      if (group == groups.size()) groups.emplace_back();
      groups[group].push_back(&passage);
      group_of_row[rows_of_[i]] = group;
      group_of_path[path] = group;
    }
    for (std::size_t i = 0; i < groups.size(); ++i) {
      Plan plan = planner_.plan_of(groups[i]);
      const Passage& first = *groups[i].front();
      const std::string more = groups[i].size() > 1 && plan.content.empty()
                                   ? fmt::format(" and {} more", groups[i].size() - 1)
                                   : "";
      plan.reason =
          fmt::format("carry '{}'{} from {} to {}", label_of(*first.held), more, plan.from_bay, plan.to_bay);
      if (const PlanIssue* refusal = plan.refusal()) {
        for (const auto& [row, group] : group_of_row) {
          if (group != i) continue;
          batch_.rows[row].outcome = Outcome::refused;
          batch_.rows[row].issue = refusal->code;
          batch_.rows[row].why = refusal->text;
        }
        plan.changes.clear();
      }
      batch_.plans.push_back(std::move(plan));
    }
    for (const auto& [row, group] : group_of_row)
      if (batch_.rows[row].outcome == Outcome::carried) batch_.rows[row].plan = group;
    // Indices stay as they are: a plan without changes is run by nobody.
  }

  // An option that has an effect on none of the saves.
  void check_options() {
    Plan plan;
    planner_.check_options(plan);
    if (passages_.empty()) return;
    for (const PlanIssue& issue : plan.issues) batch_.issues.push_back(issue);
  }

  BayView& from_;
  BayView& to_;
  Planner planner_;
  const std::vector<HeldSave>* saves_ = nullptr;
  std::set<SaveKey> fitting_;
  std::vector<Passage> passages_;
  std::vector<std::size_t> rows_of_;  // of each passage
  Batch batch_;
};

}  // namespace

std::string_view to_text(BatchRow::Outcome outcome) {
  switch (outcome) {
    case Outcome::carried:
      return "carried";
    case Outcome::same:
      return "same";
    case Outcome::refused:
      return "refused";
    case Outcome::failed:
      return "failed";
    case Outcome::left:
      return "left";
  }
  return "left";
}

std::size_t Batch::count(BatchRow::Outcome outcome) const {
  return static_cast<std::size_t>(
      std::count_if(rows.begin(), rows.end(), [&](const BatchRow& row) { return row.outcome == outcome; }));
}

Result<Batch> plan_all(BayView& from, BayView& to, const CarryRequest& request) {
  BAYSWAP_CHECK(check_root(from.bay(), from.store()));
  BAYSWAP_CHECK(check_root(to.bay(), to.store()));
  return BatchPlanner(from, to, request).run();
}

void run_in_groups(std::span<const Plan* const> plans, Logbook& logbook, const PlansRunner& run_some,
                   const std::function<void(std::size_t, const Result<std::int64_t>&)>& done) {
  constexpr std::size_t max_bytes = std::size_t{32} << 20;  // held twice while they are written
  std::optional<std::int64_t> first;
  std::vector<std::size_t> numbers;
  std::vector<const Plan*> group;
  std::set<std::string> paths;
  std::size_t bytes = 0;
  const auto run_group = [&] {
    if (group.empty()) return;
    const auto ids = run_some(group, first);
    for (std::size_t n = 0; n < group.size(); ++n) {
      const auto& id = ids[n];
      if (id && !first)
        if (const auto entry = logbook.entry(*id)) first = entry->batch.value_or(*id);
      done(numbers[n], id);
    }
    numbers.clear();
    group.clear();
    paths.clear();
    bytes = 0;
  };
  for (std::size_t i = 0; i < plans.size(); ++i) {
    const Plan& plan = *plans[i];
    std::size_t own = 0;
    bool meets = false;  // a file that another plan of the group changes
    for (const FileChange& change : plan.changes) {
      own += (change.before ? change.before->size() : 0) + (change.after ? change.after->size() : 0);
      meets = meets || paths.contains(change.path);
    }
    if (meets || group.size() == Logbook::max_together || (bytes > 0 && bytes + own > max_bytes)) run_group();
    for (const FileChange& change : plan.changes) paths.insert(change.path);
    bytes += own;
    numbers.push_back(i);
    group.push_back(&plan);
  }
  run_group();
}

void run_batch(Batch& batch, Store& target, Logbook& logbook, const PlansRunner& run_some) {
  std::map<const Plan*, std::vector<BatchRow*>> rows;
  for (BatchRow& row : batch.rows)
    if (row.plan) rows[&batch.plans[*row.plan]].push_back(&row);
  std::vector<const Plan*> plans;
  for (const Plan& plan : batch.plans)
    if (!plan.changes.empty()) plans.push_back(&plan);
  const PlansRunner together = [&](std::span<const Plan* const> group, std::optional<std::int64_t> first) {
    return run_together(group, target, logbook, first);
  };
  run_in_groups(plans, logbook, run_some ? run_some : together,
                [&](std::size_t number, const Result<std::int64_t>& id) {
                  for (BatchRow* row : rows[plans[number]]) {
                    if (id) {
                      row->entry = *id;
                      continue;
                    }
                    row->outcome = id.error().code == ErrorCode::busy ? Outcome::refused : Outcome::failed;
                    row->why = id.error().message;
                  }
                });
}

}  // namespace bayswap
