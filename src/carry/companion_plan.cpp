#include "carry/companion_plan.hpp"

#include <fmt/format.h>
#include <bayswap/package.hpp>

#include <algorithm>

#include "base/try.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

Result<std::optional<Blob>> current(Store& store, const std::string& path) {
  BAYSWAP_TRY(const auto info, store.stat(path));
  if (!info || info->kind != FileInfo::Kind::file) return std::nullopt;
  BAYSWAP_TRY(Blob bytes, store.read(path));
  return bytes;
}

// Where the companion lies in a bay whose tree may begin in any folder; nullopt: outside of the bay.
std::optional<NameRule> path_in(const Bay& bay, const PlatformRule* own, const CompanionRule& companion) {
  if (own == nullptr) own = bay.rule(companion.platform);
  return own == nullptr ? companion.path : in_tree_of(*own, companion.path);
}

void plan_one(const CompanionRule& rule, OpenBay from, OpenBay to, const CarriedSave& save, bool replace,
              Plan& plan) {
  const auto own_rule = path_in(*from.bay, save.source_rule, rule);
  const auto target_rule = path_in(*to.bay, save.target_rule, rule);
  if (!own_rule || !target_rule) {
    plan.add({PlanIssue::Level::note, IssueCode::companion_missing,
              fmt::format("{} lies outside of {} and was not looked at", rule.what,
                          (own_rule ? to : from).bay->name),
              fmt::format("without it, {}: name the folder in which the whole tree lies", rule.without)});
    return;
  }
  const auto from_path = own_rule->expand(save.source_facts);
  const auto to_path = target_rule->expand(save.target_facts);
  if (!from_path || !to_path) return;
  const std::string here = in_case_of_disk(*from.store, *from_path);
  const std::string there = in_case_of_disk(*to.store, *to_path);
  const auto theirs = current(*to.store, there);
  const auto ours = current(*from.store, here);
  if (!ours || !theirs) return;
  if (!*ours && !*theirs) {
    plan.add({PlanIssue::Level::note, IssueCode::companion_missing,
              fmt::format("{} ({}) is in neither bay", rule.what, *to_path), "without it, " + rule.without});
    return;
  }
  if (!*ours || (*theirs && **theirs == **ours)) return;
  if (rule.check == "avatar-database") {
    if (const auto problem = avatar_database_problem((*ours)->view())) {
      plan.add({PlanIssue::Level::warning, IssueCode::companion_damaged,
                fmt::format("{}: {}", from.store->display_path(here), *problem), "it is not carried along"});
      return;
    }
  }
  if (*theirs && !replace) {
    plan.add({PlanIssue::Level::note,
              IssueCode::companion_kept,
              fmt::format("{} has its own of {}; it is kept", to.bay->name, rule.what),
              "ask for companions to replace it",
              {Remedy::Kind::companions, {}}});
    return;
  }
  if (std::ranges::any_of(plan.changes, [&](const FileChange& change) { return change.path == there; }))
    return;
  plan.steps.push_back(
      {"companion", to.store->display_path(there), fmt::format("the save leans on {}", rule.what)});
  plan.changes.push_back({there, *theirs, **ours});
}

}  // namespace

void plan_companions(OpenBay from, OpenBay to, const std::vector<CarriedSave>& saves, bool replace,
                     Plan& plan) {
  const auto rules = companion_rules();
  if (!rules || !plan.game) return;
  for (const CompanionRule& rule : *rules) {
    if (rule.platform != plan.game->platform) continue;
    if (!rule.codes.empty() && std::ranges::find(rule.codes, plan.game->code) == rule.codes.end()) continue;
    for (const CarriedSave& save : saves) plan_one(rule, from, to, save, replace, plan);
  }
}

bool has_companions(Platform platform) {
  const auto rules = companion_rules();
  return rules && std::ranges::find(*rules, platform, &CompanionRule::platform) != rules->end();
}

}  // namespace bayswap
