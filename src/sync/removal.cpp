// A save that was deleted on another device, planned out of a bay.
#include <fmt/format.h>
#include <bayswap/card.hpp>

#include "base/try.hpp"
#include "sync/round.hpp"

namespace bayswap {
namespace {

Result<std::vector<std::string>> files_of(Store& store, const HeldSave& save) {
  std::vector<std::string> paths;
  for (const HeldFile& file : save.held) paths.push_back(file.path);
  if (!paths.empty()) return paths;
  BAYSWAP_TRY(const auto info, store.stat(save.path));
  if (info && info->kind == FileInfo::Kind::folder) {
    BAYSWAP_TRY(const auto tree, read_tree(store, save.path));
    for (const TreeFile& file : tree) paths.push_back(join_path(save.path, file.path));
  } else if (info) {
    paths.push_back(save.path);
  }
  return paths;
}

}  // namespace

Result<Plan> plan_removal(BayView& view, const HeldSave& save, const Version& deletion) {
  Store& store = view.store();
  Plan plan;
  plan.kind = EntryKind::sync;
  plan.game = save.facts.game;
  plan.from_bay = deletion.device_name;
  plan.to_bay = view.bay().name;
  plan.account = save.facts.account;
  plan.reason = fmt::format("sync '{}': deleted on {}", deletion.label, deletion.device_name);
  if (save.kind == SaveKind::card_entry) {
    BAYSWAP_TRY(const Blob before, store.read(save.path));
    BAYSWAP_TRY(const auto card, open_card(before));
    BAYSWAP_CHECK(card->drop(save.entry));
    plan.place = save.entry;
    plan.changes.push_back({save.path, before, card->image(), std::nullopt});
    if (std::string stale = card->stale_once_changed(); !stale.empty())
      plan.add({PlanIssue::Level::warning, IssueCode::signature, std::move(stale), {}});
  } else {
    BAYSWAP_TRY(const auto paths, files_of(store, save));
    for (const std::string& path : paths) {
      BAYSWAP_TRY(Blob before, store.read(path));
      plan.changes.push_back({path, std::move(before), std::nullopt, std::nullopt});
    }
  }
  plan.steps.push_back(
      {"remove", save.path, fmt::format("deleted on {}; the logbook keeps it", deletion.device_name)});
  return plan;
}

}  // namespace bayswap
