#include "cli/moment_words.hpp"

#include <fmt/format.h>

#include <array>
#include <charconv>
#include <cstdio>
#include <ctime>
#include <optional>

#include "base/text.hpp"

namespace bayswap::cli {
namespace {

// In local time, if there is such a day.
std::optional<std::int64_t> on_day(const std::array<int, 6>& parts) {
  std::tm day{};
  day.tm_year = parts[0] - 1900;
  day.tm_mon = parts[1] - 1;
  day.tm_mday = parts[2];
  day.tm_hour = parts[3];
  day.tm_min = parts[4];
  day.tm_sec = parts[5];
  day.tm_isdst = -1;
  const std::tm asked = day;
  const std::time_t seconds = std::mktime(&day);
  if (day.tm_mday != asked.tm_mday || day.tm_mon != asked.tm_mon) return std::nullopt;
  return seconds;
}

// "3 days ago" is the same hour three days before, also where the clocks were changed in between.
std::optional<std::int64_t> before_now(std::int64_t now, int count, std::string_view unit) {
  const auto seconds = static_cast<std::time_t>(now);
  std::tm day{};
  localtime_r(&seconds, &day);
  if (unit == "minute")
    return now - 60LL * count;
  else if (unit == "hour")
    return now - 3600LL * count;
  else if (unit == "day")
    day.tm_mday -= count;
  else if (unit == "week")
    day.tm_mday -= 7 * count;
  else if (unit == "month")
    day.tm_mon -= count;
  else if (unit == "year")
    day.tm_year -= count;
  else
    return std::nullopt;
  day.tm_isdst = -1;
  return std::mktime(&day);
}

std::optional<std::int64_t> ago(const std::string& text, std::int64_t now) {
  std::array<char, 8> count{};
  std::array<char, 16> unit{};
  int end = 0;
  if (std::sscanf(text.c_str(), "%7s %15s ago%n", count.data(), unit.data(), &end) != 2 ||
      static_cast<std::size_t>(end) != text.size())
    return std::nullopt;
  std::string_view word = unit.data();
  if (word.ends_with('s')) word.remove_suffix(1);
  const std::string_view number = count.data();
  if (number == "a" || number == "an") return before_now(now, 1, word);
  constexpr int most = 10000;
  int value = 0;
  const auto read = std::from_chars(number.data(), number.data() + number.size(), value);
  if (read.ec != std::errc() || read.ptr != number.data() + number.size() || value < 0 || value > most)
    return std::nullopt;
  return before_now(now, value, word);
}

std::optional<std::int64_t> day_and_hour(const std::string& text) {
  std::array<int, 6> parts{0, 0, 0, 23, 59, 59};
  int end = 0;
  if (std::sscanf(text.c_str(), "%4d-%2d-%2d%n", &parts[0], &parts[1], &parts[2], &end) != 3)
    return std::nullopt;
  std::string rest = text.substr(static_cast<std::size_t>(end));
  if (rest.empty()) return on_day(parts);
  if (rest.front() != ' ' && rest.front() != 'T') return std::nullopt;
  rest.erase(0, 1);
  int second = 59;
  if (std::sscanf(rest.c_str(), "%2d:%2d%n:%2d%n", &parts[3], &parts[4], &end, &second, &end) < 2 ||
      static_cast<std::size_t>(end) != rest.size() || parts[3] > 23 || parts[4] > 59 || second > 59)
    return std::nullopt;
  parts[5] = second;
  return on_day(parts);
}

}  // namespace

Result<std::int64_t> moment_from_words(const std::string& text, std::int64_t now) {
  const std::string words = lower(text);
  std::optional<std::int64_t> moment;
  if (words == "yesterday")
    moment = before_now(now, 1, "day");
  else
    moment = ago(words, now);
  if (!moment) moment = day_and_hour(text);
  if (!moment)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is no time", printable(text)),
                "write it like 2026-11-23, '2026-11-23 18:30', yesterday, '3 days ago' or 'a week ago'");
  // Of today the end is meant, which is still to come.
  constexpr std::int64_t a_day = 24 * 60 * 60;
  if (*moment > now + a_day)
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is still to come", printable(text)),
                "name a time in the past");
  return std::min(*moment, now);
}

}  // namespace bayswap::cli
