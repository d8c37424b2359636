// One save off a gc card: its directory entry, its comment, banner and icons (docs/formats/gc.md).
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "card/gc.hpp"
#include "card/kinds.hpp"
#include "card/letter_region.hpp"
#include "card/tiled_picture.hpp"

namespace bayswap {
namespace {

using namespace gc;

// Japanese games write Shift-JIS, all others the western Windows code page.
TextEncoding encoding_of(ByteView entry) {
  return entry[code_at + 3] == 'J' ? TextEncoding::shift_jis : TextEncoding::western;
}

CardEntry describe_gc(const CardSave& save) {
  const ByteView bytes = save.entry.view();
  CardEntry entry;
  entry.code = to_utf8(bytes.subspan(code_at, 4), TextEncoding::western);
  const std::string maker = to_utf8(bytes.subspan(maker_at, 2), TextEncoding::western);
  entry.name = fmt::format("{}{}.{}", entry.code, maker,
                           to_utf8(bytes.subspan(name_at, name_bytes), encoding_of(bytes)));
  entry.region = region_of_letter(Platform::gc, static_cast<char>(bytes[code_at + region_letter_at]));
  entry.modified = epoch + be32(bytes, modified_at);
  entry.size_bytes = save.payload.size();
  const std::size_t comment = be32(bytes, comment_at);
  if (comment <= save.payload.size() && save.payload.size() - comment >= 2 * comment_bytes) {
    const ByteView both = save.payload.view().subspan(comment, 2 * comment_bytes);
    entry.title = to_utf8(both.first(comment_bytes), encoding_of(bytes));
    const std::string more = to_utf8(both.subspan(comment_bytes), encoding_of(bytes));
    if (!more.empty()) entry.title += (entry.title.empty() ? "" : " / ") + more;
  }
  return entry;
}

bool plausible_gc(ByteView entry) {
  return std::ranges::all_of(entry.subspan(code_at, 6), [](Byte b) { return b > 0x20 && b < 0x7f; }) &&
         entry[name_at] != 0;
}

bool is_gc_save(const CardSave& save) {
  const ByteView entry = save.entry.view();
  return save.files.empty() && !save.payload.empty() && save.payload.size() % block_size == 0 &&
         plausible_gc(entry) && be16(entry, blocks_at) == save.payload.size() / block_size;
}

// ---- Pictures --------------------------------------------------------------------------------------------

constexpr std::size_t palette_bytes = 512;
enum Form { none = 0, shared_palette = 1, direct = 2, own_palette = 3 };

SaveIcon icon_gc(const CardSave& save) {
  constexpr std::size_t banner_width = 96;
  constexpr std::size_t side = 32;
  constexpr std::size_t max_icons = 8;
  SaveIcon icon;
  const ByteView entry = save.entry.view();
  const ByteView data = save.payload.view();
  std::size_t at = be32(entry, pictures_at);
  const auto take = [&](std::size_t count) -> std::optional<ByteView> {
    if (at > data.size() || data.size() - at < count) return std::nullopt;
    at += count;
    return data.subspan(at - count, count);
  };
  if (const unsigned form = entry[banner_at] & 3U; form == direct) {
    const auto pixels = take(banner_width * side * 2);
    if (!pixels) return icon;
    icon.banner = untile(*pixels, {}, banner_width, side);
  } else if (form == shared_palette) {
    const auto pixels = take(banner_width * side);
    const auto palette = take(palette_bytes);
    if (!pixels || !palette) return icon;
    icon.banner = untile(*pixels, *palette, banner_width, side);
  }
  std::vector<std::pair<std::size_t, ByteView>> waiting;  // for the palette after the last icon
  for (std::size_t i = 0; i < max_icons; ++i) {
    const unsigned form = (be16(entry, icon_forms_at) >> (2 * i)) & 3U;
    const unsigned speed = (be16(entry, icon_speeds_at) >> (2 * i)) & 3U;
    if (speed == 0) break;
    if (form == none) continue;  // the one before stays
    const auto pixels = take(side * side * (form == direct ? 2 : 1));
    const auto palette = form == own_palette ? take(palette_bytes) : std::optional(ByteView{});
    if (!pixels || !palette) break;
    if (form == shared_palette) {
      waiting.emplace_back(icon.frames.size(), *pixels);
      icon.frames.emplace_back();
    } else {
      icon.frames.push_back(untile(*pixels, *palette, side, side));
    }
  }
  if (const auto palette = waiting.empty() ? std::nullopt : take(palette_bytes))
    for (const auto& [frame, pixels] : waiting) icon.frames[frame] = untile(pixels, *palette, side, side);
  std::erase_if(icon.frames, [](const Picture& picture) { return picture.pixels.empty(); });
  return icon;
}

// No banner, no icon, no comment: the console shows the name alone.
std::optional<std::vector<Byte>> fresh_gc_entry(std::string_view name, std::int64_t modified) {
  constexpr std::size_t prefix = 6;  // code and maker
  constexpr Byte for_everybody = 0x04;
  if (name.size() < prefix + 2 || name[prefix] != '.') return std::nullopt;
  std::vector<Byte> entry(entry_bytes);
  const std::span<Byte> all(entry);
  if (!put_name(all.subspan(code_at, prefix), name.substr(0, prefix)) ||
      !put_name(all.subspan(name_at, name_bytes), name.substr(prefix + 1)))
    return std::nullopt;
  all[reserved_at] = 0xff;
  put_be32(all, modified_at, static_cast<std::uint32_t>(std::max<std::int64_t>(0, modified - epoch)));
  put_be32(all, pictures_at, 0xffffffff);
  all[permissions_at] = for_everybody;
  put_be16(all, comment_at - 2, 0xffff);
  put_be32(all, comment_at, 0xffffffff);
  return entry;
}
void set_gc_size(std::span<Byte> entry, std::size_t payload_bytes) {
  put_be16(entry, blocks_at, static_cast<std::uint16_t>(payload_bytes / block_size));
}

}  // namespace

const SaveFormat& gc_save() {
  static const SaveFormat format{
      CardKind::gc, entry_bytes,        true,
      plausible_gc, is_gc_save,         describe_gc,
      icon_gc,      with_region_letter, false,
      block_size,   fresh_gc_entry,     "the game's code and maker, a dot and a name, e.g. GZ9PZZ.save",
      set_gc_size};
  return format;
}

}  // namespace bayswap
