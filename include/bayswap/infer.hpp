// Learning a layout from files that hold the same save in two forms.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/layout.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// The same save twice: taken apart, and as a file in the form to be learned.
struct Example {
  Save save;
  Blob file;
};

struct Inferred {
  Layout layout;  // turns each example's save into its file, bit for bit, with that file as base
  std::vector<std::string> certain;  // what the examples leave no choice about, a sentence each
  std::vector<std::string> open;     // what could be otherwise, and which further example would settle it
  std::size_t guessed_bytes = 0;     // of the file that nothing but a base tells
};

/// Works out how the files store the saves: byte order, spreading, half-bytes, place, what is around, a
/// compressed stream. Several examples must be of one form, and are best of different saves. `bad_usage` for
/// no example or blank saves, `not_recognised` where file and save do not hold the same, with what was found
/// instead.
[[nodiscard]] Result<Inferred> infer(const std::vector<Example>& examples, const std::string& id);

}  // namespace bayswap
BAYSWAP_EXPORT_END
