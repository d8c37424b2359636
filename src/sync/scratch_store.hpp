// A store of which nothing is changed: what is written stays in memory. For dry runs.
#pragma once

#include <bayswap/fs.hpp>

#include <set>

#include "base/path.hpp"

namespace bayswap {

class ScratchStore final : public Store {
 public:
  explicit ScratchStore(Store& below) : below_(below) {}

  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    auto own = written_.stat(path);
    if (!own || *own) return own;
    if (removed_.contains(path)) return std::optional<FileInfo>{};
    return below_.stat(path);
  }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    auto there = below_.list(folder);
    const auto own = written_.list(folder);
    if (!there && !own) return there;
    std::map<std::string, FileInfo> merged;
    if (there)
      for (FileInfo& info : *there)
        if (!removed_.contains(path_in(folder, info.name))) merged[info.name] = std::move(info);
    if (own)
      for (const FileInfo& info : *own) merged[info.name] = info;
    std::vector<FileInfo> all;
    all.reserve(merged.size());
    for (auto& [name, info] : merged) all.push_back(std::move(info));
    return all;
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    if (written_.files().contains(path)) return written_.read_range(path, at, count);
    if (removed_.contains(path)) return fail(ErrorCode::not_found, display_path(path) + " does not exist");
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    removed_.erase(path);
    return written_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override {
    const auto there = stat(path);
    if (there && *there) return fail(ErrorCode::unsafe, display_path(path) + " exists already");
    return replace(path, bytes);
  }
  Result<void> remove(const std::string& path) override {
    (void)written_.remove(path);
    removed_.insert(path);
    return {};
  }
  bool may_write(const std::string& /*folder*/) override { return true; }
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }
  std::string absolute_path(const std::string& path) const override { return below_.absolute_path(path); }

 private:
  static std::string path_in(const std::string& folder, const std::string& name) {
    return folder.empty() || folder == "." ? name : join_path(folder, name);
  }
  Store& below_;
  MemoryStore written_;
  std::set<std::string> removed_;
};

}  // namespace bayswap
