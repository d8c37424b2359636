// The files of data/ as they were when the library was built, in the order of their ids.
#pragma once

#include <span>
#include <string_view>

namespace bayswap {

struct BuiltInText {
  std::string_view id;  // the file's name without .toml
  std::string_view toml;
};
[[nodiscard]] std::span<const BuiltInText> built_in_layouts();
[[nodiscard]] std::span<const BuiltInText> built_in_bays();
[[nodiscard]] std::span<const BuiltInText> built_in_companions();
[[nodiscard]] std::span<const BuiltInText> built_in_states();
[[nodiscard]] std::span<const BuiltInText> built_in_sheets();
[[nodiscard]] std::span<const BuiltInText> built_in_demo_sheets();  // of the binary alone

}  // namespace bayswap
