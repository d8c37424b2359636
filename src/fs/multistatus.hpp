// The answer of a WebDAV server to PROPFIND (RFC 4918, section 14.16).
#pragma once

#include <bayswap/base.hpp>

#include <optional>
#include <string>
#include <vector>

namespace bayswap {

struct DavResource {
  std::string href;  // path or URL, as the server wrote it
  bool is_folder = false;
  std::uint64_t size_bytes = 0;
  std::string modified;  // a date as HTTP has it
  std::string tag;       // changes with the content
};
/// Fails with `damaged` if it is no such XML, has a document type, or more than 200,000 resources.
[[nodiscard]] Result<std::vector<DavResource>> multistatus_from(ByteView xml);

}  // namespace bayswap
