// The base of stores that change a part of what another one does.
#pragma once

#include <bayswap/fs.hpp>

namespace bayswap {

/// Passes every call on to `below`, which must outlive it.
class ForwardingStore : public Store {
 public:
  explicit ForwardingStore(Store& below) : below_(below) {}

  Result<std::optional<FileInfo>> stat(const std::string& path) override { return below_.stat(path); }
  Result<std::vector<FileInfo>> list(const std::string& folder) override { return below_.list(folder); }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override { return below_.create(path, bytes); }
  Result<void> add(const std::string& path, ByteView bytes) override { return below_.add(path, bytes); }
  Result<void> settle() override { return below_.settle(); }
  Result<void> remove(const std::string& path) override { return below_.remove(path); }
  Result<bool> remove_empty_folder(const std::string& path) override {
    return below_.remove_empty_folder(path);
  }
  Result<void> apply(std::span<const FileChange> changes, std::vector<bool>& placed) override {
    return below_.apply(changes, placed);
  }
  bool may_write(const std::string& folder) override { return below_.may_write(folder); }
  [[nodiscard]] StoreTraits traits() const override { return below_.traits(); }
  [[nodiscard]] FileTraits file_traits(const std::string& path) const override {
    return below_.file_traits(path);
  }
  [[nodiscard]] std::string display_path(const std::string& path) const override {
    return below_.display_path(path);
  }
  [[nodiscard]] std::string absolute_path(const std::string& path) const override {
    return below_.absolute_path(path);
  }
  [[nodiscard]] std::string root() const override { return below_.root(); }
  void stay_within(const std::string& root) override { below_.stay_within(root); }

 protected:
  Store& below_;  // NOLINT(cppcoreguidelines-non-private-member-variables-in-classes): the point of the class
};

}  // namespace bayswap
