// What a save was at a time, and how it comes back.
#include <bayswap/timeline.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "carry/origin.hpp"
#include "carry/planner.hpp"
#include "carry/same_cartridge.hpp"
#include "sync/plain.hpp"

namespace bayswap {

std::vector<TimedVersion> newest_first(const Lineage& lineage) {
  // Those first that others were made from: a version's time is not before theirs.
  std::map<VersionId, std::size_t> missing;  // parents that have no time yet
  std::map<VersionId, std::vector<const Version*>> children;
  std::map<VersionId, std::int64_t> since;
  for (const Version* version : lineage.versions) missing.emplace(version->id, 0);
  for (const Version* version : lineage.versions)
    for (const VersionId& parent : version->parents)
      if (missing.contains(parent)) {
        ++missing[version->id];
        children[parent].push_back(version);
      }
  std::vector<const Version*> ready;
  for (const Version* version : lineage.versions)
    if (missing[version->id] == 0) ready.push_back(version);
  while (!ready.empty()) {
    const Version* version = ready.back();
    ready.pop_back();
    std::int64_t earliest = 0;
    for (const VersionId& parent : version->parents)
      if (const auto known = since.find(parent); known != since.end())
        earliest = std::max(earliest, known->second);
    const bool by_file =
        version->modified && *version->modified <= version->noted && *version->modified > earliest;
    since[version->id] = by_file ? *version->modified : std::max(version->noted, earliest);
    for (const Version* child : children[version->id])
      if (--missing[child->id] == 0) ready.push_back(child);
  }
  std::vector<TimedVersion> listed;
  for (const Version* version : lineage.versions)
    if (const auto known = since.find(version->id); known != since.end())
      listed.push_back({version, known->second});
  // Of one moment a child goes before its parent.
  const auto is_child = [](const Version& a, const Version& b) {
    return std::ranges::find(a.parents, b.id) != a.parents.end();
  };
  std::ranges::stable_sort(listed, [&](const TimedVersion& a, const TimedVersion& b) {
    return a.since != b.since ? a.since > b.since : is_child(*a.version, *b.version);
  });
  return listed;
}

// ---- The logbook

namespace {

struct Known {
  const Entry* entry = nullptr;
  const LoggedChange* change = nullptr;
};

// Each file's changes, the oldest first.
std::map<std::string, std::vector<Known>> by_path(const std::vector<Entry>& entries) {
  std::vector<const Entry*> sorted;
  for (const Entry& entry : entries)
    if (entry.state != EntryState::cancelled && entry.state != EntryState::begun) sorted.push_back(&entry);
  std::ranges::sort(sorted, {}, &Entry::id);
  std::map<std::string, std::vector<Known>> paths;
  for (const Entry* entry : sorted)
    for (const LoggedChange& change : entry->changes) paths[change.path].push_back({entry, &change});
  return paths;
}

// What was there before a change, as far as it was written by something else than the change before it.
std::optional<PastFile> before_of(const std::string& path, const std::vector<Known>& changes, std::size_t i) {
  const auto& [entry, change] = changes[i];
  const bool is_new = i == 0 || changes[i - 1].change->after != change->before;
  if (!is_new) return std::nullopt;
  if (change->before && !change->before_modified) return std::nullopt;
  const std::int64_t floor = i == 0 ? 0 : changes[i - 1].entry->begun;
  // A file that is gone was removed at some time since the change before.
  const std::int64_t since = std::max(floor, change->before ? *change->before_modified : floor);
  return PastFile{path, since, change->before, change->before_modified, entry->id, true};
}

}  // namespace

std::vector<PastFile> files_at(const std::vector<Entry>& entries, std::int64_t moment) {
  std::vector<PastFile> past;
  for (const auto& [path, changes] : by_path(entries)) {
    std::optional<PastFile> found;
    for (std::size_t i = 0; i < changes.size(); ++i) {
      if (const auto before = before_of(path, changes, i); before && before->since <= moment) found = before;
      const auto& [entry, change] = changes[i];
      if (entry->begun <= moment)
        found = PastFile{path, entry->begun, change->after, change->after_modified, entry->id, false};
    }
    if (found) past.push_back(*std::move(found));
  }
  return past;
}

std::optional<std::int64_t> earliest_of(const std::vector<Entry>& entries) {
  std::optional<std::int64_t> earliest;
  for (const auto& [path, changes] : by_path(entries)) {
    const auto before = before_of(path, changes, 0);
    const std::int64_t since = before && before->digest ? before->since : changes.front().entry->begun;
    if (!earliest || since < *earliest) earliest = since;
  }
  return earliest;
}

namespace {

// Whether a program has written the file since its last entry, and not after the moment: it is as it was
// then.
Result<bool> was_so(Store& files, const std::vector<Known>& changes, const std::optional<Blob>& now,
                    std::int64_t moment) {
  if (!now || changes.back().entry->begun > moment) return false;
  const auto& after = changes.back().change->after;
  if (after && sha256(now->view()) == *after) return false;
  BAYSWAP_TRY(const auto info, files.stat(changes.back().change->path));
  return info && info->modified <= moment;
}

}  // namespace

Result<Plan> plan_restore_at(Logbook& logbook, const std::vector<Entry>& entries, std::int64_t moment,
                             Store& files, const std::vector<std::string>& bay_roots) {
  Plan plan;
  plan.kind = EntryKind::restore;
  const auto past = files_at(entries, moment);
  if (std::ranges::none_of(past, [](const PastFile& one) { return one.digest.has_value(); })) {
    return fail(
        ErrorCode::not_found,
        past.empty() ? "the logbook knows nothing of it as early as that" : "there was no save at that time",
        "look at the logbook for what is known");
  }
  const auto changes = by_path(entries);
  for (const PastFile& one : past) {
    const auto& [entry, logged] = *std::ranges::find(changes.at(one.path), one.entry,
                                                     [](const Known& known) { return known.entry->id; });
    if (plan.to_bay.empty()) {
      plan.game = entry->game;
      plan.from_bay = entry->to_bay;
      plan.to_bay = entry->to_bay;
    }
    BAYSWAP_CHECK(check_origin(*entry, files, bay_roots, plan));
    FileChange change{one.path, {}, {}};
    BAYSWAP_TRY(change.before, files.read_if_there(one.path));
    BAYSWAP_TRY(const bool stays, was_so(files, changes.at(one.path), change.before, moment));
    if (stays) continue;
    if (one.digest) {
      BAYSWAP_TRY(change.after, logbook.bytes(*one.digest));
    }
    change.modified = one.modified;
    if (change.before == change.after) continue;
    BAYSWAP_CHECK(check_same_cartridge(logbook, files, one.path, change.before, one.entry, plan));
    const std::string shown = files.display_path(one.path);
    const std::string when = fmt::format("{} entry {}", one.before ? "before" : "after", one.entry);
    if (change.before)
      plan.steps.push_back({"keep",
                            fmt::format("{} ({} bytes) goes into the logbook", shown, change.before->size()),
                            "so that this can be undone"});
    if (change.after)
      plan.steps.push_back(
          {"place", fmt::format("{} ({} bytes)", shown, change.after->size()), "as it was " + when});
    else
      plan.steps.push_back({"remove", shown, "nothing was there " + when});
    plan.changes.push_back(std::move(change));
  }
  if (!plan.changes.empty())
    plan.steps.push_back({"verify", "read back and compare", "a write can fail silently"});
  if (plan.changes.empty())
    plan.issues.push_back({PlanIssue::Level::note, IssueCode::same,
                           "the files are as they were at that time: there is nothing to do", ""});
  return plan;
}

// ---- The history

Result<std::vector<std::pair<std::string, std::string>>> places_of(Store& own, const Lineage& lineage) {
  BAYSWAP_TRY(const PlaceBook book, PlaceBook::load(own));
  std::vector<std::pair<std::string, std::string>> found;
  for (const auto& [key, place] : book.places())
    if (std::ranges::any_of(lineage.versions,
                            [&, id = place.version](const Version* version) { return version->id == id; }))
      found.emplace_back(place.bay, place.path);
  return found;
}

namespace {

Result<Plan> plan_plain(BayView& to, const Version& version, const Bundle& bundle, std::string place,
                        const StateMaps* maps) {
  if (bundle.content.kind != Content::Kind::tree || bundle.content.tree.size() != 1)
    return fail(ErrorCode::damaged,
                fmt::format("'{}' of {} is no single file", version.label, version.device_name),
                "restore another version");
  if (place.empty()) {
    BAYSWAP_TRY(const auto path, plain_path(to, version, maps));
    if (!path)
      return fail(ErrorCode::unsupported,
                  fmt::format("{} has no place for '{}'", to.bay().name, version.label),
                  "name the bay that it is of");
    place = *path;
  }
  Plan plan;
  plan.game = version.save.facts.game;
  plan.content = version.content;
  BAYSWAP_TRY(const auto before, to.store().read_if_there(place, max_state_bytes));
  const Blob& bytes = bundle.content.tree.front().bytes;
  if (before != bytes) {
    plan.steps.push_back({before ? "replace" : "new", place, fmt::format("{} bytes", bytes.size())});
    plan.changes.push_back({place, before, bytes, version.modified});
  }
  return plan;
}

}  // namespace

Result<Plan> plan_version(BayView& to, const Version& version, const Blob& bundle, const std::string& place,
                          const CarryRequest& request, const StateMaps* maps) {
  if (version.is_deletion())
    return fail(ErrorCode::unsupported, fmt::format("in that version '{}' was deleted", version.label),
                "choose one from before it, or remove the save yourself");
  BAYSWAP_TRY(Bundle read, bundle_from_bytes(bundle, to.catalog()));
  Plan plan;
  if (is_plain(version.kind)) {
    BAYSWAP_TRY(plan, plan_plain(to, version, read, place, maps));
  } else {
    CarryRequest own = request;
    // An older save goes over a newer one because the user said so, and whatever goes is kept.
    own.accept.insert(IssueCode::newer);
    own.exact = true;
    Planner planner(nullptr, to, nullptr, own);
    std::vector<Passage> passages;
    passages.push_back(planner.resolve(source_of(version, std::move(read), own.accept)));
    BAYSWAP_CHECK(planner.merge(passages, true));
    BAYSWAP_CHECK(to.check());
    Passage& passage = passages.front();
    if (passage.error) return tl::unexpected(*passage.error);
    Passage* one = &passage;
    plan = planner.plan_of({&one, 1});
    const auto& spots = passage.arrival->spots;
    if (!place.empty() && !spots.empty() &&
        std::ranges::none_of(spots, [&](const Spot& spot) { return spot.path == place; }))
      return fail(ErrorCode::unsafe,
                  fmt::format("the save is in {}, and it would go to {}", place, spots.front().path),
                  "rename the file or the ROM so that they belong together, then restore it");
  }
  std::erase_if(plan.issues, [](const PlanIssue& issue) { return issue.code == IssueCode::newer; });
  plan.kind = EntryKind::restore;
  plan.from_bay = version.device_name;
  plan.to_bay = to.bay().name;
  plan.reason = fmt::format("restore version {} of '{}', made on {}", version.id.hex().substr(0, 8),
                            version.label, version.device_name);
  return plan;
}

}  // namespace bayswap
