// The keys of a lighthouse whose names and contents only its own devices can read (docs/sync.md, Encryption).
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>

#include <memory>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The keys: one for names, and one for contents for each time they were changed, the newest last. What is
/// sealed is sealed with the newest; all open.
class Keyring {
 public:
  /// 32 bytes each.
  using Key = std::array<Byte, 32>;

  /// New keys, at random.
  [[nodiscard]] static Keyring make();
  /// The same and a new one for contents.
  [[nodiscard]] Keyring with_new_key() const;
  /// The same and what another ring has besides.
  [[nodiscard]] Keyring joined_with(const Keyring& other) const;

  /// As they are kept on a device, open.
  [[nodiscard]] Blob bytes() const;
  /// Fails with `damaged`.
  [[nodiscard]] static Result<Keyring> from_bytes(ByteView bytes);

  /// As they lie in the lighthouse, locked with a passphrase: TOML. Takes 64 MiB and about half a second
  /// (Argon2id). `lighthouse`: its id.
  [[nodiscard]] Result<std::string> locked(const std::string& passphrase,
                                           const std::string& lighthouse) const;
  /// Fails with `bad_usage` if it is another passphrase, `damaged` if it is no such file.
  [[nodiscard]] static Result<Keyring> unlocked(std::string_view toml, const std::string& passphrase,
                                                const std::string& lighthouse);

  [[nodiscard]] const Key& names() const { return names_; }
  [[nodiscard]] const std::vector<Key>& contents() const { return contents_; }
  /// The file in the lighthouse that these keys are from; empty: not in it yet.
  std::string lock;

  friend bool operator==(const Keyring& a, const Keyring& b) {
    return a.names_ == b.names_ && a.contents_ == b.contents_;
  }

 private:
  Key names_{};
  std::vector<Key> contents_;
};

/// Puts keys into a lighthouse's folder as the newest of it, and removes those before. Returns the ring as it
/// is from now on, with its `lock`.
[[nodiscard]] Result<Keyring> put_lock(Store& store, Keyring keys, const std::string& passphrase,
                                       const std::string& lighthouse);
/// The name of the newest lock; empty if there is none. One listing.
[[nodiscard]] Result<std::string> newest_lock(Store& store);
/// Opens the newest lock. Fails with `bad_usage` if it is another passphrase.
[[nodiscard]] Result<Keyring> open_lock(Store& store, const std::string& passphrase,
                                        const std::string& lighthouse);

/// A store whose files can be read and named only with the keys. Files in the root, and those in `keys`, are
/// left open; folders keep their names. Contents are padded to a power of two of at least 4 KiB. `below` must
/// outlive it. Files that were not sealed with these keys are not seen in lists, and `damaged` when read.
[[nodiscard]] std::unique_ptr<Store> encrypted_store(Store& below, Keyring keys);

}  // namespace bayswap
BAYSWAP_EXPORT_END
