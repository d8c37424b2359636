#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"
#include "sheet/codec.hpp"

namespace bayswap::sheets {
namespace {

std::uint32_t unit_at(ByteView bytes, std::size_t at, const Scramble& how) {
  std::uint32_t unit = 0;
  for (std::size_t i = 0; i < how.unit_bytes; ++i)
    unit |= std::uint32_t{bytes[at + i]} << 8 * (how.big_endian ? how.unit_bytes - 1 - i : i);
  return unit;
}

void put_unit(std::span<Byte> bytes, std::size_t at, const Scramble& how, std::uint32_t unit) {
  for (std::size_t i = 0; i < how.unit_bytes; ++i)
    bytes[at + i] = static_cast<Byte>(unit >> 8 * (how.big_endian ? how.unit_bytes - 1 - i : i));
}

void with_units(const Scramble& how, std::span<Byte> bytes, SheetNumber key, bool is_reading) {
  const auto number = static_cast<std::uint64_t>(key);
  const std::uint64_t mask =
      how.state_bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << how.state_bits) - 1;
  std::uint64_t state = number & mask;
  const auto step = [&] { state = (state * how.multiply + how.add) & mask; };
  if (how.step_first) step();
  // Bytes at the end that make no whole unit stay as they are.
  for (std::size_t at = 0; at + how.unit_bytes <= bytes.size(); at += how.unit_bytes) {
    std::uint32_t unit = unit_at(bytes, at, how);
    switch (how.kind) {
      case Scramble::Kind::xor_stream:
        unit ^= static_cast<std::uint32_t>(state >> how.shift);
        step();
        break;
      case Scramble::Kind::add_key:
        unit = is_reading ? unit - static_cast<std::uint32_t>(number)
                          : unit + static_cast<std::uint32_t>(number);
        break;
      default:
        unit ^= static_cast<std::uint32_t>(number);
        break;
    }
    put_unit(bytes, at, how, unit);
  }
}

Result<void> with_blocks(const Scramble& how, std::span<Byte> bytes, SheetNumber key, bool is_reading) {
  const auto count = static_cast<SheetNumber>(how.orders.size());
  if (key < 0 || key >= count)
    return fail(ErrorCode::damaged, fmt::format("order {} of {} does not exist", key, count),
                "the save is damaged, or the sheet is wrong");
  const std::vector<std::size_t>& order = how.orders[static_cast<std::size_t>(key)];
  if (bytes.size() < order.size() * how.block_bytes)
    return fail(
        ErrorCode::damaged,
        fmt::format("{} blocks of {} bytes do not fit into {}", order.size(), how.block_bytes, bytes.size()),
        "the sheet is wrong");
  const std::vector<Byte> before(bytes.begin(), bytes.end());
  for (std::size_t i = 0; i < order.size(); ++i) {
    const std::size_t from = (is_reading ? order[i] : i) * how.block_bytes;
    const std::size_t to = (is_reading ? i : order[i]) * how.block_bytes;
    std::copy_n(before.begin() + static_cast<std::ptrdiff_t>(from), how.block_bytes,
                bytes.begin() + static_cast<std::ptrdiff_t>(to));
  }
  return {};
}

Result<void> one(const Scramble& how, std::span<Byte> bytes, SheetNumber key, bool is_reading) {
  switch (how.kind) {
    case Scramble::Kind::xor_key:
    case Scramble::Kind::xor_stream:
    case Scramble::Kind::add_key:
      with_units(how, bytes, key, is_reading);
      return {};
    case Scramble::Kind::substitute:
      for (Byte& b : bytes) b = (is_reading ? how.substitute : how.substitute_back).at(b);
      return {};
    case Scramble::Kind::permute:
    case Scramble::Kind::rotate:
      break;
  }
  return with_blocks(how, bytes, key, is_reading);
}

}  // namespace

Result<void> unscramble(const std::vector<Scramble>& scrambles, const std::vector<SheetNumber>& keys,
                        std::span<Byte> bytes) {
  for (std::size_t i = 0; i < scrambles.size(); ++i) BAYSWAP_CHECK(one(scrambles[i], bytes, keys[i], true));
  return {};
}

Result<void> scramble(const std::vector<Scramble>& scrambles, const std::vector<SheetNumber>& keys,
                      std::span<Byte> bytes) {
  for (std::size_t i = scrambles.size(); i-- > 0;) BAYSWAP_CHECK(one(scrambles[i], bytes, keys[i], false));
  return {};
}

}  // namespace bayswap::sheets
