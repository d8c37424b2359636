// What one device knows of all versions, and how it tells others (docs/sync.md).
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/history.hpp>
#include <bayswap/lighthouse.hpp>

#include <array>
#include <map>
#include <set>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// What a device is called, and where it exchanges versions.
struct DeviceInfo {
  std::string id;  // at random: see random_id
  std::string name;
  std::string url;         // of the lighthouse; empty: none
  std::string lighthouse;  // its id
};

/// What devices tell of themselves beside what they know.
struct DeviceReport {
  std::int64_t seen = 0;        // when it told, by its own clock
  std::uint32_t behind = 0;     // saves of which a newer version waits to be written into its bays
  std::uint32_t conflicts = 0;  // as it sees them
};

/// Another device, as far as it has told.
struct PeerInfo {
  std::string id;
  std::string name;
  DeviceReport report;
};

/// What an exchange did.
struct Exchanged {
  std::size_t sent = 0;          // objects with saves' bytes
  std::uint64_t sent_bytes = 0;  // before they were compressed
  std::size_t received = 0;      // versions that were not known here
  std::size_t missing = 0;       // objects that are missing or damaged; others are asked for them
  std::size_t given = 0;         // objects that others had asked for
  bool rebuilt = false;          // the lighthouse had lost what this device told
};

/// What a prune did.
struct Pruned {
  std::size_t versions = 0;
  std::size_t objects = 0;  // removed from the lighthouse
  std::size_t waiting = 0;  // that go once every device has told again
};

/// A device's own store of versions: records in pages, saves' bytes as objects, counters. Everything is in
/// `store`, which must outlive it: objects are written first, and one small file makes them count. So it can
/// be cut off anywhere. Not for several threads at once, nor for several processes: hold a FileLock.
class Replica {
 public:
  /// Opens what is in the store. Fails with `not_found` if the device has not joined a lighthouse.
  [[nodiscard]] static Result<Replica> open(Store& store);
  /// Begins, or goes on under another name or with another lighthouse: versions and the device's id stay.
  [[nodiscard]] static Result<Replica> join(Store& store, const std::string& name, const std::string& url,
                                            const std::string& lighthouse);
  /// Ends it. Versions stay, in case it joins again.
  [[nodiscard]] Result<void> leave();

  [[nodiscard]] const DeviceInfo& device() const { return device_; }
  /// All versions; read when first asked for.
  [[nodiscard]] Result<const History*> history();
  [[nodiscard]] std::vector<PeerInfo> peers() const;
  /// A digest of everything that is known: the same again, and there is no news.
  [[nodiscard]] Digest knowledge() const;
  /// Saves in conflict; as it was told last, if versions have not been read.
  [[nodiscard]] std::uint32_t conflicts() const;

  /// Writes the bytes of a version that may be noted.
  [[nodiscard]] Result<void> hold(const PackedObject& bundle);
  /// Adds a version made here, whose bytes are held. Counts once save() has returned.
  [[nodiscard]] Result<VersionId> note(Version version);
  [[nodiscard]] Result<VersionId> note(Version version, const Blob& bundle);
  /// Forgets a version for good, here and, with the next exchange, everywhere.
  [[nodiscard]] Result<void> prune(const VersionId& id);
  [[nodiscard]] Result<void> save();

  /// Takes what is new at the lighthouse, gives what is asked for, and tells what is new here. Not `telling`:
  /// only the first, and nothing is written there.
  [[nodiscard]] Result<Exchanged> exchange(Lighthouse& lighthouse, const DeviceReport& report,
                                           bool telling = true);
  /// The bytes of a version, from here or from the lighthouse, which may be nullptr. Fails with `not_found`
  /// or `damaged` if neither has them; then others are asked for them with the next exchange.
  [[nodiscard]] Result<Blob> bundle(const Version& version, Lighthouse* lighthouse);
  [[nodiscard]] Result<bool> has_bundle(const Version& version) { return objects_.has(version.bundle); }
  /// Forgets another device, here and at the lighthouse: what it told stays known, and nothing waits for it
  /// any more. If it tells again, it is back. Fails with `not_found` if there is none of that id or name.
  [[nodiscard]] Result<void> forget(Lighthouse& lighthouse, const std::string& device);
  /// Removes old versions: of each save the newest `keep` stay, and every one that a device has not seen the
  /// follower of. Then removes objects from the lighthouse that nothing leads to, if that was so when it was
  /// looked at before and every device has told again since: what is on its way is never removed.
  [[nodiscard]] Result<Pruned> prune(Lighthouse& lighthouse, std::size_t keep);
  /// How many objects this device has made that are not at the lighthouse yet.
  [[nodiscard]] std::size_t unsent() const { return unsent_.size(); }
  /// Bytes of the saves that are not at the lighthouse yet, before they are compressed.
  [[nodiscard]] Result<std::uint64_t> unsent_bytes();

 private:
  using Pages = std::array<Digest, 256>;
  struct Peer {
    std::uint64_t counter = 0;
    Digest manifest;
    std::string name;
    DeviceReport report;
    bool complete = false;  // everything it told is known here
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
  /// What every device has told, read whole. Fails if anything of it is missing.
  [[nodiscard]] Result<std::vector<Manifest>> manifests(Lighthouse& lighthouse);
  [[nodiscard]] Result<std::size_t> prune_versions(Lighthouse& lighthouse, std::size_t keep,
                                                   const std::vector<Manifest>& told);
  [[nodiscard]] Result<void> sweep(Lighthouse& lighthouse, const std::vector<Manifest>& told, Pruned& done);

  explicit Replica(Store& store) : store_(&store), objects_(store, "objects") {}

  [[nodiscard]] Result<void> load_state();
  [[nodiscard]] Blob state() const;
  [[nodiscard]] static std::optional<Manifest> manifest_from(ByteView bytes);
  [[nodiscard]] static Blob to_bytes(const Manifest& manifest);
  [[nodiscard]] static std::size_t page_of(const Version& version);
  [[nodiscard]] Blob page_bytes(std::size_t page) const;
  void add(Version version, std::size_t page);
  void drop(const VersionId& id, std::size_t page);
  [[nodiscard]] Result<void> join_page(std::size_t page, ByteView bytes);
  [[nodiscard]] Result<void> load_history();
  [[nodiscard]] Result<void> take(Lighthouse& lighthouse, const Pointer& pointer, Peer& peer,
                                  std::set<Digest>& known, std::set<Digest>& asked, Exchanged& done);
  [[nodiscard]] Result<void> publish(Lighthouse& lighthouse, const DeviceReport& report,
                                     const std::set<Digest>& known, Exchanged& done);
  [[nodiscard]] Result<void> give_everything(Lighthouse& lighthouse, Exchanged& done);

  Store* store_;
  ObjectShelf objects_;
  DeviceInfo device_;
  std::uint64_t counter_ = 0;  // of what this device told last
  Digest told_;                // its manifest
  DeviceReport reported_;
  Pages pages_{};          // what is known
  Pages told_pages_{};     // what was told
  std::set<Digest> held_;  // of versions that are not noted yet
  std::set<Digest> unsent_;
  std::set<Digest> wanted_;
  std::set<Digest> told_wanted_;
  std::map<std::string, Peer> peers_;
  std::set<Digest> unused_;                         // objects at the lighthouse that nothing led to
  std::map<std::string, std::uint64_t> unused_at_;  // and how far each device had told then

  History history_;
  std::array<std::set<VersionId>, 256> members_;  // of each page
  std::map<VersionId, std::size_t> pruned_page_;
  std::set<std::size_t> changed_pages_;
  bool is_loaded_ = false;
  bool is_changed_ = false;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
