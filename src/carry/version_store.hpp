// A bay as it was: a store with some files as an entry of the logbook had them.
#pragma once

#include <bayswap/fs.hpp>

#include <algorithm>

#include "base/path.hpp"

#include "base/order.hpp"

namespace bayswap {

/// Read only.
class VersionStore final : public Store {
 public:
  explicit VersionStore(Store& below) : below_(below) {}
  /// Nothing: no such file.
  void set(const std::string& path, std::optional<Blob> bytes, std::int64_t modified) {
    files_[path] = {std::move(bytes), modified};
  }
  [[nodiscard]] bool is_plain() const { return files_.empty(); }

  Result<std::optional<FileInfo>> stat(const std::string& path) override {
    if (const auto file = files_.find(path); file != files_.end()) return info_of(*file);
    auto below = below_.stat(path);
    if (below && !*below && holds_folder(path)) return folder_info(path);
    return below;
  }
  Result<std::vector<FileInfo>> list(const std::string& folder) override {
    auto entries = below_.list(folder);
    if (!entries && !holds_folder(folder)) return entries;
    std::vector<FileInfo> merged = entries ? *std::move(entries) : std::vector<FileInfo>{};
    const std::string prefix = folder == "." ? "" : folder + "/";
    for (const auto& file : files_) {
      if (!file.first.starts_with(prefix)) continue;
      const std::string rest = file.first.substr(prefix.size());
      const std::string name = rest.substr(0, rest.find('/'));
      const bool direct = name == rest;
      if (direct) std::erase_if(merged, [&](const FileInfo& info) { return info.name == name; });
      if (direct && file.second.bytes) merged.push_back(*info_of(file));
      const bool known = std::ranges::any_of(merged, [&](const FileInfo& info) { return info.name == name; });
      if (!direct && !known && file.second.bytes) merged.push_back(folder_info(name));
    }
    sort_by(merged, &FileInfo::name);
    return merged;
  }
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    const auto file = files_.find(path);
    if (file == files_.end()) return below_.read_range(path, at, count);
    if (!file->second.bytes)
      return fail(ErrorCode::not_found, display_path(path) + " does not exist in that version");
    const Blob& bytes = *file->second.bytes;
    return bytes.slice(static_cast<std::size_t>(std::min<std::uint64_t>(at, bytes.size())), count);
  }
  Result<void> replace(const std::string& path, ByteView /*bytes*/) override { return refused(path); }
  Result<void> create(const std::string& path, ByteView /*bytes*/) override { return refused(path); }
  Result<void> remove(const std::string& path) override { return refused(path); }
  bool may_write(const std::string& /*folder*/) override { return false; }
  StoreTraits traits() const override { return {false, false}; }
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }
  std::string absolute_path(const std::string& path) const override { return below_.absolute_path(path); }

 private:
  struct Version {
    std::optional<Blob> bytes;
    std::int64_t modified = 0;
  };
  [[nodiscard]] static std::optional<FileInfo> info_of(const std::pair<const std::string, Version>& file) {
    if (!file.second.bytes) return std::nullopt;
    FileInfo info;
    info.name = name_of(file.first);
    info.size_bytes = file.second.bytes->size();
    info.modified = file.second.modified;
    return info;
  }
  [[nodiscard]] static FileInfo folder_info(const std::string& path) {
    FileInfo info;
    info.name = name_of(path);
    info.kind = FileInfo::Kind::folder;
    return info;
  }
  [[nodiscard]] bool holds_folder(const std::string& path) const {
    return std::ranges::any_of(
        files_, [&](const auto& file) { return file.second.bytes && file.first.starts_with(path + "/"); });
  }
  [[nodiscard]] Result<void> refused(const std::string& path) const {
    return fail(ErrorCode::unsupported,
                display_path(path) + " is a version from the logbook, which is never written");
  }

  Store& below_;
  std::map<std::string, Version> files_;
};

}  // namespace bayswap
