// The line of the terminal that progress is drawn in, over and over.
#pragma once

#include <fmt/format.h>

#include <cstdio>
#include <string_view>

namespace bayswap::cli {

/// Replaces the line by `text`, which must be printable; an empty one removes it. For terminals only.
inline void draw_progress(std::string_view text) {
  fmt::print(stderr, "\r\x1b[2K{}", text);
  std::fflush(stderr);
}

}  // namespace bayswap::cli
