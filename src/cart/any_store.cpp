#include <fmt/format.h>
#include <bayswap/cart_store.hpp>
#include <bayswap/remote_store.hpp>

#include <algorithm>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

// A store that can't be opened: says why, whatever is asked of it.
class ClosedStore final : public Store {
 public:
  explicit ClosedStore(Error why) : why_(std::move(why)) {}
  Result<std::optional<FileInfo>> stat(const std::string& /*path*/) override { return tl::unexpected(why_); }
  Result<std::vector<FileInfo>> list(const std::string& /*folder*/) override { return tl::unexpected(why_); }
  Result<Blob> read_range(const std::string& /*path*/, std::uint64_t /*at*/, std::size_t /*count*/) override {
    return tl::unexpected(why_);
  }
  Result<void> replace(const std::string& /*path*/, ByteView /*bytes*/) override {
    return tl::unexpected(why_);
  }
  Result<void> create(const std::string& /*path*/, ByteView /*bytes*/) override {
    return tl::unexpected(why_);
  }
  Result<void> remove(const std::string& /*path*/) override { return tl::unexpected(why_); }
  bool may_write(const std::string& /*folder*/) override { return false; }
  std::string display_path(const std::string& path) const override { return path; }

 private:
  Error why_;
};

}  // namespace

AnyStore::Place AnyStore::of(const std::string& path) const {
  if (is_cart_path(path)) {
    std::unique_ptr<Store>& cart = others_[device_of_cart(path)];
    if (!cart) cart = std::make_unique<CartStore>(std::string(cart_prefix) + device_of_cart(path));
    return {cart.get(), path};
  }
  if (is_local_url(path)) return {&disk_, path};
  const RemotePath split = split_remote(path);
  std::unique_ptr<Store>& remote = others_[split.server];
  if (!remote) {
    auto opened = open_remote(split.server);
    if (opened)
      remote = *std::move(opened);
    else
      remote = std::make_unique<ClosedStore>(opened.error());
  }
  return {remote.get(), split.path};
}

Result<std::optional<FileInfo>> AnyStore::stat(const std::string& path) {
  const auto [store, inside] = of(path);
  return store->stat(inside);
}
Result<std::vector<FileInfo>> AnyStore::list(const std::string& folder) {
  const auto [store, inside] = of(folder);
  return store->list(inside);
}
Result<Blob> AnyStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  const auto [store, inside] = of(path);
  return store->read_range(inside, at, count);
}
Result<void> AnyStore::replace(const std::string& path, ByteView bytes) {
  const auto [store, inside] = of(path);
  return store->replace(inside, bytes);
}
Result<void> AnyStore::create(const std::string& path, ByteView bytes) {
  const auto [store, inside] = of(path);
  return store->create(inside, bytes);
}
Result<bool> AnyStore::remove_empty_folder(const std::string& path) {
  const auto [store, inside] = of(path);
  return store->remove_empty_folder(inside);
}
Result<void> AnyStore::remove(const std::string& path) {
  const auto [store, inside] = of(path);
  return store->remove(inside);
}
Result<void> AnyStore::apply(std::span<const FileChange> changes, std::vector<bool>& placed) {
  if (changes.empty()) return {};
  std::vector<FileChange> inside(changes.begin(), changes.end());
  std::vector<Store*> stores;
  stores.reserve(changes.size());
  for (FileChange& change : inside) {
    const Place place = of(change.path);
    change.path = place.path;
    stores.push_back(place.store);
  }
  if (std::ranges::all_of(stores, [&](const Store* one) { return one == stores.front(); }))
    return stores.front()->apply(inside, placed);
  placed.assign(changes.size(), false);
  for (std::size_t i = 0; i < inside.size(); ++i) {
    std::vector<bool> one;
    auto done = stores[i]->apply(std::span(inside).subspan(i, 1), one);
    placed[i] = !one.empty() && one.front();
    if (!done) return done;
  }
  return {};
}
bool AnyStore::may_write(const std::string& folder) {
  const auto [store, inside] = of(folder);
  return store->may_write(inside);
}
FileTraits AnyStore::file_traits(const std::string& path) const {
  const auto [store, inside] = of(path);
  return store->file_traits(inside);
}
std::string AnyStore::display_path(const std::string& path) const {
  const auto [store, inside] = of(path);
  return store->display_path(inside);
}
std::string AnyStore::absolute_path(const std::string& path) const {
  const auto [store, inside] = of(path);
  return store->absolute_path(inside);
}
void AnyStore::stay_within(const std::string& root) {
  const auto [store, inside] = of(root);
  store->stay_within(inside);
}

}  // namespace bayswap
