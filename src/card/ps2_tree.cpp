#include "card/ps2_tree.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"

namespace bayswap::ps2 {

std::string name_of_entry(ByteView entry) {
  return to_utf8(entry.subspan(name_at, name_bytes), TextEncoding::shift_jis);
}

bool is_dots(ByteView entry) {
  return entry[name_at] == '.' &&
         (entry[name_at + 1] == 0 || (entry[name_at + 1] == '.' && entry[name_at + 2] == 0));
}

Tree::Tree(Blob image, bool with_spare)
    : pages_(std::move(image), with_spare), super_(Superblock::read(pages_)) {
  // A table is one cluster: its links are in a row.
  constexpr std::size_t links_a_table = cluster_bytes / 4;
  link_places_.resize(super_.allocatable);
  std::set<std::size_t> tables;
  for (std::size_t first = 0; first < super_.allocatable; first += links_a_table) {
    std::size_t at = super_.link_at(pages_, first);
    if (at != 0 && !tables.insert(at).second) {
      // Two tables in one place: neither says which clusters are free.
      if (super_.problem.empty())
        super_.problem = fmt::format("two pointers lead to the table in cluster {}", at / cluster_bytes);
      at = 0;
    }
    for (std::size_t i = first; at != 0 && i < std::min(first + links_a_table, super_.allocatable); ++i)
      link_places_[i] = at + 4 * (i - first);
  }
  refresh();
}

bool Tree::is_system(std::size_t cluster) const {
  if (fixed_[cluster] != 0) return true;
  return cluster >= super_.console_limit && (link(cluster) & link_used) == 0;  // held back
}
bool Tree::is_free(std::size_t cluster) const {
  return !is_system(cluster) && (link(cluster) & link_used) == 0;
}
bool Tree::begins_with_dots(std::size_t cluster) const {
  const std::size_t at = offset_of(cluster);
  return at + cluster_bytes <= pages_.size() && is_dots(entry(at)) && is_dots(entry(at + entry_bytes));
}

std::uint32_t Tree::link(std::size_t cluster) const {
  const std::size_t at = cluster < link_places_.size() ? link_places_[cluster] : 0;
  return at == 0 ? link_free : pages_.number(at);
}

void Tree::set_link(std::size_t cluster, std::uint32_t value) {
  if (const std::size_t at = cluster < link_places_.size() ? link_places_[cluster] : 0; at != 0)
    put_le(pages_.change(at, 4), 0, 4, value);
}

Row Tree::row(std::size_t first, std::size_t count, bool deleted) const {
  std::vector<bool> seen(super_.allocatable);
  return row(first, count, deleted, seen);
}

Row Tree::row(std::size_t first, std::size_t count, bool deleted, std::vector<bool>& seen) const {
  Row way;
  if (count == 0) return way;
  std::size_t cluster = first;
  for (;;) {
    if (cluster >= super_.allocatable)
      way.problem = way.clusters.empty() ? fmt::format("it begins at cluster {}, beyond the card", cluster)
                                         : fmt::format("cluster {} leads to cluster {}, beyond the card",
                                                       way.clusters.back(), cluster);
    else if (seen[cluster])
      way.problem = fmt::format(
          "its clusters lead in a circle, or into another file of the save, at cluster {}", cluster);
    else if (way.clusters.size() == count)
      way.problem =
          fmt::format("it has {} clusters by its size, and the links lead on to cluster {}", count, cluster);
    if (!way.problem.empty()) return way;
    const std::uint32_t next = link(cluster);
    if (((next & link_used) == 0) != deleted) {
      way.problem = fmt::format("cluster {} is marked as {}", cluster, deleted ? "in use" : "free");
      return way;
    }
    seen[cluster] = true;
    way.clusters.push_back(cluster);
    if ((next & ~link_used) == link_end) break;
    cluster = next & ~link_used;
  }
  if (way.clusters.size() != count)
    way.problem = fmt::format("it has {} clusters by its size, and {} are known", count, way.clusters.size());
  for (const std::size_t own : way.clusters)
    if (way.problem.empty() && unreadable_.contains(own))
      way.problem = fmt::format("cluster {} has more wrong bits than its ECC can correct", own);
  return way;
}

Content Tree::content_of(std::size_t entry_at, bool deleted, const Bridge& bridge) const {
  const ByteView head = entry(entry_at);
  Content content;
  content.is_folder = (le16(head, mode_at) & mode_folder) != 0;
  const std::size_t length = le32(head, length_at);
  // No cluster is in a save twice: all its files together have at most the clusters of the card.
  std::vector<bool> seen(super_.allocatable);
  std::set<std::string> names;
  const auto take = [&](std::size_t first, std::size_t count, const std::string& what) {
    Row way = row(first, count, deleted, seen);
    if (!way.problem.empty() && bridge) {
      for (const std::size_t own : way.clusters) seen[own] = false;  // the bridged row begins with them again
      auto other = bridge(first, count);
      const bool free =
          other && std::ranges::none_of(other->clusters, [&](std::size_t own) { return seen[own]; });
      if (free) way = *std::move(other);
      for (const std::size_t own : way.clusters) seen[own] = true;
    }
    if (!way.problem.empty() && content.problem.empty()) content.problem = what + way.problem;
    content.clusters.insert(content.clusters.end(), way.clusters.begin(), way.clusters.end());
    return std::move(way.clusters);
  };
  const std::size_t most = super_.allocatable * (content.is_folder ? 2 : cluster_bytes);
  if (length > most) {
    content.problem = fmt::format("its entry says {} {}, which is more than the card has", length,
                                  content.is_folder ? "entries" : "bytes");
    return content;
  }
  content.own =
      take(le32(head, cluster_at), content.is_folder ? clusters_of_folder(length) : clusters_of(length), "");
  if (!content.is_folder) return content;
  for (std::size_t i = 2; i < std::min(length, content.own.size() * 2); ++i) {
    const std::size_t its = offset_of(content.own[i / 2]) + i % 2 * entry_bytes;
    if (its + entry_bytes > pages_.size()) break;
    const unsigned mode = le16(entry(its), mode_at);
    if (((mode & mode_exists) == 0) != deleted || (mode & (mode_file | mode_folder)) == 0) continue;
    const std::string name = name_of_entry(entry(its));
    const std::size_t size = le32(entry(its), length_at);
    if (content.problem.empty() && (!is_safe_name(name) || !names.insert(name).second))
      content.problem =
          fmt::format("'{}' in it is not the name of a file, or is there twice", printable(name));
    if ((mode & mode_file) == 0 || size > super_.allocatable * cluster_bytes) {
      if (content.problem.empty())
        content.problem = (mode & mode_file) == 0
                              ? fmt::format("{} in it is a folder", name)
                              : fmt::format("{} in it has {} bytes by its entry", name, size);
      continue;
    }
    content.files.push_back({its, take(le32(entry(its), cluster_at), clusters_of(size), name + ": ")});
  }
  return content;
}

Blob Tree::read(const std::vector<std::size_t>& clusters, std::size_t size) const {
  Buffer bytes(std::min(size, clusters.size() * cluster_bytes));
  std::size_t done = 0;
  for (const std::size_t cluster : clusters) {
    const std::size_t at = std::min(offset_of(cluster), pages_.size());
    const std::size_t count = std::min({bytes.bytes().size() - done, cluster_bytes, pages_.size() - at});
    pages_.copy(at, bytes.bytes().subspan(done, count));
    done += count;
  }
  return std::move(bytes).freeze(done);
}

std::vector<std::size_t> Tree::allocate(std::size_t count) {
  std::vector<std::size_t> clusters;
  clusters.reserve(count);
  for (std::size_t cluster = 0; cluster < super_.allocatable && clusters.size() < count; ++cluster)
    if (is_free(cluster)) clusters.push_back(cluster);
  for (std::size_t i = 0; i < clusters.size(); ++i)
    set_link(clusters[i],
             link_used | (i + 1 < clusters.size() ? static_cast<std::uint32_t>(clusters[i + 1]) : link_end));
  return clusters;
}

std::size_t Tree::write(ByteView content) {
  if (content.empty()) return 0xffffffff;
  const std::vector<std::size_t> clusters = allocate(clusters_of(content.size()));
  for (std::size_t i = 0; i < clusters.size(); ++i) {
    for (std::size_t half = 0; half < cluster_bytes; half += page_bytes) {
      const std::span<Byte> out = pages_.change(offset_of(clusters[i]) + half, page_bytes);
      const std::size_t from = std::min(content.size(), i * cluster_bytes + half);
      const ByteView piece = content.subspan(from, std::min(page_bytes, content.size() - from));
      std::fill(std::ranges::copy(piece, out.begin()).out, out.end(), Byte{0});
    }
  }
  return clusters.front();
}

std::size_t Tree::free_entry() const {
  for (std::size_t i = 2; i < root_.length; ++i)
    if ((le16(entry(root_.entry_at(i)), mode_at) & mode_exists) == 0) return i;
  return root_.length;
}

void Tree::refresh(std::size_t at_least) {
  unreadable_.clear();
  for (const EccFlaw& flaw : pages_.flaws())
    if (flaw.state == EccState::hopeless && flaw.page / 2 >= super_.first_cluster)
      unreadable_.insert(flaw.page / 2 - super_.first_cluster);
  root_ = {{}, 0, offset_of(0), {}};
  std::vector<bool> in_root(super_.allocatable);
  const std::size_t length = std::max<std::size_t>(pages_.number(offset_of(0) + length_at), at_least);
  std::size_t cluster = 0;
  while (root_.clusters.size() < clusters_of_folder(length)) {
    if (cluster >= super_.allocatable || in_root[cluster]) {
      root_.problem = fmt::format("it has {} entries, and only {} of its clusters are known", length,
                                  root_.clusters.size());
      break;
    }
    in_root[cluster] = true;
    root_.clusters.push_back(cluster);
    const std::uint32_t next = link(cluster);
    cluster = (next & link_used) != 0 ? next & ~link_used : super_.allocatable;
  }
  fixed_.resize(super_.allocatable);
  for (std::size_t i = 0; i < fixed_.size(); ++i)
    fixed_[i] = in_root[i] || link_places_[i] == 0 || super_.is_broken(i) ? 1 : 0;
  root_.length = std::min(length, root_.clusters.size() * 2);
  if (root_.length < 2) root_.problem = fmt::format("it has {} entries, and needs two of its own", length);
  if (!is_dots(entry(offset_of(0)))) root_.problem = "it does not begin with its own entry";
}

}  // namespace bayswap::ps2
