#include <bayswap/save_checksum.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/checksum.hpp"
#include "base/try.hpp"
#include "sheet/crc_bits.hpp"

namespace bayswap {
namespace {

constexpr std::uint32_t adler_modulus = 65521;
constexpr unsigned md5_bits = 128;
constexpr unsigned sha1_bits = 160;

std::uint64_t checksum_mask(unsigned bits) {
  return bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
}

// All bytes that a checksum is about, its own place as it counts.
std::vector<Byte> covered_bytes(const Checksum& checksum, ByteView save) {
  const std::size_t own_end = checksum.at + size_of(checksum.form);
  std::vector<Byte> bytes;
  for (const ChecksumRange& range : checksum.ranges)
    for (std::size_t i = range.from; i < range.to; ++i)
      bytes.push_back(i >= checksum.at && i < own_end ? checksum.own_bytes : save[i]);
  return bytes;
}

std::uint64_t summed(const ChecksumForm& form, ByteView bytes) {
  std::uint64_t value = form.start;
  for (std::size_t at = 0; at < bytes.size(); at += form.unit_bytes) {
    std::uint64_t unit = 0;
    for (std::size_t i = 0; i < form.unit_bytes; ++i) {
      const std::uint64_t b = at + i < bytes.size() ? bytes[at + i] : 0;
      unit |= b << 8 * (form.unit_big_endian ? form.unit_bytes - 1 - i : i);
    }
    value = form.kind == ChecksumForm::Kind::sum ? value + unit : value ^ unit;
  }
  return value;
}

std::uint32_t crc_of(const CrcForm& form, ByteView bytes) {
  const auto mask = static_cast<std::uint32_t>(checksum_mask(form.bits));
  std::array<std::uint32_t, 256> table{};
  if (form.reflected) {
    const std::uint32_t polynomial = turned_round(form.polynomial, form.bits);
    for (std::uint32_t i = 0; i < table.size(); ++i) {
      std::uint32_t value = i;
      for (int bit = 0; bit < 8; ++bit) value = (value & 1U) != 0 ? value >> 1 ^ polynomial : value >> 1;
      table.at(i) = value;
    }
    std::uint32_t crc = turned_round(form.start, form.bits);
    for (const Byte b : bytes) crc = crc >> 8 ^ table.at((crc ^ b) & 0xffU);
    return (crc ^ form.end) & mask;
  }
  const unsigned top = form.bits - 8;
  for (std::uint32_t i = 0; i < table.size(); ++i) {
    std::uint32_t value = i << top;
    for (int bit = 0; bit < 8; ++bit)
      value = (value >> (form.bits - 1) & 1U) != 0 ? value << 1 ^ form.polynomial : value << 1;
    table.at(i) = value & mask;
  }
  std::uint32_t crc = form.start & mask;
  for (const Byte b : bytes) crc = (crc << 8 ^ table.at((crc >> top ^ b) & 0xffU)) & mask;
  return (crc ^ form.end) & mask;
}

std::uint32_t adler32_of(ByteView bytes) {
  std::uint32_t a = 1;
  std::uint32_t b = 0;
  for (const Byte one : bytes) {
    a = (a + one) % adler_modulus;
    b = (b + a) % adler_modulus;
  }
  return b << 16 | a;
}

// Whether a range of `outer` covers a byte of the place of `inner`.
bool covers(const Checksum& outer, const Checksum& inner) {
  const std::size_t end = inner.at + size_of(inner.form);
  return std::ranges::any_of(
      outer.ranges, [&](const ChecksumRange& range) { return range.from < end && inner.at < range.to; });
}

}  // namespace

const std::vector<std::pair<std::string_view, CrcForm>>& usual_crcs() {
  // Named by width and polynomial, then what else is special about them: the start, "r" for the lowest bit
  // first, "n" for a value whose bits are turned over.
  static const std::vector<std::pair<std::string_view, CrcForm>> forms{
      {"crc8-07", {8, 0x07, 0, 0, false}},
      {"crc16-1021", {16, 0x1021, 0, 0, false}},
      {"crc16-1021-ffff", {16, 0x1021, 0xffff, 0, false}},
      {"crc16-1021-r", {16, 0x1021, 0, 0, true}},
      {"crc16-1021-r-ffff", {16, 0x1021, 0xffff, 0, true}},
      {"crc16-1021-r-ffff-n", {16, 0x1021, 0xffff, 0xffff, true}},
      {"crc16-8005", {16, 0x8005, 0, 0, false}},
      {"crc16-8005-r", {16, 0x8005, 0, 0, true}},
      {"crc16-8005-r-ffff", {16, 0x8005, 0xffff, 0, true}},
      {"crc32", {32, 0x04c11db7, 0xffffffff, 0xffffffff, true}},
      {"crc32-r-ffff", {32, 0x04c11db7, 0xffffffff, 0, true}},
      {"crc32-high-ffff", {32, 0x04c11db7, 0xffffffff, 0, false}},
      {"crc32-high-ffff-n", {32, 0x04c11db7, 0xffffffff, 0xffffffff, false}}};
  return forms;
}

std::size_t size_of(const ChecksumForm& form) {
  switch (form.kind) {
    case ChecksumForm::Kind::md5:
      return md5_bits / 8;
    case ChecksumForm::Kind::sha1:
      return sha1_bits / 8;
    case ChecksumForm::Kind::adler32:
      return 4;
    case ChecksumForm::Kind::crc:
      return form.crc.bits / 8;
    case ChecksumForm::Kind::sum:
    case ChecksumForm::Kind::exclusive_or:
      break;
  }
  return form.bits / 8;
}

std::string to_text(const ChecksumForm& form) {
  const std::string turned =
      std::string(form.negated ? ", negated" : "") + (form.complemented ? ", every bit turned over" : "");
  switch (form.kind) {
    case ChecksumForm::Kind::md5:
      return "MD5";
    case ChecksumForm::Kind::sha1:
      return "SHA-1";
    case ChecksumForm::Kind::adler32:
      return "Adler-32" + turned;
    case ChecksumForm::Kind::crc: {
      const int digits = static_cast<int>(form.crc.bits / 4);
      return fmt::format(
          "CRC of {} bits, polynomial {:0{}X}, start {:0{}X}{}{}{}", form.crc.bits, form.crc.polynomial,
          digits, form.crc.start, digits, form.crc.reflected ? ", lowest bit first" : "",
          form.crc.end != 0 ? fmt::format(", exclusive or {:0{}X}", form.crc.end, digits) : "", turned);
    }
    case ChecksumForm::Kind::sum:
    case ChecksumForm::Kind::exclusive_or:
      break;
  }
  const std::string unit =
      form.unit_bytes == 1
          ? std::string("bytes")
          : fmt::format("{} words of {} bits", form.unit_big_endian ? "big-endian" : "little-endian",
                        8 * form.unit_bytes);
  return fmt::format("{} of {}, {} bits{}{}", form.kind == ChecksumForm::Kind::sum ? "sum" : "exclusive or",
                     unit, form.bits, form.start != 0 ? fmt::format(", from {:X} on", form.start) : "",
                     turned);
}

std::vector<Byte> value_over(const ChecksumForm& form, ByteView bytes, bool big_endian) {
  const std::size_t size = size_of(form);
  std::uint64_t value = 0;
  switch (form.kind) {
    case ChecksumForm::Kind::md5: {
      const auto digest = md5(bytes);
      return {digest.begin(), digest.end()};
    }
    case ChecksumForm::Kind::sha1: {
      const auto digest = sha1(bytes);
      return {digest.begin(), digest.end()};
    }
    case ChecksumForm::Kind::adler32:
      value = adler32_of(bytes);
      break;
    case ChecksumForm::Kind::crc:
      value = crc_of(form.crc, bytes);
      break;
    case ChecksumForm::Kind::sum:
    case ChecksumForm::Kind::exclusive_or:
      value = summed(form, bytes);
      break;
  }
  if (form.negated) value = 0 - value;
  if (form.complemented) value = ~value;
  std::vector<Byte> out(size);
  for (std::size_t i = 0; i < size; ++i)
    out[i] = static_cast<Byte>(value >> 8 * (big_endian ? size - 1 - i : i));
  return out;
}

Result<std::vector<Byte>> value_of(const Checksum& checksum, ByteView save) {
  const std::size_t size = size_of(checksum.form);
  const auto is_outside = [&](std::size_t from, std::size_t to) { return from > to || to > save.size(); };
  if (checksum.at > save.size() || is_outside(checksum.at, checksum.at + size))
    return fail(ErrorCode::does_not_fit,
                fmt::format("a checksum at {:X} is not within the save", checksum.at),
                "is it a save of this game?");
  for (const ChecksumRange& range : checksum.ranges)
    if (is_outside(range.from, range.to))
      return fail(
          ErrorCode::does_not_fit,
          fmt::format("a checksum is over {:X} to {:X}, which is not within the save", range.from, range.to),
          "is it a save of this game?");
  return value_over(checksum.form, covered_bytes(checksum, save), checksum.big_endian);
}

Result<bool> holds(const Checksum& checksum, ByteView save) {
  BAYSWAP_TRY(const std::vector<Byte> wanted, value_of(checksum, save));
  return std::equal(wanted.begin(), wanted.end(), save.begin() + static_cast<std::ptrdiff_t>(checksum.at));
}

Result<std::vector<std::size_t>> recompute_order(const std::vector<Checksum>& checksums) {
  std::vector<std::size_t> waits_for(checksums.size());  // how many inner ones are still to come
  for (std::size_t outer = 0; outer < checksums.size(); ++outer)
    for (std::size_t inner = 0; inner < checksums.size(); ++inner)
      if (outer != inner && covers(checksums[outer], checksums[inner])) ++waits_for[outer];
  std::vector<std::size_t> order;
  std::vector<bool> is_done(checksums.size());
  while (order.size() < checksums.size()) {
    std::size_t next = 0;
    while (next < checksums.size() && (is_done[next] || waits_for[next] > 0)) ++next;
    if (next == checksums.size())
      return fail(ErrorCode::bad_usage, "two checksums cover each other: neither can be made right",
                  "leave one out of the other's range");
    is_done[next] = true;
    order.push_back(next);
    for (std::size_t outer = 0; outer < checksums.size(); ++outer)
      if (outer != next && !is_done[outer] && covers(checksums[outer], checksums[next])) --waits_for[outer];
  }
  return order;
}

Result<std::vector<std::size_t>> recompute(const std::vector<Checksum>& checksums, std::span<Byte> save) {
  BAYSWAP_TRY(const auto order, recompute_order(checksums));
  for (const Checksum& checksum : checksums) BAYSWAP_CHECK(value_of(checksum, save));  // all of them, or none
  std::vector<std::size_t> wrong;
  for (const std::size_t i : order) {
    BAYSWAP_TRY(const std::vector<Byte> value, value_of(checksums[i], save));
    const auto place = save.begin() + static_cast<std::ptrdiff_t>(checksums[i].at);
    if (std::equal(value.begin(), value.end(), place)) continue;
    wrong.push_back(i);
    std::copy(value.begin(), value.end(), place);
  }
  return wrong;
}

}  // namespace bayswap
