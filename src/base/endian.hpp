// Integers as media hold them. Callers have checked that the bytes are there.
#pragma once

#include <bayswap/base.hpp>
#include <cassert>

namespace bayswap {

[[nodiscard]] constexpr std::uint16_t be16(ByteView bytes, std::size_t at) {
  assert(at + 2 <= bytes.size());
  return static_cast<std::uint16_t>((bytes[at] << 8) | bytes[at + 1]);
}

[[nodiscard]] constexpr std::uint32_t be32(ByteView bytes, std::size_t at) {
  return (static_cast<std::uint32_t>(be16(bytes, at)) << 16) | be16(bytes, at + 2);
}

[[nodiscard]] constexpr std::uint16_t le16(ByteView bytes, std::size_t at) {
  assert(at + 2 <= bytes.size());
  return static_cast<std::uint16_t>((bytes[at + 1] << 8) | bytes[at]);
}

[[nodiscard]] constexpr std::uint32_t le32(ByteView bytes, std::size_t at) {
  return (static_cast<std::uint32_t>(le16(bytes, at + 2)) << 16) | le16(bytes, at);
}

[[nodiscard]] constexpr std::uint64_t be64(ByteView bytes, std::size_t at) {
  return (static_cast<std::uint64_t>(be32(bytes, at)) << 32) | be32(bytes, at + 4);
}

[[nodiscard]] constexpr std::uint64_t le64(ByteView bytes, std::size_t at) {
  return (static_cast<std::uint64_t>(le32(bytes, at + 4)) << 32) | le32(bytes, at);
}

/// `count` bytes, the least significant first.
constexpr void put_le(std::span<Byte> bytes, std::size_t at, std::size_t count, std::uint64_t value) {
  assert(at + count <= bytes.size());
  for (std::size_t i = 0; i < count; ++i) bytes[at + i] = static_cast<Byte>(i < 8 ? value >> (8 * i) : 0);
}

constexpr void put_be16(std::span<Byte> bytes, std::size_t at, std::uint16_t value) {
  assert(at + 2 <= bytes.size());
  bytes[at] = static_cast<Byte>(value >> 8);
  bytes[at + 1] = static_cast<Byte>(value & 0xff);
}

constexpr void put_be32(std::span<Byte> bytes, std::size_t at, std::uint32_t value) {
  put_be16(bytes, at, static_cast<std::uint16_t>(value >> 16));
  put_be16(bytes, at + 2, static_cast<std::uint16_t>(value & 0xffff));
}

}  // namespace bayswap
