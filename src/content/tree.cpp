// Folders of files: read whole, and compared.
#include <bayswap/content.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_files = 50000;
constexpr std::uint64_t max_bytes = std::uint64_t{256} << 20;
constexpr int max_depth = 16;

Result<void> collect(Store& store, const std::string& root, const std::string& below, int depth,
                     std::uint64_t& bytes, std::vector<TreeFile>& files) {
  if (depth > max_depth)
    return fail(ErrorCode::unsupported,
                fmt::format("{}: over {} folders deep", store.display_path(root), max_depth),
                "no save is so deep; name the save's own folder");
  BAYSWAP_TRY(const auto entries, store.list(below.empty() ? root : join_path(root, below)));
  for (const FileInfo& entry : entries) {
    const std::string path = below.empty() ? entry.name : join_path(below, entry.name);
    if (entry.link || entry.kind == FileInfo::Kind::other || is_own_temporary(entry.name) ||
        is_os_metadata(entry.name))
      continue;
    if (entry.kind == FileInfo::Kind::folder) {
      BAYSWAP_CHECK(collect(store, root, path, depth + 1, bytes, files));
      continue;
    }
    bytes += entry.size_bytes;
    if (files.size() == max_files || bytes > max_bytes)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} holds over {} files or {} MiB", store.display_path(root), max_files,
                              max_bytes >> 20),
                  "no save is so large; name the save's own folder");
    BAYSWAP_TRY(Blob content, store.read(join_path(root, path)));
    files.push_back({path, std::move(content), entry.modified});
  }
  return {};
}

}  // namespace

Result<std::vector<TreeFile>> read_tree(Store& store, const std::string& folder) {
  std::vector<TreeFile> files;
  std::uint64_t bytes = 0;
  BAYSWAP_CHECK(collect(store, folder, "", 0, bytes, files));
  sort_by(files, &TreeFile::path);
  return files;
}

}  // namespace bayswap
