#include <bayswap/fs.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/path.hpp"
#include "base/try.hpp"

namespace bayswap {

Result<Blob> Store::read(const std::string& path, std::size_t limit) {
  BAYSWAP_TRY(Blob blob, read_head(path, limit + 1));
  if (blob.size() > limit)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} is over {} bytes: too large for a save", display_path(path), limit),
                "name the save itself, not a disc or drive image");
  return blob;
}

Result<std::optional<Blob>> Store::read_if_there(const std::string& path, std::size_t limit) {
  BAYSWAP_TRY(const auto info, stat(path));
  if (!info) return std::nullopt;
  auto bytes = read(path, limit);
  if (!bytes && bytes.error().code == ErrorCode::not_found) return std::nullopt;  // gone meanwhile
  if (!bytes) return tl::unexpected(std::move(bytes.error()));
  return *std::move(bytes);
}

namespace {

constexpr int max_tries = 3;

Result<void> put(Store& store, const FileChange& change) {
  if (!change.after) return store.remove(change.path);
  // Where nothing was, nothing that came up meanwhile is written over.
  return change.before ? store.replace(change.path, change.after->view())
                       : store.create(change.path, change.after->view());
}

// A medium may report a write as done that was not: it is tried again, unless the file holds something else
// by then.
Result<void> put_and_compare(Store& store, const FileChange& change, std::vector<bool>::reference placed) {
  for (int tries = 0; tries < max_tries; ++tries) {
    auto done = put(store, change);
    const auto now = store.read_if_there(change.path);
    placed = !now || *now != change.before;
    if (now && done && *now == change.after) return {};
    if (!done) {
      // What came up meanwhile is another program's, and not ours to put back.
      if (now && *now != change.after && done.error().code != ErrorCode::io) placed = false;
      return done;
    }
    if (!now) return tl::unexpected(now.error());
    if (placed) break;
  }
  return fail(
      ErrorCode::io,
      fmt::format("{}: what was read back differs from what was written", store.display_path(change.path)),
      "the medium may be failing, or a game is using the file");
}

}  // namespace

Result<std::vector<FileInfo>> Store::list_stem(const std::string& folder, std::string_view stem) {
  BAYSWAP_TRY(auto entries, list(folder));
  std::erase_if(entries, [&](const FileInfo& entry) { return stem_of(entry.name) != stem; });
  return entries;
}

Result<void> Store::apply(std::span<const FileChange> changes, std::vector<bool>& placed) {
  placed.assign(changes.size(), false);
  for (std::size_t i = 0; i < changes.size(); ++i) {
    BAYSWAP_TRY(const auto now, read_if_there(changes[i].path));
    if (now != changes[i].before)
      return fail(ErrorCode::busy,
                  fmt::format("{} has changed since the plan was made", display_path(changes[i].path)),
                  "close the game that uses it, and try again");
    if (changes[i].before == changes[i].after) continue;
    BAYSWAP_CHECK(put_and_compare(*this, changes[i], placed[i]));
  }
  return {};
}

// ---- In memory ----------------------------------------------------------------------------------

Result<std::optional<FileInfo>> MemoryStore::stat(const std::string& path) {
  if (const auto found = files_.find(path); found != files_.end())
    return FileInfo{std::string(name_of(path)), FileInfo::Kind::file, found->second.size(), 0};
  const auto below = files_.lower_bound(path + "/");
  if (path.empty() || path == "." || (below != files_.end() && below->first.starts_with(path + "/")))
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
  if (!is_safe_relative(path))
    return fail(ErrorCode::unsafe, fmt::format("'{}' leads out of the store", path));
  files_[path] = Blob::copy_of(bytes);
  return {};
}

Result<void> MemoryStore::create(const std::string& path, ByteView bytes) {
  if (files_.contains(path))
    return fail(ErrorCode::unsafe, fmt::format("{} exists already", path), "choose another name",
                {Remedy::Kind::replace, {}});
  return replace(path, bytes);
}

Result<void> MemoryStore::remove(const std::string& path) {
  if (files_.erase(path) == 0)
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", path), "check the path");
  return {};
}

}  // namespace bayswap
