#include "card/ps2_superblock.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/clock.hpp"
#include "card/ps2_pages.hpp"

namespace bayswap {
namespace ps2 {
namespace {

// "Sony PS2 Memory Card Format " and a version: what the console looks for.
constexpr std::array<Byte, 28> mark{0x53, 0x6f, 0x6e, 0x79, 0x20, 0x50, 0x53, 0x32, 0x20, 0x4d,
                                    0x65, 0x6d, 0x6f, 0x72, 0x79, 0x20, 0x43, 0x61, 0x72, 0x64,
                                    0x20, 0x46, 0x6f, 0x72, 0x6d, 0x61, 0x74, 0x20};
constexpr std::string_view format_version = "1.2.0.0";
constexpr std::size_t page_size_at = 40;        // 16 bits
constexpr std::size_t pages_a_cluster_at = 42;  // 16 bits
constexpr std::size_t pages_a_block_at = 44;    // 16 bits
constexpr std::size_t unused_at = 46;           // 16 bits, FF00
constexpr std::size_t clusters_at = 48;
constexpr std::size_t first_cluster_at = 52;
constexpr std::size_t allocatable_at = 56;
constexpr std::size_t root_at = 60;
constexpr std::size_t backup_blocks_at = 64;  // two erase blocks, 32 bits each
constexpr std::size_t table_list_at = 80;     // 32 clusters
constexpr std::size_t table_list_count = 32;
constexpr std::size_t broken_blocks_at = 208;  // 32 erase blocks, FFFFFFFF: none
constexpr std::size_t card_type_at = 336;
constexpr std::size_t card_flags_at = 337;
constexpr std::size_t worked_out_at = 340;  // what the console works out for itself; then the root once more
constexpr std::size_t worked_out_bytes = 16;
constexpr std::size_t pages_a_block = 16;
constexpr std::size_t links_a_cluster = cluster_bytes / 4;

struct Usual {
  std::size_t clusters;
  std::size_t tables;
  std::size_t tables_of_tables;
  std::size_t first_cluster;
  std::size_t allocatable;
};
constexpr std::size_t first_table_of_tables = 8;
constexpr Usual usual(std::size_t data_bytes) {
  Usual u{};
  u.clusters = data_bytes / cluster_bytes;
  u.tables = u.clusters / links_a_cluster;
  u.tables_of_tables = (u.tables + links_a_cluster - 1) / links_a_cluster;
  u.first_cluster = first_table_of_tables + u.tables_of_tables + u.tables;
  u.allocatable = u.clusters - u.first_cluster - 2 * pages_a_block / 2;
  return u;
}

}  // namespace

Superblock Superblock::read(const Pages& card) {
  Superblock super;
  const Usual standard = usual(card.size());
  const ByteView page = card.bytes(0, page_bytes);
  const auto wrong = [&](std::string why) {
    super = {standard.clusters, standard.first_cluster, standard.allocatable, 0, {}, 0, std::move(why)};
    super.console_limit = std::min(super.allocatable, ps2_console_limit(super.clusters));
    return super;
  };
  if (!std::ranges::equal(page.first(mark.size()), mark)) return wrong("its mark is missing");
  if (le16(page, page_size_at) != page_bytes || le16(page, pages_a_cluster_at) != 2)
    return wrong(fmt::format("pages of {} bytes, {} a cluster; every card has 512 and 2",
                             le16(page, page_size_at), le16(page, pages_a_cluster_at)));
  super.clusters = le32(page, clusters_at);
  super.first_cluster = le32(page, first_cluster_at);
  super.allocatable = le32(page, allocatable_at);
  super.tables_at = table_list_at;
  if (super.clusters != standard.clusters)
    return wrong(fmt::format("{} clusters, and the image has {}", super.clusters, standard.clusters));
  if (super.first_cluster < first_table_of_tables || super.first_cluster >= super.clusters ||
      super.allocatable < 1 || super.allocatable > super.clusters - super.first_cluster)
    return wrong(fmt::format("clusters {} to {} are for saves, which the card does not have",
                             super.first_cluster, super.first_cluster + super.allocatable));
  if (le32(page, root_at) != 0)
    return wrong(fmt::format("the root is at cluster {}, not at 0", le32(page, root_at)));
  // The root's first cluster is in use; a table that does not say so is none.
  const std::size_t root_link = super.link_at(card, 0);
  if (root_link == 0 || (card.number(root_link) & 0x80000000U) == 0)
    return wrong(fmt::format("its list of tables begins with cluster {}, where there is none",
                             le32(page, table_list_at)));
  super.console_limit = std::min(super.allocatable, ps2_console_limit(super.clusters));
  super.broken.resize(super.allocatable);
  constexpr std::size_t clusters_a_block = pages_a_block / 2;
  for (std::size_t at = broken_blocks_at; at < card_type_at; at += 4)
    for (std::size_t i = 0; i < clusters_a_block; ++i) {
      const std::uint64_t cluster = std::uint64_t{le32(page, at)} * clusters_a_block + i;
      if (cluster >= super.first_cluster && cluster - super.first_cluster < super.allocatable)
        super.broken[static_cast<std::size_t>(cluster) - super.first_cluster] = true;
    }
  return super;
}

std::size_t Superblock::link_at(const Pages& card, std::size_t cluster) const {
  const std::size_t table = cluster / links_a_cluster;
  const std::size_t table_of_tables = table / links_a_cluster;
  if (table_of_tables >= table_list_count) return 0;
  const std::size_t first =
      tables_at == 0 ? first_table_of_tables + table_of_tables : card.number(tables_at + 4 * table_of_tables);
  if (first == 0 || first >= clusters) return 0;
  std::size_t second = card.number(first * cluster_bytes + 4 * (table % links_a_cluster));
  // Where that is broken: the tables are in a row after the tables of tables, on every card.
  if (second <= first || second >= first_cluster)
    second = usual(clusters * cluster_bytes).first_cluster - usual(clusters * cluster_bytes).tables + table;
  if (second >= clusters) return 0;
  return second * cluster_bytes + 4 * (cluster % links_a_cluster);
}

std::vector<std::size_t> Superblock::broken_pointers(const Pages& card) const {
  std::vector<std::size_t> places;
  for (std::size_t table = 0; table * links_a_cluster < allocatable; ++table) {
    const std::size_t list_at = tables_at + 4 * (table / links_a_cluster);
    const std::size_t first =
        tables_at == 0 ? first_table_of_tables + table / links_a_cluster : card.number(list_at);
    if (first == 0 || first >= clusters) {
      if (table % links_a_cluster == 0) places.push_back(list_at);
      continue;
    }
    const std::size_t at = first * cluster_bytes + 4 * (table % links_a_cluster);
    if (card.number(at) <= first || card.number(at) >= first_cluster) places.push_back(at);
  }
  return places;
}

}  // namespace ps2

using namespace ps2;

Blob fresh_ps2(const CardSize& size, const NewCardOptions& options) {
  const Usual u = usual(size.image_bytes);
  std::vector<Byte> card(size.image_bytes, 0xff);
  const std::span<Byte> super = std::span(card).first(page_bytes);
  std::ranges::fill(super, Byte{0});
  std::ranges::copy(format_version, std::ranges::copy(mark, super.begin()).out);
  put_le(super, page_size_at, 2, page_bytes);
  put_le(super, pages_a_cluster_at, 2, 2);
  put_le(super, pages_a_block_at, 2, pages_a_block);
  put_le(super, unused_at, 2, 0xff00);
  put_le(super, clusters_at, 4, u.clusters);
  put_le(super, first_cluster_at, 4, u.first_cluster);
  put_le(super, allocatable_at, 4, u.allocatable);
  const std::size_t blocks = u.clusters * 2 / pages_a_block;
  put_le(super, backup_blocks_at, 4, blocks - 1);
  put_le(super, backup_blocks_at + 4, 4, blocks - 2);
  for (std::size_t i = 0; i < u.tables_of_tables; ++i)
    put_le(super, table_list_at + 4 * i, 4, first_table_of_tables + i);
  std::ranges::fill(super.subspan(broken_blocks_at, card_type_at - broken_blocks_at), Byte{0xff});
  super[card_type_at] = 2;
  super[card_flags_at] = 0x2b;
  std::ranges::fill(super.subspan(worked_out_at, worked_out_bytes), Byte{0xff});
  for (std::size_t i = 0; i < u.tables; ++i)
    put_le(card, first_table_of_tables * cluster_bytes + 4 * i, 4,
           first_table_of_tables + u.tables_of_tables + i);
  const std::size_t links_at = (first_table_of_tables + u.tables_of_tables) * cluster_bytes;
  for (std::size_t i = 0; i < u.allocatable; ++i)
    put_le(card, links_at + 4 * i, 4, i == 0 ? 0xffffffff : 0x7fffffff);
  // The root: itself, and the folder above it, which it has not.
  const std::span<Byte> root = std::span(card).subspan(u.first_cluster * cluster_bytes, cluster_bytes);
  std::ranges::fill(root, Byte{0});
  const ClockTime time = clock_time(options.formatted);
  for (const std::size_t i : {0U, 1U}) {
    const std::span<Byte> entry = root.subspan(i * entry_bytes, entry_bytes);
    put_le(entry, mode_at, 2, i == 0 ? 0x8427 : 0xa426);
    put_le(entry, length_at, 4, i == 0 ? 2 : 0);
    for (const std::size_t at : {created_at, modified_at}) {
      const std::array<int, 6> fields{0, time.second, time.minute, time.hour, time.day, time.month};
      for (std::size_t f = 0; f < fields.size(); ++f) entry[at + f] = static_cast<Byte>(fields.at(f));
      put_le(entry, at + 6, 2, static_cast<std::uint64_t>(time.year));
    }
    std::fill_n(entry.subspan(name_at).begin(), i + 1, Byte{'.'});
  }
  return options.form == "plain" ? Blob::copy_of(card) : with_spare_bytes(card);
}

double score_ps2(ByteView image, std::string& evidence) {
  const bool spare = image.size() % (std::size_t{1} << 20) != 0;
  const std::size_t pages = image.size() / (page_bytes + (spare ? spare_bytes : 0));
  std::array<Byte, page_bytes> first{};
  std::ranges::copy(image.first(page_bytes), first.begin());
  if (spare && first[0] + first[1] + first[2] > 0)
    (void)repair_page(first, image.subspan(page_bytes, spare_bytes));
  if (std::ranges::equal(ByteView(first).first(mark.size()), mark)) {
    const bool size = le32(first, clusters_at) == pages / 2;
    evidence = fmt::format("the superblock has its mark{}", size ? ", and the size of the image" : "");
    return size ? 0.98 : 0.5;
  }
  // Without a superblock: the root is where it is on every card of this size.
  const Usual u = usual(pages * page_bytes);
  const std::size_t at = u.first_cluster * 2 * (page_bytes + (spare ? spare_bytes : 0));
  const auto folder = [&](std::size_t page, std::size_t dots) {
    return (le16(image, page) & mode_folder) != 0 && image[page + name_at] == '.' &&
           image[page + name_at + dots] == 0 && image[page + name_at + dots - 1] == '.';
  };
  if (!folder(at, 1) || !folder(at + page_bytes + (spare ? spare_bytes : 0), 2)) return 0;
  evidence = "no superblock, but the root folder is where it should be";
  return 0.35;
}

}  // namespace bayswap
