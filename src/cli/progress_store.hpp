// What is being read or written, on the terminal.
#pragma once

#include <atomic>
#include <chrono>
#include <mutex>

#include "cli/session.hpp"
#include "fs/forwarding_store.hpp"

namespace bayswap::cli {

/// Counts the files of `below` that are read or written, from the first second on, in a line of its
/// own that is written over. Nothing where print_progress() shows nothing. Several threads may read at once.
class ProgressStore final : public ForwardingStore {
 public:
  ProgressStore(Store& below, const Globals& globals, std::string what);
  ~ProgressStore() override { end(); }

  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    show(path);
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    show(path);
    return below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    show(path);
    return below_.create(path, bytes);
  }
  Result<void> add(const std::string& path, ByteView bytes) override {
    show(path);
    return below_.add(path, bytes);
  }
  /// Removes the line, and shows no further one.
  void end();

 private:
  using Clock = std::chrono::steady_clock;
  void show(const std::string& path);

  std::string what_;  // "Reading file"
  std::atomic<bool> is_shown_;
  std::mutex mutex_;
  std::string last_path_;
  std::size_t files_ = 0;
  Clock::time_point next_;
  bool is_drawn_ = false;
};

}  // namespace bayswap::cli
