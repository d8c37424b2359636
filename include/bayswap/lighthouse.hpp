// A lighthouse: a folder on any dumb store through which devices exchange versions (docs/sync.md).
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <optional>
#include <set>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// An object as it is stored, ready to be written.
struct PackedObject {
  Digest digest;  // of what is in it
  Blob file;
};
/// Packs it; any thread may.
[[nodiscard]] PackedObject pack_object(const Blob& plain);

/// Objects in a folder of a store, each compressed, under the digest of what is in it. An object is written
/// once and never changed.
class ObjectShelf {
 public:
  /// `store` must outlive it. `folder`: below the store's root.
  ObjectShelf(Store& store, std::string folder) : store_(&store), folder_(std::move(folder)) {}

  /// Writes it, unless it is there and sound. Returns its digest. Durable once settle() has returned.
  [[nodiscard]] Result<Digest> put(const Blob& plain);
  [[nodiscard]] Result<void> put(const PackedObject& object);
  /// The same of an object of another shelf. Fails with `damaged` if it is not sound there.
  [[nodiscard]] Result<std::uint64_t> put_from(ObjectShelf& other, const Digest& digest);
  [[nodiscard]] Result<void> settle() { return store_->settle(); }
  /// Fails with `not_found`, or with `damaged` if it is not what its name says: half written, or changed.
  [[nodiscard]] Result<Blob> get(const Digest& digest);
  /// Returns whether there is one of that name; whether it is sound only get() tells.
  [[nodiscard]] Result<bool> has(const Digest& digest);
  /// All names; 16 listings.
  [[nodiscard]] Result<std::vector<Digest>> list();
  /// One that is not there is no error.
  [[nodiscard]] Result<void> remove(const Digest& digest);

 private:
  [[nodiscard]] std::string path_of(const Digest& digest) const;
  [[nodiscard]] Result<Blob> opened(const Digest& digest, const Blob& file) const;
  Store* store_;
  std::string folder_;
  std::set<Digest> written_;  // by this process: what they hold is known
};

/// What one device has told: its manifest, which is an object.
struct Pointer {
  std::string device;         // its id
  std::uint64_t counter = 0;  // one more each time
  Digest manifest;
};

class Lighthouse {
 public:
  /// What the folder of one says of it.
  struct About {
    std::string id;  // made when it was founded: tells one lighthouse from another at the same place
    bool is_encrypted = false;  // only devices with its keys can read it: see keyring.hpp
  };
  /// Fails with `not_found` if there is none in the folder, `unsupported` if a newer Bay Swap made it.
  [[nodiscard]] static Result<About> about(Store& store);
  /// Makes one in an empty folder, or returns what is there. Fails with `unsafe` if other things are in the
  /// folder.
  [[nodiscard]] static Result<About> make(Store& store, bool encrypted);
  /// Opens one; one that is encrypted through `encrypted_store(store)`, which is the folder as its devices
  /// see it. Fails as about(), and with `bad_usage` if it is encrypted and `encrypted` is nullptr. The stores
  /// must outlive it.
  [[nodiscard]] static Result<Lighthouse> open(Store& store, Store* encrypted = nullptr);
  /// make() and open() of one that is not encrypted.
  [[nodiscard]] static Result<Lighthouse> found(Store& store);

  [[nodiscard]] const std::string& id() const { return id_; }
  [[nodiscard]] ObjectShelf& objects() { return objects_; }
  /// What every device has told, the newest of each that this listing shows; one request.
  [[nodiscard]] Result<std::vector<Pointer>> pointers();
  /// Tells: the new pointer first, then those of this device before it are removed.
  [[nodiscard]] Result<void> point(const Pointer& now);
  /// Removes what a device told.
  [[nodiscard]] Result<void> forget(const std::string& device);

 private:
  Lighthouse(Store& store, std::string id) : store_(&store), id_(std::move(id)), objects_(store, "objects") {}
  Store* store_;
  std::string id_;
  ObjectShelf objects_;
  std::vector<std::string> own_names_;
  std::vector<std::pair<std::string, std::string>> names_;  // device and name of each pointer listed
};

/// 16 hex digits, at random.
[[nodiscard]] std::string random_id();

}  // namespace bayswap
BAYSWAP_EXPORT_END
