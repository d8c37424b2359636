#include <bayswap/layout.hpp>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto layout = bayswap::parse_layout(bayswap::fuzz::text(data, size), "fuzz");
  if (!layout) return 0;
  // What reads, writes back to the same; and what it describes can be packed and unpacked.
  const auto again = bayswap::parse_layout(bayswap::to_toml(*layout), "again");
  bayswap::fuzz::require(again.has_value() && bayswap::to_toml(*again) == bayswap::to_toml(*layout));
  for (const std::size_t bytes : layout->file_sizes()) {
    if (bytes > 65536) continue;
    bayswap::Blob file = bayswap::Blob::filled(bytes, 0xa5);
    if (layout->stream.kind != bayswap::Compression::none) {
      const auto made = bayswap::pack(*layout, bayswap::Save{layout->platform, {}});
      bayswap::fuzz::require(made.has_value());
      file = *made;
    }
    const auto save = bayswap::unpack(*layout, file);
    bayswap::fuzz::require(save.has_value());
    const auto packed = bayswap::pack(*layout, *save, &file);
    bayswap::fuzz::require(packed.has_value() && *packed == file);
  }
  return 0;
}
