// psp parameter files. docs/formats/psp.md has the field table.
#include <bayswap/package.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

constexpr std::uint32_t parameter_magic = 0x46535000;  // 00 50 53 46
constexpr std::size_t header_bytes = 20;
constexpr std::size_t index_bytes = 16;
constexpr std::size_t max_entries = 4096;
constexpr std::uint16_t raw_kind = 0x0004;
constexpr std::uint16_t text_kind = 0x0204;
constexpr std::uint16_t number_kind = 0x0404;

struct IndexEntry {
  std::size_t key_at = 0;
  std::uint16_t kind = 0;
  std::size_t size = 0;
  std::size_t room = 0;
  std::size_t value_at = 0;

  static IndexEntry decode(ByteView bytes, std::size_t at) {
    return {le16(bytes, at), le16(bytes, at + 2), le32(bytes, at + 4), le32(bytes, at + 8),
            le32(bytes, at + 12)};
  }
  void encode(std::span<Byte> bytes, std::size_t at) const {
    put_le(bytes, at, 2, key_at);
    put_le(bytes, at + 2, 2, kind);
    put_le(bytes, at + 4, 4, size);
    put_le(bytes, at + 8, 4, room);
    put_le(bytes, at + 12, 4, value_at);
  }
};

std::size_t size_of(const ParameterFile::Value& value) {
  if (const auto* text = std::get_if<std::string>(&value)) return text->size() + 1;
  if (const auto* raw = std::get_if<Blob>(&value)) return raw->size();
  return 4;
}

std::uint16_t kind_of(const ParameterFile::Value& value) {
  return std::holds_alternative<std::string>(value) ? text_kind
         : std::holds_alternative<Blob>(value)      ? raw_kind
                                                    : number_kind;
}

constexpr std::size_t rounded(std::size_t size) {
  return (size + 3) / 4 * 4;
}

}  // namespace

bool ParameterFile::is_one(ByteView file) {
  return file.size() >= header_bytes && le32(file, 0) == parameter_magic;
}

Result<ParameterFile> ParameterFile::parse(ByteView file) {
  if (!is_one(file))
    return fail(ErrorCode::not_recognised, "no parameter file: it does not begin with 00 50 53 46");
  ParameterFile parsed;
  parsed.version_ = le32(file, 4);
  const std::size_t keys_at = le32(file, 8);
  const std::size_t values_at = le32(file, 12);
  const std::size_t count = le32(file, 16);
  if (count > max_entries || header_bytes + count * index_bytes > file.size() || keys_at > file.size() ||
      values_at > file.size())
    return fail(ErrorCode::damaged,
                fmt::format("a parameter file with {} entries in {} bytes: its tables lead out of it", count,
                            file.size()),
                "copy it again from where it came from");
  for (std::size_t i = 0; i < count; ++i) {
    const IndexEntry entry = IndexEntry::decode(file, header_bytes + i * index_bytes);
    const std::size_t key_at = keys_at + entry.key_at;
    const std::size_t at = values_at + entry.value_at;
    const auto broken = [&](std::string_view what) {
      return fail(ErrorCode::damaged, fmt::format("entry {} of the parameter file: {}", i, what),
                  "copy it again from where it came from");
    };
    if (key_at >= file.size()) return broken("its key leads out of the file");
    const ByteView keys = file.subspan(key_at);
    const auto end = std::ranges::find(keys, Byte{0});
    if (end == keys.end()) return broken("its key does not end");
    if (entry.room < entry.size || at > file.size() || file.size() - at < entry.size)
      return broken("its value leads out of the file");
    const ByteView value = file.subspan(at, entry.size);
    Entry made{std::string(keys.begin(), end), std::uint32_t{0}, entry.room};
    if (entry.kind == text_kind) {
      made.value = std::string(value.begin(), std::ranges::find(value, Byte{0}));
    } else if (entry.kind == raw_kind) {
      made.value = Blob::copy_of(value);
    } else if (entry.kind == number_kind && entry.size == 4) {
      made.value = le32(value, 0);
    } else {
      return broken(fmt::format("values of kind {:04X} with {} bytes are not known", entry.kind, entry.size));
    }
    parsed.entries_.push_back(std::move(made));
  }
  return parsed;
}

Blob ParameterFile::encode() const {
  std::vector<const Entry*> sorted;
  for (const Entry& entry : entries_) sorted.push_back(&entry);
  sort_by(sorted, [](const Entry* entry) { return entry->key; });
  std::size_t keys = 0;
  std::size_t values = 0;
  for (const Entry* entry : sorted) {
    keys += entry->key.size() + 1;
    values += rounded(entry->room_bytes);
  }
  const std::size_t keys_at = header_bytes + sorted.size() * index_bytes;
  const std::size_t values_at = keys_at + rounded(keys);
  std::vector<Byte> file(values_at + values);
  put_le(file, 0, 4, parameter_magic);
  put_le(file, 4, 4, version_);
  put_le(file, 8, 4, keys_at);
  put_le(file, 12, 4, values_at);
  put_le(file, 16, 4, sorted.size());
  IndexEntry place;
  for (std::size_t i = 0; i < sorted.size(); ++i) {
    const Entry& entry = *sorted[i];
    place.kind = kind_of(entry.value);
    place.size = size_of(entry.value);
    place.room = entry.room_bytes;
    place.encode(file, header_bytes + i * index_bytes);
    std::ranges::copy(entry.key, file.begin() + static_cast<std::ptrdiff_t>(keys_at + place.key_at));
    const auto at = file.begin() + static_cast<std::ptrdiff_t>(values_at + place.value_at);
    if (const auto* text = std::get_if<std::string>(&entry.value)) std::ranges::copy(*text, at);
    if (const auto* raw = std::get_if<Blob>(&entry.value)) std::ranges::copy(raw->view(), at);
    if (const auto* number = std::get_if<std::uint32_t>(&entry.value))
      put_le(file, values_at + place.value_at, 4, *number);
    place.key_at += entry.key.size() + 1;
    place.value_at += rounded(entry.room_bytes);
  }
  return Blob::copy_of(file);
}

std::optional<std::string> ParameterFile::text(std::string_view key) const {
  const auto found = std::ranges::find(entries_, key, &Entry::key);
  const auto* text = found == entries_.end() ? nullptr : std::get_if<std::string>(&found->value);
  return text != nullptr ? std::optional(*text) : std::nullopt;
}

std::optional<std::uint32_t> ParameterFile::number(std::string_view key) const {
  const auto found = std::ranges::find(entries_, key, &Entry::key);
  const auto* number = found == entries_.end() ? nullptr : std::get_if<std::uint32_t>(&found->value);
  return number != nullptr ? std::optional(*number) : std::nullopt;
}

Result<void> ParameterFile::set(const std::string& key, Value value, std::size_t room_bytes) {
  const auto* text = std::get_if<std::string>(&value);
  if (key.empty() || key.find('\0') != std::string::npos ||
      (text != nullptr && text->find('\0') != std::string::npos))
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is no key, or its text holds a 00", printable(key)));
  const auto found = std::ranges::find(entries_, key, &Entry::key);
  if (found == entries_.end()) {
    if (entries_.size() == max_entries)
      return fail(ErrorCode::does_not_fit, fmt::format("a parameter file has {} keys at most", max_entries));
    const std::size_t room = std::max(room_bytes, rounded(size_of(value)));
    entries_.push_back({key, std::move(value), room});
    return {};
  }
  if (found->value.index() != value.index())
    return fail(ErrorCode::bad_usage, fmt::format("{} has a value of another kind", key));
  if (size_of(value) > found->room_bytes)
    return fail(
        ErrorCode::does_not_fit,
        fmt::format("{} has room for {} bytes, and the value has {}", key, found->room_bytes, size_of(value)),
        "use a shorter value");
  found->value = std::move(value);
  return {};
}

}  // namespace bayswap
