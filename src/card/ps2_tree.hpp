// The folders and files of a ps2 card: links, chains, the root, what is in a save (docs/formats/ps2.md).
#pragma once

#include <functional>
#include <set>
#include <string>

#include "card/ps2_pages.hpp"
#include "card/ps2_superblock.hpp"

namespace bayswap::ps2 {

// ---- Allocation table: 32 bits a cluster ----------------------------------------------------------------
inline constexpr std::uint32_t link_used = 0x80000000;
inline constexpr std::uint32_t link_end = 0x7fffffff;  // without link_used
inline constexpr std::uint32_t link_free = 0x7fffffff;

constexpr std::size_t clusters_of(std::size_t size) {
  return (size + cluster_bytes - 1) / cluster_bytes;
}
constexpr std::size_t clusters_of_folder(std::size_t entries) {
  return (entries + 1) / 2;
}
[[nodiscard]] std::string name_of_entry(ByteView entry);
/// "." or "..".
[[nodiscard]] bool is_dots(ByteView entry);

/// Clusters in their order. `problem` is part of a sentence; empty for a sound one.
struct Row {
  std::vector<std::size_t> clusters;
  std::string problem;
};
/// What stands in for a row whose links are broken; nothing where it can't be told.
using Bridge = std::function<std::optional<Row>(std::size_t first, std::size_t count)>;

struct Inside {
  std::size_t entry_at = 0;  // offset in the card's data
  std::vector<std::size_t> clusters;
};
/// A save: a folder with its files, or a file in the root.
struct Content {
  bool is_folder = false;
  std::vector<std::size_t> own;  // the folder's, or the file's
  std::vector<Inside> files;
  std::vector<std::size_t> clusters;  // all of them
  std::string problem;
};
struct Root {
  std::vector<std::size_t> clusters;
  std::size_t length = 0;  // entries
  std::size_t first_at = 0;
  std::string problem;
  [[nodiscard]] std::size_t entry_at(std::size_t index) const {
    return first_at + clusters[index / 2] * cluster_bytes + index % 2 * entry_bytes;
  }
};

/// Clusters are counted from the first one for files.
class Tree {
 public:
  Tree(Blob image, bool with_spare);

  [[nodiscard]] const Pages& pages() const { return pages_; }
  [[nodiscard]] Pages& pages() { return pages_; }
  [[nodiscard]] const Superblock& super() const { return super_; }
  [[nodiscard]] const Root& root() const { return root_; }

  [[nodiscard]] std::size_t offset_of(std::size_t cluster) const {
    return (super_.first_cluster + cluster) * cluster_bytes;
  }
  /// Until that page is changed.
  [[nodiscard]] ByteView entry(std::size_t at) const { return pages_.bytes(at, entry_bytes); }
  [[nodiscard]] bool is_free(std::size_t cluster) const;
  /// The root's, or one whose link can't be found.
  [[nodiscard]] bool is_system(std::size_t cluster) const;
  [[nodiscard]] bool begins_with_dots(std::size_t cluster) const;
  [[nodiscard]] bool is_unreadable(std::size_t cluster) const { return unreadable_.contains(cluster); }
  [[nodiscard]] std::uint32_t link(std::size_t cluster) const;
  /// `count` clusters from `first` on. Those of something deleted are marked as free.
  [[nodiscard]] Row row(std::size_t first, std::size_t count, bool deleted) const;
  /// The same, where `seen` has the clusters that must not come up again; those of the row are added.
  [[nodiscard]] Row row(std::size_t first, std::size_t count, bool deleted, std::vector<bool>& seen) const;
  [[nodiscard]] Content content_of(std::size_t entry_at, bool deleted, const Bridge& bridge = {}) const;
  [[nodiscard]] Blob read(const std::vector<std::size_t>& clusters, std::size_t size) const;
  /// The first entry of the root that no program uses, or the one after the last.
  [[nodiscard]] std::size_t free_entry() const;

  void set_link(std::size_t cluster, std::uint32_t value);
  /// Free clusters, the lowest first, chained and marked. There must be as many.
  std::vector<std::size_t> allocate(std::size_t count);
  /// Gives the first cluster; FFFFFFFF for no bytes.
  std::size_t write(ByteView content);
  /// Finds the root anew, after a change; it has at least so many entries.
  void refresh(std::size_t at_least = 0);

 private:
  Pages pages_;
  Superblock super_;
  Root root_;
  std::vector<Byte>
      fixed_;  // a cluster each: the root's, one that is broken, or one whose link can't be found
  std::vector<std::size_t> link_places_;  // a cluster each; 0 where there is none
  std::set<std::size_t> unreadable_;
};

}  // namespace bayswap::ps2
