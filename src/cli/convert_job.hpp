// What converting one save and a folder of them have in common.
#pragma once

#include <bayswap/conversion.hpp>

#include "cli/commands.hpp"

namespace bayswap::cli {

/// Writes the files of a plan: a new one is simply made; several, or one that takes another's place, go
/// through the logbook. Adds the plan's issues to the warnings. Returns the entry, if there is one.
[[nodiscard]] Result<std::optional<std::int64_t>> write_conversion(const Globals& globals, const Plan& plan,
                                                                   std::vector<std::string>& warnings);
/// Converts every save of a folder, each into a file of the same name with the layout's extension.
[[nodiscard]] Result<int> convert_folder(const Globals& globals, const ConvertOptions& options);

}  // namespace bayswap::cli
