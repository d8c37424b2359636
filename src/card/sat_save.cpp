// One save out of a sat backup memory (docs/formats/sat.md).
#include <algorithm>

#include "base/text.hpp"
#include "card/kinds.hpp"
#include "card/sat.hpp"

namespace bayswap {
namespace {

using namespace sat;

constexpr std::array<std::string_view, max_language + 1> languages{"ja", "en", "fr", "de", "es", "it"};
constexpr std::size_t max_payload = std::size_t{4} << 20;

CardEntry describe_sat(const CardSave& save) {
  const ByteView bytes = save.entry.view();
  CardEntry entry;
  entry.name = to_utf8(bytes.subspan(name_at, name_bytes), TextEncoding::shift_jis);
  entry.title = to_utf8(bytes.subspan(comment_at, comment_bytes), TextEncoding::shift_jis);
  if (bytes[language_at] <= max_language) entry.language = languages.at(bytes[language_at]);
  entry.modified = epoch + std::int64_t{60} * be32(bytes, date_at);
  entry.size_bytes = save.payload.size();
  return entry;
}

bool plausible_sat(ByteView entry) {
  return is_plain_text(entry.subspan(name_at, name_bytes));
}

bool is_sat_save(const CardSave& save) {
  const ByteView entry = save.entry.view();
  return save.files.empty() && !save.payload.empty() && save.payload.size() <= max_payload &&
         be32(entry, size_at) == save.payload.size() && entry[name_at] != 0 &&
         entry[language_at] <= max_language;
}

std::optional<std::vector<Byte>> fresh_sat_entry(std::string_view name, std::int64_t modified) {
  constexpr Byte english = 1;
  std::vector<Byte> entry(entry_bytes);
  put_be32(entry, 0, tag_first);
  if (!put_name(std::span(entry).subspan(name_at, name_bytes), name)) return std::nullopt;
  entry[language_at] = english;
  put_be32(entry, date_at, static_cast<std::uint32_t>(std::max<std::int64_t>(0, modified - epoch) / 60));
  return entry;
}
void set_sat_size(std::span<Byte> entry, std::size_t payload_bytes) {
  put_be32(entry, size_at, static_cast<std::uint32_t>(payload_bytes));
}

}  // namespace

const SaveFormat& sat_save() {
  static const SaveFormat format{CardKind::sat,   entry_bytes,
                                 false,           plausible_sat,
                                 is_sat_save,     describe_sat,
                                 nullptr,         nullptr,
                                 false,           1,
                                 fresh_sat_entry, "at most 11 plain characters",
                                 set_sat_size};
  return format;
}

}  // namespace bayswap
