// Infers a layout from files that contain the same save in two forms. Belongs to bayswap::core.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/layout.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The same save twice: as parts, and as a file in the layout to infer.
struct Example {
  Save save;
  Blob file;
};

/// An inferred layout, and how certain it is.
struct Inferred {
  Layout layout;  // turns each example's save into its file, bit for bit, with that file as base
  std::vector<std::string> certain;  // what the examples determine, a sentence each
  std::vector<std::string> open;     // what they leave open, and which further example would determine it
  std::size_t guessed_bytes = 0;     // bytes of the file that only a base gives
};

/// Determines how the files store the saves: byte order, interleaving, half-bytes, offsets, the bytes around
/// them, compression. Several examples must have the same layout, and should be of different saves. Fails
/// with `bad_usage` without examples or for blank saves, `not_recognised` if file and save do not contain the
/// same bytes, with what was found instead.
[[nodiscard]] Result<Inferred> infer(const std::vector<Example>& examples, const std::string& id);

}  // namespace bayswap
BAYSWAP_EXPORT_END
