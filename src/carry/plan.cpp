// Which way of planning a carry takes.
#include <bayswap/carry.hpp>

#include <fmt/format.h>
#include <bayswap/inspect.hpp>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/plan_files.hpp"
#include "carry/shape_plan.hpp"
#include "fs/path.hpp"
#include "fs/read_errors.hpp"

namespace bayswap {
namespace {

// Whether the saves of that rule are files of layouts, which the ROMs tell the names of.
bool is_plain(const PlatformRule* rule) {
  return rule != nullptr && rule->keeping == Keeping::file;
}
bool all_plain(const Bay& bay) {
  return std::ranges::all_of(bay.rules, [](const PlatformRule& rule) { return is_plain(&rule); });
}

// Where WHAT is the path of a save in the bay, the ROM it belongs to.
Result<void> name_by_rom(const Catalog& catalog, OpenBay from, Store& outside, CarryRequest& request) {
  const std::string root = normalized(from.store->absolute_path("."));
  const std::string whole = outside.absolute_path(request.what);
  const bool inside = whole.starts_with(root + "/") && !identify_rom(outside, request.what);
  const std::string below = inside ? whole.substr(root.size() + 1) : request.what;
  if (request.what.find('/') == std::string::npos && !inside) return {};
  BAYSWAP_TRY(const auto info, from.store->stat(below));
  if (!info || info->kind != FileInfo::Kind::file) return {};
  BAYSWAP_TRY(const auto saves, scan_bay(catalog, *from.bay, *from.store));
  for (const BaySave& save : saves)
    if (save.path == below && save.facts.rom_path) request.what = std::string(stem_of(*save.facts.rom_path));
  return {};
}

std::vector<SourceSave> load(std::vector<BaySave>& saves, Store& store, Plan& failed) {
  std::vector<SourceSave> cargo;
  for (BaySave& save : saves) {
    auto content = read_content(store, save);
    std::string shown = store.display_path(save.path);
    if (!save.entry.empty() && save.rule->keeping == Keeping::card) shown += ", " + save.entry;
    if (!content) {
      failed.issues.push_back(
          {PlanIssue::Level::refusal, "damaged", content.error().message, content.error().hint});
      continue;
    }
    if (save.facts.game.title.empty()) save.facts.game.title = save.label.substr(0, save.label.find(" / "));
    for (const TreeFile& file : content->tree)
      save.modified = std::max(save.modified.value_or(file.modified), file.modified);
    cargo.push_back(
        {std::move(save.facts), std::move(save.place), std::move(shown), save.modified, *std::move(content)});
  }
  return cargo;
}

// Of several accounts' saves those that were said; the others stay. False where none was: then it must be
// asked.
bool choose_account(std::vector<BaySave>& saves, const std::vector<std::string>& accounts,
                    const CarryRequest& request) {
  std::vector<std::string> said;
  said.reserve(request.accounts.size());
  for (const auto& [from, to] : request.accounts) said.push_back(lower(from));
  const auto is_said = [&](const std::string& account) {
    return std::ranges::find(said, lower(account)) != said.end();
  };
  if (std::ranges::none_of(accounts, is_said)) return false;
  std::erase_if(saves,
                [&](const BaySave& save) { return save.place.empty() && !is_said(save.facts.account); });
  return true;
}

// The plan that only asks whose save is meant.
Plan asking_whose(const std::vector<BaySave>& saves, std::vector<std::string> accounts, OpenBay from,
                  OpenBay to) {
  Plan plan;
  plan.kind = EntryKind::carry;
  plan.game = saves.front().facts.game;
  plan.from_bay = from.bay->name;
  plan.to_bay = to.bay->name;
  plan.issues.push_back(
      {PlanIssue::Level::refusal, "which-account",
       fmt::format("{} has this save of several accounts: {}", from.bay->name, joined(accounts, ", ")),
       fmt::format("say whose is meant: --account {}, or --account {}=THEIRS with the account's name at {}",
                   accounts.front(), accounts.front(), to.bay->name)});
  plan.account_question = AccountQuestion{true, {}, std::move(accounts)};
  return plan;
}

Result<Plan> plan_from_scan(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                            const CarryRequest& request) {
  ScanOptions wish;
  wish.titles = request.titles;
  // Names tell mostly enough; what saves call themselves takes reading them all.
  wish.names_only = std::ranges::none_of(
      from.bay->rules, [](const PlatformRule& rule) { return rule.platform == Platform::psp; });
  BAYSWAP_TRY(auto all, scan_bay(catalog, *from.bay, *from.store, wish));
  auto found = find_saves(all, from, outside, request.what, request.titles);
  if (!found || found->empty()) {
    wish.names_only = false;
    BAYSWAP_TRY(all, scan_bay(catalog, *from.bay, *from.store, wish));
    found = find_saves(all, from, outside, request.what, request.titles);
  }
  if (!found) return tl::unexpected(std::move(found.error()));
  std::vector<BaySave> saves = *std::move(found);
  std::erase_if(saves, [](const BaySave& save) { return save.health == "deleted"; });
  // What is kept as files goes by its ROM.
  if (saves.empty() ||
      (is_plain(saves.front().rule) && is_plain(to.bay->rule(saves.front().facts.game.platform)))) {
    CarryRequest plain = request;
    if (!saves.empty() && saves.front().facts.rom_path) plain.what = *saves.front().facts.rom_path;
    if (saves.empty() &&
        std::ranges::none_of(from.bay->rules, [](const PlatformRule& rule) { return is_plain(&rule); }))
      return fail(ErrorCode::not_found,
                  fmt::format("{} has no save called '{}'", from.bay->name, printable(request.what)),
                  fmt::format("`bayswap bay scan {}` shows the saves there are", from.bay->name));
    if (!saves.empty()) plain.what = std::string(stem_of(plain.what));
    BAYSWAP_TRY(GameSides sides, find_game(from, to, outside, plain));
    return plan_files(catalog, from, to, plain, std::move(sides));
  }
  if (is_plain(saves.front().rule))
    return fail(ErrorCode::unsupported,
                fmt::format("{} keeps this save as a file, {} as {}", from.bay->name, to.bay->name,
                            to_text(to.bay->rule(saves.front().facts.game.platform) != nullptr
                                        ? to.bay->rule(saves.front().facts.game.platform)->keeping
                                        : Keeping::file)),
                "carry it to a bay that keeps files");
  if (request.slot > 0 &&
      std::ranges::any_of(saves, [&](const BaySave& save) { return save.facts.slot == request.slot; }) &&
      saves.size() > 1)
    std::erase_if(saves,
                  [&](const BaySave& save) { return save.place.empty() && save.facts.slot != request.slot; });
  if (std::vector<std::string> accounts = accounts_of(saves);
      accounts.size() > 1 && !choose_account(saves, accounts, request))
    return asking_whose(saves, std::move(accounts), from, to);
  Plan failed;
  std::vector<SourceSave> cargo = load(saves, *from.store, failed);
  if (cargo.empty()) return fail(ErrorCode::damaged, failed.issues.front().text, failed.issues.front().hint);
  BAYSWAP_TRY(Plan plan, plan_shapes(catalog, std::move(cargo), from, to, request));
  std::ranges::move(failed.issues, std::back_inserter(plan.issues));
  return plan;
}

Result<Plan> plan_either_way(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                             const CarryRequest& request) {
  if (!all_plain(*from.bay) || !all_plain(*to.bay))
    return plan_from_scan(catalog, from, to, outside, request);
  CarryRequest plain = request;
  BAYSWAP_CHECK(name_by_rom(catalog, from, outside, plain));
  BAYSWAP_TRY(GameSides sides, find_game(from, to, outside, plain));
  return plan_files(catalog, from, to, plain, std::move(sides));
}

}  // namespace

Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                        const CarryRequest& request) {
  for (const std::string& word : request.accept)
    if (std::ranges::find(acceptable_issues, word) == acceptable_issues.end())
      return fail(ErrorCode::bad_usage, fmt::format("--accept does not know '{}'", printable(word)),
                  fmt::format("it knows {}", joined(acceptable_issues, ", ")));
  BAYSWAP_CHECK(check_root(*from.bay, *from.store));
  BAYSWAP_CHECK(check_root(*to.bay, *to.store));
  ReadErrors source(*from.store);
  ReadErrors target(*to.store);
  auto plan = plan_either_way(catalog, {from.bay, &source}, {to.bay, &target}, outside, request);
  BAYSWAP_CHECK(source.check());
  BAYSWAP_CHECK(target.check());
  return plan;
}

}  // namespace bayswap
