// Zip archives, changed in place: local header, data, central directory, end record. Source: the open
// description of the format (APPNOTE 6.3). Not: several disks, encryption, archives of over 4 GiB.
#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <new>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "envelope/containers.hpp"
#include "envelope/raw_deflate.hpp"

namespace bayswap {
namespace {

constexpr std::uint32_t local_magic = 0x04034b50;
constexpr std::uint32_t central_magic = 0x02014b50;
constexpr std::uint32_t end_magic = 0x06054b50;
constexpr std::uint32_t descriptor_magic = 0x08074b50;
constexpr std::size_t local_bytes = 30;
constexpr std::size_t central_bytes = 46;
constexpr std::size_t end_bytes = 22;
constexpr std::size_t max_comment = 65535;
constexpr std::size_t zip_max_items = 4096;
constexpr unsigned flag_encrypted = 1;
constexpr unsigned flag_descriptor = 8;
constexpr unsigned stored = 0;
constexpr unsigned deflated = 8;

// The end record, and where the directory begins.
struct End {
  std::size_t at = 0;
  std::size_t entries = 0;
  std::size_t directory_at = 0;
};
std::optional<End> find_end(ByteView bytes) {
  if (bytes.size() < end_bytes) return std::nullopt;
  const std::size_t last = bytes.size() - end_bytes;
  for (std::size_t back = 0; back <= std::min(last, max_comment); ++back) {
    const std::size_t at = last - back;
    if (le32(bytes, at) != end_magic || le16(bytes, at + 20) != back) continue;
    if (le16(bytes, at + 4) != 0 || le16(bytes, at + 8) != le16(bytes, at + 10)) return std::nullopt;
    const End end{at, le16(bytes, at + 10), le32(bytes, at + 16)};
    if (end.directory_at > at || end.entries > zip_max_items) return std::nullopt;
    return end;
  }
  return std::nullopt;
}

struct Entry {
  std::size_t central_at = 0;
  std::size_t local_at = 0;
  std::size_t data_at = 0;
  std::size_t packed = 0;
  std::size_t plain = 0;
  unsigned method = 0;
  unsigned flags = 0;
  std::string name;
};
// Those that can be read; empty where the directory does not hold.
std::vector<Entry> entries_of(ByteView bytes) {
  std::vector<Entry> list;
  if (bytes.size() < local_bytes || le32(bytes, 0) != local_magic) return list;
  const auto end = find_end(bytes);
  if (!end) return list;
  std::size_t at = end->directory_at;
  for (std::size_t i = 0; i < end->entries; ++i) {
    if (end->at - at < central_bytes || le32(bytes, at) != central_magic) return {};
    const std::size_t name = le16(bytes, at + 28);
    const std::size_t rest = name + le16(bytes, at + 30) + std::size_t{le16(bytes, at + 32)};
    if (end->at - at - central_bytes < rest) return {};
    Entry entry;
    entry.central_at = at;
    entry.flags = le16(bytes, at + 8);
    entry.method = le16(bytes, at + 10);
    entry.packed = le32(bytes, at + 20);
    entry.plain = le32(bytes, at + 24);
    entry.local_at = le32(bytes, at + 42);
    entry.name = printable({reinterpret_cast<const char*>(bytes.data()) + at + central_bytes, name});
    at += central_bytes + rest;
    if (entry.local_at > end->directory_at || end->directory_at - entry.local_at < local_bytes ||
        le32(bytes, entry.local_at) != local_magic)
      continue;
    entry.data_at = entry.local_at + local_bytes + le16(bytes, entry.local_at + 26) +
                    std::size_t{le16(bytes, entry.local_at + 28)};
    if (entry.data_at > end->directory_at || end->directory_at - entry.data_at < entry.packed) continue;
    if ((entry.flags & flag_encrypted) != 0 || (entry.method != stored && entry.method != deflated)) continue;
    list.push_back(std::move(entry));
  }
  return list;
}

std::vector<ContainerItem> items_zip(const Blob& file) {
  std::vector<ContainerItem> found;
  for (const Entry& entry : entries_of(file.view())) {
    ContainerItem item;
    item.step.kind = EnvelopeStep::Kind::zip_entry;
    item.step.name = entry.name;
    item.step.index =
        static_cast<std::size_t>(std::count_if(found.begin(), found.end(), [&](const ContainerItem& other) {
          return other.step.name == entry.name;
        }));
    item.at = entry.data_at;
    item.bytes = entry.packed;
    found.push_back(std::move(item));
  }
  return found;
}

Result<Blob> read_zip(const Blob& file, const ContainerItem& item, std::size_t max_bytes) {
  for (const Entry& entry : entries_of(file.view()))
    if (entry.data_at == item.at) {
      const Blob packed = file.slice(entry.data_at, entry.packed);
      if (entry.method == stored) return packed;
      return inflate_raw(packed.view(), max_bytes);
    }
  return fail(ErrorCode::damaged, fmt::format("the archive has no entry {}", printable(item.step.name)));
}

Result<Blob> replace_zip(const Blob& file, const ContainerItem& item, const Blob& inside) {
  if (inside.size() >= 0xffffffff)
    return fail(ErrorCode::does_not_fit, "no entry of such an archive can be that large", "take fewer bytes");
  const std::vector<Entry> entries = entries_of(file.view());
  const auto found =
      std::find_if(entries.begin(), entries.end(), [&](const Entry& one) { return one.data_at == item.at; });
  if (found == entries.end())
    return fail(ErrorCode::damaged, fmt::format("the archive has no entry {}", printable(item.step.name)));
  const Blob old = file.slice(found->data_at, found->packed);
  const Blob packed = found->method == stored ? inside : deflate_raw(inside.view(), old.view());
  const std::uint32_t crc = crc32(inside.view());
  std::vector<Byte> out;
  const Blob changed = spliced(file.view(), found->data_at, found->packed, packed.view());
  out.assign(changed.view().begin(), changed.view().end());
  const std::span<Byte> bytes(out);
  const auto put = [&](std::size_t at) {
    put_le(bytes, at, 4, crc);
    put_le(bytes, at + 4, 4, packed.size());
    put_le(bytes, at + 8, 4, inside.size());
  };
  // Behind the data, in the local header, or both.
  if ((found->flags & flag_descriptor) != 0) {
    std::size_t at = found->data_at + packed.size();
    if (at + 16 <= bytes.size() && le32(bytes, at) == descriptor_magic) at += 4;
    if (at + 12 <= bytes.size()) put(at);
  }
  // With a descriptor after the data, the local header says what its writer knew beforehand.
  constexpr std::size_t local_crc_at = 14;
  const std::array<std::uint64_t, 3> values{crc, packed.size(), inside.size()};
  for (std::size_t i = 0; i < values.size(); ++i)
    if (const std::size_t at = found->local_at + local_crc_at + 4 * i;
        (found->flags & flag_descriptor) == 0 || le32(bytes, at) != 0)
      put_le(bytes, at, 4, values.at(i));
  const auto moved = [&](std::size_t at) {
    return at > found->data_at ? at + packed.size() - found->packed : at;
  };
  for (const Entry& entry : entries) put_le(bytes, moved(entry.central_at) + 42, 4, moved(entry.local_at));
  put(moved(found->central_at) + 16);
  if (const auto end = find_end(file.view())) put_le(bytes, moved(end->at) + 16, 4, moved(end->directory_at));
  return Blob::copy_of(out);
}

}  // namespace

const Container zip_container{EnvelopeStep::Kind::zip_entry, items_zip, read_zip, replace_zip};

}  // namespace bayswap
