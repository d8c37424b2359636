#include <bayswap/fs.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {

Result<Blob> Store::read(const std::string& path, std::size_t limit) {
  BAYSWAP_TRY(Blob blob, read_head(path, limit + 1));
  if (blob.size() > limit)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} is over {} bytes: too large for a save", shown(path), limit),
                "name the save itself, not a disc or drive image");
  return blob;
}

Result<std::optional<FileInfo>> MemoryStore::stat(const std::string& path) {
  if (const auto found = files_.find(path); found != files_.end())
    return FileInfo{std::string(name_of(path)), FileInfo::Kind::file, found->second.size(), 0};
  const auto below = files_.lower_bound(path + "/");
  if (path.empty() || (below != files_.end() && below->first.starts_with(path + "/")))
    return FileInfo{std::string(name_of(path)), FileInfo::Kind::folder, 0, 0};
  return std::nullopt;
}

Result<std::vector<FileInfo>> MemoryStore::list(const std::string& folder) {
  const std::string prefix = folder.empty() || folder == "." ? "" : folder + "/";
  std::map<std::string, FileInfo> entries;
  for (const auto& [path, bytes] : files_) {
    if (!path.starts_with(prefix)) continue;
    const std::string rest = path.substr(prefix.size());
    const auto slash = rest.find('/');
    const std::string entry = rest.substr(0, slash);
    entries[entry] = slash == std::string::npos ? FileInfo{entry, FileInfo::Kind::file, bytes.size(), 0}
                                                : FileInfo{entry, FileInfo::Kind::folder, 0, 0};
  }
  if (entries.empty() && !prefix.empty())
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", folder), "check the path");
  std::vector<FileInfo> out;
  out.reserve(entries.size());
  for (auto& [entry, info] : entries) out.push_back(std::move(info));
  return out;
}

Result<Blob> MemoryStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  const auto found = files_.find(path);
  if (found == files_.end())
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", path), "check the path");
  return found->second.slice(static_cast<std::size_t>(std::min<std::uint64_t>(at, found->second.size())),
                             count);
}

Result<void> MemoryStore::replace(const std::string& path, ByteView bytes) {
  if (!is_tame(path)) return fail(ErrorCode::unsafe, fmt::format("'{}' leads out of the store", path));
  files_[path] = Blob::copy_of(bytes);
  return {};
}

Result<void> MemoryStore::create(const std::string& path, ByteView bytes) {
  if (files_.contains(path))
    return fail(ErrorCode::unsafe, fmt::format("{} exists already", path),
                "choose another name, or say --replace");
  return replace(path, bytes);
}

Result<void> MemoryStore::remove(const std::string& path) {
  if (files_.erase(path) == 0)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", path), "check the path");
  return {};
}

}  // namespace bayswap
