#include "fs/archive_library.hpp"

#include <dlfcn.h>

#include <type_traits>

namespace bayswap {
namespace {

ArchiveLibrary load_archive() {
  ArchiveLibrary all;
  void* const handle = dlopen("libarchive.so.13", RTLD_NOW | RTLD_LOCAL);
  if (handle == nullptr) return all;
  bool is_whole = true;
  const auto find = [&](const char* name, auto& function) {
    function = reinterpret_cast<std::remove_reference_t<decltype(function)>>(dlsym(handle, name));  // NOLINT
    is_whole = is_whole && function != nullptr;
  };
  find("archive_read_free", all.read_free);
  find("archive_read_open_memory", all.open_memory);
  find("archive_read_next_header", all.next_header);
  find("archive_read_data", all.read_data);
  find("archive_format", all.format);
  find("archive_error_string", all.error_string);
  find("archive_read_support_format_zip", all.zip);
  find("archive_read_support_format_7zip", all.seven_zip);
  find("archive_read_support_format_rar", all.rar);
  find("archive_read_support_format_rar5", all.rar5);
  find("archive_read_support_format_tar", all.tar);
  find("archive_read_support_filter_gzip", all.gzip);
  find("archive_read_support_filter_bzip2", all.bzip2);
  find("archive_read_support_filter_xz", all.xz);
  find("archive_read_support_filter_zstd", all.zstd);
  find("archive_entry_pathname_utf8", all.pathname_utf8);
  find("archive_entry_pathname", all.pathname);
  find("archive_entry_hardlink", all.hardlink);
  find("archive_entry_symlink", all.symlink);
  find("archive_entry_filetype", all.filetype);
  find("archive_entry_mtime_is_set", all.mtime_is_set);
  find("archive_entry_mtime", all.mtime);
  find("archive_entry_size_is_set", all.size_is_set);
  find("archive_entry_size", all.size);
  find("archive_read_new", all.read_new);
  return is_whole ? all : ArchiveLibrary{};
}

}  // namespace

const ArchiveLibrary* ArchiveLibrary::get() {
  static const ArchiveLibrary library = load_archive();
  return library.read_new != nullptr ? &library : nullptr;
}

}  // namespace bayswap
