#include "save/pak.hpp"

#include <algorithm>
#include <array>
#include <cstring>
#include <numeric>

#include "base/endian.hpp"

namespace bayswap {
namespace {

// Source of the facts: the console's documented controller pak structures; see docs/formats/n64.md.
constexpr std::size_t page_size = 256;
constexpr std::size_t block_size = 32;
constexpr std::size_t id_size = 32;
constexpr std::array<std::size_t, 4> id_blocks{1, 3, 4,
                                               6};  // 32-byte blocks of page 0 that hold the ID sector
constexpr std::size_t index_page = 1;
constexpr std::size_t index_backup_page = 2;
constexpr std::size_t note_page = 3;  // two pages
constexpr std::size_t first_data_page = 5;
constexpr std::size_t page_count = 128;
constexpr std::uint16_t free_page = 3;
constexpr std::uint16_t id_checksum_pair_sum = 0xfff2;

// The ID sector: decode and encode side by side.
struct PakId {
  std::uint32_t repaired = 0xffffffff;
  std::uint32_t random = 0;
  std::array<std::uint32_t, 4> serial{};
  std::uint16_t device = 1;
  Byte banks = 1;
  Byte version = 0;
};

std::uint16_t id_checksum(ByteView id) {
  std::uint16_t sum = 0;
  for (std::size_t at = 0; at < 0x1c; at += 2) sum = static_cast<std::uint16_t>(sum + be16(id, at));
  return sum;
}

bool is_sound_id(ByteView id) {
  // The two sums have to agree with each other; the bytes are added up only where they do.
  const std::uint16_t sum = be16(id, 0x1c);
  return be16(id, 0x1e) == static_cast<std::uint16_t>(id_checksum_pair_sum - sum) &&
         (be16(id, 0x18) & 1) != 0 && id[0x1a] != 0 && id_checksum(id) == sum;
}

void encode(const PakId& id, std::span<Byte> out) {
  put_be32(out, 0x00, id.repaired);
  put_be32(out, 0x04, id.random);
  for (std::size_t i = 0; i < id.serial.size(); ++i) put_be32(out, 0x08 + 4 * i, id.serial[i]);
  put_be16(out, 0x18, id.device);
  out[0x1a] = id.banks;
  out[0x1b] = id.version;
  const std::uint16_t sum = id_checksum(out);
  put_be16(out, 0x1c, sum);
  put_be16(out, 0x1e, static_cast<std::uint16_t>(id_checksum_pair_sum - sum));
}

// The sum of the bytes of all entries for data pages; it is in the low byte of the index table's entry 0.
Byte index_checksum(ByteView index) {
  const ByteView entries = index.subspan(2 * first_data_page);
  return static_cast<Byte>(std::accumulate(entries.begin(), entries.end(), 0U) & 0xff);
}

}  // namespace

int sound_pak_ids(ByteView pak) {
  if (pak.size() != pak_size_bytes) return 0;
  return static_cast<int>(std::ranges::count_if(
      id_blocks, [&](std::size_t block) { return is_sound_id(pak.subspan(block * block_size, id_size)); }));
}

bool has_pak_id(ByteView file) {
  constexpr std::uint16_t wanted = id_checksum_pair_sum;
  const Byte* const bytes = file.data();
  for (std::size_t at = 0; at + id_size <= file.size(); at += 16) {
    const Byte* const sums = bytes + at + 0x1c;
    const unsigned sum = ((static_cast<unsigned>(sums[0]) + sums[2]) << 8U) + sums[1] + sums[3];
    if (static_cast<std::uint16_t>(sum) == wanted && is_sound_id(file.subspan(at, id_size))) return true;
  }
  return false;
}

bool is_unused_pak(ByteView pak) {
  if (sound_pak_ids(pak) == 0) return false;
  for (const std::size_t table : {index_page, index_backup_page})
    for (std::size_t page = first_data_page; page < page_count; ++page)
      if (be16(pak, table * page_size + 2 * page) != free_page) return false;
  Byte note_fill = 0xff;
  if (!is_uniform(pak.subspan(note_page * page_size, 2 * page_size), &note_fill) || note_fill != 0)
    return false;
  Byte fill = 0x55;
  return is_uniform(pak.subspan(first_data_page * page_size), &fill) && (fill == 0x00 || fill == 0xff);
}

Blob fresh_pak(int number) {
  Buffer buffer(pak_size_bytes);
  const std::span<Byte> pak = buffer.bytes();
  std::ranges::fill(pak, Byte{0});

  // Block 0 as the console's repair leaves it: the bank probe's pattern.
  pak[0] = 0x81;
  for (std::size_t i = 1; i < block_size; ++i) pak[i] = static_cast<Byte>(i);

  PakId id;
  const auto n = static_cast<std::uint32_t>(number);
  id.random = 0x0b5a0000 + n;
  id.serial = {0x42415953, 0x57415000, 0, n};  // ours: a serial number no other pak carries
  for (const std::size_t block : id_blocks) encode(id, pak.subspan(block * block_size, id_size));

  for (const std::size_t table : {index_page, index_backup_page}) {
    const std::span<Byte> index = pak.subspan(table * page_size, page_size);
    for (std::size_t page = first_data_page; page < page_count; ++page) put_be16(index, 2 * page, free_page);
    index[1] = index_checksum(index);
  }
  return std::move(buffer).freeze();
}

}  // namespace bayswap
