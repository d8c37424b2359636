#include <bayswap/layout.hpp>

#include "fuzz.hpp"

// The first bytes choose layouts, the rest is stretched to the file's size: no conversion may crash or lose a
// byte on the way.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const bayswap::Catalog catalog;
  // Small ones: copying megabytes would take longer than all the rest.
  static const std::vector<const bayswap::Layout*> layouts = [] {
    std::vector<const bayswap::Layout*> small;
    for (const bayswap::Layout* layout : catalog.all())
      if (layout->is_set() || layout->file_sizes().front() <= 8192) small.push_back(layout);
    return small;
  }();
  if (size < 5) return 0;
  const bayswap::Layout& from = *layouts[data[0] % layouts.size()];
  const bayswap::Layout& to = *layouts[data[1] % layouts.size()];
  if (from.is_set()) return 0;
  auto sizes = from.file_sizes();
  std::erase_if(sizes, [](std::size_t bytes) { return bytes > 8192; });
  bayswap::Buffer buffer(sizes[data[2] % sizes.size()]);
  for (std::size_t i = 0; i < buffer.bytes().size(); ++i) buffer.bytes()[i] = data[4 + i % (size - 4)];
  const bayswap::Blob file = std::move(buffer).freeze();
  const auto save = bayswap::unpack(from, file);
  bayswap::fuzz::require(save.has_value());
  bayswap::ConvertRequest request;
  request.inputs.push_back(*save);
  request.to = &to;
  request.pak = data[3] % 5;
  const auto converted = bayswap::convert(catalog, request);
  if (!converted) {
    bayswap::fuzz::require(!converted.error().message.empty());
    return 0;
  }
  for (const bayswap::ConvertedFile& made : converted->files)
    bayswap::fuzz::require(bayswap::unpack(*made.layout, made.bytes).has_value());
  return 0;
}
