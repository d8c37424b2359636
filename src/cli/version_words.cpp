#include "cli/version_words.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap::cli {
namespace {

// The newest known version that this one was made from.
const Version* parent_of(const History& history, const Version& version) {
  const Version* newest = nullptr;
  for (const VersionId& id : version.parents)
    if (const Version* parent = history.find(id); parent != nullptr)
      if (newest == nullptr || parent->noted > newest->noted) newest = parent;
  return newest;
}

std::vector<std::string> bays_with(SyncJob& job, const Version& version) {
  const Lineage one{{&version}, {}};
  const auto places = places_of(job.own(), one);
  std::vector<std::string> bays;
  for (const auto& [bay, path] : places ? *places : std::vector<std::pair<std::string, std::string>>{})
    bays.push_back(bay);
  return bays;
}

// Where its bytes are: on this device, or only at the sync folder.
std::optional<bool> is_here(SyncJob& job, const Version& version) {
  if (version.is_deletion()) return std::nullopt;
  const auto has = job.replica->has_bundle(version);
  return has && *has;
}

}  // namespace

std::vector<const Lineage*> lineages_called(const History& history, const std::string& what) {
  auto found = find_lineages(history, what);
  if (!found.empty()) return found;
  const std::string wanted = folded(what);
  for (const Lineage& lineage : history.lineages())
    if (std::ranges::any_of(lineage.versions, [&](const Version* version) {
          const NameFacts& facts = version->save.facts;
          return folded(version->label).find(wanted) != std::string::npos ||
                 folded(facts.game.title).find(wanted) != std::string::npos ||
                 (facts.rom_path && folded(stem_of(*facts.rom_path)).find(wanted) != std::string::npos);
        }))
      found.push_back(&lineage);
  return found;
}

void look_for_news(SyncJob& job) {
  if (job.light() == nullptr) return;
  if (const auto taken = job.replica->exchange(*job.light(), {}, false); !taken)
    job.unreachable = taken.error();
}

void print_versions(SyncJob& job, const Catalog& catalog, const Lineage& lineage,
                    const std::vector<Entry>& entries, SheetChanges& sheets) {
  const auto history = job.replica->history();
  if (!history) return;
  for (const TimedVersion& timed : newest_first(lineage)) {
    const Version* version = timed.version;
    fmt::print("{}  {}  {}on {}\n", toned(Tone::bold, "version " + short_id(version->id)),
               local_time(timed.since), version->is_deletion() ? "deleted " : "",
               printable(version->device_name));
    if (version->is_deletion()) continue;
    print_field("save", printable(version->label));
    const auto bays = bays_with(job, *version);
    if (!bays.empty()) print_field("in", joined(bays, ", "));
    const auto entry = std::ranges::find_if(
        entries, [&](const Entry& one) { return !one.content.empty() && one.content == version->content; });
    if (entry != entries.end())
      print_field("content", fmt::format("the same save as in entry {}", entry->id));
    const bool here = is_here(job, *version).value_or(false);
    print_field("bytes", fmt::format("{}, {}", bytes_in_words(version->size_bytes),
                                     here ? "on this device" : "at the sync folder"));
    const Version* parent = parent_of(**history, *version);
    if (parent == nullptr || parent->is_deletion() || !here || !is_here(job, *parent).value_or(false))
      continue;
    const auto after = content_of(*job.replica, *version, nullptr, catalog);
    const auto before = content_of(*job.replica, *parent, nullptr, catalog);
    if (!after || !before) continue;
    const std::string difference = difference_in_words(*before, *after);
    print_field("since",
                fmt::format("version {}: {}", short_id(parent->id),
                            difference.empty() ? "the same bytes, or a clock that went on" : difference));
    constexpr std::size_t max_values = 6;
    const auto values = sheets.between(version->save.facts.game, *before, *after);
    if (!values.empty()) print_field("values", in_words(values, max_values));
  }
}

Json to_json(SyncJob& job, const TimedVersion& timed) {
  const Version& version = *timed.version;
  Json parents = Json::array();
  for (const VersionId& id : version.parents) parents.push_back(id.hex());
  const auto here = is_here(job, version);
  return {{"version", version.id.hex()},
          {"kind", to_text(version.kind)},
          {"save", version.label},
          {"when", utc_time(timed.since)},
          {"noted", utc_time(version.noted)},
          {"device", version.device_name},
          {"deleted", version.is_deletion()},
          {"content", version.is_deletion() ? Json(nullptr) : Json(version.content)},
          {"size_bytes", version.size_bytes},
          {"here", here ? Json(*here) : Json(nullptr)},
          {"bays", bays_with(job, version)},
          {"parents", std::move(parents)}};
}

Result<const Lineage*> lineage_meant(const History& history, const std::string& what) {
  const auto found = lineages_called(history, what);
  if (found.size() <= 1) return found.empty() ? nullptr : found.front();
  std::set<std::string> names;
  for (const Lineage* lineage : found) {
    const Version& version = *lineage->heads.front();
    names.insert(fmt::format("'{}' ({})", version.label, tag(version.save.facts.game.platform)));
  }
  return fail(ErrorCode::bad_usage,
              fmt::format("'{}' means {} saves: {}", printable(what), found.size(),
                          printable(fmt::to_string(fmt::join(names, ", ")))),
              "name one by its whole title or code, and with --version the one you mean");
}

Result<const Version*> version_called(const Lineage& lineage, const std::string& id,
                                      const std::string& what) {
  const Version* found = nullptr;
  for (const Version* version : lineage.versions) {
    if (!version->id.hex().starts_with(lower(id))) continue;
    if (found != nullptr)
      return fail(ErrorCode::bad_usage,
                  fmt::format("'{}' is the beginning of several versions", printable(id)), "type more of it");
    found = version;
  }
  if (found == nullptr)
    return fail(
        ErrorCode::not_found, fmt::format("'{}' has no version {}", printable(what), printable(id)),
        fmt::format("`bayswap logbook '{}'` lists versions; an entry goes by --entry", printable(what)));
  return found;
}

}  // namespace bayswap::cli
