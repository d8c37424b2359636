// The layout files of data/layouts, as text. Written by the build (cmake/EmbedLayouts.cmake), sorted by id.
#pragma once

#include <span>
#include <string_view>

namespace bayswap {

struct BuiltInLayout {
  std::string_view id;
  std::string_view toml;
};

[[nodiscard]] std::span<const BuiltInLayout> built_in_layouts();

}  // namespace bayswap
