#include <bayswap/layout.hpp>

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
#include "layout/layout_words.hpp"
#include "layout/slot_file.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_file_size = std::size_t{72} << 20;

// The value of `key` among `words`, or `fallback` where the key is absent.
template <class Words, class Value>
Result<Value> choice(TableReader& reader, std::string_view key, const Words& words, Value fallback) {
  BAYSWAP_TRY(const auto text, reader.text(key));
  if (!text) return fallback;
  std::string known;
  for (const auto& [value, word] : words) {
    if (*text == word) return value;
    known += (known.empty() ? "" : ", ") + std::string(word);
  }
  return reader.error(key, fmt::format("{} is '{}'", key, printable(*text)), "it can be " + known);
}

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

Result<Field> read_field(TableReader reader) {
  Field field;
  BAYSWAP_TRY(const Anchor anchor, read_anchor(reader));
  field.at = anchor.at;
  field.after_variable = anchor.after_variable;
  BAYSWAP_TRY(const auto hex, reader.text("hex"));
  BAYSWAP_TRY(const auto number, reader.integer("size_in"));
  BAYSWAP_TRY(const auto by_size, reader.texts("by_size"));
  BAYSWAP_TRY(const auto unknown, reader.integer("unknown"));
  if (int{hex.has_value()} + int{number.has_value()} + int{by_size.has_value()} + int{unknown.has_value()} !=
      1)
    return reader.error("hex", "a field has one of hex, size_in, by_size and unknown");
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

// Nothing overlaps, and only what is after the part of several sizes moves with it.
Result<void> check_places(const TableReader& reader, const Layout& layout) {
  struct Row {
    Layout::Place place;
    std::string what;
    bool after_variable;
  };
  std::vector<Row> rows;
  const Slot* variable_slot = layout.variable_slot();
  std::size_t several = 0;
  for (const Slot& slot : layout.slots) {
    rows.push_back({layout.place(slot, 0), to_text(slot.role), slot.after_variable});
    several += slot.file_sizes.size() > 1 ? 1 : 0;
    for (const Slot* other = layout.slots.data(); other != &slot; ++other)
      if (other->role == slot.role)
        return reader.error("id", fmt::format("{} is there twice", to_text(slot.role)));
  }
  for (const Field& field : layout.fields)
    rows.push_back({layout.place(field, 0), "a field", field.after_variable});
  if (several > 1 || (several == 1 && layout.size != 0))
    return reader.error(
        "id", fmt::format("{} has several sizes: only one part can have, and the file no size of its own",
                          to_text(variable_slot->role)));
  sort_by(rows, [](const Row& row) { return row.place.at; });
  std::size_t end = 0;
  bool past_elastic = false;
  for (const Row& row : rows) {
    if (row.after_variable && variable_slot == nullptr)
      return reader.error(
          "id", fmt::format("{} is placed after a part of several sizes, but no part has several", row.what));
    if (row.place.at < end)
      return reader.error("id", fmt::format("{} at {} overlaps the part before it, which ends at {}",
                                            row.what, row.place.at, end));
    if (past_elastic && !row.after_variable)
      return reader.error(
          "id",
          fmt::format("{} at {} comes after the part of several sizes: write after_variable instead of at",
                      row.what, row.place.at));
    end = row.place.at + row.place.size;
    if (variable_slot != nullptr && row.place.at == variable_slot->at && !row.after_variable &&
        row.what == to_text(variable_slot->role))
      past_elastic = true;
  }
  if (layout.size != 0 && end > layout.size)
    return reader.error("size",
                        fmt::format("the parts end at {}, after the file's end at {}", end, layout.size));
  if (layout.file_sizes().back() > max_file_size)
    return reader.error("id", fmt::format("the parts end at {}; a file has at most {} bytes",
                                          layout.file_sizes().back(), max_file_size));
  return {};
}

Result<Stream> read_stream_table(TableReader reader) {
  Stream stream;
  BAYSWAP_TRY(stream.kind, choice(reader, "kind", stream_words, Compression::none));
  if (stream.kind == Compression::none)
    return reader.error("kind", "a stream's kind is gzip, zlib or chunks");
  BAYSWAP_TRY(const auto at, reader.integer("at"));
  if (at && (*at < 0 || std::cmp_greater(*at, max_file_size)))
    return reader.error("at", fmt::format("at must be an offset from 0 to {}", max_file_size));
  stream.at = static_cast<std::size_t>(at.value_or(0));
  BAYSWAP_TRY(const auto head, reader.text("head"));
  BAYSWAP_TRY(const auto tail, reader.text("tail"));
  if (head) {
    BAYSWAP_TRY(stream.head, hex_bytes(reader, "head", *head));
    if (stream.head.size() != stream.at)
      return reader.error("head", fmt::format("head has {} bytes, but the stream begins at {}",
                                              stream.head.size(), stream.at));
  }
  if (tail) {
    BAYSWAP_TRY(stream.tail, hex_bytes(reader, "tail", *tail));
  }
  BAYSWAP_CHECK(reader.no_other_keys());
  return stream;
}

bool is_good_id(std::string_view id, Platform platform) {
  const std::string prefix = std::string(tag(platform)) + ".";
  return id.size() > prefix.size() && id.size() <= 64 && id.starts_with(prefix) &&
         std::ranges::all_of(id.substr(prefix.size()), [](char c) {
           return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
         });
}

}  // namespace

Result<Layout> parse_layout(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const TomlFile root, parse_toml(toml, origin));
  TableReader reader(root, origin);
  Layout layout;
  layout.origin = origin;
  BAYSWAP_TRY(layout.id, reader.needed_text("id"));
  BAYSWAP_TRY(const std::string platform, reader.needed_text("platform"));
  const auto known = platform_from_tag(platform);
  if (!known)
    return reader.error("platform", fmt::format("unknown platform '{}'", printable(platform)),
                        "platforms go by their tags, e.g. n64 or gba");
  layout.platform = *known;
  if (!is_good_id(layout.id, layout.platform))
    return reader.error("id",
                        fmt::format("the id '{}' must be {}. and then lower-case letters, digits or dashes",
                                    printable(layout.id), platform));
  BAYSWAP_TRY(layout.name, reader.needed_text("name"));
  BAYSWAP_TRY(const auto about, reader.text("about"));
  layout.about = about.value_or("");
  BAYSWAP_TRY(const auto extension, reader.text("extension"));
  layout.extension = extension.value_or("");
  if (!layout.extension.empty() &&
      (layout.extension.front() != '.' || layout.extension.find('/') != std::string::npos ||
       printable(layout.extension) != layout.extension))
    return reader.error("extension", "an extension starts with its dot, e.g. \".sav\"");
  BAYSWAP_TRY(const auto fill, reader.integer("fill"));
  if (fill && (*fill < 0 || *fill > 255)) return reader.error("fill", "fill is one byte, 0 to 255");
  layout.fill = static_cast<Byte>(fill.value_or(0));
  BAYSWAP_TRY(const auto size, reader.integer("size"));
  if (size) {
    BAYSWAP_TRY(const auto sizes, sizes_from(reader, "size", {*size}));
    layout.size = sizes.front();
  }
  BAYSWAP_TRY(auto parts, reader.tables("part"));
  BAYSWAP_TRY(auto fields, reader.tables("field"));
  if (parts.size() + fields.size() > 64)
    return reader.error(
        "part", fmt::format("{} parts and fields; a file has at most 64", parts.size() + fields.size()));
  for (TableReader& part : parts) {
    BAYSWAP_TRY(auto slot, read_slot(std::move(part)));
    layout.slots.push_back(std::move(slot));
  }
  for (TableReader& row : fields) {
    BAYSWAP_TRY(auto field, read_field(std::move(row)));
    layout.fields.push_back(std::move(field));
  }
  sort_by(layout.slots, [](const Slot& slot) { return std::pair(slot.after_variable, slot.at); });
  sort_by(layout.fields, [](const Field& field) { return std::pair(field.after_variable, field.at); });
  BAYSWAP_TRY(auto stream, reader.table("stream"));
  if (stream) {
    BAYSWAP_TRY(layout.stream, read_stream_table(*std::move(stream)));
  }
  BAYSWAP_TRY(auto members, reader.texts("members"));
  layout.members = std::move(members).value_or(std::vector<std::string>{});
  BAYSWAP_CHECK(reader.no_other_keys());
  if (layout.slots.empty() == layout.members.empty())
    return reader.error("id", "a layout has either parts ([[part]]) or members (a list of layout ids)");
  if (layout.is_set()) {
    if (!layout.fields.empty() || layout.stream.kind != Compression::none || layout.size != 0)
      return reader.error("members", "a set has members and nothing else");
    return layout;
  }
  BAYSWAP_CHECK(check_places(reader, layout));
  return layout;
}

}  // namespace bayswap
