#include "sheet/codec.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap::sheets {
namespace {

constexpr std::int64_t day_seconds = 86400;

SheetNumber number_mask(unsigned bits) {
  return (SheetNumber{1} << bits) - 1;
}

struct Date {
  std::int64_t year;
  unsigned month;
  unsigned day;
};
// Of days since 1970, in the Gregorian calendar.
Date date_of(std::int64_t days) {
  days += 719468;
  const std::int64_t era = (days >= 0 ? days : days - 146096) / 146097;
  const auto of_era = static_cast<unsigned>(days - era * 146097);
  const unsigned year = (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
  const unsigned of_year = of_era - (365 * year + year / 4 - year / 100);
  const unsigned shifted = (5 * of_year + 2) / 153;
  const unsigned month = shifted < 10 ? shifted + 3 : shifted - 9;
  return {static_cast<std::int64_t>(year) + era * 400 + (month <= 2 ? 1 : 0), month,
          of_year - (153 * shifted + 2) / 5 + 1};
}
std::int64_t days_of(std::int64_t year, unsigned month, unsigned day) {
  year -= month <= 2 ? 1 : 0;
  const std::int64_t era = (year >= 0 ? year : year - 399) / 400;
  const auto of_era = static_cast<unsigned>(year - era * 400);
  const unsigned of_year = (153 * (month > 2 ? month - 3 : month + 9) + 2) / 5 + day - 1;
  return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

// Numbers out of a text like "2031-05-04 18:30:00": as many as there are.
std::optional<std::vector<std::int64_t>> parts_of(std::string_view text, std::string_view separators) {
  std::vector<std::int64_t> parts;
  const char* at = text.data();
  const char* end = at + text.size();
  while (at != end) {
    std::int64_t value = 0;
    const auto parsed = std::from_chars(at, end, value);
    if (parsed.ec != std::errc{} || value < 0) return std::nullopt;
    parts.push_back(value);
    at = parsed.ptr;
    if (at == end) return parts;
    if (separators.find(*at) == std::string_view::npos) return std::nullopt;
    ++at;
  }
  return std::nullopt;
}

// value / per with as many digits as it takes to read the same value back.
std::string divided(SheetNumber value, SheetNumber per) {
  if (per == 1) return fmt::format("{}", value);
  const bool is_negative = value < 0;
  if (is_negative) value = -value;
  std::string digits;
  SheetNumber rest = value % per;
  SheetNumber scale = 1;
  while (rest != 0 && scale <= per * 10) {
    rest *= 10;
    digits += static_cast<char>('0' + static_cast<int>(rest / per));
    rest %= per;
    scale *= 10;
  }
  return fmt::format("{}{}{}{}", is_negative ? "-" : "", value / per, digits.empty() ? "" : ".", digits);
}

// The nearest whole multiple of 1/per.
std::optional<SheetNumber> multiplied(std::string_view text, SheetNumber per) {
  const bool is_negative = text.starts_with('-');
  if (is_negative || text.starts_with('+')) text.remove_prefix(1);
  constexpr std::size_t max_digits = 20;
  SheetNumber number = 0;
  SheetNumber scale = 1;
  bool has_point = false;
  std::size_t digits = 0;
  for (const char c : text) {
    if (c == '_') continue;
    if (c == '.' && !has_point) {
      has_point = true;
      continue;
    }
    if (c < '0' || c > '9' || ++digits > max_digits) return std::nullopt;
    number = number * 10 + (c - '0');
    if (has_point) scale *= 10;
  }
  if (digits == 0 || (has_point && per == 1)) return std::nullopt;
  const SheetNumber whole = (number / scale) * per + ((number % scale) * per * 2 + scale) / (scale * 2);
  return is_negative ? -whole : whole;
}

std::optional<SheetNumber> hex_number(std::string_view text) {
  if (!text.starts_with("0x") && !text.starts_with("0X")) return std::nullopt;
  std::uint64_t value = 0;
  const auto end = std::from_chars(text.data() + 2, text.data() + text.size(), value, 16);
  if (end.ec != std::errc{} || end.ptr != text.data() + text.size()) return std::nullopt;
  return SheetNumber{value};
}

std::string flags_text(const NumberForm& form, SheetNumber value) {
  std::vector<std::string> names;
  SheetNumber left = value;
  for (std::size_t i = 0; i < form.flags.size(); ++i) {
    const SheetNumber bit = SheetNumber{1} << static_cast<int>(i);
    if (form.flags[i].empty() || (value & bit) == 0) continue;
    names.push_back(form.flags[i]);
    left &= ~bit;
  }
  if (left != 0 || names.empty())
    names.push_back(left == 0 ? "none" : fmt::format("0x{:X}", static_cast<std::uint64_t>(left)));
  return joined(names, ",");
}

std::optional<SheetNumber> flags_from_text(const NumberForm& form, std::string_view text) {
  if (text == "none") return SheetNumber{0};
  SheetNumber value = 0;
  while (!text.empty()) {
    const std::size_t comma = std::min(text.find(','), text.size());
    std::string_view word = text.substr(0, comma);
    while (word.starts_with(' ')) word.remove_prefix(1);
    while (word.ends_with(' ')) word.remove_suffix(1);
    const auto flag = std::ranges::find(form.flags, word);
    if (flag != form.flags.end() && !word.empty()) {
      value |= SheetNumber{1} << static_cast<int>(flag - form.flags.begin());
    } else if (const auto number = hex_number(word)) {
      value |= *number;
    } else if (const auto plain = multiplied(word, 1)) {
      value |= *plain;
    } else {
      return std::nullopt;
    }
    text.remove_prefix(std::min(comma + 1, text.size()));
  }
  return value;
}

std::string clock_text(std::int64_t seconds) {
  return fmt::format("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
}

std::string time_text(SheetNumber seconds) {
  const auto whole = static_cast<std::int64_t>(seconds);
  const std::int64_t days = whole >= 0 ? whole / day_seconds : -((day_seconds - 1 - whole) / day_seconds);
  const Date date = date_of(days);
  return fmt::format("{:04}-{:02}-{:02} {}", date.year, date.month, date.day,
                     clock_text(whole - days * day_seconds));
}

// 2 seconds, minutes, hours; days, months, years since 1980, from the lowest bits on.
std::string dos_time_text(SheetNumber value) {
  const auto v = static_cast<std::uint32_t>(value);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}", 1980 + (v >> 25), v >> 21 & 15, v >> 16 & 31,
                     v >> 11 & 31, v >> 5 & 63, (v & 31) * 2);
}

std::optional<SheetNumber> dos_time_from_text(std::string_view text) {
  const auto parts = parts_of(text, "- :T");
  if (!parts || parts->size() < 3 || parts->size() > 6) return std::nullopt;
  const auto at = [&](std::size_t i) { return i < parts->size() ? (*parts)[i] : 0; };
  if (at(0) < 1980 || at(0) > 2107 || at(1) > 15 || at(2) > 31 || at(3) > 31 || at(4) > 63 || at(5) > 62)
    return std::nullopt;
  return SheetNumber{(at(0) - 1980) << 25 | at(1) << 21 | at(2) << 16 | at(3) << 11 | at(4) << 5 | at(5) / 2};
}

// Times that no calendar has are plain numbers.
bool is_calendar_time(SheetNumber seconds) {
  constexpr SheetNumber first = -62135596800;  // year 1
  constexpr SheetNumber last = 253402300799;   // year 9999
  return seconds >= first && seconds <= last;
}

}  // namespace

std::optional<SheetNumber> read_number(const NumberForm& form, ByteView bytes) {
  std::uint64_t word = 0;
  const std::size_t size = form.size_bytes();
  for (std::size_t i = 0; i < size; ++i)
    word |= std::uint64_t{bytes[i]} << 8 * (form.big_endian ? size - 1 - i : i);
  SheetNumber raw = SheetNumber{word >> form.bit} & number_mask(form.bits);
  if (form.is_bcd) {
    SheetNumber value = 0;
    for (unsigned at = form.bits; at > 0; at -= 4) {
      const auto digit = static_cast<int>(raw >> (at - 4) & 15);
      if (digit > 9) return std::nullopt;
      value = value * 10 + digit;
    }
    raw = value;
  } else if (form.is_signed && (raw >> (form.bits - 1) & 1) != 0) {
    raw -= SheetNumber{1} << form.bits;
  }
  return raw * form.times + form.plus;
}

std::pair<SheetNumber, SheetNumber> range_of(const NumberForm& form) {
  SheetNumber low = 0;
  SheetNumber high = number_mask(form.bits);
  if (form.is_bcd) {
    high = 1;
    for (unsigned i = 0; i < form.bits / 4; ++i) high *= 10;
    --high;
  } else if (form.is_signed) {
    low = -(SheetNumber{1} << (form.bits - 1));
    high = -low - 1;
  }
  low = low * form.times + form.plus;
  high = high * form.times + form.plus;
  if (low > high) std::swap(low, high);
  return {std::max(low, form.min.value_or(low)), std::min(high, form.max.value_or(high))};
}

Result<void> write_number(const NumberForm& form, SheetNumber value, std::span<Byte> bytes) {
  const auto [low, high] = range_of(form);
  if (value < low || value > high)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} is out of range: {} to {}", divided(value, form.per), divided(low, form.per),
                            divided(high, form.per)),
                "use a value in that range");
  if ((value - form.plus) % form.times != 0)
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} can't be stored: values are {} apart", value, form.times),
                "use the nearest one");
  SheetNumber raw = (value - form.plus) / form.times;
  if (form.is_bcd) {
    SheetNumber packed = 0;
    for (unsigned at = 0; at < form.bits; at += 4, raw /= 10) packed |= raw % 10 << at;
    raw = packed;
  }
  const std::size_t size = form.size_bytes();
  const auto mask = static_cast<std::uint64_t>(number_mask(form.bits)) << form.bit;
  const auto wanted = static_cast<std::uint64_t>(raw & number_mask(form.bits)) << form.bit;
  for (std::size_t i = 0; i < size; ++i) {
    const std::size_t shift = 8 * (form.big_endian ? size - 1 - i : i);
    bytes[i] = static_cast<Byte>((bytes[i] & ~(mask >> shift)) | (wanted >> shift & 0xff));
  }
  return {};
}

std::string number_text(const Sheet& sheet, const NumberForm& form, SheetNumber value) {
  if (!form.flags.empty()) return flags_text(form, value);
  if (!form.table.empty()) {
    const auto table = sheet.tables.find(form.table);
    if (table != sheet.tables.end()) {
      std::string name = table->second.name_of(value, {});
      if (!name.empty() && table->second.key_of(name) == value) return name;
    }
  }
  switch (form.show) {
    case Show::hex:
      if (value >= 0) return fmt::format("0x{:0{}X}", static_cast<std::uint64_t>(value), (form.bits + 3) / 4);
      break;
    case Show::time:
      if (form.per == 1 && is_calendar_time(value + form.epoch)) return time_text(value + form.epoch);
      break;
    case Show::duration:
      if (value >= 0) {
        const std::string fraction = divided(value % form.per, form.per);
        const std::size_t point = fraction.find('.');
        return clock_text(static_cast<std::int64_t>(value / form.per)) +
               (point == std::string::npos ? std::string{} : fraction.substr(point));
      }
      break;
    case Show::dos_time:
      if (form.bits == 32) return dos_time_text(value);
      break;
    case Show::plain:
      break;
  }
  return divided(value, form.per);
}

std::string number_shown(const Sheet& sheet, const NumberForm& form, SheetNumber value,
                         std::string_view language) {
  if (!form.table.empty() && form.flags.empty()) {
    const auto table = sheet.tables.find(form.table);
    const std::string name =
        table == sheet.tables.end() ? std::string{} : table->second.name_of(value, language);
    if (!name.empty()) return fmt::format("{} ({})", name, value);
  }
  if (form.show == Show::time && form.per != 1) {
    const SheetNumber seconds = value / form.per + form.epoch;
    if (is_calendar_time(seconds)) return time_text(seconds);
  }
  std::string text = number_text(sheet, form, value);
  for (std::size_t at = 0; !form.flags.empty() && (at = text.find(',', at)) != std::string::npos; at += 2)
    text.insert(at + 1, " ");
  return text;
}

Result<SheetNumber> number_from_text(const Sheet& sheet, const NumberForm& form, std::string_view text) {
  std::string advice = "write a whole number, or one in hex: 0x1F";
  if (!form.flags.empty()) {
    if (const auto value = flags_from_text(form, text)) return *value;
    std::vector<std::string> names;
    for (const std::string& flag : form.flags)
      if (!flag.empty()) names.push_back(flag);
    advice = fmt::format("write names with commas between them, or none: {}", joined(names, ", "));
  }
  if (!form.table.empty()) {
    const auto table = sheet.tables.find(form.table);
    if (table != sheet.tables.end()) {
      if (const auto key = table->second.key_of(text)) return *key;
      std::vector<std::string> names;
      for (const auto& [key, row] : table->second.by_key) names.push_back(table->second.name_of(key, {}));
      advice = did_you_mean(text, names);
      constexpr std::size_t max_named = 12;
      if (advice.empty() && names.size() <= max_named) advice = "values are " + joined(names, ", ");
      if (advice.empty()) advice = "write a name out of the sheet's table, or its number";
    }
  }
  if (form.show == Show::time) {
    if (const auto seconds = time_from_text(text)) return (*seconds - form.epoch) * form.per;
    advice = "write a date and time, \"2031-05-04 18:30:00\"";
  }
  if (form.show == Show::dos_time) {
    if (const auto value = dos_time_from_text(text)) return *value;
    advice = "write a date and time, \"2031-05-04 18:30:00\"";
  }
  if (form.show == Show::duration && text.find(':') != std::string_view::npos) {
    const std::size_t point = std::min(text.find('.'), text.size());
    const auto parts = parts_of(text.substr(0, point), ":");
    const auto fraction = point == text.size() ? std::optional(SheetNumber{0})
                                               : multiplied(fmt::format("0{}", text.substr(point)), form.per);
    if (parts && fraction && (parts->size() == 2 || parts->size() == 3)) {
      SheetNumber seconds = 0;
      for (const std::int64_t part : *parts) seconds = seconds * 60 + part;
      return seconds * form.per + *fraction;
    }
  }
  if (const auto value = hex_number(text)) return *value;
  if (const auto value = multiplied(text, form.per)) return *value;
  return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a value of this field", printable(text)),
              advice);
}

std::optional<SheetNumber> time_from_text(std::string_view text) {
  const auto parts = parts_of(text, "- :T");
  if (!parts || (parts->size() != 3 && parts->size() != 5 && parts->size() != 6)) return std::nullopt;
  const auto at = [&](std::size_t i) { return i < parts->size() ? (*parts)[i] : 0; };
  constexpr std::int64_t last_year = 9999;
  if (at(0) < 1 || at(0) > last_year || at(1) < 1 || at(1) > 12 || at(2) < 1 || at(2) > 31 || at(3) > 23 ||
      at(4) > 59 || at(5) > 59)
    return std::nullopt;
  return SheetNumber{days_of(at(0), static_cast<unsigned>(at(1)), static_cast<unsigned>(at(2))) *
                         day_seconds +
                     at(3) * 3600 + at(4) * 60 + at(5)};
}

std::optional<bool> truth_from_text(std::string_view text) {
  const std::string word = lower(text);
  if (word == "yes" || word == "true" || word == "on" || word == "1") return true;
  if (word == "no" || word == "false" || word == "off" || word == "0") return false;
  return std::nullopt;
}

std::string hex_text(ByteView bytes) {
  std::string out;
  for (const Byte b : bytes) out += fmt::format("{:02X}", b);
  return out;
}

std::optional<std::vector<Byte>> bytes_from_hex(std::string_view text) {
  std::vector<Byte> out;
  int high = -1;
  for (const char c : text) {
    if (c == ' ') continue;
    int digit = -1;
    if (c >= '0' && c <= '9') digit = c - '0';
    if (c >= 'a' && c <= 'f') digit = c - 'a' + 10;
    if (c >= 'A' && c <= 'F') digit = c - 'A' + 10;
    if (digit < 0) return std::nullopt;
    if (high < 0) {
      high = digit;
    } else {
      out.push_back(static_cast<Byte>(high * 16 + digit));
      high = -1;
    }
  }
  return high < 0 ? std::optional(out) : std::nullopt;
}

}  // namespace bayswap::sheets
