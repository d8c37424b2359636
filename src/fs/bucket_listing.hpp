// The answer of an object store to a question for the objects below a prefix (ListObjectsV2).
#pragma once

#include <bayswap/fs.hpp>

#include <string>
#include <vector>

namespace bayswap {

struct BucketObject {
  std::string key;
  std::uint64_t size_bytes = 0;
  std::string modified;  // "2026-11-26T20:00:00.000Z"
  std::string tag;       // changes with the content
};
struct BucketListing {
  std::vector<BucketObject> objects;
  std::vector<std::string> prefixes;  // of what is deeper, each with its '/'
  std::string next;                   // how to ask for what follows; empty: this was all
};
/// Fails with `damaged` if it is no such XML, has a document type, or more than 200,000 entries.
[[nodiscard]] Result<BucketListing> bucket_listing_from(ByteView xml);
/// Seconds since 1970 of such a time; 0 if it is none.
[[nodiscard]] std::int64_t seconds_of_timestamp(std::string_view text);

}  // namespace bayswap
