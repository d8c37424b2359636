// Errors of the operating system in words.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap {

/// Returns the error for errno value `number` after `doing` failed on the file `display_path`.
[[nodiscard]] tl::unexpected<Error> os_error(int number, const std::string& doing,
                                             const std::string& display_path);

}  // namespace bayswap
