// The books in the home folder: TOML files of what was learned, which people may edit.
#pragma once

#include <bayswap/fs.hpp>

#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {

/// A file that is not there is an empty book.
template <class Book>
[[nodiscard]] Result<Book> load_book(const std::string& path) {
  LocalStore disk;
  BAYSWAP_TRY(const auto info, disk.stat(path));
  if (!info) return Book{};
  BAYSWAP_TRY(const Blob text, disk.read(path, max_book_size_bytes + 1));
  auto book = Book::parse({reinterpret_cast<const char*>(text.data()), text.size()}, path);
  if (!book && book.error().hint.empty())
    book.error().hint = "correct that line, or put the file aside: an empty one does as well";
  return book;
}

[[nodiscard]] inline Result<void> save_book(const std::string& path, const std::string& text) {
  return LocalStore().replace(path, {reinterpret_cast<const Byte*>(text.data()), text.size()});
}

}  // namespace bayswap
