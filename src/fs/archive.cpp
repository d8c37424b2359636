// Archives as stores: read whole into memory, within bounds, and never written.
#include <fmt/format.h>
#include <locale.h>  // newlocale, which <clocale> has not

#include <algorithm>
#include <array>
#include <memory>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "fs/archive_library.hpp"
#include "fs/archive_store.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_path_bytes = 4096;
constexpr std::ptrdiff_t max_folders = 32;

// libarchive reads names as the thread's locale has them; ours is UTF-8, whatever the environment says.
class Utf8Locale {
 public:
  Utf8Locale()
      : own_(newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr)),
        before_(own_ != nullptr ? uselocale(own_) : nullptr) {}
  ~Utf8Locale() {
    if (own_ == nullptr) return;
    uselocale(before_);
    freelocale(own_);
  }
  Utf8Locale(const Utf8Locale&) = delete;
  Utf8Locale& operator=(const Utf8Locale&) = delete;

 private:
  locale_t own_;
  locale_t before_;
};

// Names as they are used below the archive's root: '/' between folders, no "./" in front.
std::string plain_name(std::string_view name) {
  std::string path(name);
  // Some programs for one system write its own separator.
  if (path.find('/') == std::string::npos) std::ranges::replace(path, '\\', '/');
  while (path.starts_with("./")) path.erase(0, 2);
  while (path.ends_with('/')) path.pop_back();
  return path;
}

class Reader {
 public:
  Reader(const ArchiveLibrary& library, const Blob& file, std::string shown, ArchiveLimits& limits)
      : library_(library),
        file_(file),
        shown_(std::move(shown)),
        limits_(limits),
        handle_(library.read_new(), library.read_free) {}

  Result<std::map<std::string, ArchiveStore::File>> run() {
    const Utf8Locale names;
    struct archive* a = handle_.get();
    for (auto* enable : {library_.zip, library_.seven_zip, library_.rar, library_.rar5, library_.tar,
                         library_.gzip, library_.bzip2, library_.xz, library_.zstd})
      enable(a);
    if (library_.open_memory(a, file_.data(), file_.size()) != ARCHIVE_OK)
      return fail(ErrorCode::not_recognised, fmt::format("{} is not an archive that we can open", shown_),
                  "zip, 7z, rar and tar can be opened");
    std::map<std::string, ArchiveStore::File> files;
    while (true) {
      archive_entry* entry = nullptr;
      const int code = library_.next_header(a, &entry);
      if (code == ARCHIVE_EOF) break;
      if (code < ARCHIVE_WARN) return broken(files.empty() && format_is_unknown());
      BAYSWAP_CHECK(take(entry, files));
    }
    return files;
  }

 private:
  bool format_is_unknown() const { return library_.format(handle_.get()) == 0; }

  tl::unexpected<Error> broken(bool is_none) const {
    if (is_none)
      return fail(ErrorCode::not_recognised, fmt::format("{} is not an archive that we can open", shown_),
                  "zip, 7z, rar and tar can be opened");
    const char* text = library_.error_string(handle_.get());
    return fail(ErrorCode::damaged,
                fmt::format("{}: the archive can't be read: {}", shown_, text != nullptr ? text : "damaged"),
                "download it again; one with a password must be unpacked first");
  }

  tl::unexpected<Error> refused(std::string_view name, std::string_view why) const {
    return fail(ErrorCode::unsafe, fmt::format("{}: '{}' in it {}", shown_, printable(name), why),
                "nothing of the archive was used; unpack it by hand if you trust it");
  }

  Result<void> take(archive_entry* entry, std::map<std::string, ArchiveStore::File>& files) {
    const char* utf8 = library_.pathname_utf8(entry);
    const char* raw = utf8 != nullptr ? utf8 : library_.pathname(entry);
    const std::string name = raw != nullptr ? raw : "";
    if (library_.hardlink(entry) != nullptr || library_.symlink(entry) != nullptr ||
        library_.filetype(entry) == AE_IFLNK)
      return refused(name, "is a link");
    const auto type = library_.filetype(entry);
    if (type != AE_IFREG && type != AE_IFDIR && type != 0) return refused(name, "is a device or a pipe");
    if (name.starts_with('/') || name.starts_with('\\') || (name.size() > 1 && name[1] == ':'))
      return refused(name, "has an absolute path");
    const std::string path = plain_name(name);
    if (type == AE_IFDIR && (path.empty() || path == ".")) return {};
    if (!is_safe_relative(path) || printable(path) != path)
      return refused(name, "leads out of the archive, or is not a file name");
    if (path.size() > max_path_bytes || std::ranges::count(path, '/') > max_folders)
      return refused(
          name, fmt::format("is over {} bytes long, or over {} folders deep", max_path_bytes, max_folders));
    if (++limits_.entries > limits_.max_entries)
      return refused(name, fmt::format("is one too many: over {} entries", limits_.max_entries));
    limits_.bytes += path.size();
    if (type == AE_IFDIR) return {};
    if (files.contains(path)) return refused(name, "is there twice");
    BAYSWAP_TRY(Blob bytes, content_of(entry, name));
    const std::int64_t modified = library_.mtime_is_set(entry) != 0 ? library_.mtime(entry) : 0;
    files.emplace(path, ArchiveStore::File{std::move(bytes), modified});
    return {};
  }

  [[nodiscard]] std::uint64_t room() const {
    const std::uint64_t most = limits_.max_bytes + limits_.max_ratio * file_.size();
    return most - std::min(most, limits_.bytes);
  }

  // What the archive says of the size is only a hint: the buffer is never larger than what may come.
  Result<Blob> content_of(archive_entry* entry, const std::string& name) {
    const bool told = library_.size_is_set(entry) != 0 && library_.size(entry) >= 0;
    const auto said = told ? static_cast<std::uint64_t>(library_.size(entry)) : 0;
    if (said > room()) return too_large(name);
    std::vector<Byte> bytes;
    bytes.reserve(static_cast<std::size_t>(said));
    std::array<Byte, std::size_t{16} << 10> piece{};
    while (true) {
      const la_ssize_t got = library_.read_data(handle_.get(), piece.data(), piece.size());
      if (got < 0) return broken(false);
      if (got == 0) break;
      if (static_cast<std::uint64_t>(got) > room()) return too_large(name);
      limits_.bytes += static_cast<std::uint64_t>(got);
      bytes.insert(bytes.end(), piece.begin(), piece.begin() + got);
    }
    return Blob::copy_of(bytes);
  }
  tl::unexpected<Error> too_large(const std::string& name) const {
    return refused(name, fmt::format("takes it over {} MiB, {} times its size: it may be a bomb",
                                     (limits_.max_bytes + limits_.max_ratio * file_.size()) >> 20,
                                     (limits_.max_bytes + limits_.max_ratio * file_.size()) /
                                         std::max<std::size_t>(1, file_.size())));
  }

  const ArchiveLibrary& library_;
  const Blob& file_;
  std::string shown_;
  ArchiveLimits& limits_;
  std::unique_ptr<struct archive, decltype(ArchiveLibrary::read_free)> handle_;
};

tl::unexpected<Error> read_only(const std::string& shown) {
  return fail(ErrorCode::unsupported, fmt::format("{} is in an archive, which is never written", shown),
              "unpack it first");
}

}  // namespace

Result<std::unique_ptr<ArchiveStore>> ArchiveStore::open(const Blob& file, const std::string& shown,
                                                         ArchiveLimits& limits) {
  const ArchiveLibrary* library = ArchiveLibrary::get();
  if (library == nullptr)
    return fail(ErrorCode::unsupported,
                fmt::format("{}: archives need libarchive, which is not installed", shown),
                "install the package libarchive13, or unpack it first");
  BAYSWAP_TRY(auto files, Reader(*library, file, shown, limits).run());
  return std::unique_ptr<ArchiveStore>(new ArchiveStore(std::move(files), shown));
}

Result<std::optional<FileInfo>> ArchiveStore::stat(const std::string& path) {
  FileInfo info;
  info.name = name_of(path);
  if (const auto file = files_.find(path); file != files_.end()) {
    info.size_bytes = file->second.bytes.size();
    info.modified = file->second.modified;
    return info;
  }
  info.kind = FileInfo::Kind::folder;
  const auto below = files_.lower_bound(path + "/");
  if (path == "." || (below != files_.end() && below->first.starts_with(path + "/"))) return info;
  return std::nullopt;
}

Result<std::vector<FileInfo>> ArchiveStore::list(const std::string& folder) {
  const std::string prefix = folder == "." ? "" : folder + "/";
  std::vector<FileInfo> entries;
  for (auto file = files_.lower_bound(prefix); file != files_.end() && file->first.starts_with(prefix);
       ++file) {
    const std::string_view rest = std::string_view(file->first).substr(prefix.size());
    const auto slash = rest.find('/');
    const std::string name(rest.substr(0, slash));
    if (!entries.empty() && entries.back().name == name) continue;
    BAYSWAP_TRY(auto info, stat(prefix + name));
    if (info) entries.push_back(*std::move(info));
  }
  if (entries.empty() && folder != ".")
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", display_path(folder)),
                "check the path");
  return entries;
}

Result<Blob> ArchiveStore::read_range(const std::string& path, std::uint64_t at, std::size_t count) {
  const auto file = files_.find(path);
  if (file == files_.end())
    return fail(ErrorCode::not_found, fmt::format("{} does not exist", display_path(path)), "check the path");
  const std::size_t start = static_cast<std::size_t>(std::min<std::uint64_t>(at, file->second.bytes.size()));
  return file->second.bytes.slice(start, count);
}

Result<void> ArchiveStore::replace(const std::string& path, ByteView /*bytes*/) {
  return read_only(display_path(path));
}
Result<void> ArchiveStore::create(const std::string& path, ByteView /*bytes*/) {
  return read_only(display_path(path));
}
Result<void> ArchiveStore::remove(const std::string& path) {
  return read_only(display_path(path));
}
std::string ArchiveStore::display_path(const std::string& path) const {
  return path == "." ? shown_ : join_path(shown_, path);
}

}  // namespace bayswap
