// One save into the logbook as it is.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

/// `batch`: the first entry of the batch it belongs to; set if it was empty.
[[nodiscard]] Result<BackedUpSave> keep_one(const HeldSave& save, BayView& bay, Logbook& logbook,
                                            std::optional<std::int64_t>& batch);

}  // namespace bayswap
