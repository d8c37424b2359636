// The bytes of one version as one object: the save in hardware order, and the files it came in.
#pragma once

#include <bayswap/content.hpp>

namespace bayswap {

/// A file that the save was in, as it was there.
struct ShellFile {
  std::string name;    // its last name
  std::string layout;  // id of its layout; may be empty
  Blob bytes;
};
struct Bundle {
  Content content;
  std::vector<ShellFile> shell;
};

/// Files that are a part's very bytes are stored once.
[[nodiscard]] Blob to_bytes(const Bundle& bundle);
/// Layouts that the catalog does not know are left out. Fails with `damaged`, and with `unsafe` if a file in
/// it has a name that leads out of its folder.
[[nodiscard]] Result<Bundle> bundle_from_bytes(const Blob& bytes, const Catalog& catalog);

}  // namespace bayswap
