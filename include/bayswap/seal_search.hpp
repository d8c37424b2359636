// Finding the checksums of a save from versions of it alone.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/seal.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A seal that all versions agree with.
struct SealFind {
  Seal seal;                    // one range
  double confidence = 0;        // 0 to 1
  double expected_false = 0;    // how many as natural ones chance would give, over all that was tried
  bool has_free_start = false;  // its start is no usual one, and was chosen to fit
  bool pairs_with = false;      // it is the complement or the negative of another seal, its range
};
/// Two places that always hold the same bytes, of which some change.
struct CopyFind {
  std::size_t first = 0;
  std::size_t second = 0;
  std::size_t size_bytes = 0;
  std::size_t changed_bytes = 0;  // within one of them
};
/// A number that goes up by the same step from version to version.
struct CounterFind {
  std::size_t at = 0;
  unsigned bits = 0;
  bool big_endian = false;
  std::int64_t step = 0;
  double confidence = 0;
};

struct SealSearchOptions {
  std::size_t max_work = std::size_t{6} << 30;  // look-ups; about ten seconds
};
struct SealSearch {
  std::vector<SealFind> seals;     // confidence 0.99 and more, by place
  std::vector<SealFind> doubtful;  // the others worth a look, the likeliest first; at most 20
  std::vector<CopyFind> copies;
  std::vector<CounterFind> counters;
  std::size_t changed_bytes = 0;
  double tried = 0;                   // places and ranges
  std::vector<std::string> left_out;  // what was too much work, a sentence each
};
/// Searches every place and range for sums, exclusive ors, CRCs and Adler sums, and those at multiples of 16
/// and at the edges of changes for digests. Three versions or more tell 16-bit sums from chance; two do for
/// 32 bits. `versions`: 2 to 16, in the order in which they were saved. Fails with `bad_usage` if they differ
/// in size, are over 16 MiB, or do not differ at all.
[[nodiscard]] Result<SealSearch> find_seals(std::span<const Blob> versions,
                                            const SealSearchOptions& options = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
