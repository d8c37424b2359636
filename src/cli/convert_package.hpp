// Packages in `convert`: IN is one, or --base is.
#pragma once

#include <bayswap/base.hpp>

#include "cli/commands.hpp"

namespace bayswap::cli {

/// Nothing where no package is meant.
[[nodiscard]] std::optional<Result<int>> convert_package(const Globals& globals,
                                                         const ConvertOptions& options);

}  // namespace bayswap::cli
