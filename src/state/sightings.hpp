// Where in a layer memory of some size seems to be: by names and lengths beside it, by tables, by where
// what is alive begins and ends.
#pragma once

#include <bayswap/base.hpp>

#include <array>
#include <set>
#include <string>
#include <vector>

namespace bayswap {

/// A stretch of a layer, and what speaks for it.
struct Sighting {
  enum class By { name, label, table, length, borders };
  By by{};
  std::size_t at = 0;
  std::size_t bytes = 0;     // of the item, as the layer says; the memory may be its beginning only
  double points = 0;         // 0 to 1
  std::string evidence;      // a sentence
  std::size_t name_end = 0;  // of the name before it
  bool led = false;          // another name comes after it
};

/// What a name in a snapshot says: 1 memory with a battery, -1 some other memory, 0 nothing.
/// `work_memory_is_kept`: on the platform the chip is called work memory (nes).
[[nodiscard]] int says_battery(std::string_view name, bool work_memory_is_kept);

/// A layer, looked through once.
class Sightings {
 public:
  explicit Sightings(ByteView layer);

  /// Items that a length before them, or a table of sizes and offsets, makes out. `sizes` are those that
  /// count without a name.
  [[nodiscard]] std::vector<Sighting> labelled(const std::set<std::size_t>& sizes,
                                               bool work_memory_is_kept) const;
  /// Stretches of `bytes` bytes that are alive and begin and end beside filler. The best first, few.
  [[nodiscard]] std::vector<Sighting> bordered(std::size_t bytes) const;

 private:
  // So many of each kind: what a name says must not be lost among numbers that are there by chance.
  class Found {
   public:
    void add(Sighting one) {
      if (count(one.by)++ < most_of_a_kind) all.push_back(std::move(one));
    }
    void drop_last() {
      --count(all.back().by);
      all.pop_back();
    }
    std::vector<Sighting> all;

   private:
    static constexpr std::size_t most_of_a_kind = 256;
    std::size_t& count(Sighting::By by) { return counts_.at(static_cast<std::size_t>(by)); }
    std::array<std::size_t, 5> counts_{};
  };
  void consider_record(std::size_t at, std::size_t length, const std::set<std::size_t>& sizes, bool kept,
                       Found& found) const;
  void consider_table(std::size_t at, Found& found) const;
  [[nodiscard]] bool ends_well(std::size_t end) const;
  [[nodiscard]] double clear_border(std::size_t at, bool begin) const;
  [[nodiscard]] double alive_share(std::size_t at, std::size_t bytes) const;

  ByteView layer_;
  [[nodiscard]] bool is_filler(std::size_t at) const {
    return (filler_[at / word_bits] >> (at % word_bits) & 1U) != 0;
  }
  [[nodiscard]] std::size_t filler_before(std::size_t at) const;

  static constexpr std::size_t word_bits = 64;
  std::vector<std::uint64_t> filler_;           // a bit a byte: in a run of equal ones
  std::vector<std::uint32_t> filler_of_words_;  // how many bits are set before each word
};

}  // namespace bayswap
