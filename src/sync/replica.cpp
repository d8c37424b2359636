// What a device knows, in pages: a page has the records of every 256th save, and its digest is its name.
#include <bayswap/bay_saves.hpp>
#include <bayswap/replica.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "sync/wire.hpp"

namespace bayswap {
namespace {

constexpr std::uint8_t replica_form = 1;
constexpr std::string_view state_name = "replica";
constexpr std::size_t max_state = std::size_t{64} << 20;

void write_report(WireWriter& out, const DeviceReport& report) {
  out.i64(report.seen);
  out.u32(report.waiting);
  out.u32(report.conflicts);
}

DeviceReport read_report(WireReader& in) {
  DeviceReport report;
  report.seen = in.i64();
  report.waiting = in.u32();
  report.conflicts = in.u32();
  return report;
}

template <class Digests>
void write_digests(WireWriter& out, const Digests& digests) {
  out.u32(static_cast<std::uint32_t>(digests.size()));
  for (const Digest& digest : digests) out.raw(digest.bytes);
}

std::vector<Digest> read_digests(WireReader& in) {
  std::vector<Digest> all;
  const std::uint32_t count = in.count(sizeof(Digest::bytes));
  all.reserve(count);
  for (std::uint32_t i = 0; i < count && in.ok(); ++i) all.push_back(in.digest());
  return all;
}

// Only pages that are there: most devices have few saves.
template <class Pages>
void write_pages(WireWriter& out, const Pages& pages) {
  for (const Digest& page : pages) {
    const bool is_there = page != Digest{};
    out.u8(is_there ? 1 : 0);
    if (is_there) out.raw(page.bytes);
  }
}

template <class Pages>
void read_pages(WireReader& in, Pages& pages) {
  for (Digest& page : pages)
    if (in.u8() != 0) page = in.digest();
}

}  // namespace

// ---- Manifests and pages
// -----------------------------------------------------------------------------------

Blob Replica::to_bytes(const Manifest& manifest) {
  WireWriter out;
  out.u8(replica_form);
  out.text(manifest.device);
  out.text(manifest.name);
  out.u64(manifest.counter);
  write_report(out, manifest.report);
  write_pages(out, manifest.pages);
  write_digests(out, manifest.wants);
  return out.blob();
}

std::optional<Replica::Manifest> Replica::manifest_from(ByteView bytes) {
  WireReader in(bytes);
  Manifest manifest;
  if (in.u8() != replica_form) return std::nullopt;
  manifest.device = in.text(64);
  manifest.name = printable(in.text(256));
  manifest.counter = in.u64();
  manifest.report = read_report(in);
  read_pages(in, manifest.pages);
  manifest.wants = read_digests(in);
  return in.at_end() ? std::optional(std::move(manifest)) : std::nullopt;
}

std::size_t Replica::page_of(const Version& version) {
  const NameFacts& facts = version.save.facts;
  const std::string stem(facts.rom_path ? stem_of(*facts.rom_path) : std::string_view());
  const std::string text = fmt::format("{}\n{}\n{}", tag(saves_as(facts.game.platform)),
                                       game_key(facts.game, stem), version.save.name);
  return sha256(ByteView(reinterpret_cast<const Byte*>(text.data()), text.size())).bytes[0];
}

// The same records give the same bytes on every device.
Blob Replica::page_bytes(std::size_t page) const {
  std::vector<Blob> records;
  for (const VersionId& id : members_[page])
    if (const Version* version = history_.find(id)) records.push_back(record_of(*version));
  std::vector<VersionId> pruned;
  bool is_any_followed = false;
  for (const auto& [id, at] : pruned_page_) {
    if (at != page) continue;
    pruned.push_back(id);
    is_any_followed = is_any_followed || history_.pruned().at(id) != VersionId{};
  }
  if (records.empty() && pruned.empty()) return {};
  WireWriter out;
  out.u8(replica_form);
  out.u32(static_cast<std::uint32_t>(records.size()));
  for (const Blob& record : records) {
    out.u32(static_cast<std::uint32_t>(record.size()));
    out.raw(record.view());
  }
  out.u32(static_cast<std::uint32_t>(pruned.size()));
  for (const VersionId& id : pruned) out.raw(id.bytes);
  if (is_any_followed)
    for (const VersionId& id : pruned) out.raw(history_.pruned().at(id).bytes);
  return out.blob();
}

void Replica::add(Version version, std::size_t page) {
  const VersionId id = version.id;
  if (!history_.add(std::move(version))) return;
  members_[page].insert(id);
  changed_pages_.insert(page);
}

void Replica::drop(const VersionId& id, const VersionId& later, std::size_t page) {
  page = pruned_page_.try_emplace(id, page).first->second;
  if (!history_.prune(id, later)) return;
  members_[page].erase(id);
  changed_pages_.insert(page);
}

Result<void> Replica::join_page(std::size_t page, ByteView bytes) {
  const auto damaged = [] { return fail(ErrorCode::damaged, "a page of versions is damaged"); };
  WireReader in(bytes);
  if (in.u8() != replica_form) return damaged();
  std::vector<Version> versions;
  const std::uint32_t count = in.count(32);
  versions.reserve(count);
  for (std::uint32_t i = 0; i < count && in.ok(); ++i) {
    const std::uint32_t size = in.u32();
    BAYSWAP_TRY(Version version, version_from_record(in.raw(size)));
    if (page_of(version) != page) return damaged();
    versions.push_back(std::move(version));
  }
  const auto read_ids = [&](std::uint32_t ids) {
    std::vector<VersionId> all;
    for (std::uint32_t i = 0; i < ids && in.ok(); ++i) {
      VersionId id;
      std::ranges::copy(in.raw(id.bytes.size()), id.bytes.begin());
      all.push_back(id);
    }
    return all;
  };
  const auto pruned = read_ids(in.count(sizeof(VersionId::bytes)));
  // What came from each, if that is known of any.
  auto later = in.at_end() ? std::vector<VersionId>() : read_ids(static_cast<std::uint32_t>(pruned.size()));
  later.resize(pruned.size());
  if (!in.at_end()) return damaged();
  for (std::size_t i = 0; i < pruned.size(); ++i) drop(pruned[i], later[i], page);
  for (Version& version : versions) add(std::move(version), page);
  return {};
}

// ---- The device's own state
// --------------------------------------------------------------------------------

Blob Replica::state() const {
  WireWriter out;
  out.u8(replica_form);
  for (const std::string* text : {&device_.id, &device_.name, &device_.url, &device_.sync_folder})
    out.text(*text);
  out.u64(counter_);
  out.raw(told_.bytes);
  write_report(out, reported_);
  write_pages(out, pages_);
  write_pages(out, told_pages_);
  write_digests(out, unsent_);
  write_digests(out, wanted_);
  write_digests(out, told_wanted_);
  write_digests(out, unused_);
  out.u32(static_cast<std::uint32_t>(unused_at_.size()));
  for (const auto& [id, counter] : unused_at_) {
    out.text(id);
    out.u64(counter);
  }
  out.u32(static_cast<std::uint32_t>(peers_.size()));
  for (const auto& [id, peer] : peers_) {
    out.text(id);
    out.u64(peer.counter);
    out.raw(peer.manifest.bytes);
    out.text(peer.name);
    write_report(out, peer.report);
    out.u8(peer.complete ? 1 : 0);
  }
  const Digest digest = sha256(out.view());
  out.raw(digest.bytes);
  return out.blob();
}

Result<void> Replica::load_state() {
  const std::string path(state_name);
  BAYSWAP_TRY(const auto file, store_->read_if_there(path, max_state));
  if (!file)
    return fail(ErrorCode::not_found, "this device has not joined a sync folder", "",
                {Remedy::Kind::join_sync_folder, {}});
  const auto damaged = [&] {
    return fail(ErrorCode::damaged, fmt::format("{} is damaged", store_->display_path(path)),
                "remove that file and join the sync folder again: no version is lost",
                {Remedy::Kind::join_sync_folder, {}});
  };
  if (file->size() < sizeof(Digest::bytes)) return damaged();
  const ByteView body = file->view().first(file->size() - sizeof(Digest::bytes));
  if (!std::ranges::equal(sha256(body).bytes, file->view().last(sizeof(Digest::bytes)))) return damaged();
  WireReader in(body);
  if (in.u8() != replica_form) return damaged();
  for (std::string* text : {&device_.id, &device_.name, &device_.url, &device_.sync_folder})
    *text = in.text();
  counter_ = in.u64();
  told_ = in.digest();
  reported_ = read_report(in);
  read_pages(in, pages_);
  read_pages(in, told_pages_);
  for (std::set<Digest>* set : {&unsent_, &wanted_, &told_wanted_, &unused_}) {
    const auto all = read_digests(in);
    set->insert(all.begin(), all.end());
  }
  const std::uint32_t unused = in.count(12);
  for (std::uint32_t i = 0; i < unused && in.ok(); ++i) {
    const std::string id = in.text(64);
    unused_at_[id] = in.u64();
  }
  const std::uint32_t peers = in.count(16);
  for (std::uint32_t i = 0; i < peers && in.ok(); ++i) {
    const std::string id = in.text(64);
    Peer& peer = peers_[id];
    peer.counter = in.u64();
    peer.manifest = in.digest();
    peer.name = in.text(256);
    peer.report = read_report(in);
    peer.complete = in.u8() != 0;
  }
  if (!in.at_end()) return damaged();
  return {};
}

Result<Replica> Replica::open(Store& store) {
  Replica replica(store);
  BAYSWAP_CHECK(replica.load_state());
  if (replica.device_.url.empty())
    return fail(ErrorCode::not_found, "this device has left its sync folder", "",
                {Remedy::Kind::join_sync_folder, {}});
  return replica;
}

Result<Replica> Replica::join(Store& store, const std::string& name, const std::string& url,
                              const std::string& sync_folder) {
  Replica replica(store);
  if (const auto known = replica.load_state(); !known && known.error().code != ErrorCode::not_found)
    return tl::unexpected(known.error());
  DeviceInfo& device = replica.device_;
  if (device.id.empty()) device.id = random_id();
  if (device.sync_folder != sync_folder) {
    // Nothing of what another one was told counts here.
    replica.counter_ = 0;
    replica.told_ = {};
    replica.told_pages_ = {};
    replica.told_wanted_.clear();
    replica.peers_.clear();
    BAYSWAP_TRY(const auto all, replica.objects_.list());
    BAYSWAP_TRY(const History* history, replica.history());
    std::set<Digest> bundles;
    for (const auto& [id, version] : history->versions()) bundles.insert(version.bundle);
    for (const Digest& digest : all)
      if (bundles.contains(digest)) replica.unsent_.insert(digest);
  }
  device.name = name;
  device.url = url;
  device.sync_folder = sync_folder;
  replica.is_changed_ = true;
  BAYSWAP_CHECK(replica.save());
  return replica;
}

Result<std::optional<DeviceInfo>> Replica::device_of(Store& store) {
  Replica replica(store);
  const auto known = replica.load_state();
  if (!known && known.error().code == ErrorCode::not_found) return std::nullopt;
  if (!known) return tl::unexpected(known.error());
  return replica.device_;
}

Result<std::vector<std::pair<std::string, std::string>>> Replica::devices_of(SyncFolder& sync_folder) {
  std::vector<std::pair<std::string, std::string>> all;
  BAYSWAP_TRY(const auto pointers, sync_folder.pointers());
  for (const Pointer& pointer : pointers) {
    const auto bytes = sync_folder.manifests().get(pointer.manifest, max_manifest_bytes);
    const auto manifest = bytes ? manifest_from(bytes->view()) : std::nullopt;
    if (manifest && manifest->device == pointer.device) all.emplace_back(pointer.device, manifest->name);
  }
  return all;
}

Result<void> Replica::leave() {
  device_.url.clear();
  is_changed_ = true;
  return save();
}

std::vector<PeerInfo> Replica::peers() const {
  std::vector<PeerInfo> all;
  all.reserve(peers_.size());
  for (const auto& [id, peer] : peers_) all.push_back({id, peer.name, peer.report});
  return all;
}

Result<void> Replica::load_history() {
  if (is_loaded_) return {};
  for (std::size_t page = 0; page < pages_.size(); ++page) {
    if (pages_[page] == Digest{}) continue;
    BAYSWAP_TRY(const Blob bytes, objects_.get(pages_[page], max_page_bytes));
    BAYSWAP_CHECK(join_page(page, bytes.view()));
  }
  changed_pages_.clear();
  is_loaded_ = true;
  return {};
}

Digest Replica::knowledge() const {
  WireWriter out;
  write_pages(out, pages_);
  return sha256(out.view());
}

std::uint32_t Replica::conflicts() const {
  if (!is_loaded_) return reported_.conflicts;
  return static_cast<std::uint32_t>(std::ranges::count_if(
      history_.lineages(), [](const Lineage& lineage) { return differing_heads(lineage).size() > 1; }));
}

Result<const History*> Replica::history() {
  BAYSWAP_CHECK(load_history());
  return &history_;
}

Result<VersionId> Replica::note(Version version) {
  BAYSWAP_CHECK(load_history());
  version.device = device_.id;
  version.device_name = device_.name;
  version = with_id(std::move(version));
  // What was pruned never comes back: who has it all the same makes a version of its own.
  while (history_.pruned().contains(version.id)) {
    ++version.noted;
    version = with_id(std::move(version));
  }
  const VersionId id = version.id;
  const std::size_t page = page_of(version);
  if (held_.erase(version.bundle) > 0) unsent_.insert(version.bundle);
  add(std::move(version), page);
  return id;
}

Result<VersionId> Replica::note(Version version, const Blob& bundle) {
  const PackedObject object = pack_object(bundle);
  BAYSWAP_CHECK(hold(object));
  version.bundle = object.digest;
  return note(std::move(version));
}

Result<void> Replica::hold(const PackedObject& bundle) {
  BAYSWAP_CHECK(objects_.put(bundle));
  held_.insert(bundle.digest);
  return {};
}

Result<void> Replica::prune(const VersionId& id, const VersionId& later) {
  BAYSWAP_CHECK(load_history());
  const Version* version = history_.find(id);
  if (version == nullptr) return {};
  drop(id, later, page_of(*version));
  return {};
}

Result<void> Replica::save() {
  if (changed_pages_.empty() && !is_changed_) return {};
  std::set<Digest> old;
  for (const std::size_t page : changed_pages_) {
    const Blob bytes = page_bytes(page);
    if (pages_[page] != Digest{}) old.insert(pages_[page]);
    pages_[page] = Digest{};
    if (bytes.empty()) continue;
    BAYSWAP_TRY(pages_[page], objects_.put(bytes));
  }
  BAYSWAP_CHECK(objects_.settle());
  const Blob bytes = state();
  BAYSWAP_CHECK(store_->replace(std::string(state_name), bytes.view()));
  changed_pages_.clear();
  is_changed_ = false;
  // Nothing leads to them any more; left over, they only take room.
  for (const Digest& page : old)
    if (std::ranges::find(pages_, page) == pages_.end()) (void)objects_.remove(page);
  return {};
}

Result<Blob> Replica::bundle(const Version& version, SyncFolder* sync_folder) {
  auto here = objects_.get(version.bundle);
  if (here) is_changed_ = wanted_.erase(version.bundle) > 0 || is_changed_;
  if (here || sync_folder == nullptr) return here;
  auto there = sync_folder->objects().get(version.bundle);
  const bool is_missing =
      !there && (there.error().code == ErrorCode::not_found || there.error().code == ErrorCode::damaged);
  if (is_missing) is_changed_ = wanted_.insert(version.bundle).second || is_changed_;
  if (!there) return there;
  BAYSWAP_CHECK(objects_.put(*there));
  is_changed_ = wanted_.erase(version.bundle) > 0 || is_changed_;
  return there;
}

}  // namespace bayswap
