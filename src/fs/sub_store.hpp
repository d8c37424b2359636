// A folder of a store as a store of its own, to be read only.
#pragma once

#include <bayswap/fs.hpp>

#include <utility>

#include "base/path.hpp"

namespace bayswap {

/// `below` must outlive it. Fails with `unsupported` if something is to be written.
class SubStore final : public Store {
 public:
  SubStore(Store& below, std::string folder) : below_(below), folder_(std::move(folder)) {}

  Result<std::optional<FileInfo>> stat(const std::string& path) override { return below_.stat(at(path)); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override { return below_.list(at(folder)); }
  Result<Blob> read_range(const std::string& path, std::uint64_t from, std::size_t count) override {
    return below_.read_range(at(path), from, count);
  }
  Result<void> replace(const std::string& path, ByteView /*bytes*/) override { return read_only(path); }
  Result<void> create(const std::string& path, ByteView /*bytes*/) override { return read_only(path); }
  Result<void> remove(const std::string& path) override { return read_only(path); }
  bool may_write(const std::string& /*folder*/) override { return false; }
  [[nodiscard]] StoreTraits traits() const override {
    StoreTraits traits = below_.traits();
    traits.writable = false;
    return traits;
  }
  [[nodiscard]] std::string display_path(const std::string& path) const override {
    return below_.display_path(at(path));
  }
  [[nodiscard]] std::string absolute_path(const std::string& path) const override {
    return below_.absolute_path(at(path));
  }

 private:
  [[nodiscard]] std::string at(const std::string& path) const {
    if (path == "." || path.empty()) return folder_;
    return folder_ == "." ? path : join_path(folder_, path);
  }
  [[nodiscard]] Result<void> read_only(const std::string& path) const {
    return tl::unexpected(
        Error{ErrorCode::unsupported, display_path(path) + ": this place is only read", ""});
  }

  Store& below_;
  std::string folder_;
};

}  // namespace bayswap
