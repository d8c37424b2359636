// Folders of files: read whole, compared, and found whatever case their names are in.
#include <bayswap/bay_saves.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/path.hpp"

namespace bayswap {
namespace {

constexpr std::size_t most_files = 50000;
constexpr std::uint64_t most_bytes = std::uint64_t{256} << 20;
constexpr int deepest = 16;

Result<void> collect(Store& store, const std::string& root, const std::string& below, int depth,
                     std::uint64_t& bytes, std::vector<TreeFile>& files) {
  if (depth > deepest)
    return fail(ErrorCode::unsupported, fmt::format("{}: over {} folders deep", store.shown(root), deepest),
                "no save is so deep; name the save's own folder");
  BAYSWAP_TRY(const auto entries, store.list(below.empty() ? root : join_path(root, below)));
  for (const FileInfo& entry : entries) {
    const std::string path = below.empty() ? entry.name : join_path(below, entry.name);
    if (entry.link || entry.kind == FileInfo::Kind::other || is_own_temporary(entry.name)) continue;
    if (entry.kind == FileInfo::Kind::folder) {
      BAYSWAP_CHECK(collect(store, root, path, depth + 1, bytes, files));
      continue;
    }
    bytes += entry.size_bytes;
    if (files.size() == most_files || bytes > most_bytes)
      return fail(
          ErrorCode::does_not_fit,
          fmt::format("{} holds over {} files or {} MiB", store.shown(root), most_files, most_bytes >> 20),
          "no save is so large; name the save's own folder");
    BAYSWAP_TRY(Blob content, store.read(join_path(root, path)));
    files.push_back({path, std::move(content), entry.modified});
  }
  return {};
}

double ratio(double a, double b) {
  return std::max(a, b) == 0 ? 1 : std::min(a, b) / std::max(a, b);
}

}  // namespace

Result<std::vector<TreeFile>> read_tree(Store& store, const std::string& folder) {
  std::vector<TreeFile> files;
  std::uint64_t bytes = 0;
  BAYSWAP_CHECK(collect(store, folder, "", 0, bytes, files));
  std::ranges::sort(files, {}, &TreeFile::path);
  return files;
}

std::string in_case_of_disk(Store& store, const std::string& path) {
  const auto whole = store.stat(path);
  if (whole && *whole) return path;
  const std::string parent = folder_of(path);
  const std::string own(name_of(path));
  const std::string folder = parent == "." ? parent : in_case_of_disk(store, parent);
  const auto join = [&](const std::string& name) { return folder == "." ? name : join_path(folder, name); };
  const auto there = store.stat(join(own));
  if (there && *there) return join(own);
  const auto entries = store.list(folder);
  if (!entries) return join(own);
  const FileInfo* found = nullptr;
  for (const FileInfo& entry : *entries) {
    if (lower(entry.name) != lower(own)) continue;
    if (found != nullptr) return join(own);  // two names that differ in case alone: neither is meant for sure
    found = &entry;
  }
  return join(found != nullptr ? found->name : own);
}

Likeness likeness(const std::vector<TreeFile>& a, const std::vector<TreeFile>& b) {
  Likeness found;
  if (a.empty() || b.empty()) return found;
  std::size_t same_names = 0;
  double sizes = 0;
  double heads = 0;
  for (const TreeFile& file : a) {
    const auto other =
        std::ranges::find(b, lower(file.path), [](const TreeFile& f) { return lower(f.path); });
    if (other == b.end()) continue;
    ++same_names;
    sizes += ratio(static_cast<double>(file.bytes.size()), static_cast<double>(other->bytes.size()));
    const std::size_t head = std::min<std::size_t>({file.bytes.size(), other->bytes.size(), 16});
    const auto [left, right] =
        std::ranges::mismatch(file.bytes.view().first(head), other->bytes.view().first(head));
    heads +=
        head == 0 ? 1 : static_cast<double>(left - file.bytes.view().begin()) / static_cast<double>(head);
  }
  const double all = static_cast<double>(std::max(a.size(), b.size()));
  const double names = static_cast<double>(same_names) / all;
  found.score = 0.5 * names + 0.3 * sizes / all + 0.2 * heads / all;
  if (same_names > 0)
    found.reasons.push_back(
        fmt::format("{} of {} files have the same name", same_names, std::max(a.size(), b.size())));
  if (same_names > 0 && std::abs(sizes - static_cast<double>(same_names)) < 1e-9)
    found.reasons.emplace_back("and the same size");
  if (heads > 0.5 * static_cast<double>(same_names) && same_names > 0)
    found.reasons.emplace_back("their first bytes agree");
  // One file each, under different names: what is inside decides.
  if (same_names == 0 && a.size() == b.size()) {
    std::size_t same_sizes = 0;
    std::vector<std::size_t> left;
    std::vector<std::size_t> right;
    std::ranges::transform(a, std::back_inserter(left),
                           [](const TreeFile& file) { return file.bytes.size(); });
    std::ranges::transform(b, std::back_inserter(right),
                           [](const TreeFile& file) { return file.bytes.size(); });
    std::ranges::sort(left);
    std::ranges::sort(right);
    for (std::size_t i = 0; i < left.size(); ++i) same_sizes += left[i] == right[i] ? 1 : 0;
    found.score = 0.4 * static_cast<double>(same_sizes) / all;
    if (same_sizes > 0) found.reasons.push_back(fmt::format("{} files have the same size", same_sizes));
  }
  return found;
}

}  // namespace bayswap
