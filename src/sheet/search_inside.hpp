// What the searches for checksums share.
//
// A byte that never changes tells nothing of a range: between two changed bytes all ends are alike, a
// *class*. Class k is the ends that have the first k changed bytes before them; differences between versions
// are looked up by classes, and only then is the exact end chosen within its gap.
#pragma once

#include <bayswap/checksum_search.hpp>

#include <cmath>
#include <map>

namespace bayswap::checksums {

/// The versions, and where they differ.
struct Versions {
  std::vector<ByteView> bytes;  // at least two, of one size
  std::size_t size = 0;
  std::vector<std::uint32_t> changed;     // places that are not the same in all, in order
  std::vector<std::uint16_t> changed_in;  // of each: a bit for each version that differs from the first
  std::vector<bool> is_changed;           // of each byte

  [[nodiscard]] std::size_t count() const { return bytes.size(); }
  [[nodiscard]] std::size_t classes() const { return changed.size() + 1; }
  /// The first and the last end of a class.
  [[nodiscard]] std::size_t first_end(std::size_t k) const {
    return k == 0 ? 0 : changed[k - 1] + std::size_t{1};
  }
  [[nodiscard]] std::size_t last_end(std::size_t k) const { return k == changed.size() ? size : changed[k]; }
  /// The class of an end.
  [[nodiscard]] std::size_t class_of(std::size_t end) const;
};

/// Returns the two versions in which most differs from the first; the second is 0 if there are only two in
/// all.
[[nodiscard]] std::pair<std::size_t, std::size_t> most_different(const Versions& versions);

/// Where a checksum's value could be.
struct Place {
  std::uint32_t at = 0;
  std::uint32_t bytes = 0;
  [[nodiscard]] std::size_t end() const { return std::size_t{at} + bytes; }
};
[[nodiscard]] std::uint64_t value_at(ByteView bytes, std::size_t at, std::size_t count, bool big_endian);

/// How many bits a value in that place says by differing between the versions: of each version the bytes that
/// are others than in every one before it. A value that two versions have alike says nothing new.
[[nodiscard]] double evidence_of(const Versions& versions, std::size_t at, std::size_t bytes);

/// How usual an end of a range is for a value in that place: 0 the file's or the value's own edge, 1 a
/// multiple of 256, 2 of 16, 3 of 4, 4 any.
[[nodiscard]] int level_of(const Versions& versions, const Place& place, std::size_t end);
/// How many ends are at least so usual.
[[nodiscard]] double ends_of_level(const Versions& versions, int level);

/// What speaks for a checksum.
struct Evidence {
  double bits = 0;    // that agree, and by chance would not
  double forms = 1;   // how many forms like it are tried
  double places = 1;  // and in how many places
  bool has_free_start = false;
};

/// What all searches write to.
class Finds {
 public:
  Finds(const Versions& versions, std::size_t max_work) : versions_(versions), work_left_(max_work) {}

  [[nodiscard]] const Versions& versions() const { return versions_; }
  /// Takes a checksum if all versions agree with it.
  void add(const Checksum& checksum, const Evidence& evidence);
  /// How many places of that size the versions say at least as much of.
  [[nodiscard]] double places_like(std::size_t at, std::size_t bytes);
  /// Work that is about to be done; false where it would be too much.
  [[nodiscard]] bool allows(double work);
  void leave_out(std::string what);
  [[nodiscard]] std::size_t work_left() const { return work_left_; }

  std::vector<ChecksumFind> finds;
  std::vector<std::string> left_out;
  double tried = 0;

 private:
  const Versions& versions_;
  std::size_t work_left_;
  std::map<std::size_t, std::vector<std::size_t>> places_;  // by size: how many have that evidence, or more
};

void search_sums(Finds& finds);  // and exclusive ors
void search_crcs(Finds& finds);
void search_adler(Finds& finds);
void search_digests(Finds& finds);
[[nodiscard]] std::vector<CopyFind> search_copies(const Versions& versions);
[[nodiscard]] std::vector<CounterFind> search_counters(const Versions& versions);

}  // namespace bayswap::checksums
