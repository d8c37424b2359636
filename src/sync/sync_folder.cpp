#include <bayswap/sync_folder.hpp>

#include <fmt/format.h>
#include <zstd.h>

#include <algorithm>
#include <charconv>
#include <map>
#include <memory>
#include <random>

#include "base/endian.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

// An object: "BSO", its form, how it is packed, the size of what is in it (64 bits), and that.
constexpr std::array<Byte, 4> object_mark{'B', 'S', 'O', 1};
constexpr std::size_t object_head_size = 16;
constexpr int level = 3;
enum class Packing : Byte { none, zstd };

constexpr std::string_view about_name = "sync-folder.toml";
constexpr std::string_view objects_folder = "objects";
constexpr std::string_view devices_folder = "devices";
constexpr std::optional<std::int64_t> sync_folder_form = 1;
constexpr std::size_t id_digits = 16;

Blob packed(const Blob& plain) {
  Buffer out(object_head_size + ZSTD_compressBound(plain.size()));
  const auto bytes = out.bytes();
  std::ranges::fill(bytes.first(object_head_size), Byte{0});
  std::ranges::copy(object_mark, bytes.begin());
  put_le(bytes, 8, 8, plain.size());
  const std::size_t size = ZSTD_compress(bytes.data() + object_head_size, bytes.size() - object_head_size,
                                         plain.data(), plain.size(), level);
  if (ZSTD_isError(size) == 0 && size < plain.size()) {
    bytes[4] = static_cast<Byte>(Packing::zstd);
    return std::move(out).freeze(object_head_size + size);
  }
  std::ranges::copy(plain.view(), bytes.begin() + object_head_size);
  return std::move(out).freeze(object_head_size + plain.size());
}

tl::unexpected<Error> damaged_sync_folder(const std::string& shown) {
  return fail(ErrorCode::damaged, fmt::format("{} is damaged", shown),
              "another device that has it puts it there again with its next round");
}

// Grows with what comes out: a size that lies costs nothing.
Result<Blob> unpacked(ByteView stream, std::uint64_t size, const std::string& shown) {
  const std::unique_ptr<ZSTD_DCtx, std::size_t (*)(ZSTD_DCtx*)> context(ZSTD_createDCtx(), &ZSTD_freeDCtx);
  constexpr int largest_window = 23;  // 8 MiB: what the level above needs is far less
  (void)ZSTD_DCtx_setParameter(context.get(), ZSTD_d_windowLogMax, largest_window);
  std::vector<Byte> plain;
  ZSTD_inBuffer in{stream.data(), stream.size(), 0};
  std::vector<Byte> piece(ZSTD_DStreamOutSize());
  for (;;) {
    ZSTD_outBuffer out{piece.data(), piece.size(), 0};
    const std::size_t left = ZSTD_decompressStream(context.get(), &out, &in);
    if (ZSTD_isError(left) != 0 || plain.size() + out.pos > size) return damaged_sync_folder(shown);
    plain.insert(plain.end(), piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(out.pos));
    if (left == 0) break;
    if (in.pos == in.size && out.pos < out.size) return damaged_sync_folder(shown);
  }
  if (plain.size() != size || in.pos != in.size) return damaged_sync_folder(shown);
  return Blob::copy_of(plain);
}

std::string folder_in_words(const Store& store) {
  std::string path = store.display_path(".");
  if (path.ends_with("/.")) path.resize(path.size() - 2);
  return path;
}

std::string pointer_name(const Pointer& pointer) {
  return fmt::format("{}.{:016x}.{}", pointer.device, pointer.counter, pointer.manifest.hex());
}

std::optional<Pointer> pointer_from_name(std::string_view name) {
  if (name.size() != id_digits + 1 + 16 + 1 + 64 || name[id_digits] != '.' || name[id_digits + 17] != '.')
    return std::nullopt;
  Pointer pointer;
  pointer.device = name.substr(0, id_digits);
  if (pointer.device.find_first_not_of("0123456789abcdef") != std::string::npos) return std::nullopt;
  const std::string_view counter = name.substr(id_digits + 1, 16);
  const auto read = std::from_chars(counter.data(), counter.data() + counter.size(), pointer.counter, 16);
  if (read.ec != std::errc() || read.ptr != counter.data() + counter.size()) return std::nullopt;
  // No device gets there by counting, and from there on none could count.
  constexpr std::uint64_t most = std::uint64_t{1} << 62;
  if (pointer.counter > most) return std::nullopt;
  const auto digest = digest_from_hex(name.substr(id_digits + 18));
  if (!digest) return std::nullopt;
  pointer.manifest = *digest;
  return pointer;
}

}  // namespace

// ---- Objects
// -----------------------------------------------------------------------------------------------

PackedObject pack_object(const Blob& plain) {
  return {sha256(plain.view()), packed(plain)};
}

std::string ObjectShelf::path_of(const Digest& digest) const {
  const std::string name = digest.hex();
  return join_path(folder_, fmt::format("{}/{}", name.front(), name));
}

Result<Digest> ObjectShelf::put(const Blob& plain) {
  const PackedObject object = pack_object(plain);
  BAYSWAP_CHECK(put(object));
  return object.digest;
}

Result<std::uint64_t> ObjectShelf::put_from(ObjectShelf& other, const Digest& digest) {
  BAYSWAP_TRY(const Blob file,
              other.store_->read(other.path_of(digest), max_bundle_bytes + object_head_size));
  std::uint64_t size = file.size() < object_head_size ? 0 : le64(file.view(), 8);
  if (!other.written_.contains(digest)) {
    BAYSWAP_TRY(const Blob plain, other.opened(digest, file, max_bundle_bytes));
    size = plain.size();
  }
  BAYSWAP_CHECK(put({digest, file}));
  return size;
}

Result<void> ObjectShelf::put(const PackedObject& object) {
  const std::string path = path_of(object.digest);
  auto made = store_->add(path, object.file.view());
  if (made) written_.insert(object.digest);
  if (made || made.error().code != ErrorCode::unsafe) return made;
  if (get(object.digest)) return {};
  return store_->replace(path, object.file.view());
}

Result<Blob> ObjectShelf::get(const Digest& digest, std::size_t max_bytes) {
  const std::string path = path_of(digest);
  const auto file = store_->read(path, max_bytes + object_head_size);
  if (!file && file.error().code == ErrorCode::does_not_fit)
    return damaged_sync_folder(store_->display_path(path));
  if (!file) return tl::unexpected(file.error());
  return opened(digest, *file, max_bytes);
}

Result<Blob> ObjectShelf::opened(const Digest& digest, const Blob& file, std::size_t max_bytes) const {
  const std::string shown = store_->display_path(path_of(digest));
  if (file.size() < object_head_size ||
      !std::ranges::equal(file.slice(0, object_mark.size()).view(), object_mark))
    return damaged_sync_folder(shown);
  const std::uint64_t size = le64(file.view(), 8);
  if (size > max_bytes) return damaged_sync_folder(shown);
  const Blob inside = file.slice(object_head_size, file.size());
  Blob plain;
  if (file.data()[4] == static_cast<Byte>(Packing::zstd)) {
    BAYSWAP_TRY(plain, unpacked(inside.view(), size, shown));
  } else {
    plain = inside;
  }
  if (sha256(plain.view()) != digest) return damaged_sync_folder(shown);
  return plain;
}

Result<bool> ObjectShelf::has(const Digest& digest) {
  BAYSWAP_TRY(const auto info, store_->stat(path_of(digest)));
  return info.has_value();
}

Result<std::vector<Digest>> ObjectShelf::list() {
  std::vector<Digest> all;
  for (const char first : std::string_view("0123456789abcdef")) {
    const auto files = store_->list(join_path(folder_, std::string(1, first)));
    if (!files) {
      if (files.error().code == ErrorCode::not_found) continue;
      return tl::unexpected(files.error());
    }
    for (const FileInfo& file : *files)
      if (const auto digest = digest_from_hex(file.name)) all.push_back(*digest);
  }
  return all;
}

Result<void> ObjectShelf::remove(const Digest& digest) {
  auto removed = store_->remove(path_of(digest));
  if (!removed && removed.error().code == ErrorCode::not_found) return {};
  return removed;
}

// ---- The sync folder
// ----------------------------------------------------------------------------------------

std::string random_id() {
  std::random_device source;
  return fmt::format("{:08x}{:08x}", source(), source());
}

Result<SyncFolder::About> SyncFolder::about(Store& store) {
  const std::string path(about_name);
  BAYSWAP_TRY(const auto bytes, store.read_if_there(path, 65536));
  if (!bytes)
    return fail(ErrorCode::not_found, fmt::format("no sync folder in {}", folder_in_words(store)),
                "see that its medium is plugged in, or the server is the right one");
  const std::string_view text(reinterpret_cast<const char*>(bytes->data()), bytes->size());
  BAYSWAP_TRY(const TomlFile file, parse_toml(text, store.display_path(path)));
  TableReader reader(file, store.display_path(path));
  BAYSWAP_TRY(const auto object_form, reader.integer("sync_folder"));
  if (object_form != sync_folder_form)
    return fail(
        ErrorCode::unsupported,
        fmt::format("{} is a sync folder of a form that this Bay Swap does not know", folder_in_words(store)),
        "update this Bay Swap, if a newer one made it");
  About about;
  BAYSWAP_TRY(about.id, reader.needed_text("id"));
  if (about.id.size() != id_digits || about.id.find_first_not_of("0123456789abcdef") != std::string::npos)
    return fail(ErrorCode::damaged, fmt::format("{}: its id is none", store.display_path(path)),
                "see who has changed it, or name another folder");
  BAYSWAP_TRY(const auto encrypted, reader.truth("encrypted"));
  about.is_encrypted = encrypted.value_or(false);
  return about;
}

Result<SyncFolder> SyncFolder::open(Store& store, Store* encrypted) {
  BAYSWAP_TRY(const About known, about(store));
  return open(known, store, encrypted);
}

Result<SyncFolder> SyncFolder::open(const About& known, Store& store, Store* encrypted, Store* newest) {
  if (!known.is_encrypted && encrypted != nullptr)
    return fail(ErrorCode::unsafe,
                fmt::format("{} was encrypted, and now says that it is not", folder_in_words(store)),
                "see who has changed it; leave and join again if that was meant");
  // Nothing goes into an encrypted one open.
  if (known.is_encrypted && encrypted == nullptr)
    return fail(ErrorCode::bad_usage, fmt::format("{} is encrypted", folder_in_words(store)),
                "enter its passphrase", {Remedy::Kind::enter_passphrase, {}});
  SyncFolder opened(encrypted != nullptr ? *encrypted : store, known.id);
  if (newest != nullptr) opened.manifests_.emplace(*newest, std::string(objects_folder));
  return opened;
}

namespace {

Result<void> write_about(Store& store, const SyncFolder::About& about) {
  const std::string text = fmt::format("sync_folder = {}\nid = \"{}\"\n{}", *sync_folder_form, about.id,
                                       about.is_encrypted ? "encrypted = true\n" : "");
  return store.create(std::string(about_name),
                      ByteView(reinterpret_cast<const Byte*>(text.data()), text.size()));
}

}  // namespace

Result<void> SyncFolder::put_back(Store& store, const About& known) {
  BAYSWAP_TRY(const auto there, store.list("."));
  const bool is_one = std::ranges::any_of(there, [](const FileInfo& file) {
    return file.kind == FileInfo::Kind::folder &&
           (file.name == objects_folder || file.name == devices_folder);
  });
  if (!is_one)
    return fail(ErrorCode::not_found, fmt::format("no sync folder in {}", folder_in_words(store)),
                "see that its medium is plugged in, or the server is the right one");
  return write_about(store, known);
}

Result<SyncFolder::About> SyncFolder::make(Store& store, bool encrypted) {
  auto known = about(store);
  if (known || known.error().code != ErrorCode::not_found) return known;
  const auto there = store.list(".");
  if (!there && there.error().code != ErrorCode::not_found) return tl::unexpected(there.error());
  if (there && std::ranges::any_of(*there, [](const FileInfo& file) {
        return !file.name.starts_with('.') && file.name != "lost+found" && !is_os_metadata(file.name);
      }))
    return fail(ErrorCode::unsafe,
                fmt::format("{} holds other things, and no sync folder", folder_in_words(store)),
                "name an empty folder");
  const auto made = write_about(store, {random_id(), encrypted});
  if (!made && made.error().code == ErrorCode::not_found)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", folder_in_words(store)),
                "make that folder first");
  if (!made && made.error().code != ErrorCode::unsafe) return tl::unexpected(made.error());
  return about(store);
}

Result<SyncFolder> SyncFolder::found(Store& store) {
  BAYSWAP_CHECK(make(store, false));
  return open(store);
}

Result<std::vector<Pointer>> SyncFolder::pointers() {
  names_.clear();
  const auto files = store_->list(std::string(devices_folder));
  if (!files) {
    if (files.error().code == ErrorCode::not_found) return std::vector<Pointer>{};
    return tl::unexpected(files.error());
  }
  std::map<std::string, Pointer> newest;
  for (const FileInfo& file : *files) {
    auto pointer = pointer_from_name(file.name);
    if (!pointer) continue;
    names_.emplace_back(pointer->device, file.name);
    const auto [at, is_first] = newest.try_emplace(pointer->device, *pointer);
    if (!is_first && at->second.counter < pointer->counter) at->second = *pointer;
  }
  std::vector<Pointer> all;
  all.reserve(newest.size());
  for (auto& [device, pointer] : newest) all.push_back(pointer);
  return all;
}

Result<void> SyncFolder::point(const Pointer& now) {
  const std::string name = pointer_name(now);
  const std::string text = name + "\n";
  const ByteView bytes(reinterpret_cast<const Byte*>(text.data()), text.size());
  BAYSWAP_CHECK(store_->replace(join_path(devices_folder, name), bytes));
  // What was told before is of no use any more. Left over, it only makes listings longer.
  for (const auto& [device, old] : names_)
    if (device == now.device && old != name) (void)store_->remove(join_path(devices_folder, old));
  std::erase_if(names_, [&](const auto& one) { return one.first == now.device; });
  names_.emplace_back(now.device, name);
  return {};
}

Result<void> SyncFolder::renew_manifests(const std::string& device) {
  if (!manifests_) return {};
  BAYSWAP_TRY(const auto all, pointers());
  for (const Pointer& pointer : all) {
    if (!device.empty() && pointer.device != device) continue;
    const auto manifest = objects_.get(pointer.manifest, max_manifest_bytes);
    if (!manifest) continue;  // lost: the device's next one makes up for it
    BAYSWAP_TRY(const Digest same, manifests_->put(*manifest));
    (void)same;
  }
  return manifests_->settle();
}

Result<void> SyncFolder::forget(const std::string& device) {
  BAYSWAP_CHECK(pointers());
  for (const auto& [id, name] : names_)
    if (id == device) BAYSWAP_CHECK(store_->remove(join_path(devices_folder, name)));
  return {};
}

}  // namespace bayswap
