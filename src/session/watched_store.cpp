#include "session/watched_store.hpp"

#include "base/try.hpp"

namespace bayswap {

Result<void> WatchedStore::check() const {
  if (!is_cancelled_) return {};
  return fail(ErrorCode::cancelled, "it was cancelled while it was looking", "start it again");
}

Result<void> WatchedStore::tell(const std::string& path) {
  BAYSWAP_CHECK(check());
  if (!progress_) return {};
  const std::scoped_lock lock(mutex_);
  if (path == last_path_) return {};
  last_path_ = path;
  ++files_;
  if (!progress_({ProgressEvent::What::reading, path, files_, 0})) is_cancelled_ = true;
  return check();
}

Result<std::optional<FileInfo>> WatchedStore::stat(const std::string& path) {
  BAYSWAP_CHECK(check());
  return below_.stat(path);
}

Result<std::vector<FileInfo>> WatchedStore::list(const std::string& folder) {
  BAYSWAP_CHECK(tell(folder));
  return below_.list(folder);
}

Result<Blob> WatchedStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  BAYSWAP_CHECK(tell(path));
  return below_.read_range(path, at, count);
}

}  // namespace bayswap
