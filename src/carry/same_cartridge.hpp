// Whether a chip is the one that was written before: two cartridges of one game look the same.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

/// Whether the chip can hold what a write from `before` to `after` left, cut off or played on a little since:
/// bytes of either, erased ones, and few others.
[[nodiscard]] bool may_be_left_by(ByteView now, ByteView before, ByteView after);

/// Adds a refusal if the chip `path` holds neither what it held before that change nor what the change left.
/// Does nothing for other files, and for clocks.
[[nodiscard]] Result<void> check_same_cartridge(Logbook& logbook, Store& files, const LoggedChange& change,
                                                const std::optional<Blob>& now, std::int64_t entry,
                                                Plan& plan);

/// The same, against what the logbook last knows of the chip; nothing if it knows nothing.
[[nodiscard]] Result<void> check_same_cartridge(Logbook& logbook, Store& files, const std::string& path,
                                                const std::optional<Blob>& now, std::int64_t entry,
                                                Plan& plan);

}  // namespace bayswap
