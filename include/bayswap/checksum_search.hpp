// Finds the checksums of a save from several versions of it. Belongs to bayswap::core.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save_checksum.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A checksum that all versions agree with.
struct ChecksumFind {
  Checksum checksum;            // one range
  double confidence = 0;        // 0 to 1
  double expected_false = 0;    // number of equally natural finds expected by chance in the whole search
  bool has_free_start = false;  // its start value is unusual and was chosen to fit
  bool pairs_with = false;      // it is the complement or the negative of another checksum's value
  bool in_copy = false;         // it is another checksum, in a copy of what that is in
};
/// Two places with equal bytes in every version, some of which change.
struct CopyFind {
  std::size_t first = 0;
  std::size_t second = 0;
  std::size_t size_bytes = 0;
  std::size_t changed_bytes = 0;  // within one of them
};
/// A number that increases by the same step from version to version.
struct CounterFind {
  std::size_t at = 0;
  unsigned bits = 0;
  bool big_endian = false;
  std::int64_t step = 0;
  double confidence = 0;
};

struct ChecksumSearchOptions {
  std::size_t max_work = std::size_t{6} << 30;  // look-ups; about ten seconds
};
struct ChecksumSearch {
  std::vector<ChecksumFind> checksums;  // confidence 0.99 and more, by offset
  std::vector<ChecksumFind> doubtful;   // others that may be checksums, the likeliest first; at most 20
  std::vector<CopyFind> copies;
  std::vector<CounterFind> counters;
  std::size_t changed_bytes = 0;
  double tried = 0;                   // places and ranges
  std::vector<std::string> left_out;  // searches that were too much work, a sentence each
};
/// Searches every offset and range for sums, exclusive ors, CRCs and Adler sums; multiples of 16 and the
/// edges of changes also for digests. Distinguishing 16-bit sums from chance takes three versions or more,
/// 32-bit ones two. Of copies the first is searched; what holds whatever the bytes are, as over a value and
/// its complement, is no find. `versions`: 2 to 16, in the order in which they were saved. Fails with
/// `bad_usage` if they differ in size, are over 16 MiB, or are all equal.
[[nodiscard]] Result<ChecksumSearch> find_checksums(std::span<const Blob> versions,
                                                    const ChecksumSearchOptions& options = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
