// Dates as consoles' clocks show them: seconds since 1970-01-01 00:00:00 of the same clock, without a zone.
#pragma once

#include <bayswap/base.hpp>

#include <array>
#include <optional>

namespace bayswap {

struct ClockTime {
  int year = 1970;
  int month = 1;  // 1 to 12
  int day = 1;    // 1 to 31
  int hour = 0;
  int minute = 0;
  int second = 0;
};

/// Days from 1970-01-01 in the Gregorian calendar.
constexpr std::int64_t days_since_1970(int year, int month, int day) {
  // March is the first month, so that the leap day is the last one of a year.
  const std::int64_t y = month <= 2 ? year - 1 : year;
  const std::int64_t era = (y >= 0 ? y : y - 399) / 400;
  const std::int64_t of_era = y - era * 400;
  const std::int64_t of_year = (153 * (month > 2 ? month - 3 : month + 9) + 2) / 5 + day - 1;
  return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

/// Nothing where there is no such date.
constexpr std::optional<std::int64_t> seconds_of(const ClockTime& time) {
  if (time.month < 1 || time.month > 12 || time.day < 1 || time.day > 31 || time.hour < 0 || time.hour > 23 ||
      time.minute < 0 || time.minute > 59 || time.second < 0 || time.second > 59)
    return std::nullopt;
  return days_since_1970(time.year, time.month, time.day) * 86400 + time.hour * 3600 + time.minute * 60 +
         time.second;
}

constexpr ClockTime clock_time(std::int64_t seconds) {
  const std::int64_t days = (seconds >= 0 ? seconds : seconds - 86399) / 86400;
  const auto rest = static_cast<int>(seconds - days * 86400);
  const std::int64_t shifted = days + 719468;
  const std::int64_t era = (shifted >= 0 ? shifted : shifted - 146096) / 146097;
  const std::int64_t of_era = shifted - era * 146097;
  const std::int64_t year = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
  const std::int64_t of_year = of_era - (365 * year + year / 4 - year / 100);
  const std::int64_t month = (5 * of_year + 2) / 153;
  ClockTime time;
  time.day = static_cast<int>(of_year - (153 * month + 2) / 5 + 1);
  time.month = static_cast<int>(month < 10 ? month + 3 : month - 9);
  time.year = static_cast<int>(year + era * 400 + (time.month <= 2 ? 1 : 0));
  time.hour = rest / 3600;
  time.minute = rest / 60 % 60;
  time.second = rest % 60;
  return time;
}

}  // namespace bayswap
