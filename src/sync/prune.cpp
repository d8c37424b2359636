// Old versions leave, and what nothing leads to.
#include <bayswap/replica.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {

Result<void> Replica::forget(SyncFolder& sync_folder, const std::string& device) {
  std::vector<std::string> ids;
  std::vector<std::string> names;
  for (const auto& [id, peer] : peers_) {
    names.push_back(peer.name);
    if (id == device || lower(peer.name) == lower(device)) ids.push_back(id);
  }
  if (ids.size() > 1)
    return fail(ErrorCode::bad_usage, fmt::format("several devices are called {}", printable(device)),
                fmt::format("name one by its id: {}", joined(ids, ", ")));
  if (ids.empty()) {
    const std::string near = did_you_mean(device, names);
    return fail(ErrorCode::not_found, fmt::format("no other device is called {}", printable(device)),
                !near.empty()   ? near
                : names.empty() ? "no other device has reported yet"
                                : fmt::format("there are {}", joined(names, ", ")));
  }
  BAYSWAP_CHECK(sync_folder.forget(ids.front()));
  peers_.erase(ids.front());
  is_changed_ = true;
  return save();
}

Result<std::vector<Replica::Manifest>> Replica::manifests(SyncFolder& sync_folder) {
  std::vector<Manifest> all;
  BAYSWAP_TRY(const auto pointers, sync_folder.pointers());
  for (const Pointer& pointer : pointers) {
    BAYSWAP_TRY(const Blob bytes, sync_folder.manifests().get(pointer.manifest, max_manifest_bytes));
    auto manifest = manifest_from(bytes.view());
    if (!manifest)
      return fail(ErrorCode::damaged, "a device's report is damaged", "sync on that device first");
    manifest->device = pointer.device;
    manifest->itself = pointer.manifest;
    all.push_back(*std::move(manifest));
  }
  return all;
}

Result<Pruned> Replica::prune(SyncFolder& sync_folder, std::size_t keep) {
  Pruned done;
  BAYSWAP_CHECK(load_history());
  BAYSWAP_TRY(auto told, manifests(sync_folder));
  BAYSWAP_TRY(done.versions, prune_versions(sync_folder, keep, told));
  BAYSWAP_CHECK(save());
  if (done.versions > 0) {
    Exchanged exchanged;
    BAYSWAP_CHECK(publish(sync_folder, reported_, {}, exchanged));
    BAYSWAP_TRY(told, manifests(sync_folder));
  }
  BAYSWAP_CHECK(sweep(sync_folder, told, done));
  return done;
}

Result<std::size_t> Replica::prune_versions(SyncFolder& sync_folder, std::size_t keep,
                                            const std::vector<Manifest>& told) {
  // What each device knows. One that is forgotten is not asked.
  std::vector<std::set<VersionId>> known;
  for (const Manifest& manifest : told) {
    if (manifest.device == device_.id) continue;
    Replica theirs(*store_);
    for (std::size_t page = 0; page < pages_.size(); ++page) {
      if (manifest.pages[page] == Digest{}) continue;
      auto records = objects_.get(manifest.pages[page], max_page_bytes);
      if (!records) records = sync_folder.objects().get(manifest.pages[page], max_page_bytes);
      if (!records) return tl::unexpected(records.error());
      BAYSWAP_CHECK(theirs.join_page(page, records->view()));
    }
    std::set<VersionId>& ids = known.emplace_back();
    for (const auto& [id, version] : theirs.history_.versions()) ids.insert(id);
  }
  struct Gone {
    VersionId id;
    VersionId later;  // a version that stays, and came from it
  };
  std::vector<Gone> gone;
  for (const Lineage& lineage : history_.lineages()) {
    if (lineage.versions.size() <= keep) continue;
    // From the heads back, a generation at a time.
    std::set<VersionId> kept;
    std::vector<VersionId> generation;
    for (const Version* head : lineage.heads) generation.push_back(head->id);
    while (!generation.empty() && kept.size() < std::max(keep, lineage.heads.size())) {
      std::vector<VersionId> next;
      for (const VersionId& id : generation) {
        const Version* version = history_.find(id);
        if (version == nullptr || !kept.insert(id).second) continue;
        next.insert(next.end(), version->parents.begin(), version->parents.end());
      }
      generation = std::move(next);
    }
    // A device that has seen none of what is kept may still play on from what is not.
    const bool all_have_seen = std::ranges::all_of(known, [&](const std::set<VersionId>& ids) {
      return std::ranges::all_of(lineage.heads, [&](const Version* head) { return ids.contains(head->id); });
    });
    if (!all_have_seen) continue;
    // From what stays down to all that it came from.
    std::map<VersionId, VersionId> later;
    std::vector<std::pair<VersionId, VersionId>> open;
    open.reserve(kept.size());
    for (const VersionId& id : kept) open.emplace_back(id, id);
    while (!open.empty()) {
      const auto [id, from] = open.back();
      open.pop_back();
      const Version* version = history_.find(id);
      if (version == nullptr || (!kept.contains(id) && !later.emplace(id, from).second)) continue;
      for (const VersionId& parent : version->parents)
        if (!kept.contains(parent)) open.emplace_back(parent, from);
    }
    for (const Version* version : lineage.versions)
      if (const auto found = later.find(version->id); found != later.end())
        gone.push_back({found->first, found->second});
  }
  for (const auto& [id, later] : gone) {
    const Digest bundle = history_.find(id)->bundle;
    BAYSWAP_CHECK(prune(id, later));
    unsent_.erase(bundle);
  }
  if (gone.empty()) return std::size_t{0};
  // Bytes that no version has any more.
  std::set<Digest> needed;
  for (const auto& [id, version] : history_.versions()) needed.insert(version.bundle);
  BAYSWAP_CHECK(save());
  BAYSWAP_TRY(const auto here, objects_.list());
  for (const Digest& digest : here)
    if (!needed.contains(digest) && std::ranges::find(pages_, digest) == pages_.end())
      BAYSWAP_CHECK(objects_.remove(digest));
  return gone.size();
}

Result<void> Replica::sweep(SyncFolder& sync_folder, const std::vector<Manifest>& told, Pruned& done) {
  std::set<Digest> needed;
  std::map<std::string, std::uint64_t> counters;
  for (const auto& [id, version] : history_.versions()) needed.insert(version.bundle);
  for (const Manifest& manifest : told) {
    counters[manifest.device] = manifest.counter;
    needed.insert(manifest.itself);
    for (const Digest& page : manifest.pages) {
      if (page == Digest{} || !needed.insert(page).second) continue;
      // What another device knows and this one does not yet.
      BAYSWAP_TRY(const Blob bytes, sync_folder.objects().get(page, max_page_bytes));
      Replica theirs(*store_);
      const auto at = std::ranges::find(manifest.pages, page) - manifest.pages.begin();
      BAYSWAP_CHECK(theirs.join_page(static_cast<std::size_t>(at), bytes.view()));
      for (const auto& [id, version] : theirs.history_.versions()) needed.insert(version.bundle);
    }
  }
  const bool all_told_again = std::ranges::all_of(counters, [&](const auto& one) {
    const auto then = unused_at_.find(one.first);
    return then != unused_at_.end() && then->second < one.second;
  });
  BAYSWAP_TRY(const auto there, sync_folder.objects().list());
  std::set<Digest> unused;
  for (const Digest& digest : there) {
    if (needed.contains(digest)) continue;
    if (all_told_again && unused_.contains(digest)) {
      BAYSWAP_CHECK(sync_folder.objects().remove(digest));
      ++done.objects;
    } else {
      unused.insert(digest);
    }
  }
  done.waiting = unused.size();
  // What waits already waits from then on, not from now.
  if (all_told_again || !std::ranges::includes(unused_, unused)) {
    unused_ = std::move(unused);
    unused_at_ = std::move(counters);
  }
  is_changed_ = true;
  return save();
}

}  // namespace bayswap
