#include <bayswap/layout.hpp>

#include "fuzz.hpp"

// Files of sizes that layouts have, made of the input: what is recognised can be opened, and confidences are
// shares of one.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  static const Catalog catalog;
  static const std::vector<std::pair<const Layout*, std::size_t>> sizes = [] {
    std::vector<std::pair<const Layout*, std::size_t>> all;
    for (const Layout* layout : catalog.all())
      for (const std::size_t bytes : layout->file_sizes())
        if (bytes <= 4096 && layout->stream.kind == Compression::none) all.emplace_back(layout, bytes);
    return all;
  }();
  if (size < 5) return 0;
  const auto& [layout, bytes] = sizes[(data[0] * std::size_t{256} + data[1]) % sizes.size()];
  Hints hints;
  hints.platform = layout->platform;  // without one it is fuzz_inspect's
  if (data[2] % 4 == 1 && !layout->slots.empty())
    hints.chips.push_back({layout->slots.front().role.kind, bytes, ""});
  Buffer file(data[2] % 8 == 2 ? bytes / 2 + data[3] : bytes);
  const std::size_t given = size - 4;
  const bool repeat = data[2] % 8 > 3;
  for (std::size_t i = 0; i < file.bytes().size(); ++i)
    file.bytes()[i] = repeat || i < given ? data[4 + i % given] : data[3];
  const Blob whole = std::move(file).freeze();
  if (const auto plain = unwrap(whole); !plain || plain->kind != Compression::none) return 0;
  const Recognition told = recognise(catalog, whole, hints);
  double sum = 0;
  for (const LayoutMatch& match : told.matches) {
    sum += match.confidence;
    fuzz::require(match.confidence >= 0 && !match.evidence.empty());
    fuzz::require(open_save(*match.layout, whole, hints.chips).has_value());
  }
  fuzz::require(sum <= 1.0001 && told.alike <= told.matches.size());
  return 0;
}
