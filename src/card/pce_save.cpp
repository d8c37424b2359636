// One save out of a pce backup memory (docs/formats/pce.md).
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

constexpr std::size_t save_entry_bytes = 16;
constexpr std::size_t maker_bytes = 2;  // the game's own number, before its name
constexpr std::size_t name_at = 4 + maker_bytes;
constexpr std::size_t name_bytes = 10;
constexpr std::size_t max_payload = 2048 - 16 - save_entry_bytes - 2;

CardEntry describe_pce(const CardSave& save) {
  const ByteView bytes = save.entry.view();
  CardEntry entry;
  entry.title = to_utf8(bytes.subspan(name_at, name_bytes), TextEncoding::shift_jis);
  entry.code = fmt::format("{:02X}{:02X}", bytes[4], bytes[5]);
  entry.name = entry.code + "." + entry.title;
  entry.size_bytes = save.payload.size();
  return entry;
}

bool plausible_pce(ByteView entry) {
  return std::ranges::none_of(entry.subspan(name_at, name_bytes),
                              [](Byte b) { return b < 0x20 || b == 0x7f; });
}

bool is_pce_save(const CardSave& save) {
  return save.files.empty() && !save.payload.empty() && save.payload.size() <= max_payload;
}

std::optional<std::vector<Byte>> fresh_pce_entry(std::string_view name, std::int64_t /*modified*/) {
  constexpr std::size_t digits = 2 * maker_bytes;
  if (name.size() < digits + 2 || name[digits] != '.') return std::nullopt;
  std::uint16_t number = 0;
  const char* end = name.data() + digits;
  if (const auto [last, error] = std::from_chars(name.data(), end, number, 16);
      last != end || error != std::errc())
    return std::nullopt;
  std::vector<Byte> entry(save_entry_bytes);
  put_be16(entry, name_at - maker_bytes, number);
  if (!put_name(std::span(entry).subspan(name_at, name_bytes), name.substr(digits + 1), ' '))
    return std::nullopt;
  return entry;
}

}  // namespace

const SaveFormat& pce_save() {
  static const SaveFormat format{
      CardKind::pce,
      save_entry_bytes,
      false,
      plausible_pce,
      is_pce_save,
      describe_pce,
      nullptr,
      nullptr,
      false,
      1,
      fresh_pce_entry,
      "the game's number in 4 hex digits, a dot and at most 10 plain characters, e.g. 0099.SAVE",
      [](std::span<Byte>, std::size_t) {}};
  return format;
}

}  // namespace bayswap
