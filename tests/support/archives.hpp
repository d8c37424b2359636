// Archives with a file in them.
#pragma once

#include <archive.h>
#include <archive_entry.h>

#include "support/builders.hpp"

namespace bayswap::test {

inline Blob zipped(const std::string& name, const Blob& bytes) {
  std::vector<Byte> out(bytes.size() + 4096);
  std::size_t used = 0;
  archive* a = archive_write_new();
  archive_write_set_format_zip(a);
  archive_write_set_bytes_per_block(a, 0);
  archive_write_open_memory(a, out.data(), out.size(), &used);
  archive_entry* entry = archive_entry_new();
  archive_entry_set_pathname(entry, name.c_str());
  archive_entry_set_size(entry, static_cast<la_int64_t>(bytes.size()));
  archive_entry_set_filetype(entry, AE_IFREG);
  archive_entry_set_perm(entry, 0644);
  archive_write_header(a, entry);
  archive_write_data(a, bytes.data(), bytes.size());
  archive_entry_free(entry);
  archive_write_close(a);
  archive_write_free(a);
  return Blob::copy_of(ByteView(out).first(used));
}

}  // namespace bayswap::test
