// A store that remembers that something in it could not be read.
#pragma once

#include <mutex>

#include "fs/forwarding_store.hpp"

namespace bayswap {

/// Passes everything on, and keeps the first `io` error of a read. What is worked out from a source or a
/// target counts only if there was none: a folder that could be listed half way looks like one with fewer
/// saves.
class ReadErrors final : public ForwardingStore {
 public:
  explicit ReadErrors(Store& below) : ForwardingStore(below) {}

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

 private:
  template <class T>
  Result<T> noted(Result<T> result) {
    const std::scoped_lock lock(mutex_);
    if (!result && result.error().code == ErrorCode::io && !first_) first_ = result.error();
    return result;
  }

  mutable std::mutex mutex_;
  std::optional<Error> first_;
};

}  // namespace bayswap
