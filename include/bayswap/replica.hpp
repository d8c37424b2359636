// A device's copy of all versions, and their exchange with other devices (docs/sync.md). Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/history.hpp>
#include <bayswap/sync_folder.hpp>

#include <array>
#include <map>
#include <set>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The name of a device, and the sync folder where it exchanges versions.
struct DeviceInfo {
  std::string id;  // random: see random_id
  std::string name;
  std::string url;          // of the sync folder; empty: none
  std::string sync_folder;  // its id
};

/// The state of a device, which it publishes with its versions.
struct DeviceReport {
  std::int64_t seen = 0;        // time of the report, by the device's clock
  std::uint32_t waiting = 0;    // saves whose newer version is not yet in its bays
  std::uint32_t conflicts = 0;  // as it sees them
};

/// Another device, from its last report.
struct PeerInfo {
  std::string id;
  std::string name;
  DeviceReport report;
};

/// The result of an exchange.
struct Exchanged {
  std::size_t sent = 0;          // objects with saves' bytes
  std::uint64_t sent_bytes = 0;  // before they were compressed
  std::size_t received = 0;      // versions that were not known here
  std::size_t missing = 0;       // objects that are missing or damaged; requested from other devices
  std::size_t given = 0;         // objects that other devices had requested
  bool rebuilt = false;          // the sync folder had lost this device's manifest
};

/// The result of a prune.
struct Pruned {
  std::size_t versions = 0;
  std::size_t objects = 0;  // removed from the sync folder
  std::size_t waiting = 0;  // to be removed once every device has reported again
};

/// A device's own versions: records in pages, saves' bytes as objects, counters. Everything is in `store`,
/// which must outlive it. Objects are written first, and one small file then makes them valid, so that an
/// interruption at any point loses nothing. Not for several threads or processes at once: hold a FileLock.
class Replica {
 public:
  /// Opens the replica in the store. Fails with `not_found` if the device has not joined a sync folder.
  [[nodiscard]] static Result<Replica> open(Store& store);
  /// Makes a replica, or changes the name or the sync folder of the existing one: versions and the device's
  /// id stay.
  [[nodiscard]] static Result<Replica> join(Store& store, const std::string& name, const std::string& url,
                                            const std::string& sync_folder);
  /// Returns the device of the store, also of one that has left; nothing if it never joined.
  [[nodiscard]] static Result<std::optional<DeviceInfo>> device_of(Store& store);
  /// Returns ids and names of the devices that have reported to a sync folder; of a damaged report nothing.
  [[nodiscard]] static Result<std::vector<std::pair<std::string, std::string>>> devices_of(
      SyncFolder& sync_folder);
  /// Leaves the sync folder. Versions stay, in case the device joins again.
  [[nodiscard]] Result<void> leave();

  [[nodiscard]] const DeviceInfo& device() const { return device_; }
  /// Returns all versions; reads them on first use.
  [[nodiscard]] Result<const History*> history();
  [[nodiscard]] std::vector<PeerInfo> peers() const;
  /// Returns a digest of everything that is known. It changes only with news.
  [[nodiscard]] Digest knowledge() const;
  /// Returns the number of saves in conflict; the last reported one if versions have not been read yet.
  [[nodiscard]] std::uint32_t conflicts() const;

  /// Writes the bytes of a version that may be noted later.
  [[nodiscard]] Result<void> hold(const PackedObject& bundle);
  /// Adds a version made here, whose bytes were written with hold(). It is valid when save() has returned.
  [[nodiscard]] Result<VersionId> note(Version version);
  [[nodiscard]] Result<VersionId> note(Version version, const Blob& bundle);
  /// Removes a version for good: here, and with the next exchange everywhere.
  [[nodiscard]] Result<void> prune(const VersionId& id, const VersionId& later = {});
  [[nodiscard]] Result<void> save();

  /// Receives what is new at the sync folder, sends what other devices requested, and publishes what is new
  /// here. Without `telling` it only receives, and writes nothing there.
  [[nodiscard]] Result<Exchanged> exchange(SyncFolder& sync_folder, const DeviceReport& report,
                                           bool telling = true);
  /// Returns the bytes of a version, from here or from the sync folder, which may be nullptr. Fails with
  /// `not_found` or `damaged` if neither has them; the next exchange then requests them from other devices.
  [[nodiscard]] Result<Blob> bundle(const Version& version, SyncFolder* sync_folder);
  [[nodiscard]] Result<bool> has_bundle(const Version& version) { return objects_.has(version.bundle); }
  /// Removes another device, here and at the sync folder. Its versions stay known, and prunes no longer wait
  /// for it. It is back when it publishes again. Fails with `not_found` if no device has that id or name.
  [[nodiscard]] Result<void> forget(SyncFolder& sync_folder, const std::string& device);
  /// Removes old versions: keeps the newest `keep` of each save, and each one whose successor some device has
  /// not seen. Then removes unused objects from the sync folder, if the prune before found them unused and
  /// every device has reported since: objects of an exchange in progress are never removed.
  [[nodiscard]] Result<Pruned> prune(SyncFolder& sync_folder, std::size_t keep);
  /// Returns how many of this device's objects are not at the sync folder yet.
  [[nodiscard]] std::size_t unsent() const { return unsent_.size(); }
  /// Returns the bytes of the saves that are not at the sync folder yet, uncompressed.
  [[nodiscard]] Result<std::uint64_t> unsent_bytes();

 private:
  using Pages = std::array<Digest, 256>;
  struct Peer {
    std::uint64_t counter = 0;
    Digest manifest;
    std::string name;
    DeviceReport report;
    bool complete = false;  // everything it reported is known here
  };
  struct Manifest {
    Digest itself;  // where it was read from
    std::string device;
    std::string name;
    std::uint64_t counter = 0;
    DeviceReport report;
    Pages pages{};
    std::vector<Digest> wants;
  };
  /// Reads the manifests of all devices. Fails if one is missing or incomplete.
  [[nodiscard]] Result<std::vector<Manifest>> manifests(SyncFolder& sync_folder);
  [[nodiscard]] Result<std::size_t> prune_versions(SyncFolder& sync_folder, std::size_t keep,
                                                   const std::vector<Manifest>& told);
  [[nodiscard]] Result<void> sweep(SyncFolder& sync_folder, const std::vector<Manifest>& told, Pruned& done);

  explicit Replica(Store& store) : store_(&store), objects_(store, "objects") {}

  [[nodiscard]] Result<void> load_state();
  [[nodiscard]] Blob state() const;
  [[nodiscard]] static std::optional<Manifest> manifest_from(ByteView bytes);
  [[nodiscard]] static Blob to_bytes(const Manifest& manifest);
  [[nodiscard]] static std::size_t page_of(const Version& version);
  [[nodiscard]] Blob page_bytes(std::size_t page) const;
  void add(Version version, std::size_t page);
  void drop(const VersionId& id, const VersionId& later, std::size_t page);
  [[nodiscard]] Result<void> join_page(std::size_t page, ByteView bytes);
  [[nodiscard]] Result<void> load_history();
  [[nodiscard]] Result<void> take(SyncFolder& sync_folder, const Pointer& pointer, Peer& peer,
                                  std::set<Digest>& known, std::set<Digest>& asked, Exchanged& done);
  [[nodiscard]] Result<void> publish(SyncFolder& sync_folder, const DeviceReport& report,
                                     const std::set<Digest>& known, Exchanged& done);
  [[nodiscard]] Result<void> give_everything(SyncFolder& sync_folder, Exchanged& done);

  Store* store_;
  ObjectShelf objects_;
  DeviceInfo device_;
  std::uint64_t counter_ = 0;  // of this device's last report
  Digest told_;                // its manifest
  DeviceReport reported_;
  Pages pages_{};          // what is known
  Pages told_pages_{};     // as reported
  std::set<Digest> held_;  // of versions that are not noted yet
  std::set<Digest> unsent_;
  std::set<Digest> wanted_;
  std::set<Digest> told_wanted_;
  std::map<std::string, Peer> peers_;
  std::set<Digest> unused_;                         // objects at the sync folder that nothing led to
  std::map<std::string, std::uint64_t> unused_at_;  // and each device's last report then

  History history_;
  std::array<std::set<VersionId>, 256> members_;  // of each page
  std::map<VersionId, std::size_t> pruned_page_;
  std::set<std::size_t> changed_pages_;
  bool is_loaded_ = false;
  bool is_changed_ = false;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
