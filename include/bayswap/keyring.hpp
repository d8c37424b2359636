// The keys of a sync folder whose names and contents only its own devices can read (docs/sync.md,
// Encryption). Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <memory>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The keys: one for names, and one or more for contents, the newest last. Encryption uses the newest,
/// decryption all.
class Keyring {
 public:
  /// A key of 32 bytes.
  using Key = std::array<Byte, 32>;

  /// Returns new random keys.
  [[nodiscard]] static Keyring make();
  /// Returns these keys and a new one for contents.
  [[nodiscard]] Keyring with_new_key() const;
  /// Returns these keys with the newest one for contents alone.
  [[nodiscard]] Keyring with_newest_alone() const;
  /// Returns these keys and those that only `other` has.
  [[nodiscard]] Keyring joined_with(const Keyring& other) const;

  /// Returns the keys as a device stores them, unencrypted.
  [[nodiscard]] Blob bytes() const;
  /// Reads what bytes() returned. Fails with `damaged` if it is something else.
  [[nodiscard]] static Result<Keyring> from_bytes(ByteView bytes);

  /// Returns the keys encrypted with a passphrase, as TOML, as the sync folder stores them. Takes 64 MiB and
  /// about half a second (Argon2id). `sync folder`: its id.
  [[nodiscard]] Result<std::string> locked(const std::string& passphrase,
                                           const std::string& sync_folder) const;
  /// Decrypts what locked() returned. Fails with `bad_usage` for another passphrase, `damaged` for another
  /// file.
  [[nodiscard]] static Result<Keyring> unlocked(std::string_view toml, const std::string& passphrase,
                                                const std::string& sync_folder);

  [[nodiscard]] const Key& names() const { return names_; }
  [[nodiscard]] const std::vector<Key>& contents() const { return contents_; }
  /// The sync folder's file that these keys came from; empty: not stored there yet.
  std::string lock;

  friend bool operator==(const Keyring& a, const Keyring& b) {
    return a.names_ == b.names_ && a.contents_ == b.contents_;
  }

 private:
  Key names_{};
  std::vector<Key> contents_;
};

/// Stores keys in a sync folder's folder as its newest, and removes the earlier ones. Returns the keys with
/// `lock` set.
[[nodiscard]] Result<Keyring> put_lock(Store& store, Keyring keys, const std::string& passphrase,
                                       const std::string& sync_folder);
/// Returns the name of the newest lock; empty if there is none. Takes one listing.
[[nodiscard]] Result<std::string> newest_lock(Store& store);
/// Decrypts the newest lock. Fails with `bad_usage` for another passphrase.
[[nodiscard]] Result<Keyring> open_lock(Store& store, const std::string& passphrase,
                                        const std::string& sync_folder);

/// Returns a store that encrypts names and contents of the files in `below`, which must outlive it. Files in
/// the root and in the folder "keys" are not encrypted; folders keep their names. Contents are padded to a
/// power of two of at least 4 KiB. Files that were not encrypted with these keys do not appear in lists, and
/// reading them fails with `damaged`.
[[nodiscard]] std::unique_ptr<Store> encrypted_store(Store& below, Keyring keys);

}  // namespace bayswap
BAYSWAP_EXPORT_END
