// One save off a dc visual memory: its directory entry, its header and icons (docs/formats/dc.md).
#include <algorithm>

#include "base/clock.hpp"
#include "base/text.hpp"
#include "card/dc.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

using namespace dc;

// ---- Header, at the start of a data file, in the second block of a game ---------------------------------
constexpr std::size_t short_title_at = 0;  // 16 bytes: in the menu of the memory itself
constexpr std::size_t title_at = 16;       // 32 bytes: in the console's
constexpr std::size_t title_bytes = 32;
constexpr std::size_t save_icon_count_at = 64;
constexpr std::size_t palette_at = 96;  // 16 colours: 4 bits each of opacity, red, green, blue
constexpr std::size_t save_header_bytes = 128;
constexpr std::size_t icon_side = 32;
constexpr std::size_t save_icon_bytes = icon_side * icon_side / 2;  // two pixels a byte, the left one high
constexpr std::size_t max_icons = 3;

std::optional<std::int64_t> time_of(ByteView bcd) {
  std::array<int, 7> value{};
  for (std::size_t i = 0; i < value.size(); ++i) {
    if ((bcd[i] & 15U) > 9 || (bcd[i] >> 4U) > 9) return std::nullopt;
    value.at(i) = (bcd[i] >> 4U) * 10 + (bcd[i] & 15U);
  }
  return seconds_of({value[0] * 100 + value[1], value[2], value[3], value[4], value[5], value[6]});
}

}  // namespace

void dc::put_time(std::span<Byte> field, std::int64_t seconds) {
  const ClockTime time = clock_time(seconds);
  const auto weekday = static_cast<int>((seconds / 86400 + 3) % 7);  // 1970-01-01 was a Thursday; 0 is Monday
  std::size_t at = 0;
  for (const int value :
       {time.year / 100, time.year % 100, time.month, time.day, time.hour, time.minute, time.second, weekday})
    field[at++] = static_cast<Byte>(value / 10 * 16 + value % 10);
}

namespace {

// From the file's header on; empty where the file is too short for one.
ByteView header_of(const CardSave& save) {
  const std::size_t at = le16(save.entry.view(), header_block_at) * block_size;
  const ByteView data = save.payload.view();
  return at <= data.size() && data.size() - at >= save_header_bytes ? data.subspan(at) : ByteView{};
}

CardEntry describe_dc(const CardSave& save) {
  const ByteView bytes = save.entry.view();
  CardEntry entry;
  entry.name = to_utf8(bytes.subspan(name_at, name_bytes), TextEncoding::shift_jis);
  entry.modified = time_of(bytes.subspan(time_at, time_bytes));
  entry.size_bytes = save.payload.size();
  if (const ByteView header = header_of(save); !header.empty()) {
    entry.title = to_utf8(header.subspan(title_at, title_bytes), TextEncoding::shift_jis);
    if (entry.title.empty())
      entry.title = to_utf8(header.subspan(short_title_at, title_at), TextEncoding::shift_jis);
  }
  return entry;
}

bool plausible_dc(ByteView entry) {
  return (entry[type_at] == type_data || entry[type_at] == type_game) &&
         is_plain_text(entry.subspan(name_at, name_bytes)) && le16(entry, blocks_at) <= max_user_blocks;
}

bool is_dc_save(const CardSave& save) {
  const ByteView entry = save.entry.view();
  return save.files.empty() && !save.payload.empty() && save.payload.size() % block_size == 0 &&
         save.payload.size() <= max_user_blocks * block_size &&
         (entry[type_at] == type_data || entry[type_at] == type_game) && entry[name_at] != 0 &&
         le16(entry, blocks_at) == save.payload.size() / block_size &&
         le16(entry, header_block_at) < le16(entry, blocks_at);
}

SaveIcon icon_dc(const CardSave& save) {
  SaveIcon icon;
  const ByteView header = header_of(save);
  if (header.empty()) return icon;
  const std::size_t count = le16(header, save_icon_count_at);
  if (count < 1 || count > max_icons || header.size() < save_header_bytes + count * save_icon_bytes)
    return icon;
  for (std::size_t i = 0; i < count; ++i) {
    Picture picture{icon_side, icon_side, {}};
    for (const Byte two : header.subspan(save_header_bytes + i * save_icon_bytes, save_icon_bytes))
      for (const unsigned index : {two / 16U, two % 16U}) {
        const std::uint32_t c = le16(header, palette_at + std::size_t{2} * index);
        const auto wide = [&](unsigned shift) { return ((c >> shift) & 15U) * 17U; };
        picture.pixels.push_back(wide(8) << 24 | wide(4) << 16 | wide(0) << 8 | wide(12));
      }
    icon.frames.push_back(std::move(picture));
  }
  return icon;
}

std::optional<std::vector<Byte>> fresh_dc_entry(std::string_view name, std::int64_t modified) {
  std::vector<Byte> entry(entry_bytes);
  entry[type_at] = type_data;
  if (!put_name(std::span(entry).subspan(name_at, name_bytes), name)) return std::nullopt;
  put_time(std::span(entry).subspan(time_at, time_bytes), modified);
  return entry;
}
void set_dc_size(std::span<Byte> entry, std::size_t payload_bytes) {
  put_le(entry, blocks_at, 2, payload_bytes / block_size);
}

}  // namespace

const SaveFormat& dc_save() {
  static const SaveFormat format{CardKind::dc, entry_bytes, false,          plausible_dc,
                                 is_dc_save,   describe_dc, icon_dc,        nullptr,
                                 false,        block_size,  fresh_dc_entry, "at most 12 plain characters",
                                 set_dc_size};
  return format;
}

}  // namespace bayswap
