#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_file_size = std::size_t{64} << 20;

constexpr std::array<std::pair<ByteOrder, std::string_view>, 4> order_words{{{ByteOrder::chip, "chip"},
                                                                             {ByteOrder::swap16, "swap16"},
                                                                             {ByteOrder::swap32, "swap32"},
                                                                             {ByteOrder::swap64, "swap64"}}};
constexpr std::array<std::pair<Absent, std::string_view>, 3> absent_words{
    {{Absent::ff, "ff"}, {Absent::zero, "00"}, {Absent::fresh_pak, "fresh-pak"}}};

std::size_t word_size(ByteOrder order) {
  switch (order) {
    case ByteOrder::chip:
      return 1;
    case ByteOrder::swap16:
      return 2;
    case ByteOrder::swap32:
      return 4;
    case ByteOrder::swap64:
      return 8;
  }
  return 1;
}

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
  std::ranges::sort(sizes);
  sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
  return sizes;
}

Result<Slot> read_slot(TableReader reader) {
  Slot slot;
  BAYSWAP_TRY(const std::string role, reader.needed_text("role"));
  const auto known = role_from_text(role);
  if (!known)
    return reader.error("role", fmt::format("unknown role '{}'", printable(role)),
                        "roles are eeprom, sram, flash, rtc, pak and pak1 to pak4");
  slot.role = *known;

  BAYSWAP_TRY(const auto at, reader.integer("at"));
  if (!at || *at < 0 || std::cmp_greater(*at, max_file_size))
    return reader.error("at", fmt::format("at must be an offset from 0 to {}", max_file_size));
  slot.at = static_cast<std::size_t>(*at);

  BAYSWAP_TRY(const auto size, reader.integer("size"));
  BAYSWAP_TRY(const auto sizes, reader.integers("sizes"));
  if (size.has_value() == sizes.has_value())
    return reader.error("size", "a part has either size (one number) or sizes (a list)");
  BAYSWAP_TRY(slot.file_sizes,
              size ? sizes_from(reader, "size", {*size}) : sizes_from(reader, "sizes", *sizes));

  BAYSWAP_TRY(const auto chips, reader.integers("chips"));
  slot.chip_sizes = slot.file_sizes;
  if (chips) {
    BAYSWAP_TRY(slot.chip_sizes, sizes_from(reader, "chips", *chips));
  }
  if (slot.chip_sizes.back() > slot.file_sizes.back())
    return reader.error("chips", fmt::format("a chip of {} bytes does not fit into {} bytes",
                                             slot.chip_sizes.back(), slot.file_sizes.back()));
  if (slot.file_sizes.size() > 1 && slot.chip_sizes != slot.file_sizes)
    return reader.error("chips", "a part of several sizes is always as long as its chip: leave chips out");

  BAYSWAP_TRY(slot.order, choice(reader, "order", order_words, ByteOrder::chip));
  for (const auto& list : {slot.file_sizes, slot.chip_sizes})
    for (const std::size_t bytes : list)
      if (bytes % word_size(slot.order) != 0)
        return reader.error("order", fmt::format("{} bytes are no whole number of {}-byte words", bytes,
                                                 word_size(slot.order)));
  BAYSWAP_TRY(slot.absent, choice(reader, "absent", absent_words, Absent::ff));
  if (slot.absent == Absent::fresh_pak &&
      (slot.role.kind != PartKind::pak || slot.file_sizes.back() != 32768))
    return reader.error("absent", "only a controller pak of 32768 bytes can be fresh-pak");
  BAYSWAP_CHECK(reader.no_other_keys());
  return slot;
}

Result<void> check_slots(const TableReader& reader, const Layout& layout) {
  std::size_t end = 0;
  for (std::size_t i = 0; i < layout.slots.size(); ++i) {
    const Slot& slot = layout.slots[i];
    if (slot.at < end)
      return reader.error("id", fmt::format("{} at {} overlaps the part before it, which ends at {}",
                                            to_text(slot.role), slot.at, end));
    end = slot.at + slot.file_sizes.back();
    const bool last = i + 1 == layout.slots.size();
    if (slot.file_sizes.size() > 1 && (!last || layout.size != 0))
      return reader.error(
          "id", fmt::format("{} has several sizes, but the file does not end with it", to_text(slot.role)));
    for (std::size_t j = 0; j < i; ++j)
      if (layout.slots[j].role == slot.role)
        return reader.error("id", fmt::format("{} is there twice", to_text(slot.role)));
  }
  if (layout.size != 0 && end > layout.size)
    return reader.error("size",
                        fmt::format("the parts end at {}, behind the file's end at {}", end, layout.size));
  if (end > max_file_size)
    return reader.error("id",
                        fmt::format("the parts end at {}; a file has at most {} bytes", end, max_file_size));
  return {};
}

bool is_good_id(std::string_view id, Platform platform) {
  const std::string prefix = std::string(tag(platform)) + ".";
  return id.size() > prefix.size() && id.size() <= 64 && id.starts_with(prefix) &&
         std::ranges::all_of(id.substr(prefix.size()), [](char c) {
           return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
         });
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
std::string_view to_text(Absent absent) {
  return absent_words.at(static_cast<std::size_t>(absent)).second;
}

Result<Layout> parse_layout(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(const toml::table root, parse_toml(toml, origin));
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
  if (parts.size() > 64)
    return reader.error("part", fmt::format("{} parts; a file has at most 64", parts.size()));
  for (TableReader& part : parts) {
    BAYSWAP_TRY(auto slot, read_slot(std::move(part)));
    layout.slots.push_back(std::move(slot));
  }
  std::ranges::sort(layout.slots, {}, &Slot::at);
  BAYSWAP_TRY(auto members, reader.texts("members"));
  layout.members = std::move(members).value_or(std::vector<std::string>{});
  BAYSWAP_CHECK(reader.no_other_keys());
  if (layout.slots.empty() == layout.members.empty())
    return reader.error("id", "a layout has either parts ([[part]]) or members (a list of layout ids)");
  BAYSWAP_CHECK(check_slots(reader, layout));
  return layout;
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
    out += fmt::format("members = [{}]\n", fmt::join(quoted, ", "));
  }
  for (const Slot& slot : layout.slots) {
    out += fmt::format("\n[[part]]\nrole = {}\nat = {}\n", toml_quoted(to_text(slot.role)), slot.at);
    if (slot.file_sizes.size() == 1) {
      out += fmt::format("size = {}\n", slot.file_sizes.front());
    } else {
      out += fmt::format("sizes = [{}]\n", fmt::join(slot.file_sizes, ", "));
    }
    if (slot.chip_sizes != slot.file_sizes)
      out += fmt::format("chips = [{}]\n", fmt::join(slot.chip_sizes, ", "));
    if (slot.order != ByteOrder::chip) out += fmt::format("order = \"{}\"\n", to_text(slot.order));
    if (slot.absent != Absent::ff) out += fmt::format("absent = \"{}\"\n", to_text(slot.absent));
  }
  return out;
}

std::vector<std::size_t> Layout::file_sizes() const {
  if (is_set()) return {};
  if (size != 0) return {size};
  std::vector<std::size_t> sizes;
  sizes.reserve(slots.back().file_sizes.size());
  for (const std::size_t last : slots.back().file_sizes) sizes.push_back(slots.back().at + last);
  return sizes;
}

const Slot* Layout::slot(Role role) const {
  const auto found = std::ranges::find(slots, role, &Slot::role);
  return found == slots.end() ? nullptr : &*found;
}

}  // namespace bayswap
