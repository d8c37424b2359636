// Checksums: the checksums and digests in a game's save; computed, checked and corrected. Belongs to
// bayswap::core.
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
  std::uint32_t start = 0;       // initial register, for the highest bit first
  std::uint32_t end = 0;         // exclusive or at the end
  bool reflected = false;        // input bytes and the value are lowest bit first
  [[nodiscard]] bool operator==(const CrcForm&) const = default;
};
/// Returns the usual forms by their names in sheets: "crc16-8005", "crc16-1021-ffff", "crc32", ...
[[nodiscard]] const std::vector<std::pair<std::string_view, CrcForm>>& usual_crcs();

/// How a checksum's value is computed.
struct ChecksumForm {
  enum class Kind { sum, exclusive_or, crc, adler32, md5, sha1 };
  Kind kind = Kind::sum;
  unsigned bits = 16;       // of the value: 8, 16, 32, of sums up to 64; md5 has 128, sha1 160
  unsigned unit_bytes = 1;  // size of the units that are combined: 1, 2 or 4; the last is padded with 00
  bool unit_big_endian = false;
  std::uint64_t start = 0;    // of a sum or an exclusive or
  bool complemented = false;  // every bit of the value is inverted at the end
  bool negated = false;       // 0 minus the value; before `complemented`
  CrcForm crc;                // of Kind::crc; `bits` is ignored then
  [[nodiscard]] bool operator==(const ChecksumForm&) const = default;
};
/// Returns the size of the value in bytes.
[[nodiscard]] std::size_t size_of(const ChecksumForm& form);
/// Returns e.g. "sum of bytes, 16 bits" or "CRC of 32 bits, polynomial 04C11DB7, ...".
[[nodiscard]] std::string to_text(const ChecksumForm& form);

struct ChecksumRange {
  std::size_t from = 0;
  std::size_t to = 0;  // the first byte after it
  [[nodiscard]] bool operator==(const ChecksumRange&) const = default;
};
/// Returns the value over `bytes` as bytes. `big_endian` is ignored for digests.
[[nodiscard]] std::vector<Byte> value_over(const ChecksumForm& form, ByteView bytes, bool big_endian);
/// A checksum of a save: its form, what it covers, and where its value is.
struct Checksum {
  ChecksumForm form;
  std::vector<ChecksumRange> ranges;  // concatenated in this order
  std::size_t at = 0;                 // offset of its value
  bool big_endian = false;            // digests have no order
  std::uint8_t own_bytes = 0;         // replaces the checksum's own bytes if a range covers them
};
/// Returns the bytes that should be at `checksum.at`. Fails with `does_not_fit` if a range, or the value
/// itself, is not within the save.
[[nodiscard]] Result<std::vector<Byte>> value_of(const Checksum& checksum, ByteView save);
/// Returns whether the save has the right bytes at `checksum.at`.
[[nodiscard]] Result<bool> holds(const Checksum& checksum, ByteView save);

/// Returns the indices of the checksums in an order in which correcting one does not affect those before it:
/// inner ones first. Fails with `bad_usage` if two cover each other.
[[nodiscard]] Result<std::vector<std::size_t>> recompute_order(const std::vector<Checksum>& checksums);
/// Corrects every checksum, inner ones first. Returns the indices of those that were wrong. Fails as value_of
/// and recompute_order.
[[nodiscard]] Result<std::vector<std::size_t>> recompute(const std::vector<Checksum>& checksums,
                                                         std::span<Byte> save);

}  // namespace bayswap
BAYSWAP_EXPORT_END
