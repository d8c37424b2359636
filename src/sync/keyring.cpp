#include <fmt/format.h>
#include <sodium.h>
#include <bayswap/keyring.hpp>

#include <algorithm>
#include <charconv>

#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "sync/lock_number.hpp"

namespace bayswap {
namespace {

constexpr std::string_view keys_folder = "keys";
constexpr std::array<Byte, 4> key_mark{'B', 'S', 'K', 1};
constexpr std::size_t max_keys = 1000;
constexpr std::size_t key_size = std::tuple_size_v<Keyring::Key>;
static_assert(key_size == crypto_aead_xchacha20poly1305_ietf_KEYBYTES);
constexpr std::size_t nonce_size = crypto_aead_xchacha20poly1305_ietf_NPUBBYTES;
constexpr std::size_t checksum_size = crypto_aead_xchacha20poly1305_ietf_ABYTES;

// Argon2id: what one guess of a passphrase costs. A file may ask for less or more, within bounds.
constexpr std::int64_t usual_passes = 6;
constexpr std::int64_t max_passes = 30;
constexpr std::int64_t usual_memory = std::int64_t{64} << 20;
constexpr std::int64_t least_memory = std::int64_t{8} << 20;
constexpr std::int64_t max_memory = std::int64_t{256} << 20;

bool start_sodium() {
  static const bool works = sodium_init() >= 0;
  return works;
}

Result<Keyring::Key> stretched(const std::string& passphrase, ByteView salt, std::int64_t passes,
                               std::int64_t memory) {
  Keyring::Key key{};
  if (!start_sodium() || crypto_pwhash(key.data(), key.size(), passphrase.data(), passphrase.size(),
                                       salt.data(), static_cast<unsigned long long>(passes),
                                       static_cast<std::size_t>(memory), crypto_pwhash_ALG_ARGON2ID13) != 0)
    return fail(ErrorCode::io, "there is no memory to turn the passphrase into a key",
                "it takes 64 MB: end other programs");
  return key;
}

std::optional<std::vector<Byte>> from_hex(std::string_view text) {
  if (text.size() % 2 != 0) return std::nullopt;
  std::vector<Byte> bytes(text.size() / 2);
  std::size_t used = 0;
  if (sodium_hex2bin(bytes.data(), bytes.size(), text.data(), text.size(), nullptr, &used, nullptr) != 0 ||
      used != bytes.size())
    return std::nullopt;
  return bytes;
}

std::string to_hex(ByteView bytes) {
  std::string text(bytes.size() * 2 + 1, '\0');
  sodium_bin2hex(text.data(), text.size(), bytes.data(), bytes.size());
  text.pop_back();
  return text;
}

}  // namespace

std::optional<std::uint64_t> number_of_lock(std::string_view name) {
  std::uint64_t number = 0;
  const auto read = std::from_chars(name.data(), name.data() + name.size(), number);
  if (read.ec != std::errc() || read.ptr == name.data() + name.size() || *read.ptr != '.' ||
      !name.ends_with(".toml"))
    return std::nullopt;
  return number;
}

namespace {

Result<std::vector<std::pair<std::uint64_t, std::string>>> locks(Store& store) {
  std::vector<std::pair<std::uint64_t, std::string>> all;
  const auto files = store.list(std::string(keys_folder));
  if (!files && files.error().code == ErrorCode::not_found) return all;
  if (!files) return tl::unexpected(files.error());
  for (const FileInfo& file : *files)
    if (const auto number = number_of_lock(file.name)) all.emplace_back(*number, file.name);
  std::ranges::sort(all);
  return all;
}

tl::unexpected<Error> damaged_lock(const std::string& shown) {
  return fail(ErrorCode::damaged, fmt::format("{} is damaged", shown),
              "a device that still has the keys can put them there anew by changing the key");
}

}  // namespace

Keyring Keyring::make() {
  (void)start_sodium();
  Keyring ring;
  randombytes_buf(ring.names_.data(), ring.names_.size());
  return ring.with_new_key();
}

Keyring Keyring::with_new_key() const {
  (void)start_sodium();
  Keyring ring = *this;
  Key key{};
  randombytes_buf(key.data(), key.size());
  ring.contents_.push_back(key);
  return ring;
}

Keyring Keyring::with_newest_alone() const {
  Keyring ring = *this;
  ring.contents_.erase(ring.contents_.begin(), ring.contents_.end() - 1);
  return ring;
}

Keyring Keyring::joined_with(const Keyring& other) const {
  Keyring ring = other;
  for (const Key& key : contents_)
    if (std::ranges::find(ring.contents_, key) == ring.contents_.end())
      ring.contents_.insert(ring.contents_.begin(), key);
  return ring;
}

Blob Keyring::bytes() const {
  std::vector<Byte> out(key_mark.begin(), key_mark.end());
  out.push_back(static_cast<Byte>(lock.size()));
  out.insert(out.end(), lock.begin(), lock.end());
  out.insert(out.end(), names_.begin(), names_.end());
  for (const Key& key : contents_) out.insert(out.end(), key.begin(), key.end());
  return Blob::copy_of(out);
}

Result<Keyring> Keyring::from_bytes(ByteView bytes) {
  const auto odd = fail(ErrorCode::damaged, "the keys of the sync folder are damaged on this device",
                        "enter the passphrase again", {Remedy::Kind::enter_passphrase, {}});
  const std::size_t head = key_mark.size() + 1;
  if (bytes.size() < head || !std::ranges::equal(bytes.first(key_mark.size()), key_mark)) return odd;
  const std::size_t lock_size = bytes[key_mark.size()];
  ByteView rest = bytes.subspan(head);
  if (rest.size() < lock_size) return odd;
  Keyring ring;
  ring.lock.assign(reinterpret_cast<const char*>(rest.data()), lock_size);
  rest = rest.subspan(lock_size);
  if (rest.size() % key_size != 0 || rest.size() < 2 * key_size || rest.size() > max_keys * key_size)
    return odd;
  std::ranges::copy(rest.first(key_size), ring.names_.begin());
  for (std::size_t at = key_size; at < rest.size(); at += key_size) {
    Key key{};
    std::ranges::copy(rest.subspan(at, key_size), key.begin());
    ring.contents_.push_back(key);
  }
  return ring;
}

Result<std::string> Keyring::locked(const std::string& passphrase, const std::string& sync_folder) const {
  std::array<Byte, crypto_pwhash_SALTBYTES> salt{};
  std::array<Byte, nonce_size> nonce{};
  if (!start_sodium()) return fail(ErrorCode::io, "libsodium does not work on this machine");
  randombytes_buf(salt.data(), salt.size());
  randombytes_buf(nonce.data(), nonce.size());
  BAYSWAP_TRY(const Key key, stretched(passphrase, salt, usual_passes, usual_memory));
  Keyring open = *this;
  open.lock.clear();
  const Blob plain = open.bytes();
  std::vector<Byte> box(plain.size() + checksum_size);
  unsigned long long size = 0;
  crypto_aead_xchacha20poly1305_ietf_encrypt(box.data(), &size, plain.data(), plain.size(),
                                             reinterpret_cast<const Byte*>(sync_folder.data()),
                                             sync_folder.size(), nullptr, nonce.data(), key.data());
  return fmt::format(
      "# Keys, locked with a passphrase.\nlock = 1\nsalt = \"{}\"\npasses = {}\nmemory = {}\nnonce = "
      "\"{}\"\nkeys = \"{}\"\n",
      to_hex(salt), usual_passes, usual_memory, to_hex(nonce), to_hex(box));
}

Result<Keyring> Keyring::unlocked(std::string_view toml, const std::string& passphrase,
                                  const std::string& sync_folder) {
  const std::string origin = "the sync folder's keys";
  BAYSWAP_TRY(const TomlFile file, parse_toml(toml, origin));
  TableReader reader(file, origin);
  BAYSWAP_TRY(const auto form, reader.integer("lock"));
  if (form.value_or(0) != 1)
    return fail(ErrorCode::unsupported,
                "the sync folder's keys are locked in a way that this Bay Swap does not know",
                "update this Bay Swap, if a newer one made it");
  BAYSWAP_TRY(const std::string salt_text, reader.needed_text("salt"));
  BAYSWAP_TRY(const std::string nonce_text, reader.needed_text("nonce"));
  BAYSWAP_TRY(const std::string box_text, reader.needed_text("keys"));
  BAYSWAP_TRY(const auto passes, reader.integer("passes"));
  BAYSWAP_TRY(const auto memory, reader.integer("memory"));
  const auto salt = from_hex(salt_text);
  const auto nonce = from_hex(nonce_text);
  const auto box = from_hex(box_text);
  if (!salt || salt->size() != crypto_pwhash_SALTBYTES || !nonce || nonce->size() != nonce_size || !box ||
      box->size() < checksum_size || !passes || *passes < 1 || *passes > max_passes || !memory ||
      *memory < least_memory || *memory > max_memory)
    return damaged_lock(origin);
  BAYSWAP_TRY(const Key key, stretched(passphrase, *salt, *passes, *memory));
  std::vector<Byte> plain(box->size() - checksum_size);
  unsigned long long size = 0;
  if (crypto_aead_xchacha20poly1305_ietf_decrypt(plain.data(), &size, nullptr, box->data(), box->size(),
                                                 reinterpret_cast<const Byte*>(sync_folder.data()),
                                                 sync_folder.size(), nonce->data(), key.data()) != 0)
    return fail(ErrorCode::bad_usage, "this is not the passphrase of the sync folder", "enter it again",
                {Remedy::Kind::enter_passphrase, {}});
  return from_bytes(plain);
}

Result<std::string> newest_lock(Store& store) {
  BAYSWAP_TRY(const auto all, locks(store));
  return all.empty() ? std::string() : all.back().second;
}

Result<Keyring> put_lock(Store& store, Keyring keys, const std::string& passphrase,
                         const std::string& sync_folder) {
  BAYSWAP_TRY(const auto before, locks(store));
  BAYSWAP_TRY(const std::string text, keys.locked(passphrase, sync_folder));
  std::array<Byte, 8> random{};
  randombytes_buf(random.data(), random.size());
  // After the newest that is known, also where that was lost.
  std::uint64_t number = before.empty() ? 0 : before.back().first;
  if (const auto own = number_of_lock(keys.lock)) number = std::max<std::uint64_t>(number, *own);
  keys.lock = fmt::format("{}.{}.toml", number + 1, to_hex(random));
  BAYSWAP_CHECK(store.create(join_path(keys_folder, keys.lock),
                             ByteView(reinterpret_cast<const Byte*>(text.data()), text.size())));
  // Opens, as it lies there, before those that opened so far go.
  BAYSWAP_TRY(const Keyring again, open_lock(store, passphrase, sync_folder));
  if (!(again == keys))
    return fail(ErrorCode::busy, "another device changed the keys at the same moment",
                "enter the newer passphrase, and change them again");
  for (const auto& [number, name] : before) (void)store.remove(join_path(keys_folder, name));
  return keys;
}

Result<Keyring> open_lock(Store& store, const std::string& passphrase, const std::string& sync_folder) {
  BAYSWAP_TRY(const std::string name, newest_lock(store));
  if (name.empty())
    return fail(ErrorCode::damaged, "the sync folder's keys are missing",
                "a device that still has them can put them there anew by changing the key");
  constexpr std::size_t largest = 200000;
  BAYSWAP_TRY(const Blob bytes, store.read(join_path(keys_folder, name), largest));
  BAYSWAP_TRY(Keyring keys, Keyring::unlocked({reinterpret_cast<const char*>(bytes.data()), bytes.size()},
                                              passphrase, sync_folder));
  keys.lock = name;
  return keys;
}

// ---- The store ------------------------------------------------------------------------------------

namespace {

// An encrypted file: "BSS", its form, a part of the key's digest (8 bytes), a nonce (24 bytes), and the
// encrypted bytes: their true size (64 bits), they themselves, zeros. The encrypted name goes into the
// checksum as well.
constexpr std::array<Byte, 4> file_mark{'B', 'S', 'S', 1};
constexpr std::size_t tag_size = 8;
constexpr std::size_t encrypted_head_size = file_mark.size() + tag_size + nonce_size;
constexpr std::size_t length_size = 8;
constexpr std::size_t least_padded = 4096;
constexpr std::size_t largest_file = std::size_t{1} << 30;
constexpr std::size_t key_digest_size = 16;

std::size_t padded(std::size_t size) {
  std::size_t whole = least_padded;
  while (whole < size) whole *= 2;
  return whole;
}

class EncryptedStore final : public Store {
 public:
  EncryptedStore(Store& below, Keyring keys) : below_(&below), keys_(std::move(keys)) {
    (void)start_sodium();
    for (const Keyring::Key& key : keys_.contents()) tags_.push_back(tag_of(key));
    // Two uses of the key for names: their digests, and what hides them.
    hide_ = derived("hide");
    mark_ = derived("mark");
  }

  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    BAYSWAP_TRY(auto info, below_->stat(encrypted_path(path)));
    if (info) info->name = name_of(path);
    return info;
  }

  Result<std::vector<FileInfo>> list(const std::string& path) override {
    BAYSWAP_TRY(auto all, below_->list(path));
    if (path == "." || path.empty() || path == keys_folder) return all;
    std::vector<FileInfo> own;
    for (FileInfo& info : all) {
      if (info.kind != FileInfo::Kind::folder) {
        auto name = open_name(info.name);
        if (!name) continue;
        info.name = *std::move(name);
      }
      own.push_back(std::move(info));
    }
    std::ranges::sort(own, {}, &FileInfo::name);
    return own;
  }

  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    if (is_open(path)) return below_->read_range(path, at, count);
    const std::string encrypted = encrypted_path(path);
    BAYSWAP_TRY(const Blob file, below_->read(encrypted, largest_file));
    const auto plain = opened(file.view(), name_of(encrypted));
    if (!plain)
      return fail(ErrorCode::damaged,
                  fmt::format("{} is damaged, or was encrypted with another key", display_path(path)),
                  "another device that has it puts it there again with its next round");
    const auto first = static_cast<std::size_t>(std::min<std::uint64_t>(at, plain->size()));
    return plain->slice(first, count);
  }

  Result<void> replace(const std::string& path, ByteView bytes) override {
    return is_open(path) ? below_->replace(path, bytes)
                         : below_->replace(encrypted_path(path), encrypted(path, bytes).view());
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    return is_open(path) ? below_->create(path, bytes)
                         : below_->create(encrypted_path(path), encrypted(path, bytes).view());
  }
  Result<void> add(const std::string& path, ByteView bytes) override {
    return is_open(path) ? below_->add(path, bytes)
                         : below_->add(encrypted_path(path), encrypted(path, bytes).view());
  }
  Result<void> settle() override { return below_->settle(); }
  Result<void> remove(const std::string& path) override { return below_->remove(encrypted_path(path)); }
  bool may_write(const std::string& path) override { return below_->may_write(path); }
  StoreTraits traits() const override { return {below_->traits().writable, false, below_->traits().slow}; }
  std::string display_path(const std::string& path) const override {
    return below_->display_path(encrypted_path(path));
  }

 private:
  static bool is_open(const std::string& path) {
    const std::string in = folder_of(path);
    return in == "." || in == keys_folder;
  }

  [[nodiscard]] Keyring::Key derived(std::string_view purpose) const {
    Keyring::Key key{};
    crypto_generichash(key.data(), key.size(), reinterpret_cast<const Byte*>(purpose.data()), purpose.size(),
                       keys_.names().data(), keys_.names().size());
    return key;
  }
  [[nodiscard]] static std::array<Byte, tag_size> tag_of(const Keyring::Key& key) {
    Keyring::Key digest{};
    crypto_generichash(digest.data(), digest.size(), key.data(), key.size(), nullptr, 0);
    std::array<Byte, tag_size> tag{};
    std::copy_n(digest.begin(), tag.size(), tag.begin());
    return tag;
  }

  // A digest of the name under a key, and the name under a stream that the digest begins: the same name is
  // always the same, and one that is not ours does not pass.
  void hide(std::vector<Byte>& name, std::span<const Byte, key_digest_size> digest) const {
    std::array<Byte, crypto_stream_xchacha20_NONCEBYTES> nonce{};
    std::ranges::copy(digest, nonce.begin());
    crypto_stream_xchacha20_xor(name.data(), name.data(), name.size(), nonce.data(), hide_.data());
  }
  [[nodiscard]] std::array<Byte, key_digest_size> digest_of_name(ByteView name) const {
    std::array<Byte, key_digest_size> digest{};
    crypto_generichash(digest.data(), digest.size(), name.data(), name.size(), mark_.data(), mark_.size());
    return digest;
  }
  [[nodiscard]] std::string encrypted_path(const std::string& path) const {
    if (is_open(path) || path == ".") return path;
    const std::string_view plain = name_of(path);
    std::vector<Byte> name(plain.begin(), plain.end());
    const auto digest = digest_of_name(name);
    hide(name, digest);
    return join_path(folder_of(path), to_hex(digest) + to_hex(name));
  }
  [[nodiscard]] std::optional<std::string> open_name(std::string_view encrypted) const {
    const auto bytes = from_hex(encrypted);
    if (!bytes || bytes->size() <= key_digest_size) return std::nullopt;
    const auto digest = std::span(*bytes).first<key_digest_size>();
    std::vector<Byte> name(bytes->begin() + key_digest_size, bytes->end());
    hide(name, digest);
    if (!std::ranges::equal(digest_of_name(name), digest)) return std::nullopt;
    return std::string(name.begin(), name.end());
  }

  [[nodiscard]] Blob encrypted(const std::string& path, ByteView bytes) const {
    const std::string path_there = encrypted_path(path);
    const std::string_view name = name_of(path_there);
    std::vector<Byte> plain(padded(length_size + bytes.size()));
    put_le(plain, 0, length_size, bytes.size());
    std::ranges::copy(bytes, plain.begin() + length_size);
    Buffer out(encrypted_head_size + plain.size() + checksum_size);
    const auto file = out.bytes();
    std::ranges::copy(file_mark, file.begin());
    std::ranges::copy(tags_.back(), file.begin() + file_mark.size());
    Byte* const nonce = file.data() + file_mark.size() + tag_size;
    randombytes_buf(nonce, nonce_size);
    unsigned long long size = 0;
    crypto_aead_xchacha20poly1305_ietf_encrypt(file.data() + encrypted_head_size, &size, plain.data(),
                                               plain.size(), reinterpret_cast<const Byte*>(name.data()),
                                               name.size(), nullptr, nonce, keys_.contents().back().data());
    return std::move(out).freeze(encrypted_head_size + static_cast<std::size_t>(size));
  }

  [[nodiscard]] std::optional<Blob> opened(ByteView file, std::string_view name) const {
    if (file.size() < encrypted_head_size + checksum_size + length_size ||
        !std::ranges::equal(file.first(file_mark.size()), file_mark))
      return std::nullopt;
    const ByteView tag = file.subspan(file_mark.size(), tag_size);
    const Byte* const nonce = file.data() + file_mark.size() + tag_size;
    const ByteView box = file.subspan(encrypted_head_size);
    std::vector<Byte> plain(box.size() - checksum_size);
    for (std::size_t i = 0; i < tags_.size(); ++i) {
      if (!std::ranges::equal(tags_[i], tag)) continue;
      unsigned long long size = 0;
      if (crypto_aead_xchacha20poly1305_ietf_decrypt(plain.data(), &size, nullptr, box.data(), box.size(),
                                                     reinterpret_cast<const Byte*>(name.data()), name.size(),
                                                     nonce, keys_.contents()[i].data()) != 0)
        continue;
      const std::uint64_t length = le64(plain, 0);
      if (length > plain.size() - length_size) return std::nullopt;
      return Blob::copy_of(ByteView(plain).subspan(length_size, static_cast<std::size_t>(length)));
    }
    return std::nullopt;
  }

  Store* below_;
  Keyring keys_;
  std::vector<std::array<Byte, tag_size>> tags_;
  Keyring::Key hide_{};
  Keyring::Key mark_{};
};

}  // namespace

std::unique_ptr<Store> encrypted_store(Store& below, Keyring keys) {
  return std::make_unique<EncryptedStore>(below, std::move(keys));
}

}  // namespace bayswap
