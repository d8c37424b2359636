// The console-wide database of avatars that wii saves lean on. docs/formats/wii.md has the fields.
#include <bayswap/package.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/checksum.hpp"
#include "base/endian.hpp"

namespace bayswap {
namespace {

constexpr std::size_t database_bytes = 779968;
constexpr std::uint32_t avatar_magic = 0x524E4F44;
constexpr std::size_t first_avatar = 4;
constexpr std::size_t avatar_bytes = 74;
constexpr std::size_t max_avatars = 100;
constexpr std::size_t checksum_at = 0x1F1DE;

}  // namespace

bool is_avatar_database(ByteView file) {
  return file.size() >= checksum_at + 2 && file.size() <= database_bytes && be32(file, 0) == avatar_magic;
}

std::optional<std::string> avatar_database_problem(ByteView file) {
  if (!is_avatar_database(file)) return "it is no avatar database";
  if (file.size() != database_bytes)
    return fmt::format("it has {} bytes and not {}", file.size(), database_bytes);
  const std::uint16_t is = be16(file, checksum_at);
  const std::uint16_t should = crc16_ccitt(file.first(checksum_at));
  if (is == should) return std::nullopt;
  return fmt::format("its checksum at {:X} is {:04X} and should be {:04X}", checksum_at, is, should);
}

std::size_t avatars_in(ByteView file) {
  if (!is_avatar_database(file)) return 0;
  std::size_t count = 0;
  for (std::size_t i = 0; i < max_avatars; ++i) {
    const ByteView avatar = file.subspan(first_avatar + i * avatar_bytes, avatar_bytes);
    count += std::ranges::any_of(avatar, [](Byte b) { return b != 0; }) ? 1 : 0;
  }
  return count;
}

}  // namespace bayswap
