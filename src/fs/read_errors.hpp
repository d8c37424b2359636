// A store that remembers that something in it could not be read.
#pragma once

#include <bayswap/fs.hpp>

#include <mutex>

namespace bayswap {

/// Passes everything on, and keeps the first `io` error of a read. What is worked out from a source or a
/// target counts only if there was none: a folder that could be listed half way looks like one with fewer
/// saves.
class ReadErrors final : public Store {
 public:
  explicit ReadErrors(Store& below) : below_(below) {}

  /// Fails with the first read error there was.
  [[nodiscard]] Result<void> check() const {
    const std::scoped_lock lock(mutex_);
    return first_ ? Result<void>(tl::unexpected(*first_)) : Result<void>{};
  }

  Result<std::optional<FileInfo>> stat(const std::string& path) override { return noted(below_.stat(path)); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    return noted(below_.list(folder));
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return noted(below_.read_range(path, at, count));
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override { return below_.create(path, bytes); }
  Result<void> remove(const std::string& path) override { return below_.remove(path); }
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override {
    return below_.apply(changes, placed);
  }
  bool may_write(const std::string& folder) override { return below_.may_write(folder); }
  StoreTraits traits() const override { return below_.traits(); }
  FileTraits file_traits(const std::string& path) const override { return below_.file_traits(path); }
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }
  std::string absolute_path(const std::string& path) const override { return below_.absolute_path(path); }
  std::string root() const override { return below_.root(); }

 private:
  template <class T>
  Result<T> noted(Result<T> result) {
    const std::scoped_lock lock(mutex_);
    if (!result && result.error().code == ErrorCode::io && !first_) first_ = result.error();
    return result;
  }

  Store& below_;
  mutable std::mutex mutex_;
  std::optional<Error> first_;
};

}  // namespace bayswap
