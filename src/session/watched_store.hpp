// A store that tells what is read of it, and reads no more once it is told to stop.
#pragma once

#include <bayswap/session.hpp>

#include <atomic>
#include <mutex>

#include "fs/forwarding_store.hpp"

namespace bayswap {

/// Tells `progress` of each further file that is read or listed. Once that returned false, everything that
/// reads fails with `cancelled`. Several threads may read at once; `progress` is called by one at a time.
class WatchedStore final : public ForwardingStore {
 public:
  WatchedStore(Store& below, Progress progress) : ForwardingStore(below), progress_(std::move(progress)) {}

  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  /// Fails with `cancelled` if it was.
  [[nodiscard]] Result<void> check() const;

 private:
  Result<void> tell(const std::string& path);

  Progress progress_;
  std::mutex mutex_;
  std::string last_path_;
  std::size_t files_ = 0;
  std::atomic<bool> is_cancelled_ = false;
};

}  // namespace bayswap
