// Parts and fields of layout files.
#include "layout/slot_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <utility>

#include "base/order.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "layout/byte_order.hpp"
#include "layout/integrity.hpp"
#include "layout/layout_words.hpp"

namespace bayswap {

Result<std::vector<std::size_t>> sizes_from(TableReader& reader, std::string_view key,
                                            const std::vector<std::int64_t>& values) {
  std::vector<std::size_t> sizes;
  for (const std::int64_t value : values) {
    if (value <= 0 || std::cmp_greater(value, max_file_size))
      return reader.error(key,
                          fmt::format("{} holds {}; a size is 1 to {} bytes", key, value, max_file_size));
    sizes.push_back(static_cast<std::size_t>(value));
  }
  sort_by(sizes, std::identity{});
  sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
  return sizes;
}

namespace {

// `at`, or `after_variable`: one of the two. `behind` is its name in older files.
struct Anchor {
  std::size_t at = 0;
  bool after_variable = false;
};
Result<Anchor> read_anchor(TableReader& reader) {
  BAYSWAP_TRY(const auto at, reader.integer("at"));
  BAYSWAP_TRY(const auto older, reader.integer("behind"));
  BAYSWAP_TRY(auto after_variable, reader.integer("after_variable"));
  if (!after_variable) after_variable = older;
  const std::string_view key = !after_variable ? "at" : older ? "behind" : "after_variable";
  if (at && after_variable)
    return reader.error(key, "at (from the file's start) and after_variable exclude each other");
  const auto& value = after_variable ? after_variable : at;
  if (!value || *value < 0 || std::cmp_greater(*value, max_file_size))
    return reader.error(key, fmt::format("{} must be an offset from 0 to {}", key, max_file_size));
  return Anchor{static_cast<std::size_t>(*value), after_variable.has_value()};
}

// The file's bytes must come out even in every step from the file to the part.
Result<void> check_form(const TableReader& reader, const Slot& slot) {
  const std::size_t lanes = slot.interleave == Interleave::none ? 1 : 2;
  for (const std::size_t bytes : slot.file_sizes) {
    if (bytes % lanes != 0)
      return reader.error("spread", fmt::format("{} bytes can't be spread over every other address", bytes));
    if (bytes / lanes % word_bytes(slot.order) != 0)
      return reader.error("order", fmt::format("{} bytes are no whole number of {}-byte words", bytes / lanes,
                                               word_bytes(slot.order)));
    if (slot.file_size(slot.part_size(bytes)) != bytes)
      return reader.error("form", fmt::format("{} takes {} bytes here, not {}", to_text(slot.encoding),
                                              slot.file_size(slot.part_size(bytes)), bytes));
  }
  if ((slot.encoding == Encoding::clock44 || slot.encoding == Encoding::clock_start) &&
      slot.role.kind != PartKind::rtc)
    return reader.error("form", fmt::format("only rtc can be {}", to_text(slot.encoding)));
  return {};
}

}  // namespace

Result<std::vector<Byte>> hex_bytes(const TableReader& reader, std::string_view key, std::string_view text) {
  constexpr std::size_t most = 4096;
  const auto digit = [](char c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return -1;
  };
  std::vector<Byte> bytes;
  for (std::size_t i = 0; i < text.size();) {
    if (text[i] == ' ') {
      ++i;
      continue;
    }
    const int high = digit(text[i]);
    const int low = i + 1 < text.size() ? digit(text[i + 1]) : -1;
    if (high < 0 || low < 0 || bytes.size() == most) {
      bytes.clear();
      break;
    }
    bytes.push_back(static_cast<Byte>(high * 16 + low));
    i += 2;
  }
  if (bytes.empty())
    return reader.error(
        key, fmt::format("{} is 1 to {} bytes as lower-case hex digits, e.g. \"01 ff\"", key, most));
  return bytes;
}

Result<Slot> read_slot(TableReader reader) {
  Slot slot;
  BAYSWAP_TRY(const std::string role, reader.needed_text("role"));
  const auto known = role_from_text(role);
  if (!known)
    return reader.error("role", fmt::format("unknown role '{}'", printable(role)),
                        "roles are eeprom, sram, flash, rtc, pak and pak1 to pak4");
  slot.role = *known;
  BAYSWAP_TRY(const Anchor anchor, read_anchor(reader));
  slot.at = anchor.at;
  slot.after_variable = anchor.after_variable;

  BAYSWAP_TRY(const auto size, reader.integer("size"));
  BAYSWAP_TRY(const auto sizes, reader.integers("sizes"));
  if (size.has_value() == sizes.has_value())
    return reader.error("size", "a part has either size (one number) or sizes (a list)");
  BAYSWAP_TRY(slot.file_sizes,
              size ? sizes_from(reader, "size", {*size}) : sizes_from(reader, "sizes", *sizes));

  BAYSWAP_TRY(slot.order, choice(reader, "order", order_words, ByteOrder::chip));
  BAYSWAP_TRY(slot.encoding, choice(reader, "form", form_words, Encoding::plain));
  BAYSWAP_TRY(slot.interleave, choice(reader, "spread", spread_words, Interleave::none));
  BAYSWAP_TRY(const auto lane, reader.text("lane"));
  BAYSWAP_TRY(slot.parity, choice(reader, "lane", lane_words, AddressParity::odd));
  if (lane && slot.interleave == Interleave::none) return reader.error("lane", "a lane needs spread");
  BAYSWAP_CHECK(check_form(reader, slot));

  BAYSWAP_TRY(const auto chips, reader.integers("chips"));
  slot.chip_sizes = slot.part_sizes();
  if (chips) {
    BAYSWAP_TRY(slot.chip_sizes, sizes_from(reader, "chips", *chips));
  }
  const std::size_t room = slot.part_size(slot.file_sizes.back());
  if (slot.chip_sizes.back() > room)
    return reader.error(
        "chips", fmt::format("a chip of {} bytes does not fit into {} bytes", slot.chip_sizes.back(), room));
  if (slot.file_sizes.size() > 1 && slot.chip_sizes != slot.part_sizes())
    return reader.error("chips", "a part of several sizes is always as long as its chip: leave chips out");
  for (const std::size_t bytes : slot.chip_sizes)
    if (bytes % word_bytes(slot.order) != 0)
      return reader.error("order", fmt::format("{} bytes are no whole number of {}-byte words", bytes,
                                               word_bytes(slot.order)));
  BAYSWAP_TRY(slot.fill, choice(reader, "absent", absent_words, DefaultFill::ff));
  if (slot.fill == DefaultFill::fresh_pak && (slot.role.kind != PartKind::pak || room != 32768))
    return reader.error("absent", "only a controller pak of 32768 bytes can be fresh-pak");
  BAYSWAP_TRY(const auto mark, reader.text("mark"));
  BAYSWAP_TRY(const auto mark_at, reader.integer("mark_at"));
  if (mark) {
    BAYSWAP_TRY(slot.mark, hex_bytes(reader, "mark", *mark));
    slot.mark_at = mark_at.value_or(0);
  }
  if (mark_at && (!mark || *mark_at > static_cast<std::int64_t>(max_file_size) ||
                  *mark_at < -static_cast<std::int64_t>(max_file_size)))
    return reader.error("mark_at", "mark_at is the mark's offset in the part; below 0: from the end");
  BAYSWAP_CHECK(reader.no_other_keys());
  return slot;
}

namespace {

// "512 01000000": the bytes for parts from that size on.
Result<std::pair<std::size_t, std::vector<Byte>>> sized_bytes(const TableReader& reader,
                                                              std::string_view text) {
  std::size_t size = 0;
  const auto digits = std::min(text.find(' '), text.size());
  const auto [end, problem] = std::from_chars(text.data(), text.data() + digits, size);
  if (problem != std::errc{} || end != text.data() + digits || size > max_file_size)
    return reader.error("by_size", "by_size lists texts like \"512 01000000\": a size, a space, hex digits");
  BAYSWAP_TRY(auto bytes, hex_bytes(reader, "by_size", text.substr(digits)));
  return std::pair{size, std::move(bytes)};
}

// Over what it covers, which is counted from the file's beginning and from its end.
Result<std::optional<IntegrityField>> read_checksum(TableReader& reader) {
  BAYSWAP_TRY(const auto word, reader.text("checksum"));
  if (!word) return std::optional<IntegrityField>();
  IntegrityField checksum;
  const auto kind = integrity_from_text(*word);
  if (!kind)
    return reader.error("checksum", fmt::format("unknown checksum '{}'", printable(*word)),
                        "they are crc32, crc16, adler32, sum32, sum16, md5 and sha1");
  checksum.kind = *kind;
  BAYSWAP_TRY(const auto order, reader.text("order"));
  if (order && *order != "big" && *order != "little")
    return reader.error("order", "a checksum's order is little (the default) or big");
  checksum.big_endian = order && *order == "big";
  for (auto [key, value] :
       {std::pair{"from", &checksum.from}, std::pair{"before_end", &checksum.before_end}}) {
    BAYSWAP_TRY(const auto number, reader.integer(key));
    if (number && (*number < 0 || std::cmp_greater(*number, max_file_size)))
      return reader.error(key, fmt::format("{} must be an offset from 0 to {}", key, max_file_size));
    *value = static_cast<std::size_t>(number.value_or(0));
  }
  return std::optional(checksum);
}

}  // namespace

Result<Field> read_field(TableReader reader) {
  Field field;
  BAYSWAP_TRY(const Anchor anchor, read_anchor(reader));
  field.at = anchor.at;
  field.after_variable = anchor.after_variable;
  BAYSWAP_TRY(const auto hex, reader.text("hex"));
  BAYSWAP_TRY(const auto number, reader.integer("size_in"));
  BAYSWAP_TRY(const auto by_size, reader.texts("by_size"));
  BAYSWAP_TRY(const auto unknown, reader.integer("unknown"));
  BAYSWAP_TRY(field.checksum, read_checksum(reader));
  if (int{hex.has_value()} + int{number.has_value()} + int{by_size.has_value()} + int{unknown.has_value()} +
          int{field.checksum.has_value()} !=
      1)
    return reader.error("hex", "a field has one of hex, size_in, by_size, unknown and checksum");
  if (unknown) {
    if (*unknown < 1 || std::cmp_greater(*unknown, max_file_size))
      return reader.error("unknown", "unknown is how many bytes only the target's own file has");
    field.unknown_bytes = static_cast<std::size_t>(*unknown);
  }
  if (hex) {
    BAYSWAP_TRY(field.bytes, hex_bytes(reader, "hex", *hex));
  }
  if (number) {
    if (*number < 1 || *number > 8)
      return reader.error("size_in", "size_in is 1 to 8, the bytes that the size takes");
    field.number_bytes = static_cast<std::size_t>(*number);
  }
  if (by_size) {
    for (const std::string& text : *by_size) {
      BAYSWAP_TRY(auto row, sized_bytes(reader, text));
      if (!field.by_size.empty() && (row.first <= field.by_size.back().first ||
                                     row.second.size() != field.by_size.back().second.size()))
        return reader.error("by_size", "by_size goes from small to large, with as many bytes for each");
      field.by_size.push_back(std::move(row));
    }
    if (field.by_size.empty()) return reader.error("by_size", "by_size is empty");
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return field;
}

}  // namespace bayswap
