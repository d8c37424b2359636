// Seals: the checksums that a game keeps in its save; computed, checked, and made right.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A cyclic redundancy check of 8, 16 or 32 bits.
struct CrcForm {
  unsigned bits = 32;
  std::uint32_t polynomial = 0;  // highest bit first, without the leading one
  std::uint32_t start = 0;       // of the register, as it stands for the highest bit first
  std::uint32_t end = 0;         // exclusive or at the end
  bool reflected = false;        // bytes go in, and the value comes out, lowest bit first
  [[nodiscard]] bool operator==(const CrcForm&) const = default;
};
/// The usual forms, by the names that sheets use: "crc16-8005", "crc16-1021-ffff", "crc32", ...
[[nodiscard]] const std::vector<std::pair<std::string_view, CrcForm>>& usual_crcs();

/// How a seal's value comes about.
struct SealForm {
  enum class Kind { sum, exclusive_or, crc, adler32, md5, sha1 };
  Kind kind = Kind::sum;
  unsigned bits = 16;       // of the value: 8, 16, 32, of sums up to 64; md5 has 128, sha1 160
  unsigned unit_bytes = 1;  // what is added up, or combined: 1, 2 or 4 bytes; a rest counts as if 00 followed
  bool unit_big_endian = false;
  std::uint64_t start = 0;    // of a sum or an exclusive or
  bool complemented = false;  // every bit of the value is turned over at the end
  bool negated = false;       // 0 minus the value; before `complemented`
  CrcForm crc;                // of Kind::crc; its bits count
  [[nodiscard]] bool operator==(const SealForm&) const = default;
};
/// Returns how many bytes the value takes.
[[nodiscard]] std::size_t size_of(const SealForm& form);
/// "sum of bytes, 16 bits", "CRC of 32 bits, polynomial 04C11DB7, ..."
[[nodiscard]] std::string to_text(const SealForm& form);

struct SealRange {
  std::size_t from = 0;
  std::size_t to = 0;  // the first byte behind it
  [[nodiscard]] bool operator==(const SealRange&) const = default;
};
/// Returns the bytes of the value over `bytes`. Digests have no order.
[[nodiscard]] std::vector<Byte> value_over(const SealForm& form, ByteView bytes, bool big_endian);
/// A seal in its place.
struct Seal {
  SealForm form;
  std::vector<SealRange> ranges;  // one behind the other, as if they were one
  std::size_t at = 0;             // where its value stands
  bool big_endian = false;        // digests have no order
  std::uint8_t own_bytes = 0;     // what its own bytes count as, where a range covers them
};
/// Returns the bytes that should stand at `seal.at`. Fails with `does_not_fit` if a range, or the place
/// itself, is not within the save.
[[nodiscard]] Result<std::vector<Byte>> value_of(const Seal& seal, ByteView save);
/// Returns whether the save has the right bytes there.
[[nodiscard]] Result<bool> holds(const Seal& seal, ByteView save);

/// Returns the seals in an order in which making one right leaves all before it right: inner ones first.
/// Fails with `bad_usage` if two cover each other.
[[nodiscard]] Result<std::vector<std::size_t>> sealing_order(const std::vector<Seal>& seals);
/// Makes every seal right, inner ones first. Returns which were wrong. Fails as value_of and sealing_order.
[[nodiscard]] Result<std::vector<std::size_t>> reseal(const std::vector<Seal>& seals, std::span<Byte> save);

}  // namespace bayswap
BAYSWAP_EXPORT_END
