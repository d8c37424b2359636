// A sync folder: a folder in any store, through which devices exchange versions (docs/sync.md). Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <optional>
#include <set>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// An object in its stored form.
struct PackedObject {
  Digest digest;  // of what is in it
  Blob file;
};
/// Compresses an object. Any thread may call it.
[[nodiscard]] PackedObject pack_object(const Blob& plain);

/// Sizes of objects: what says to be more is damaged, and is not unpacked.
inline constexpr std::size_t max_manifest_bytes = std::size_t{1} << 20;
inline constexpr std::size_t max_page_bytes = std::size_t{16} << 20;
inline constexpr std::size_t max_bundle_bytes = std::size_t{512} << 20;

/// Objects in a folder of a store: compressed, and named by the digest of their plain bytes. An object never
/// changes once it is written. Not for several threads at once.
class ObjectShelf {
 public:
  /// `store` must outlive it. `folder`: below the store's root.
  ObjectShelf(Store& store, std::string folder) : store_(&store), folder_(std::move(folder)) {}

  /// Writes an object, unless it exists and is sound. Returns its digest. It is durable when settle() has
  /// returned.
  [[nodiscard]] Result<Digest> put(const Blob& plain);
  [[nodiscard]] Result<void> put(const PackedObject& object);
  /// Copies an object from another shelf. Returns its size there in bytes. Fails with `damaged` if it is not
  /// sound.
  [[nodiscard]] Result<std::uint64_t> put_from(ObjectShelf& other, const Digest& digest);
  [[nodiscard]] Result<void> settle() { return store_->settle(); }
  /// Returns an object of up to so many bytes. Fails with `not_found` if it does not exist, `damaged` if its
  /// bytes do not have the digest of its name, or are more.
  [[nodiscard]] Result<Blob> get(const Digest& digest, std::size_t max_bytes = max_bundle_bytes);
  /// Returns whether an object of that name exists. Only get() verifies it.
  [[nodiscard]] Result<bool> has(const Digest& digest);
  /// Returns all names. Takes 16 listings.
  [[nodiscard]] Result<std::vector<Digest>> list();
  /// Removes an object; succeeds if it does not exist.
  [[nodiscard]] Result<void> remove(const Digest& digest);

 private:
  [[nodiscard]] std::string path_of(const Digest& digest) const;
  [[nodiscard]] Result<Blob> opened(const Digest& digest, const Blob& file, std::size_t max_bytes) const;
  Store* store_;
  std::string folder_;
  std::set<Digest> written_;  // by this process: their content is known
};

/// Points to the newest manifest of a device; the manifest is an object.
struct Pointer {
  std::string device;         // its id
  std::uint64_t counter = 0;  // increases by one with each manifest
  Digest manifest;
};

/// An open sync folder. Not for several threads at once.
class SyncFolder {
 public:
  /// The description of a sync folder in its folder.
  struct About {
    std::string id;             // random; distinguishes sync folders that were made at the same place
    bool is_encrypted = false;  // only devices with its keys can read it: see keyring.hpp
  };
  /// Reads the description. Fails with `not_found` if the folder has no sync folder, `unsupported` if a newer
  /// Bay Swap made it.
  [[nodiscard]] static Result<About> about(Store& store);
  /// Makes a sync folder in an empty folder, or returns the existing one's description. Fails with `unsafe`
  /// if the folder contains anything else.
  [[nodiscard]] static Result<About> make(Store& store, bool encrypted);
  /// Writes the description again where it was lost: into a folder with reports or objects of a sync folder.
  /// Fails with `not_found` for any other folder.
  [[nodiscard]] static Result<void> put_back(Store& store, const About& known);
  /// Opens a sync folder whose description was read, and is not read again. An encrypted one needs
  /// `encrypted`, made with encrypted_store(store); where that is given, everything goes through it. Fails
  /// with `bad_usage` if it is encrypted and `encrypted` is nullptr, `unsafe` if it is not encrypted any more
  /// and `encrypted` is given. `newest`: encrypted_store(store) with the newest key alone; with it, only
  /// reports under that key count, since whoever lost the right to the sync folder may still have the others.
  /// The stores must outlive it.
  [[nodiscard]] static Result<SyncFolder> open(const About& known, Store& store, Store* encrypted = nullptr,
                                               Store* newest = nullptr);
  /// The same, after reading the description. Fails as about().
  [[nodiscard]] static Result<SyncFolder> open(Store& store, Store* encrypted = nullptr);
  /// Makes a sync folder without encryption if there is none, and opens it.
  [[nodiscard]] static Result<SyncFolder> found(Store& store);

  [[nodiscard]] const std::string& id() const { return id_; }
  [[nodiscard]] ObjectShelf& objects() { return objects_; }
  /// The devices' reports: they are objects, too.
  [[nodiscard]] ObjectShelf& manifests() { return manifests_ ? *manifests_ : objects_; }
  /// Encrypts reports with the newest key: of one device, or of all (empty). To be called when the key was
  /// changed, or entered.
  [[nodiscard]] Result<void> renew_manifests(const std::string& device);
  /// Returns the newest pointer of each device that is listed. Takes one request.
  [[nodiscard]] Result<std::vector<Pointer>> pointers();
  /// Writes a new pointer, then removes the earlier ones of this device.
  [[nodiscard]] Result<void> point(const Pointer& now);
  /// Removes the pointers of a device.
  [[nodiscard]] Result<void> forget(const std::string& device);

 private:
  SyncFolder(Store& store, std::string id) : store_(&store), id_(std::move(id)), objects_(store, "objects") {}
  Store* store_;
  std::string id_;
  ObjectShelf objects_;
  std::optional<ObjectShelf> manifests_;  // under the newest key; nothing: as the objects are
  std::vector<std::pair<std::string, std::string>> names_;  // device and name of each pointer listed
};

/// Returns 16 random hex digits.
[[nodiscard]] std::string random_id();

}  // namespace bayswap
BAYSWAP_EXPORT_END
