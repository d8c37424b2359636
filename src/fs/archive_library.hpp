// libarchive, loaded when it is first needed: it and what it leans on cost 2 ms of each start.
#pragma once

#include <archive.h>
#include <archive_entry.h>

namespace bayswap {

/// What we use of libarchive, by the types of its own header.
struct ArchiveLibrary {
  decltype(&archive_read_new) read_new = nullptr;
  decltype(&archive_read_free) read_free = nullptr;
  decltype(&archive_read_open_memory) open_memory = nullptr;
  decltype(&archive_read_next_header) next_header = nullptr;
  decltype(&archive_read_data) read_data = nullptr;
  decltype(&archive_format) format = nullptr;
  decltype(&archive_error_string) error_string = nullptr;
  // Formats and filters.
  decltype(&archive_read_support_format_zip) zip = nullptr;
  decltype(&archive_read_support_format_7zip) seven_zip = nullptr;
  decltype(&archive_read_support_format_rar) rar = nullptr;
  decltype(&archive_read_support_format_rar5) rar5 = nullptr;
  decltype(&archive_read_support_format_tar) tar = nullptr;
  decltype(&archive_read_support_filter_gzip) gzip = nullptr;
  decltype(&archive_read_support_filter_bzip2) bzip2 = nullptr;
  decltype(&archive_read_support_filter_xz) xz = nullptr;
  decltype(&archive_read_support_filter_zstd) zstd = nullptr;
  // Of an entry.
  decltype(&archive_entry_pathname_utf8) pathname_utf8 = nullptr;
  decltype(&archive_entry_pathname) pathname = nullptr;
  decltype(&archive_entry_hardlink) hardlink = nullptr;
  decltype(&archive_entry_symlink) symlink = nullptr;
  decltype(&archive_entry_filetype) filetype = nullptr;
  decltype(&archive_entry_mtime_is_set) mtime_is_set = nullptr;
  decltype(&archive_entry_mtime) mtime = nullptr;
  decltype(&archive_entry_size_is_set) size_is_set = nullptr;
  decltype(&archive_entry_size) size = nullptr;

  /// Nothing if it is not installed. For all threads.
  [[nodiscard]] static const ArchiveLibrary* get();
};

}  // namespace bayswap
