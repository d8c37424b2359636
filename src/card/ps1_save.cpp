// One save off a ps1 card: its directory frame, its title frame, its icon (docs/formats/ps1.md).
#include <algorithm>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "card/disc_name.hpp"
#include "card/kinds.hpp"
#include "card/ps1.hpp"

namespace bayswap {
namespace {

using namespace ps1;

// ---- The title frame, and the icon after it --------------------------------------------------------
constexpr std::size_t palette_at = 96;  // 16 colours of 16 bits
constexpr std::size_t picture_side = 16;
constexpr std::size_t picture_bytes = frame_bytes;  // two pixels a byte, the left one low

CardEntry describe_ps1(const CardSave& save) {
  CardEntry entry;
  entry.name = to_utf8(save.entry.view().subspan(name_at, name_bytes), TextEncoding::shift_jis);
  entry.code = code_of_disc_name(entry.name);
  entry.region = region_of_disc_name(entry.name);
  const ByteView payload = save.payload.view();
  if (payload.size() >= frame_bytes && payload[0] == 'S' && payload[1] == 'C')
    entry.title = to_utf8(payload.subspan(title_at, title_bytes), TextEncoding::shift_jis);
  entry.size_bytes = payload.size();
  return entry;
}

bool plausible_ps1(ByteView entry) {
  return is_plain_text(entry.subspan(name_at, name_bytes));
}

bool is_ps1_save(const CardSave& save) {
  const ByteView entry = save.entry.view();
  const std::uint32_t state = le32(entry, state_at);
  return save.files.empty() && !save.payload.empty() && save.payload.size() % block_size == 0 &&
         save.payload.size() <= save_blocks * block_size &&
         (state == state_first || state == deleted(state_first)) && entry[name_at] != 0;
}

// 5 bits each of red, green and blue, red lowest; all 0: nothing is drawn.
std::uint32_t colour(std::uint16_t value) {
  if (value == 0) return 0;
  const auto wide = [&](unsigned shift) {
    const std::uint32_t five = (value >> shift) & 31U;
    return (five << 3) | (five >> 2);
  };
  return wide(0) << 24 | wide(5) << 16 | wide(10) << 8 | 0xff;
}

SaveIcon icon_ps1(const CardSave& save) {
  SaveIcon icon;
  const ByteView payload = save.payload.view();
  if (payload.size() < block_size || payload[0] != 'S' || payload[1] != 'C') return icon;
  const std::size_t pictures = payload[display_at] & 0x0fU;
  if ((payload[display_at] & 0xf0) != 0x10 || pictures < 1 || pictures > 3) return icon;
  for (std::size_t i = 0; i < pictures; ++i) {
    Picture picture{picture_side, picture_side, {}};
    for (const Byte two : payload.subspan(frame_bytes + i * picture_bytes, picture_bytes))
      for (const unsigned index : {two % 16U, two / 16U})
        picture.pixels.push_back(colour(le16(payload, palette_at + std::size_t{2} * index)));
    icon.frames.push_back(std::move(picture));
  }
  return icon;
}

std::optional<CardSave> restamped_ps1(const CardSave& save, Region region, std::string_view code) {
  const std::string_view letters = disc_letters(region);
  if (letters.empty() || describe_ps1(save).region == Region::unknown) return std::nullopt;
  std::vector<Byte> entry(save.entry.view().begin(), save.entry.view().end());
  std::ranges::copy(disc_code(code), std::ranges::copy(letters, entry.begin() + name_at).out);
  write_checksum(entry);
  CardSave stamped = save;
  stamped.entry = Blob::copy_of(entry);
  return stamped;
}

std::optional<std::vector<Byte>> fresh_ps1_entry(std::string_view name, std::int64_t /*modified*/) {
  std::vector<Byte> entry(frame_bytes);
  put_le(entry, state_at, 4, state_first);
  put_le(entry, next_at, 2, no_next);
  // The last byte of the name is always 00.
  if (!put_name(std::span(entry).subspan(name_at, name_bytes - 1), name)) return std::nullopt;
  write_checksum(entry);
  return entry;
}
void set_ps1_size(std::span<Byte> entry, std::size_t payload_bytes) {
  put_le(entry, size_at, 4, payload_bytes);
  write_checksum(entry);
}

}  // namespace

const SaveFormat& ps1_save() {
  static const SaveFormat format{
      CardKind::ps1, frame_bytes,     true,
      plausible_ps1, is_ps1_save,     describe_ps1,
      icon_ps1,      restamped_ps1,   true,
      block_size,    fresh_ps1_entry, "at most 20 plain characters, e.g. BESLES-99001SAVE",
      set_ps1_size};
  return format;
}

}  // namespace bayswap
