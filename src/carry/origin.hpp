// Whether an entry of the logbook may be acted upon.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

/// Fails if the entry's medium is away or its paths make no sense; adds an issue to the plan if it was made
/// on another device.
[[nodiscard]] Result<void> check_origin(const Entry& entry, Store& files,
                                        const std::vector<std::string>& bay_roots, Plan& plan);

}  // namespace bayswap
