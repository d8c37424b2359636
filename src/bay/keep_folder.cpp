// Saves that are folders of the game's own files.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/file_matcher.hpp"
#include "bay/keeper.hpp"

namespace bayswap {
namespace {

constexpr int max_depth = 16;

struct Listed {
  std::size_t files = 0;
  std::uint64_t bytes = 0;
  std::int64_t newest = 0;
  std::string key;
};
void list(Store& store, bool with_key, const std::string& folder, int depth, Listed& listed) {
  const auto entries = depth > max_depth ? fail(ErrorCode::unsupported, "") : store.list(folder);
  if (!entries) return;
  for (const FileInfo& entry : *entries) {
    if (entry.link || is_own_temporary(entry.name) || is_os_metadata(entry.name)) continue;
    if (entry.kind == FileInfo::Kind::folder)
      list(store, with_key, join_path(folder, entry.name), depth + 1, listed);
    if (entry.kind != FileInfo::Kind::file) continue;
    ++listed.files;
    listed.bytes += entry.size_bytes;
    listed.newest = std::max(listed.newest, entry.modified);
    if (with_key) listed.key += SaveList::key_of(entry.name, entry);
  }
}

// A wiiu tree keeps what it knows of a title in a folder beside those of the accounts.
FolderLabel label_beside(Store& store, const std::string& path) {
  const std::string meta = join_path(folder_of(folder_of(path)), "meta/meta.xml");
  const auto there = store.stat(meta);
  if (!there || !*there) return {};
  const auto text = store.read(meta, std::size_t{64} << 10);
  return text ? label_of_folder(Platform::wiiu, {{"meta.xml", *text, 0}}) : FolderLabel();
}

Result<void> scan_folder(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  const PlatformRule& rule = *rules.front();
  BAYSWAP_TRY(const auto taken, scan_extra_places(scan, rule));
  BAYSWAP_TRY(const auto places,
              find_places(scan.store, rule.path, rule.platform, scan.view.options().on_error));
  for (const Place& place : places)
    if (place.info.kind == FileInfo::Kind::folder && std::ranges::find(taken, place.path) == taken.end())
      scan_folder(scan, rule, place, "");
  return {};
}

Result<Content> load_folder(BayView& view, const HeldSave& save, const Hints& /*hints*/,
                            IssueList& /*issues*/) {
  Content content;
  content.kind = Content::Kind::tree;
  BAYSWAP_TRY(content.tree, read_tree(view.store(), save.path));
  return content;
}

Result<void> merge_folder(MergeContext& context, std::span<Arrival* const> arrivals) {
  return merge_folder(context, *arrivals.front());
}

}  // namespace

const Keeper folder_keeper{scan_folder, load_folder, whole_spot, merge_folder, true, true};

Result<std::vector<std::string>> scan_extra_places(ScanContext& scan, const PlatformRule& rule) {
  std::set<std::string> taken;
  for (const auto& [what, path] : rule.extra_places) {
    BAYSWAP_TRY(const auto places,
                find_places(scan.store, path, rule.platform, scan.view.options().on_error));
    for (const Place& place : places)
      if (place.info.kind == FileInfo::Kind::folder && taken.insert(place.path).second)
        scan_folder(scan, rule, place, what);
  }
  return std::vector<std::string>(taken.begin(), taken.end());
}

void scan_folder(ScanContext& scan, const PlatformRule& rule, const Place& place, const std::string& what) {
  Listed listed;
  const bool remembers = scan.view.options().memory != nullptr;
  if (!scan.names_only) list(scan.store, remembers, place.path, 0, listed);
  if (listed.files == 0 && !what.empty() && !scan.names_only) return;
  HeldSave save = SaveList::begin(rule, place);
  save.place = what;
  save.kind = !what.empty()                      ? SaveKind::shared_folder
              : rule.keeping == Keeping::package ? SaveKind::package_files
                                                 : SaveKind::folder;
  save.files = listed.files;
  save.size_bytes = listed.bytes;
  if (listed.files > 0) save.modified = listed.newest;
  if (scan.names_only) {
    if (rule.platform == Platform::wiiu) {
      const FolderLabel beside = label_beside(scan.store, place.path);
      save.facts.game.code = beside.code;
      save.label = beside.title;
    }
    // A parameter file has the game's title, which alone tells that two codes are one game in two regions.
    if (rule.platform == Platform::psp)
      if (const auto sfo = scan.store.read(in_case_of_disk(scan.store, join_path(place.path, "PARAM.SFO")),
                                           std::size_t{1} << 20)) {
        const FolderLabel label = label_of_folder(Platform::psp, {{"PARAM.SFO", *sfo, 0}});
        save.label = label.title;
      }
    scan.list.finish(std::move(save));
    return;
  }
  const std::string key = place.path + '\n' + listed.key;
  if (scan.list.recall(key, save)) return;
  const auto tree = read_tree(scan.store, place.path);
  FolderLabel label;
  if (tree) {
    label = label_of_folder(rule.platform, *tree);
  } else {
    label.health = Health::damaged;
    label.note = tree.error().message;
  }
  if (rule.platform == Platform::wiiu && (label.code.empty() || label.title.empty())) {
    FolderLabel beside = label_beside(scan.store, place.path);
    if (label.code.empty()) label.code = std::move(beside.code);
    if (label.title.empty()) label.title = std::move(beside.title);
  }
  scan.list.remember(key, save, {label.title, label.health, label.note, label.code, "", label.thumbnail});
}

void join_places(std::vector<HeldSave>& saves, std::size_t first) {
  for (std::size_t i = first; i < saves.size(); ++i) {
    HeldSave& part = saves[i];
    if (part.place.empty() || part.facts.game.title_id != 0) continue;
    for (std::size_t k = first; k < saves.size(); ++k) {
      const HeldSave& whole = saves[k];
      const std::uint64_t id = whole.facts.game.title_id;
      const bool same_folder = !part.facts.folder.empty() && part.facts.folder == whole.facts.folder;
      const bool same_id = part.facts.unique != 0 && id != 0 && (id & 0xFFFFFFFF) >> 8 == part.facts.unique;
      if (!whole.place.empty() || (!same_folder && !same_id)) continue;
      part.facts.game = whole.facts.game;
      if (part.label.empty()) part.label = whole.label;
      break;
    }
  }
}

Result<void> merge_folder(MergeContext& context, Arrival& arrival) {
  std::vector<TreeFile> files = arrival.content.tree;
  if (arrival.content.item && arrival.rule->platform == Platform::ps2)
    for (const CardFile& file : arrival.content.item->files) files.push_back({file.name, file.bytes, 0});
  if (files.empty()) return cannot_become(context.view, arrival);
  Store& store = context.view.store();
  const std::string& folder = arrival.spots.front().path;
  BAYSWAP_TRY(const auto info, store.stat(folder));
  if (info && info->kind != FileInfo::Kind::folder)
    return fail(ErrorCode::unsafe,
                fmt::format("{} is a file, and the bay keeps folders", store.display_path(folder)),
                "correct keeps in " + context.view.bay().origin);
  std::vector<TreeFile> theirs;
  if (info) {
    BAYSWAP_TRY(theirs, read_tree(store, folder));
  }
  arrival.brought = true;
  std::vector<std::string> kept;
  std::set<std::string> touched;
  std::vector<Step> steps;
  const FileMatcher names(files, theirs);
  for (const TreeFile& file : files) {
    const TreeFile* old = names.in_place_of(file);
    const std::string& name = old != nullptr ? old->path : file.path;
    touched.insert(name);
    if (old != nullptr && old->bytes == file.bytes) continue;
    const std::string path = join_path(folder, name);
    if (old != nullptr) {
      check_newer(context, arrival, {path, old->bytes, old->modified});
      add_keep_step(arrival.steps, store, path, old->bytes);
    }
    add_place_step(steps, fmt::format("{} ({} bytes)", store.display_path(path), file.bytes.size()),
                   old != nullptr ? "whole, in place of the old file" : "a new file");
    arrival.changes.push_back({path, old != nullptr ? std::optional(old->bytes) : std::nullopt, file.bytes,
                               file.modified > 0 ? std::optional(file.modified) : std::nullopt});
  }
  for (const TreeFile& file : theirs) {
    if (touched.contains(file.path)) continue;
    if (!arrival.exact) {
      kept.push_back(file.path);
      continue;
    }
    const std::string path = join_path(folder, file.path);
    add_keep_step(arrival.steps, store, path, file.bytes);
    steps.push_back(
        {"remove", store.display_path(path), "the source has no such file, and you asked for that"});
    arrival.changes.push_back({path, file.bytes, std::nullopt, std::nullopt});
  }
  if (arrival.changes.empty()) return {};
  if (!arrival.place.empty() && !arrival.path_rule->uses("account") && arrival.rule->path.uses("account") &&
      std::ranges::any_of(arrival.changes,
                          [](const FileChange& change) { return change.before.has_value(); }))
    arrival.issues.warn(IssueCode::shared,
                        fmt::format("{}: what is in {} belongs to every account of the game there",
                                    arrival.place, store.display_path(folder)),
                        "the logbook keeps what is replaced");
  arrival.steps.push_back({"name", folder, fmt::format("the rule is {}", arrival.path_rule->text())});
  std::ranges::move(steps, std::back_inserter(arrival.steps));
  if (!kept.empty()) arrival.steps.push_back({"leave", joined(kept, ", "), "only the target has it"});
  return {};
}

}  // namespace bayswap
