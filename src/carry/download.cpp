// What came from outside as one list of files: a file, a folder, an archive, archives in archives.
#include "carry/download.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/order.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/archive_store.hpp"

namespace bayswap {
namespace {

constexpr int max_nested = 3;

bool may_be_archive(const std::string& name) {
  constexpr std::array<std::string_view, 9> endings{".zip", ".7z", ".rar", ".tar", ".tgz",
                                                    ".gz",  ".xz", ".bz2", ".zst"};
  const std::string low = lower(name);
  return std::ranges::any_of(endings, [&](std::string_view ending) { return low.ends_with(ending); });
}

// Everything in it as one list of files, archives within archives as folders.
class Gatherer {
 public:
  Result<std::vector<TreeFile>> run(const std::string& path) {
    LocalStore disk;
    BAYSWAP_TRY(const auto info, disk.stat(path));
    if (!info) return fail(ErrorCode::not_found, fmt::format("{} does not exist", path), "check the path");
    if (info->kind == FileInfo::Kind::folder) {
      BAYSWAP_TRY(const auto files, read_tree(disk, path));
      for (const TreeFile& file : files) BAYSWAP_CHECK(take(file, file.path, path, 0));
      return std::move(found_);
    }
    BAYSWAP_TRY(const Blob bytes, disk.read(path));
    BAYSWAP_CHECK(take({std::string(name_of(path)), bytes, info->modified}, std::string(name_of(path)),
                       folder_of(path), 0));
    return std::move(found_);
  }

 private:
  Result<void> take(const TreeFile& file, const std::string& path, const std::string& shown, int depth) {
    if (has_clutter(path)) return {};
    if (may_be_archive(path) || (depth == 0 && looks_packed(file.bytes.view()))) {
      const std::string whole = join_path(shown, path);
      if (depth == max_nested)
        return fail(ErrorCode::unsafe, fmt::format("{}: archives over {} deep", whole, max_nested),
                    "unpack it by hand if you trust it");
      auto archive = ArchiveStore::open(file.bytes, whole, limits_);
      if (archive) {
        for (const auto& [name, inside] : (*archive)->files())
          BAYSWAP_CHECK(take({name, inside.bytes, inside.modified}, join_path(path, name), shown, depth + 1));
        return {};
      }
      if (archive.error().code != ErrorCode::not_recognised)
        return tl::unexpected(std::move(archive.error()));
    }
    found_.push_back({path, file.bytes, file.modified});
    return {};
  }
  static bool has_clutter(std::string_view path) {
    while (!path.empty()) {
      const auto slash = std::min(path.find('/'), path.size());
      if (is_os_metadata(path.substr(0, slash))) return true;
      path.remove_prefix(std::min(path.size(), slash + 1));
    }
    return false;
  }
  static bool looks_packed(ByteView bytes) {
    const auto starts = [&](std::string_view magic) {
      return bytes.size() > magic.size() &&
             std::equal(magic.begin(), magic.end(), bytes.begin(),
                        [](char a, Byte b) { return static_cast<Byte>(a) == b; });
    };
    return starts("PK\x03\x04") || starts("7z\xBC\xAF") || starts("Rar!") ||
           (bytes.size() > 262 &&
            std::string_view(reinterpret_cast<const char*>(bytes.data()) + 257, 5) == "ustar");
  }

  ArchiveLimits limits_;
  std::vector<TreeFile> found_;
};

}  // namespace

Result<std::vector<TreeFile>> files_of_download(const std::string& path) {
  BAYSWAP_TRY(auto files, Gatherer().run(path));
  sort_by(files, &TreeFile::path);
  return files;
}

}  // namespace bayswap
