#include <bayswap/cart_store.hpp>

#include <algorithm>

namespace bayswap {

Store& AnyStore::of(const std::string& path) const {
  if (!is_cart_path(path)) return disk_;
  std::unique_ptr<CartStore>& cart = carts_[device_of_cart(path)];
  if (!cart) cart = std::make_unique<CartStore>(std::string(cart_prefix) + device_of_cart(path));
  return *cart;
}

Result<std::optional<FileInfo>> AnyStore::stat(const std::string& path) {
  return of(path).stat(path);
}
Result<std::vector<FileInfo>> AnyStore::list(const std::string& folder) {
  return of(folder).list(folder);
}
Result<Blob> AnyStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  return of(path).read_range(path, at, count);
}
Result<void> AnyStore::replace(const std::string& path, ByteView bytes) {
  return of(path).replace(path, bytes);
}
Result<void> AnyStore::create(const std::string& path, ByteView bytes) {
  return of(path).create(path, bytes);
}
Result<void> AnyStore::remove(const std::string& path) {
  return of(path).remove(path);
}
Result<void> AnyStore::apply(std::span<const FileChange> changes, std::vector<bool>& placed) {
  if (changes.empty()) return {};
  Store& first = of(changes.front().path);
  if (std::ranges::all_of(changes, [&](const FileChange& one) { return &of(one.path) == &first; }))
    return first.apply(changes, placed);
  placed.assign(changes.size(), false);
  for (std::size_t i = 0; i < changes.size(); ++i) {
    std::vector<bool> one;
    auto done = of(changes[i].path).apply(changes.subspan(i, 1), one);
    placed[i] = !one.empty() && one.front();
    if (!done) return done;
  }
  return {};
}
bool AnyStore::may_write(const std::string& folder) {
  return of(folder).may_write(folder);
}
FileTraits AnyStore::file_traits(const std::string& path) const {
  return of(path).file_traits(path);
}
std::string AnyStore::display_path(const std::string& path) const {
  return of(path).display_path(path);
}
std::string AnyStore::absolute_path(const std::string& path) const {
  return of(path).absolute_path(path);
}
void AnyStore::stay_within(const std::string& root) {
  of(root).stay_within(root);
}

}  // namespace bayswap
