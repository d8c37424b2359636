// Saves that are packages, or folders of a package's files.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"
#include "bay/keeper.hpp"
#include "bay/scan_memory.hpp"

namespace bayswap {
namespace {

void scan_package(ScanContext& scan, const PlatformRule& rule, const Place& place) {
  HeldSave save = SaveList::begin(rule, place);
  save.kind = SaveKind::package;
  if (scan.names_only) {
    scan.list.finish(std::move(save));
    return;
  }
  const std::string key = SaveList::key_of(place.path, place.info);
  if (scan.list.recall(key, save)) return;
  ScanRow row;
  const auto bytes = scan.store.read(place.path);
  const auto opened = bytes ? BlockPackage::open(*bytes) : tl::unexpected(bytes.error());
  if (opened) {
    row.label = opened->title_name();
    if (!opened->display_name().empty())
      row.label += (row.label.empty() ? "" : " / ") + opened->display_name();
    row.thumbnail = !opened->thumbnail().empty();
    if (const auto problems = opened->check(); !problems.empty()) {
      row.health = Health::damaged;
      row.health_note = problems.front();
    }
  } else {
    row.health = Health::damaged;
    row.health_note = opened.error().message;
  }
  scan.list.remember(key, save, std::move(row));
}

Result<void> scan_package(ScanContext& scan, std::span<const PlatformRule* const> rules) {
  const PlatformRule& rule = *rules.front();
  BAYSWAP_TRY(const auto taken, scan_extra_places(scan, rule));
  BAYSWAP_TRY(const auto places,
              find_places(scan.store, rule.path, rule.platform, scan.view.options().on_error));
  for (const Place& place : places) {
    if (std::ranges::find(taken, place.path) != taken.end()) continue;
    if (place.info.kind == FileInfo::Kind::folder)
      scan_folder(scan, rule, place, "");
    else
      scan_package(scan, rule, place);
  }
  return {};
}

Result<Content> load_package(BayView& view, const HeldSave& save, const Hints& hints, IssueList& issues) {
  if (save.kind != SaveKind::package) return folder_keeper.load(view, save, hints, issues);
  const auto named = [&](Error error) {
    error.message = fmt::format("{}: {}", view.store().display_path(save.path), error.message);
    return tl::unexpected(std::move(error));
  };
  Content content;
  content.kind = Content::Kind::tree;
  BAYSWAP_TRY(const Blob bytes, view.store().read(save.path));
  auto package = BlockPackage::open(bytes);
  if (!package) return named(std::move(package.error()));
  auto files = files_of(*package);
  if (!files) return named(std::move(files.error()));
  content.tree = *std::move(files);
  content.whole = bytes;
  return content;
}

std::optional<std::uint64_t> number_from_hex(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value, 16);
  if (text.empty() || problem != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

// Whether the save becomes a folder of files: as the bay has it, or has its others.
Result<bool> becomes_folder(BayView& view, const Arrival& arrival) {
  BAYSWAP_TRY(const auto old, view.store().stat(arrival.spots.front().path));
  if (old) return old->kind == FileInfo::Kind::folder;
  BAYSWAP_TRY(const auto there, view.saves(BayView::Depth::names));
  std::size_t folders = 0;
  std::size_t packages = 0;
  for (const HeldSave& save : *there)
    if (save.rule->platform == arrival.rule->platform)
      (save.kind == SaveKind::package ? packages : folders) += 1;
  return folders + packages == 0 ? !arrival.content.whole : folders > packages;
}

Result<void> merge_package(MergeContext& context, std::span<Arrival* const> arrivals) {
  Arrival& arrival = *arrivals.front();
  if (arrival.content.tree.empty()) return cannot_become(context.view, arrival);
  BAYSWAP_TRY(const bool as_folder, becomes_folder(context.view, arrival));
  if (as_folder) return merge_folder(context, arrival);
  Store& store = context.view.store();
  const std::string& path = arrival.spots.front().path;
  BAYSWAP_TRY(const auto before, store.read_if_there(path));
  const std::optional<Blob>& shell = before ? before : arrival.content.whole;
  if (!shell) {
    arrival.issues.refuse(IssueCode::base_needed,
                          fmt::format("{} keeps packages, and has none of this save to put the files into",
                                      context.view.bay().name),
                          "start the game there once and save, then carry again");
    return {};
  }
  BAYSWAP_TRY(BlockPackage package, BlockPackage::open(*shell));
  if (before)
    if (const auto problems = package.check(); !problems.empty())
      arrival.issues.unless_accepted(IssueCode::damaged,
                                     fmt::format("{}: {}", store.display_path(path), problems.front()),
                                     "start the game there and save anew");
  std::vector<std::string> kept;
  std::size_t replaced = 0;
  for (const PackagedFile& file : std::vector<PackagedFile>(package.files())) {
    const bool brought = std::ranges::any_of(arrival.content.tree,
                                             [&](const TreeFile& other) { return other.path == file.path; });
    if (file.folder || brought) continue;
    if (arrival.exact) {
      BAYSWAP_CHECK(package.drop(file.path));
      ++replaced;
    } else {
      kept.push_back(file.path);
    }
  }
  for (const TreeFile& file : arrival.content.tree) {
    const auto own = package.read(file.path);
    if (own && *own == file.bytes) continue;
    BAYSWAP_CHECK(package.put(file.path, file.bytes.view(), file.modified));
    ++replaced;
  }
  const auto profile = number_from_hex(arrival.facts.account);
  const bool restamp =
      !before && profile && arrival.facts.account.size() == 16 && package.profile_id() != *profile;
  if (restamp) package.set_profile_id(*profile);
  const Blob after = package.image();
  const bool changes = !before || !(*before == after);
  if (changes)
    arrival.steps.push_back({"graft",
                             fmt::format("{} files into {}", replaced,
                                         before ? "the target's own package" : "the source's package"),
                             "with every hash made right"});
  if (restamp)
    arrival.steps.push_back(
        {"restamp", fmt::format("the profile id is {}", arrival.facts.account), "the account there"});
  BAYSWAP_CHECK(place_file(context, arrival, path, after, ""));
  if (!changes) return {};
  if (!kept.empty()) arrival.steps.push_back({"leave", joined(kept, ", "), "only the target has it"});
  arrival.issues.note(IssueCode::signature,
                      "the package's signature is as it was: only a console can make one",
                      "emulators and modified consoles don't ask for it");
  return {};
}

}  // namespace

const Keeper package_keeper{scan_package, load_package, whole_spot, merge_package, true, false};

}  // namespace bayswap
