// A server is asked while other processes may use the home folder.
#pragma once

#include "cli/session.hpp"
#include "fs/forwarding_store.hpp"

namespace bayswap::cli {

/// Passes calls on to `below`, and lets go of the home folder's lock while each of them waits. To be asked
/// only while no entry of the logbook is open. Both must outlive it.
class UnlockedStore final : public ForwardingStore {
 public:
  UnlockedStore(Store& below, LockedLogbook& logbook) : ForwardingStore(below), logbook_(logbook) {}

  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    return unlocked([&] { return below_.stat(path); });
  }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    return unlocked([&] { return below_.list(folder); });
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return unlocked([&] { return below_.read_range(path, at, count); });
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return unlocked([&] { return below_.replace(path, bytes); });
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    return unlocked([&] { return below_.create(path, bytes); });
  }
  Result<void> add(const std::string& path, ByteView bytes) override {
    return unlocked([&] { return below_.add(path, bytes); });
  }
  Result<void> settle() override {
    return unlocked([&] { return below_.settle(); });
  }
  Result<void> remove(const std::string& path) override {
    return unlocked([&] { return below_.remove(path); });
  }

 private:
  template <class Call>
  auto unlocked(const Call& call) -> decltype(call()) {
    if (auto let_go = logbook_.rest(); !let_go) return tl::unexpected(std::move(let_go.error()));
    auto result = call();
    if (auto locked = logbook_.resume(); !locked) return tl::unexpected(std::move(locked.error()));
    return result;
  }

  LockedLogbook& logbook_;
};

}  // namespace bayswap::cli
