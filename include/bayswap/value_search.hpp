// Finds where and how a save stores a number or a text that the player knows. Belongs to bayswap::core.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <optional>
#include <string>
#include <vector>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How a value changes from one version to the next.
enum class Trend { any, changed, same, more, less };

/// What is known of the value in each version.
struct ValueRequest {
  std::vector<std::string> values;  // one per version: numbers ("-3", "12.5") or texts; or none
  std::vector<std::pair<std::int64_t, std::int64_t>> between;  // one per version, or none
  std::vector<Trend> trends;                                   // one per step between two versions, or none
  std::size_t max_finds = 50;
};

/// A place that agrees with all versions. The value is (stored ^ xor_with) * times + plus, divided by `per`.
struct ValueFind {
  enum class Kind { number, bcd, digits, text };
  Kind kind{};
  std::size_t offset = 0;  // in bytes
  unsigned bit = 0;        // of bit fields: the lowest, counted from the lowest of the bytes that hold it
  unsigned bits = 0;
  bool big_endian = false;
  bool is_signed = false;
  std::int64_t times = 1;
  std::int64_t plus = 0;
  std::int64_t per = 1;
  std::uint64_t xor_with = 0;
  Byte zero = 0;                                     // of digits: the code of '0'
  unsigned unit_bytes = 1;                           // of texts: bytes per character
  std::vector<std::pair<char, std::uint32_t>> from;  // of texts: codes of 'A', 'a' and '0'; none: ASCII
  std::string encoding;                              // in words
  double confidence = 0;                             // 0 to 1
  double expected_false = 0;                         // number of equally plain finds expected by chance
};

/// Returns the places that agree with all versions, the likeliest first. `versions`: 1 to 64 of the same
/// size, in the order in which they were saved. Fails with `bad_usage` if they differ in size, are over 16
/// MiB, or the request does not fit them.
[[nodiscard]] Result<std::vector<ValueFind>> find_values(std::span<const Blob> versions,
                                                         const ValueRequest& request);

}  // namespace bayswap
BAYSWAP_EXPORT_END
