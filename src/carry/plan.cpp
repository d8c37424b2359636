// Planning a carry: which saves, and whose.
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

std::vector<std::string> accounts_in(const std::vector<const HeldSave*>& saves) {
  std::set<std::string> accounts;
  for (const HeldSave* save : saves)
    if (!save->facts.account.empty() && save->place.empty()) accounts.insert(save->facts.account);
  return {accounts.begin(), accounts.end()};
}

// Of several accounts' saves those that were said; the others stay. False where none was: then it must be
// asked.
bool choose_account(std::vector<const HeldSave*>& saves, const std::vector<std::string>& accounts,
                    const AccountMap& said_map) {
  std::set<std::string> said;
  for (const auto& [from, to] : said_map) said.insert(lower(from));
  if (std::none_of(accounts.begin(), accounts.end(),
                   [&](const std::string& account) { return said.contains(lower(account)); }))
    return false;
  std::erase_if(saves, [&](const HeldSave* save) {
    return save->place.empty() && !said.contains(lower(save->facts.account));
  });
  return true;
}

// The plan that only asks whose save is meant.
Plan asking_whose(const std::vector<const HeldSave*>& saves, std::vector<std::string> accounts,
                  const BayView& from, const BayView& to) {
  Plan plan;
  plan.kind = EntryKind::carry;
  plan.game = saves.front()->facts.game;
  plan.from_bay = from.bay().name;
  plan.to_bay = to.bay().name;
  std::vector<std::string> values{""};
  values.insert(values.end(), accounts.begin(), accounts.end());
  plan.issues.push_back(
      {PlanIssue::Level::refusal,
       IssueCode::which_account,
       fmt::format("{} has this save of several accounts: {}", from.bay().name, joined(accounts, ", ")),
       "name one account",
       {Remedy::Kind::account, std::move(values)}});
  plan.account_question = AccountQuestion{true, {}, std::move(accounts)};
  return plan;
}

// A ROM that is there, although no save of it is.
const RomFile* rom_called(BayView& view, const std::string& what) {
  for (const PlatformRule& rule : view.bay().rules) {
    const auto roms = view.roms(rule);
    if (!roms) continue;
    for (const RomFile& rom : **roms)
      for (const std::string_view name :
           {stem_of(rom.path), name_of(rom.path), std::string_view(rom.facts.game.title),
            std::string_view(rom.facts.game.code)})
        if (!name.empty() && (lower(name) == lower(what) || normalized_title(name) == normalized_title(what)))
          return &rom;
  }
  return nullptr;
}

Error no_save(BayView& from, BayView& to, const std::string& what) {
  for (BayView* view : {&from, &to})
    if (const RomFile* rom = rom_called(*view, what)) {
      std::vector<std::string> looked;
      const PlatformRule* rule = from.bay().rule(rom->facts.game.platform);
      if (rule != nullptr && rule->keeping == Keeping::file)
        if (const auto files = places(from.catalog(), *rule, {rom->path, rom->facts.game, 1, {}}))
          for (const SaveFile& file : *files) looked.push_back(from.store().display_path(file.path));
      return {
          ErrorCode::not_found,
          fmt::format("{} has no save of '{}'{}", from.bay().name,
                      rom->facts.game.title.empty() ? std::string(stem_of(rom->path)) : rom->facts.game.title,
                      looked.empty() ? "" : fmt::format(": looked for {}", joined(looked, ", "))),
          fmt::format("save once in the game there; if the file has another name, pair it with its ROM, or "
                      "correct the path rule in {}",
                      from.bay().origin)};
    }
  return no_such_save(from, what);
}

}  // namespace

Result<Plan> plan_carry(BayView& from, BayView& to, Store& outside, const CarryRequest& request) {
  BAYSWAP_CHECK(check_root(from.bay(), from.store()));
  BAYSWAP_CHECK(check_root(to.bay(), to.store()));
  auto found = find_saves(from, outside, request.what);
  BAYSWAP_CHECK(from.check());
  if (!found) return tl::unexpected(std::move(found.error()));
  std::vector<const HeldSave*> saves = *std::move(found);
  if (saves.empty()) return tl::unexpected(no_save(from, to, request.what));
  Planner planner(&from, to, &outside, request);
  if (request.slot > 0 && std::any_of(saves.begin(), saves.end(), [&](const HeldSave* save) {
        return save->rule->path.uses_slot() && save->facts.slot == request.slot;
      })) {
    planner.resolver().use(CarryOption::slot);
    // What a save keeps elsewhere has a slot only if its own path does.
    const auto has_slot = [](const HeldSave& save) {
      if (save.place.empty()) return true;
      const auto& places = save.rule->extra_places;
      const auto own = std::ranges::find(places, save.place, [](const auto& one) { return one.first; });
      return own != places.end() && own->second.uses_slot();
    };
    std::erase_if(saves,
                  [&](const HeldSave* save) { return has_slot(*save) && save->facts.slot != request.slot; });
  }
  if (std::vector<std::string> accounts = accounts_in(saves); !accounts.empty()) {
    planner.resolver().use(CarryOption::account);
    if (accounts.size() > 1 && !choose_account(saves, accounts, request.accounts))
      return asking_whose(saves, std::move(accounts), from, to);
  }
  std::vector<Passage> passages;
  passages.reserve(saves.size());
  for (const HeldSave* save : saves) passages.push_back(planner.resolve(*save));
  BAYSWAP_CHECK(planner.merge(passages, false));
  BAYSWAP_CHECK(from.check());
  BAYSWAP_CHECK(to.check());
  std::vector<Passage*> all;
  for (Passage& passage : passages) {
    if (passage.error && (passages.size() == 1 || passage.error->code != ErrorCode::damaged))
      return tl::unexpected(*passage.error);
    all.push_back(&passage);
  }
  if (std::all_of(passages.begin(), passages.end(), [](const Passage& one) { return one.error.has_value(); }))
    return tl::unexpected(*passages.front().error);
  Plan plan = planner.plan_of(all);
  for (const Passage& passage : passages)
    if (passage.error)
      plan.add({PlanIssue::Level::refusal, IssueCode::damaged, passage.error->message, passage.error->hint});
  plan.reason = fmt::format("carry '{}' from {} to {}", request.what, plan.from_bay, plan.to_bay);
  planner.check_options(plan);
  return plan;
}

Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                        const CarryRequest& request) {
  ViewOptions options;
  options.titles = request.titles;
  options.pairs = request.pairs;
  BayView source(catalog, *from.bay, *from.store, options);
  BayView target(catalog, *to.bay, *to.store, options);
  return plan_carry(source, target, outside, request);
}

}  // namespace bayswap
