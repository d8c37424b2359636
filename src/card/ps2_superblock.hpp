// The first page of a ps2 card, and what follows from it: where the allocation table and the first cluster
// are.
#pragma once

#include <string>

#include "card/kinds.hpp"
#include "card/ps2_pages.hpp"

namespace bayswap::ps2 {

struct Superblock {
  std::size_t clusters = 0;       // of the whole card
  std::size_t first_cluster = 0;  // that saves and folders can have; theirs are counted from it
  std::size_t allocatable = 0;    // how many
  std::size_t console_limit = 0;  // how many the console gives out: the rest is held back for broken ones
  std::vector<bool> broken;       // per cluster for saves: it is in an erase block that the card calls broken
  std::size_t tables_at = 0;      // in the superblock: where the list of clusters with tables of tables is
  std::string problem;            // why the usual numbers for a card of this size are taken; else empty

  [[nodiscard]] bool is_broken(std::size_t cluster) const {
    return cluster < broken.size() && broken[cluster];
  }
  /// Every number is checked against the card's size.
  [[nodiscard]] static Superblock read(const Pages& card);
  /// Offsets of pointers to tables that lead nowhere; the usual ones are taken for them.
  [[nodiscard]] std::vector<std::size_t> broken_pointers(const Pages& card) const;
  /// Where the link of a cluster is; 0 where the table of tables is broken.
  [[nodiscard]] std::size_t link_at(const Pages& card, std::size_t cluster) const;
};

}  // namespace bayswap::ps2

namespace bayswap {

/// How many clusters the console gives out on a card of so many: of its erase blocks of 8 clusters whole
/// thousands, and one cluster for the root.
constexpr std::size_t ps2_console_limit(std::size_t clusters) {
  return clusters / 8 / 1000 * 1000 * 8 + 1;
}
/// Of a card whose pages' data are so many bytes.
constexpr CardSize ps2_size(std::size_t data_bytes) {
  return {ps2_console_limit(data_bytes / ps2::cluster_bytes) - 1, data_bytes};
}
[[nodiscard]] double score_ps2(ByteView image, std::string& evidence);
[[nodiscard]] Blob fresh_ps2(const CardSize& size, const NewCardOptions& options);

}  // namespace bayswap
