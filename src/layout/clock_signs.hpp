// Whether bytes are what a clock's registers hold.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap {

/// Seconds since 1970 of a time at which an emulator could have written them.
[[nodiscard]] bool is_recent(std::uint64_t seconds);
/// The gb clock's 44 or 48 bytes: registers twice, 32 bits each, and the time.
[[nodiscard]] bool is_clock(ByteView bytes);
/// Year, month, day, weekday, hour, minute, second: two decimal digits a byte.
[[nodiscard]] bool is_calendar(ByteView bytes);

}  // namespace bayswap
