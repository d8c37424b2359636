// One exchange with a sync folder: what others have told, and what this device tells.
#include <bayswap/replica.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::int64_t still_here_seconds = 6 * 3600;  // told again after that long, so that others see it

bool is_missing(const Error& error) {
  return error.code == ErrorCode::not_found || error.code == ErrorCode::damaged;
}

}  // namespace

// Takes what a device told. What of it is missing, or damaged, is asked for, and the rest counts all the
// same.
Result<void> Replica::take(SyncFolder& sync_folder, const Pointer& pointer, Peer& peer,
                           std::set<Digest>& known, std::set<Digest>& asked, Exchanged& done) {
  const auto missing = [&](const Digest& digest) {
    is_changed_ = wanted_.insert(digest).second || is_changed_;
    ++done.missing;
    peer.complete = false;
  };
  auto bytes = sync_folder.manifests().get(pointer.manifest, max_manifest_bytes);
  if (!bytes && !is_missing(bytes.error())) return tl::unexpected(bytes.error());
  // The device's next manifest makes up for a lost one: that one is not asked for. A pointer is a name in a
  // listing, and a line may have turned a bit of it: a counter that is too high by that would hide all that
  // come.
  auto manifest = bytes ? manifest_from(bytes->view()) : std::nullopt;
  if (!manifest || manifest->device != pointer.device || manifest->counter != pointer.counter) {
    ++done.missing;
    return {};
  }
  peer.complete = true;
  for (std::size_t page = 0; page < pages_.size(); ++page) {
    const Digest& digest = manifest->pages[page];
    if (digest == Digest{}) continue;
    known.insert(digest);
    if (digest == pages_[page]) continue;
    BAYSWAP_CHECK(load_history());
    auto records = objects_.get(digest, max_page_bytes);
    if (!records) records = sync_folder.objects().get(digest, max_page_bytes);
    if (!records && !is_missing(records.error())) return tl::unexpected(records.error());
    const std::size_t before = history_.versions().size();
    if (!records || !join_page(page, records->view())) {
      missing(digest);
      known.erase(digest);
      continue;
    }
    done.received += history_.versions().size() - std::min(before, history_.versions().size());
    is_changed_ = wanted_.erase(digest) > 0 || is_changed_;
  }
  for (const Digest& digest : manifest->wants) asked.insert(digest);
  peer.name = manifest->name;
  peer.report = manifest->report;
  peer.counter = pointer.counter;
  peer.manifest = pointer.manifest;
  is_changed_ = true;
  return {};
}

// After a loss: everything that is known here and not there.
Result<void> Replica::give_everything(SyncFolder& sync_folder, Exchanged& done) {
  BAYSWAP_TRY(const auto there, sync_folder.objects().list());
  BAYSWAP_TRY(const auto here, objects_.list());
  const std::set<Digest> known(there.begin(), there.end());
  for (const Digest& digest : here) {
    if (known.contains(digest)) continue;
    const auto put = sync_folder.objects().put_from(objects_, digest);
    if (!put && is_missing(put.error())) continue;  // it rotted here as well; another device may have it
    if (!put) return tl::unexpected(put.error());
    ++done.given;
  }
  done.rebuilt = true;
  return {};
}

Result<void> Replica::publish(SyncFolder& sync_folder, const DeviceReport& report,
                              const std::set<Digest>& known, Exchanged& done) {
  for (const Digest& digest : unsent_) {
    const auto put = sync_folder.objects().put_from(objects_, digest);
    if (!put && is_missing(put.error())) continue;  // asked for by whoever needs it
    if (!put) return tl::unexpected(put.error());
    ++done.sent;
    done.sent_bytes += *put;
  }
  Manifest manifest;
  manifest.device = device_.id;
  manifest.name = device_.name;
  manifest.counter = counter_ + 1;
  manifest.report = report;
  manifest.pages = pages_;
  manifest.wants.assign(wanted_.begin(), wanted_.end());
  for (std::size_t page = 0; page < pages_.size(); ++page) {
    const Digest& digest = pages_[page];
    if (digest == Digest{} || digest == told_pages_[page] || known.contains(digest)) continue;
    BAYSWAP_CHECK(sync_folder.objects().put_from(objects_, digest));
  }
  BAYSWAP_TRY(const Digest digest, sync_folder.manifests().put(to_bytes(manifest)));
  // What the pointer leads to is there before it is.
  BAYSWAP_CHECK(sync_folder.objects().settle());
  BAYSWAP_CHECK(sync_folder.point({device_.id, manifest.counter, digest}));
  const Digest before = told_;
  counter_ = manifest.counter;
  told_ = digest;
  told_pages_ = pages_;
  told_wanted_ = wanted_;
  reported_ = report;
  unsent_.clear();
  is_changed_ = true;
  BAYSWAP_CHECK(save());
  if (before != Digest{} && before != digest) (void)sync_folder.objects().remove(before);
  return {};
}

Result<Exchanged> Replica::exchange(SyncFolder& sync_folder, const DeviceReport& report, bool telling) {
  if (sync_folder.id() != device_.sync_folder)
    return fail(ErrorCode::unsafe,
                fmt::format("the sync folder at {} is not the one that was joined", device_.url), "",
                {Remedy::Kind::join_sync_folder, {device_.url}});
  Exchanged done;
  BAYSWAP_TRY(const auto pointers, sync_folder.pointers());
  std::set<Digest> known;  // pages that are there
  std::set<Digest> asked;
  bool is_own_there = false;
  for (const Pointer& pointer : pointers) {
    if (pointer.device == device_.id) {
      is_own_there = true;
      if (pointer.counter < counter_ || (pointer.counter == counter_ && pointer.manifest == told_)) continue;
      // This home folder is an old copy of itself, or there are two of it: what was told counts.
      Peer itself;
      BAYSWAP_CHECK(take(sync_folder, pointer, itself, known, asked, done));
      if (itself.manifest == Digest{}) continue;  // not ours, or nothing is left of it
      counter_ = pointer.counter;
      told_ = pointer.manifest;
      told_pages_ = {};
      is_changed_ = true;
      continue;
    }
    Peer& peer = peers_[pointer.device];
    if (pointer.counter < peer.counter) continue;  // an old listing
    if (pointer.counter == peer.counter && pointer.manifest == peer.manifest && peer.complete) continue;
    BAYSWAP_CHECK(take(sync_folder, pointer, peer, known, asked, done));
    if (peer.manifest == Digest{}) peers_.erase(pointer.device);  // nothing is known of it but a name
  }
  for (const Digest& digest : telling ? asked : std::set<Digest>{}) {
    const auto put = sync_folder.objects().put_from(objects_, digest);
    if (!put && is_missing(put.error())) continue;
    if (!put) return tl::unexpected(put.error());
    ++done.given;
  }
  BAYSWAP_CHECK(save());
  if (!telling) return done;
  if (!is_own_there && counter_ > 0) BAYSWAP_CHECK(give_everything(sync_folder, done));
  const bool is_news = pages_ != told_pages_ || !unsent_.empty() || wanted_ != told_wanted_ ||
                       !is_own_there || report.waiting != reported_.waiting ||
                       report.conflicts != reported_.conflicts ||
                       report.seen - reported_.seen >= still_here_seconds || report.seen < reported_.seen;
  if (is_news) BAYSWAP_CHECK(publish(sync_folder, report, known, done));
  return done;
}

Result<std::uint64_t> Replica::unsent_bytes() {
  if (unsent_.empty()) return std::uint64_t{0};
  BAYSWAP_TRY(const History* known, history());
  std::uint64_t bytes = 0;
  for (const auto& [id, version] : known->versions())
    if (unsent_.contains(version.bundle)) bytes += version.size_bytes;
  return bytes;
}

}  // namespace bayswap
