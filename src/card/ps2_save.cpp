// One save off a ps2 card: a folder with its files, among them a description and a model
// (docs/formats/ps2.md).
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/clock.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "card/disc_name.hpp"
#include "card/kinds.hpp"
#include "card/ps2.hpp"

namespace bayswap {
namespace {

using namespace ps2;

// ---- The description, in the file icon.sys ----------------------------------------------------------------
constexpr std::string_view description_name = "icon.sys";
constexpr std::array<Byte, 4> description_mark{'P', 'S', '2', 'D'};
constexpr std::size_t second_line_at = 6;  // 16 bits: offset in the title where its second line begins
constexpr std::size_t title_at = 192;
constexpr std::size_t title_bytes = 68;
constexpr std::size_t model_name_at = 260;
constexpr std::size_t model_name_bytes = 64;
constexpr std::size_t description_bytes = 964;

const CardFile* file_called(const CardSave& save, std::string_view name) {
  const auto file = std::ranges::find(save.files, name, &CardFile::name);
  return file == save.files.end() ? nullptr : &*file;
}
ByteView description_of(const CardSave& save) {
  const CardFile* file = file_called(save, description_name);
  if (file == nullptr || file->bytes.size() < title_at + title_bytes ||
      !std::ranges::equal(file->bytes.view().first(description_mark.size()), description_mark))
    return {};
  return file->bytes.view();
}

std::optional<std::int64_t> time_of(ByteView field) {
  return seconds_of({le16(field, 6), field[5], field[4], field[3], field[2], field[1]});
}
void put_time(std::span<Byte> field, std::int64_t seconds) {
  const ClockTime time = clock_time(seconds);
  const std::array<int, 6> values{0, time.second, time.minute, time.hour, time.day, time.month};
  for (std::size_t i = 0; i < values.size(); ++i) field[i] = static_cast<Byte>(values.at(i));
  put_le(field, 6, 2, static_cast<std::uint64_t>(time.year));
}

CardEntry describe_ps2(const CardSave& save) {
  const ByteView bytes = save.entry.view();
  CardEntry entry;
  entry.name = to_utf8(bytes.subspan(name_at, name_bytes), TextEncoding::shift_jis);
  entry.code = code_of_disc_name(entry.name);
  entry.region = region_of_disc_name(entry.name);
  entry.modified = time_of(bytes.subspan(modified_at, 8));
  entry.size_bytes = save.size_bytes();
  if (const ByteView description = description_of(save); !description.empty()) {
    const ByteView title = description.subspan(title_at, title_bytes);
    const std::size_t second = std::min<std::size_t>(le16(description, second_line_at), title_bytes);
    entry.title = to_utf8(title.first(second), TextEncoding::shift_jis);
    const std::string more = to_utf8(title.subspan(second), TextEncoding::shift_jis);
    if (!more.empty()) entry.title += (entry.title.empty() ? "" : " ") + more;
  }
  return entry;
}

bool is_name(ByteView field) {
  const auto end = std::ranges::find(field, Byte{0});
  return end != field.begin() && std::all_of(field.begin(), end, [](Byte b) {
           return b >= 0x20 && b != 0x7f && b != '/' && b != '?' && b != '*';
         });
}

bool plausible_ps2(ByteView entry) {
  return is_plain_text(entry.subspan(name_at, name_bytes)) && is_name(entry.subspan(name_at, name_bytes));
}

bool is_ps2_save(const CardSave& save) {
  const ByteView entry = save.entry.view();
  const unsigned mode = le16(entry, mode_at);
  if (!is_name(entry.subspan(name_at, name_bytes))) return false;
  if ((mode & mode_folder) == 0)
    return (mode & mode_file) != 0 && save.files.empty() && le32(entry, length_at) == save.payload.size();
  return save.payload.empty() && std::ranges::all_of(save.files, [](const CardFile& file) {
           return file.entry.size() == entry_bytes &&
                  is_name(file.entry.view().subspan(name_at, name_bytes)) &&
                  (le16(file.entry.view(), mode_at) & mode_file) != 0 &&
                  le32(file.entry.view(), length_at) == file.bytes.size();
         });
}

// ---- The model: a shape in space with a texture of 128 by 128
// ------------------------------------------------

constexpr std::size_t texture_side = 128;
constexpr std::size_t texture_pixels = texture_side * texture_side;
constexpr std::uint32_t model_mark = 0x10000;
constexpr std::size_t shape_count_at = 4;
constexpr std::size_t texture_kind_at = 8;  // bit 2: there is one; bit 3: in runs
constexpr std::size_t vertex_count_at = 16;
constexpr std::size_t vertices_at = 20;

// Behind the vertices and the frames of the animation. 0 where the file ends before.
std::size_t texture_at(ByteView model) {
  const std::uint64_t shapes = le32(model, shape_count_at);
  const std::uint64_t vertices = le32(model, vertex_count_at);
  if (shapes > 64 || vertices > model.size()) return 0;
  std::uint64_t at = vertices_at + vertices * (8 * shapes + 16);
  constexpr std::size_t animation_bytes = 20;
  if (at + animation_bytes > model.size()) return 0;
  const std::uint32_t frames = le32(model, at + 16);
  at += animation_bytes;
  for (std::uint32_t i = 0; i < frames; ++i) {
    if (at + 8 > model.size()) return 0;
    const std::uint64_t keys = le32(model, at + 4);
    at += 8 + 8 * keys;  // each key is a time and a weight
  }
  return at < model.size() ? at : 0;
}

std::vector<std::uint16_t> texture_of(ByteView model) {
  std::vector<std::uint16_t> texels;
  if (model.size() < vertices_at || le32(model, 0) != model_mark || (le32(model, texture_kind_at) & 4U) == 0)
    return texels;
  const bool runs = (le32(model, texture_kind_at) & 8U) != 0;
  texels.reserve(texture_pixels);
  if (!runs) {  // the last thing in the file
    if (model.size() < vertices_at + 2 * texture_pixels) return texels;
    const std::size_t at = model.size() - 2 * texture_pixels;
    for (std::size_t i = 0; i < texture_pixels; ++i) texels.push_back(le16(model, at + 2 * i));
    return texels;
  }
  std::size_t at = texture_at(model);
  if (at == 0) return texels;
  at += 4;  // how many bytes the runs have
  while (at + 2 <= model.size() && texels.size() < texture_pixels) {
    const std::size_t code = le16(model, at);
    at += 2;
    constexpr std::size_t literal = 0xff00;
    const std::size_t count = code < literal ? code : 0x10000 - code;
    for (std::size_t i = 0; i < count && texels.size() < texture_pixels && at + 2 <= model.size(); ++i) {
      texels.push_back(le16(model, at));
      if (code >= literal) at += 2;
    }
    if (code < literal) at += 2;
  }
  if (texels.size() != texture_pixels) texels.clear();
  return texels;
}

SaveIcon icon_ps2(const CardSave& save) {
  SaveIcon icon;
  const ByteView description = description_of(save);
  if (description.size() < description_bytes) return icon;
  const CardFile* model = file_called(
      save, to_utf8(description.subspan(model_name_at, model_name_bytes), TextEncoding::shift_jis));
  if (model == nullptr) return icon;
  icon.model = true;
  const auto texels = texture_of(model->bytes.view());
  if (texels.empty()) return icon;
  Picture picture{texture_side, texture_side, {}};
  for (const std::uint16_t texel : texels) {
    const auto wide = [&](unsigned shift) {
      const std::uint32_t five = (texel >> shift) & 31U;
      return (five << 3U) | (five >> 2U);
    };
    picture.pixels.push_back(wide(0) << 24U | wide(5) << 16U | wide(10) << 8U | 0xffU);
  }
  icon.frames.push_back(std::move(picture));
  return icon;
}

std::optional<CardSave> restamped_ps2(const CardSave& save, Region region, std::string_view code) {
  const std::string_view letters = disc_letters(region);
  const std::string before = describe_ps2(save).name;
  if (letters.empty() || region_of_disc_name(before) == Region::unknown) return std::nullopt;
  CardSave stamped = save;
  const std::string head = std::string(letters) + disc_code(code);
  const auto stamp = [&](Blob& entry) {
    std::vector<Byte> bytes(entry.view().begin(), entry.view().end());
    std::ranges::copy(head, bytes.begin() + name_at);
    entry = Blob::copy_of(bytes);
  };
  stamp(stamped.entry);
  // Most games call their main file as the folder is called.
  for (CardFile& file : stamped.files)
    if (file.name == before && file.entry.size() == entry_bytes) {
      stamp(file.entry);
      file.name = head + file.name.substr(head.size());
    }
  return stamped;
}

}  // namespace

// ---- One save in a file: the folder's entry, those of itself and of the folder above, then each file's
// entry with its bytes, filled up to a whole cluster. Places on the card are 0.

namespace {

constexpr std::size_t own_entries = 2;  // "." and ".."
constexpr std::size_t max_files = 1000;

std::size_t whole_clusters(std::size_t bytes) {
  return (bytes + cluster_bytes - 1) / cluster_bytes * cluster_bytes;
}

void put_entry(std::span<Byte> out, const Blob& entry, std::size_t length) {
  std::ranges::copy(entry.view(), out.begin());
  put_le(out, length_at, 4, length);
  put_le(out, cluster_at, 4, 0);
  put_le(out, parent_entry_at, 4, 0);
}

std::optional<Blob> ps2_file(const CardSave& save) {
  if (save.entry.size() != entry_bytes || (le16(save.entry.view(), mode_at) & mode_folder) == 0 ||
      save.files.size() > max_files || !is_ps2_save(save))
    return std::nullopt;
  std::size_t size = (1 + own_entries) * entry_bytes;
  for (const CardFile& file : save.files) size += entry_bytes + whole_clusters(file.bytes.size());
  Buffer out(size);
  std::ranges::fill(out.bytes(), Byte{0});
  put_entry(out.bytes(), save.entry, save.files.size() + own_entries);
  for (std::size_t i = 1; i <= own_entries; ++i) {
    const std::span<Byte> own = out.bytes().subspan(i * entry_bytes, entry_bytes);
    put_le(own, mode_at, 2, usual_folder_mode);
    std::ranges::copy(save.entry.view().subspan(created_at, 8), own.subspan(created_at).begin());
    std::ranges::copy(save.entry.view().subspan(modified_at, 8), own.subspan(modified_at).begin());
    std::fill_n(own.subspan(name_at).begin(), i, Byte{'.'});
  }
  std::size_t at = (1 + own_entries) * entry_bytes;
  for (const CardFile& file : save.files) {
    put_entry(out.bytes().subspan(at, entry_bytes), file.entry, file.bytes.size());
    std::ranges::copy(file.bytes.view(), out.bytes().subspan(at + entry_bytes).begin());
    at += entry_bytes + whole_clusters(file.bytes.size());
  }
  return std::move(out).freeze();
}

std::optional<CardSave> ps2_from_file(const Blob& file) {
  const ByteView bytes = file.view();
  std::size_t at = (1 + own_entries) * entry_bytes;
  if (bytes.size() < at ||
      (le16(bytes, mode_at) & (mode_folder | mode_exists)) != (mode_folder | mode_exists))
    return std::nullopt;
  const std::size_t count = le32(bytes, length_at);
  if (count < own_entries || count > max_files + own_entries) return std::nullopt;
  for (std::size_t i = 1; i <= own_entries; ++i) {
    const ByteView own = bytes.subspan(i * entry_bytes, entry_bytes);
    const ByteView name = own.subspan(name_at, name_bytes);
    if ((le16(own, mode_at) & mode_folder) == 0 || name[0] != '.' || name[i - 1] != '.' || name[i] != 0)
      return std::nullopt;
  }
  std::vector<CardFile> files;
  std::set<std::string> names;
  for (std::size_t n = own_entries; n < count; ++n) {
    if (bytes.size() - at < entry_bytes) return std::nullopt;
    const Blob entry = file.slice(at, entry_bytes);
    at += entry_bytes;
    const std::size_t length = le32(entry.view(), length_at);
    if (length > bytes.size() - at) return std::nullopt;
    std::string name = to_utf8(entry.view().subspan(name_at, name_bytes), TextEncoding::shift_jis);
    if (!is_safe_name(name) || !names.insert(name).second) return std::nullopt;
    files.push_back({std::move(name), entry, file.slice(at, length)});
    // The last one may end where its bytes do.
    at += std::min(whole_clusters(length), bytes.size() - at);
  }
  if (at != bytes.size()) return std::nullopt;
  CardSave save = named_save(CardKind::ps2, file.slice(0, entry_bytes), Blob(), std::move(files));
  return is_ps2_save(save) ? std::optional(std::move(save)) : std::nullopt;
}

}  // namespace

const SaveFormat& ps2_save() {
  static const SaveFormat format = [] {
    SaveFormat made{CardKind::ps2, entry_bytes, false,         plausible_ps2, is_ps2_save,
                    describe_ps2,  icon_ps2,    restamped_ps2, true};
    made.to_file = ps2_file;
    made.from_file = ps2_from_file;
    return made;
  }();
  return format;
}

std::optional<std::int64_t> modified_of(const CardFile& file) {
  if (file.entry.size() != entry_bytes) return std::nullopt;
  const auto time = time_of(file.entry.view().subspan(modified_at, 8));
  return time ? std::optional(*time - zone_seconds) : std::nullopt;
}

Result<CardSave> folder_save(const std::string& name, const std::vector<FolderFile>& files) {
  const auto entry_of = [](const std::string& called, unsigned mode, std::size_t length,
                           std::int64_t modified) -> Result<Blob> {
    if (called.empty() || called.size() >= name_bytes || called == "." || called == ".." ||
        called.find_first_of("/?*") != std::string::npos)
      return fail(ErrorCode::bad_usage, fmt::format("'{}' can be no name on a ps2 card", printable(called)),
                  "at most 31 bytes, without / ? *");
    std::vector<Byte> entry(entry_bytes);
    put_le(entry, mode_at, 2, mode);
    put_le(entry, length_at, 4, length);
    put_time(std::span(entry).subspan(created_at, 8), modified + zone_seconds);
    put_time(std::span(entry).subspan(modified_at, 8), modified + zone_seconds);
    std::ranges::copy(called, entry.begin() + name_at);
    return Blob::copy_of(entry);
  };
  std::vector<CardFile> inside;
  std::int64_t newest = 0;
  for (const FolderFile& file : files) {
    BAYSWAP_TRY(const Blob entry, entry_of(file.name, usual_file_mode, file.bytes.size(), file.modified));
    inside.push_back({file.name, entry, file.bytes});
    newest = std::max(newest, file.modified);
  }
  BAYSWAP_TRY(const Blob entry, entry_of(name, usual_folder_mode, files.size() + 2, newest));
  return named_save(CardKind::ps2, entry, Blob{}, std::move(inside));
}

}  // namespace bayswap
