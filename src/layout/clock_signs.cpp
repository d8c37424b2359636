#include "layout/clock_signs.hpp"

#include <array>

#include "base/endian.hpp"

namespace bayswap {

// 1995 to 2106: no emulator is older, and 32 bits of seconds end there.
bool is_recent(std::uint64_t seconds) {
  return seconds > 788918400 && seconds < (std::uint64_t{1} << 32);
}
bool is_clock(ByteView bytes) {
  static constexpr std::array<std::uint32_t, 5> most{59, 59, 23, 255, 0xc1};
  for (std::size_t i = 0; i < 10; ++i)
    if (le32(bytes, 4 * i) > most.at(i % 5)) return false;
  return bytes.size() == 48 ? is_recent(le64(bytes, 40)) : is_recent(le32(bytes, 40));
}
// Year, month, day, weekday, hour, minute, second: two decimal digits a byte.
bool is_calendar(ByteView bytes) {
  static constexpr std::array<Byte, 7> most{0x99, 0x12, 0x31, 0x06, 0x23, 0x59, 0x59};
  constexpr std::size_t hour = 4;
  constexpr Byte afternoon = 0x80;  // beside the hour
  for (std::size_t i = 0; i < most.size(); ++i) {
    const Byte value = i == hour ? static_cast<Byte>(bytes[i] & ~afternoon) : bytes[i];
    if (value > most.at(i) || (value & 0x0f) > 9) return false;
  }
  return bytes[1] != 0 && bytes[2] != 0;
}

}  // namespace bayswap
