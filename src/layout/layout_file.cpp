// Layout files: the whole of one, and what has to hold between its parts.
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
#include "layout/integrity.hpp"
#include "layout/layout_words.hpp"
#include "layout/slot_file.hpp"

namespace bayswap {
namespace {

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
  for (const Field& field : layout.fields)
    for (const std::size_t bytes : layout.file_sizes())
      if (field.checksum &&
          (field.checksum->before_end > bytes || field.checksum->from > bytes - field.checksum->before_end))
        return reader.error("id", "a checksum covers nothing: from and before_end meet");
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
