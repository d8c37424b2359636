#include <bayswap/bay.hpp>
#include <bayswap/bay_view.hpp>
#include <bayswap/detect.hpp>
#include <bayswap/inspect.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/path.hpp"
#include "base/try.hpp"
#include "bay/places.hpp"

namespace bayswap {
namespace {

bool has_place(const Catalog& catalog, const Layout& layout, PartKind kind) {
  if (layout.is_set()) return member_for(catalog, layout, {kind, 0}).has_value();
  return std::any_of(layout.slots.begin(), layout.slots.end(),
                     [kind](const Slot& slot) { return slot.role.kind == kind; });
}

}  // namespace

Result<std::vector<const Layout*>> layouts_for(const Catalog& catalog, const PlatformRule& rule,
                                               const std::vector<ChipFact>& chips) {
  std::vector<std::string> ids{rule.layout};
  ids.insert(ids.end(), rule.other_layouts.begin(), rule.other_layouts.end());
  std::vector<const Layout*> best;
  std::ptrdiff_t most = -1;
  for (const std::string& id : ids) {
    BAYSWAP_TRY(const Layout* layout, catalog.find(id));
    const auto suits = std::count_if(chips.begin(), chips.end(), [&](const ChipFact& chip) {
      return has_place(catalog, *layout, chip.kind);
    });
    if (suits > most) best.clear();
    most = std::max(most, suits);
    if (suits == most) best.push_back(layout);
  }
  return best;
}

Result<void> check_root(const Bay& bay, Store& store) {
  BAYSWAP_TRY(const auto root, store.stat("."));
  if (root && root->kind == FileInfo::Kind::folder) return {};
  if (!bay.origin.ends_with(".toml"))
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", bay.root),
                "check the path; is the medium plugged in?");
  return fail(ErrorCode::not_found, fmt::format("the root of bay {} does not exist: {}", bay.name, bay.root),
              fmt::format("plug in the medium it is on, or correct root in {}", bay.origin));
}

Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule, NameFacts facts,
                                     const std::vector<ChipFact>& chips) {
  BAYSWAP_TRY(const auto layouts, layouts_for(catalog, rule, chips));
  return places(catalog, rule, std::move(facts), *layouts.front());
}

Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule, NameFacts facts,
                                     const Layout& form) {
  const Layout* layout = &form;
  std::vector<SaveFile> files;
  if (!layout->is_set()) {
    facts.extension = rule.extensions.empty() ? layout->extension : rule.extensions.front();
    BAYSWAP_TRY(std::string path, rule.path.expand(facts));
    files.push_back({std::move(path), layout, {}});
    return files;
  }
  const bool is_named = !rule.extensions.empty();
  for (const std::string& id : layout->members) {
    BAYSWAP_TRY(const Layout* member, catalog.find(id));
    if (member->slots.size() != 1) continue;
    const PartKind kind = member->slots.front().role.kind;
    for (int number = kind == PartKind::pak ? 1 : 0; number <= (kind == PartKind::pak ? 4 : 0); ++number) {
      const Role role{kind, number};
      facts.extension =
          is_named && takes_extension(*member) ? rule.extensions.front() : set_suffix(*member, role);
      BAYSWAP_TRY(std::string path, rule.path.expand(facts));
      files.push_back({std::move(path), member, role});
    }
  }
  return files;
}

namespace {

// Saves in the bay that no rule of it finds.
void report_unruled(const Bay& bay, const Catalog& catalog, Store& store, std::vector<BayProblem>& problems) {
  BayView view(catalog, bay, store);
  const auto saves = view.saves();
  const auto detection = detect_place(catalog, store);
  if (!saves || !detection) return;
  std::set<std::string> known;
  std::vector<std::string> folders;  // saves that are folders: what is in them is theirs
  for (const HeldSave& save : **saves) {
    known.insert(save.path);
    folders.push_back(save.path + "/");
    for (const HeldFile& file : save.held) known.insert(file.path);
  }
  const auto is_known = [&](const std::string& path) {
    return known.contains(path) ||
           std::any_of(folders.begin(), folders.end(),
                       [&](const std::string& folder) { return path.starts_with(folder); });
  };
  for (const DetectedRule& rule : detection->rules) {
    std::vector<std::string> missed;
    for (const DetectedSave& save : rule.saves)
      if (!is_known(save.path) && known.insert(save.path).second) missed.push_back(save.path);
    if (missed.empty()) continue;
    const bool is_one = missed.size() == 1;
    problems.push_back(
        {false,
         fmt::format("{}{}: {} of {}, and no rule of the bay finds {}", missed.front(),
                     is_one ? "" : fmt::format(" and {} more", missed.size() - 1),
                     is_one ? "a save" : "saves", tag(rule.rule.platform), is_one ? "it" : "them"),
         fmt::format("a rule that does: [platform.{}] path = \"{}\"", tag(rule.rule.platform),
                     rule.rule.path.text())});
  }
  for (const UnsettledFiles& files : detection->unsettled)
    for (const std::string& path : files.paths)
      if (!is_known(path))
        problems.push_back(
            {false, fmt::format("{}: named as a save is, but {}", path, files.reason), "inspect it"});
}

}  // namespace

std::vector<BayProblem> check_bay(const Bay& bay, const Catalog& catalog, Store& store) {
  std::vector<BayProblem> problems;
  const auto report = [&](bool is_error, std::string text, std::string hint) {
    problems.push_back({is_error, std::move(text), std::move(hint)});
  };
  if (const auto there = check_root(bay, store); !there) {
    report(true, there.error().message, there.error().hint);
    return problems;
  }
  if (const auto root = store.list("."); !root) {
    report(true, fmt::format("the root folder {} can't be read: {}", bay.root, root.error().message),
           "check its permissions, or correct root in " + bay.origin);
    return problems;
  }
  if (!store.may_write("."))
    report(false,
           fmt::format("{} can't be written to: saves can be carried from here, not to here", bay.root),
           "change its permissions, or unlock the card");
  BayView view(catalog, bay, store);
  const auto saves = view.saves(BayView::Depth::names);
  const auto has_saves = [&](const PlatformRule& rule) {
    return saves && std::any_of((*saves)->begin(), (*saves)->end(),
                                [&](const HeldSave& save) { return save.rule == &rule; });
  };
  for (const PlatformRule& rule : bay.rules) {
    if (rule.keeping != Keeping::file) {
      if (!rule.roms.empty() && !list_roms(store, rule))
        report(true, fmt::format("{}: the ROMs in {} can't be listed", tag(rule.platform), rule.roms),
               "correct roms in " + bay.origin);
      continue;
    }
    const auto layout = catalog.find(rule.layout);
    if (!layout) {
      report(true, fmt::format("{}: {}", tag(rule.platform), layout.error().message), layout.error().hint);
      continue;
    }
    if ((*layout)->platform != saves_as(rule.platform))
      report(
          true,
          fmt::format("{}: {} is a layout of {}", tag(rule.platform), rule.layout, tag((*layout)->platform)),
          "choose a layout of the same platform");
    if ((*layout)->is_set() && !rule.path.uses("ext"))
      report(true,
             fmt::format("{}: {} is several files, but the path rule has no {{ext}} to tell them apart",
                         tag(rule.platform), rule.layout),
             "end the path with {ext}");
    if (rule.roms.empty()) continue;
    const auto roms = list_roms(store, rule);
    if (!roms) {
      report(true, fmt::format("{}: the ROMs can't be listed: {}", tag(rule.platform), roms.error().message),
             roms.error().hint);
      continue;
    }
    // A reader holds one cartridge at a time. A console that nobody has here is not worth a word.
    if (roms->empty() && !store.traits().slow && (has_saves(rule) || bay.rules.size() == 1))
      report(false, fmt::format("{}: no ROM found in {}", tag(rule.platform), store.display_path(rule.roms)),
             "put the ROMs there, or correct roms in " + bay.origin);
    std::map<std::string, std::string> owners;
    for (const RomFile& rom : *roms) {
      const auto files = places(catalog, rule, {rom.path, rom.facts.game, 1, {}});
      if (!files) {
        report(false, fmt::format("{}: {}: {}", tag(rule.platform), rom.path, files.error().message),
               files.error().hint);
        continue;
      }
      const auto [owner, is_new] = owners.emplace(files->front().path, rom.path);
      if (!is_new)
        report(true,
               fmt::format("{} and {} would share the save {}", owner->second, rom.path, files->front().path),
               "rename one of the ROMs, or use a rule that gives them different names");
    }
  }
  if (!store.traits().slow) report_unruled(bay, catalog, store, problems);
  return problems;
}

}  // namespace bayswap
