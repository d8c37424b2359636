// zip, 7z, rar and tar as stores that are only read.
#pragma once

#include <bayswap/fs.hpp>

namespace bayswap {

/// What an archive may come to, counted over one within another as well. All of it is held in memory: it may
/// have so many bytes, and so many times its own size more.
struct ArchiveLimits {
  std::uint64_t max_bytes = std::uint64_t{24} << 20;
  std::uint64_t max_ratio = 4;
  std::size_t max_entries = 20000;
  std::uint64_t bytes = 0;  // of files and of names, so far
  std::size_t entries = 0;
};

class ArchiveStore final : public Store {
 public:
  struct File {
    Blob bytes;
    std::int64_t modified = 0;
  };
  /// `not_recognised` where it is no archive, `damaged` where it can't be read to its end, `unsafe` for
  /// links, devices, absolute paths, paths that lead out, and whatever is over the limits.
  [[nodiscard]] static Result<std::unique_ptr<ArchiveStore>> open(const Blob& file, const std::string& shown,
                                                                  ArchiveLimits& limits);
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override;
  Result<void> replace(const std::string& path, ByteView bytes) override;
  Result<void> create(const std::string& path, ByteView bytes) override;
  Result<void> remove(const std::string& path) override;
  bool may_write(const std::string& /*folder*/) override { return false; }
  StoreTraits traits() const override { return {false, false}; }
  std::string display_path(const std::string& path) const override;

  [[nodiscard]] const std::map<std::string, File>& files() const { return files_; }

 private:
  ArchiveStore(std::map<std::string, File> files, std::string shown)
      : files_(std::move(files)), shown_(std::move(shown)) {}

  std::map<std::string, File> files_;
  std::string shown_;
};

}  // namespace bayswap
