#include <bayswap/inspect.hpp>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const bayswap::Catalog catalog;
  const bayswap::Finding finding = bayswap::inspect(catalog, bayswap::Blob::copy_of({data, size}));
  bayswap::fuzz::require(!finding.evidence.empty() && finding.confidence >= 0 && finding.confidence <= 1);
  // The sizes that layouts have are hard to hit by chance: stretch the input to some of them.
  for (const std::size_t bytes : {std::size_t{512}, std::size_t{8192}}) {
    if (size == 0) break;
    bayswap::Buffer buffer(bytes);
    for (std::size_t i = 0; i < bytes; ++i) buffer.bytes()[i] = data[i % size];
    (void)bayswap::inspect(catalog, std::move(buffer).freeze());
  }
  return 0;
}
