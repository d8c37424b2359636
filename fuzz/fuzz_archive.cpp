// Archives of arbitrary bytes.
#include "fs/archive_store.hpp"
#include "fs/path.hpp"
#include "fuzz.hpp"

using namespace bayswap;
using fuzz::require;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  ArchiveLimits limits;
  limits.max_bytes = std::uint64_t{8} << 20;
  const auto store = ArchiveStore::open(Blob::copy_of({data, size}), "x", limits);
  if (!store) return 0;
  for (const auto& [path, file] : (*store)->files()) {
    require(is_safe_relative(path));
    require((*store)->read(path).has_value());
  }
  (void)(*store)->list(".");
  return 0;
}
