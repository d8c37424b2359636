#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "layout/layout_words.hpp"
#include "layout/slot_file.hpp"

namespace bayswap {
namespace {

std::string anchor_line(std::size_t at, bool after_variable) {
  return fmt::format("{} = {}\n", after_variable ? "after_variable" : "at", at);
}

}  // namespace

std::string to_hex(ByteView bytes) {
  std::string text;
  for (const Byte b : bytes) text += fmt::format("{:02x}", b);
  return text;
}

std::string to_toml(const Slot& slot) {
  std::string out = fmt::format("\n[[part]]\nrole = {}\n", toml_quoted(to_text(slot.role))) +
                    anchor_line(slot.at, slot.after_variable);
  if (slot.file_sizes.size() == 1) {
    out += fmt::format("size = {}\n", slot.file_sizes.front());
  } else {
    out += fmt::format("sizes = [{}]\n", joined(slot.file_sizes, ", "));
  }
  if (slot.chip_sizes != slot.part_sizes())
    out += fmt::format("chips = [{}]\n", joined(slot.chip_sizes, ", "));
  if (slot.order != ByteOrder::chip) out += fmt::format("order = \"{}\"\n", to_text(slot.order));
  if (slot.encoding != Encoding::plain) out += fmt::format("form = \"{}\"\n", to_text(slot.encoding));
  if (slot.interleave != Interleave::none) out += fmt::format("spread = \"{}\"\n", to_text(slot.interleave));
  if (slot.parity != AddressParity::odd) out += fmt::format("lane = \"{}\"\n", to_text(slot.parity));
  if (slot.fill != DefaultFill::ff) out += fmt::format("absent = \"{}\"\n", to_text(slot.fill));
  if (!slot.mark.empty()) out += fmt::format("mark = \"{}\"\n", to_hex(slot.mark));
  if (slot.mark_at != 0) out += fmt::format("mark_at = {}\n", slot.mark_at);
  return out;
}

namespace {

std::string to_toml(const Stream& stream) {
  std::string out = fmt::format("\n[stream]\nkind = \"{}\"\nat = {}\n", to_text(stream.kind), stream.at);
  if (!stream.head.empty()) out += fmt::format("head = \"{}\"\n", to_hex(stream.head));
  if (!stream.tail.empty()) out += fmt::format("tail = \"{}\"\n", to_hex(stream.tail));
  return out;
}

std::string to_toml(const Field& field) {
  std::string out = "\n[[field]]\n" + anchor_line(field.at, field.after_variable);
  if (!field.bytes.empty()) return out + fmt::format("hex = \"{}\"\n", to_hex(field.bytes));
  if (field.unknown_bytes != 0) return out + fmt::format("unknown = {}\n", field.unknown_bytes);
  if (field.checksum) {
    out += fmt::format("checksum = \"{}\"\n", to_text(field.checksum->kind));
    if (field.checksum->big_endian) out += "order = \"big\"\n";
    if (field.checksum->from != 0) out += fmt::format("from = {}\n", field.checksum->from);
    if (field.checksum->before_end != 0) out += fmt::format("before_end = {}\n", field.checksum->before_end);
    return out;
  }
  if (field.number_bytes != 0) return out + fmt::format("size_in = {}\n", field.number_bytes);
  std::vector<std::string> rows;
  for (const auto& [size, bytes] : field.by_size)
    rows.push_back(fmt::format("\"{} {}\"", size, to_hex(bytes)));
  return out + fmt::format("by_size = [{}]\n", joined(rows, ", "));
}

}  // namespace

std::string_view to_text(ByteOrder order) {
  return order_words.at(static_cast<std::size_t>(order)).second;
}
std::string_view in_words(ByteOrder order) {
  switch (order) {
    case ByteOrder::chip:
      return "as the chip holds it";
    case ByteOrder::swap16:
      return "each 16-bit word reversed";
    case ByteOrder::swap32:
      return "each 32-bit word reversed";
    case ByteOrder::swap64:
      return "each 64-bit word reversed";
  }
  return {};
}
std::string_view to_text(Encoding form) {
  return form_words.at(static_cast<std::size_t>(form)).second;
}
std::string_view to_text(Interleave spread) {
  return spread_words.at(static_cast<std::size_t>(spread)).second;
}
std::string_view to_text(AddressParity lane) {
  return lane_words.at(static_cast<std::size_t>(lane)).second;
}
std::string_view to_text(DefaultFill absent) {
  return absent_words.at(static_cast<std::size_t>(absent)).second;
}

std::string to_toml(const Layout& layout) {
  std::string out = fmt::format("id = {}\nplatform = {}\nname = {}\n", toml_quoted(layout.id),
                                toml_quoted(tag(layout.platform)), toml_quoted(layout.name));
  if (!layout.about.empty()) out += fmt::format("about = {}\n", toml_quoted(layout.about));
  if (!layout.extension.empty()) out += fmt::format("extension = {}\n", toml_quoted(layout.extension));
  if (layout.fill != 0) out += fmt::format("fill = {}\n", layout.fill);
  if (layout.size != 0) out += fmt::format("size = {}\n", layout.size);
  if (layout.is_set()) {
    std::vector<std::string> quoted;
    for (const std::string& member : layout.members) quoted.push_back(toml_quoted(member));
    out += fmt::format("members = [{}]\n", joined(quoted, ", "));
  }
  if (layout.stream.kind != Compression::none) out += to_toml(layout.stream);
  for (const Slot& slot : layout.slots) out += to_toml(slot);
  for (const Field& field : layout.fields) out += to_toml(field);
  return out;
}

}  // namespace bayswap
