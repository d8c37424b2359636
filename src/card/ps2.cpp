#include "card/ps2.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "card/block_card.hpp"
#include "card/ps2_pages.hpp"
#include "card/ps2_superblock.hpp"

namespace bayswap {
namespace {

using namespace ps2;

// ---- Allocation table: 32 bits a cluster ----------------------------------------------------------------
constexpr std::uint32_t link_used = 0x80000000;
constexpr std::uint32_t link_end = 0x7fffffff;  // without link_used
constexpr std::uint32_t link_free = 0x7fffffff;

std::size_t clusters_of(std::size_t size) {
  return (size + cluster_bytes - 1) / cluster_bytes;
}
std::size_t clusters_of_folder(std::size_t entries) {
  return (entries + 1) / 2;
}

class Ps2Card final : public BlockCard {
 public:
  Ps2Card(Blob image, bool with_spare)
      : BlockCard(ps2_save(), Blob{}),
        pages_(std::move(image), with_spare),
        super_(Superblock::read(pages_.data())) {
    look_again();
  }

  std::string_view form() const override { return pages_.with_spare() ? "ecc" : "plain"; }
  std::size_t block_bytes() const override { return cluster_bytes; }
  std::size_t capacity_blocks() const override { return super_.allocatable - 1; }  // one is the root's
  Blob image() const override { return pages_.file(); }

  std::size_t blocks_for(const CardSave& save) const override {
    const bool root_grows = free_entry() == root_.length && root_.length % 2 == 0;
    std::size_t count = root_grows ? 1 : 0;
    if (save.files.empty() && !save.payload.empty()) return count + clusters_of(save.payload.size());
    count += clusters_of_folder(save.files.size() + 2);
    for (const CardFile& file : save.files) count += clusters_of(file.bytes.size());
    return count;
  }
  std::vector<FoundSave> carve(std::size_t present_bytes) const override {
    return BlockCard::carve(pages_.with_spare() ? present_bytes / (page_bytes + spare_bytes) * page_bytes
                                                : present_bytes);
  }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t i = 2; i < root_.length; ++i) {
      const ByteView entry = bytes_at(root_.entry_at(i));
      const unsigned mode = le16(entry, mode_at);
      if ((mode & (mode_folder | mode_file)) == 0 || entry[name_at] == 0 || is_dots(entry)) continue;
      const bool exists = (mode & mode_exists) != 0;
      // The folder that another one was made over keeps its name until its entry is used again.
      list.push_back({i, root_.entry_at(i), !exists});
    }
    return list;
  }

  Chain chain(const Slot& slot) const override {
    const Content content = content_of(slot.at, slot.deleted);
    return {content.clusters, content.problem, false};
  }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& /*blocks*/) const override {
    const Content content = content_of(slot.at, slot.deleted);
    const Blob entry = Blob::copy_of(bytes_at(slot.at));
    if (!content.is_folder)
      return named_save(CardKind::ps2, entry, bytes_of(content.own, le32(entry.view(), length_at)));
    std::vector<CardFile> files;
    for (const Inside& one : content.files) {
      const ByteView its = bytes_at(one.entry_at);
      files.push_back({name_of_entry(its), Blob::copy_of(its), bytes_of(one.clusters, le32(its, length_at))});
    }
    return named_save(CardKind::ps2, entry, Blob{}, std::move(files));
  }
  // The title needs one file only.
  CardEntry listed(const Slot& slot, const Chain& /*chain*/) const override {
    const Content content = content_of(slot.at, slot.deleted);
    CardSave light{CardKind::ps2, {}, {}, Blob::copy_of(bytes_at(slot.at)), {}, {}};
    std::size_t size = content.is_folder ? 0 : le32(light.entry.view(), length_at);
    for (const Inside& one : content.files) {
      const ByteView its = bytes_at(one.entry_at);
      size += le32(its, length_at);
      if (name_of_entry(its) == "icon.sys")
        light.files.push_back({"icon.sys", Blob{}, bytes_of(one.clusters, le32(its, length_at))});
    }
    CardEntry entry = describe(light);
    entry.size_bytes = size;
    return entry;
  }
  std::size_t block_count() const override { return super_.allocatable; }
  BlockUse use_of(std::size_t cluster) const override {
    if (in_root_[cluster] || super_.link_at(pages_.data(), cluster) == 0) return BlockUse::system;
    return (link(cluster) & link_used) != 0 ? BlockUse::save : BlockUse::free;
  }
  std::size_t block_at(std::size_t cluster) const override {
    return (super_.first_cluster + cluster) * cluster_bytes;
  }
  std::size_t mark_at(std::size_t cluster) const override { return super_.link_at(pages_.data(), cluster); }
  std::string_view unit() const override { return "cluster"; }

  void check_medium(Problems& problems) const override {
    if (!super_.problem.empty()) problems.add(0, false, "superblock: {}", super_.problem);
    for (const std::size_t at : super_.broken_pointers(pages_.data()))
      problems.add(at, false, "the pointer to a table is {}, where there is none", le32(pages_.data(), at));
    for (const EccFlaw& flaw : pages_.flaws())
      problems.add(flaw.page * (page_bytes + spare_bytes) + flaw.chunk * ecc_chunk_bytes,
                   flaw.state != EccState::hopeless, "page {}, chunk {}: {}", flaw.page, flaw.chunk,
                   flaw.state == EccState::one_bit     ? "one bit is wrong by its ECC"
                   : flaw.state == EccState::code_only ? "the ECC itself has a wrong bit"
                                                       : "more bits are wrong than its ECC can mend");
    if (!root_problem_.empty()) problems.add(block_at(0), false, "root: {}", root_problem_);
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t index = free_entry();
    const bool grows = index == root_.length;
    if (grows && index % 2 == 0) {
      const std::vector<std::size_t> more = allocate(1);
      set_link(root_.clusters.back(), link_used | static_cast<std::uint32_t>(more.front()));
    }
    look_again(index + 1);
    if (root_.length <= index)
      return fail(ErrorCode::damaged, "the root folder can't grow: the card's allocation table is broken",
                  "`bayswap card rescue` puts what is left on a fresh card");
    const std::span<Byte> entry = pages_.change(root_.entry_at(index), entry_bytes);
    std::ranges::copy(save.entry.view(), entry.begin());
    const bool folder = (le16(entry, mode_at) & mode_folder) != 0;
    put_le(entry, mode_at, 2, le16(entry, mode_at) | mode_exists);
    if (!folder) {
      put_le(entry, cluster_at, 4, write(save.payload.view()));
    } else {
      std::vector<Byte> inside((save.files.size() + 2) * entry_bytes);
      const std::span<Byte> all(inside);
      put_dots(all, save.entry.view(), index);
      for (std::size_t i = 0; i < save.files.size(); ++i) {
        const std::span<Byte> its = all.subspan((i + 2) * entry_bytes, entry_bytes);
        std::ranges::copy(save.files[i].entry.view(), its.begin());
        put_le(its, mode_at, 2, le16(its, mode_at) | mode_exists);
      }
      const std::size_t first = write(inside);
      put_le(entry, length_at, 4, save.files.size() + 2);
      put_le(entry, cluster_at, 4, first);
      const std::vector<std::size_t> own =
          chain_from(first, clusters_of_folder(save.files.size() + 2), false).blocks;
      for (std::size_t i = 0; i < save.files.size(); ++i) {
        const std::size_t at = block_at(own[(i + 2) / 2]) + (i + 2) % 2 * entry_bytes;
        const std::size_t data = write(save.files[i].bytes.view());
        put_le(pages_.change(at + cluster_at, 4), 0, 4, data);
      }
    }
    if (grows) put_le(pages_.change(block_at(0) + length_at, 4), 0, 4, index + 1);
    std::ranges::copy(save.entry.view().subspan(modified_at, 8),
                      pages_.change(block_at(0) + modified_at, 8).begin());
    look_again();
    return {};
  }
  // Entries lose their mark, clusters too; names and links stay.
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    const Content content = content_of(slot.at, false);
    const auto unmark = [&](std::size_t at) {
      const unsigned mode = le16(pages_.data(), at + mode_at);
      put_le(pages_.change(at + mode_at, 2), 0, 2, mode & ~mode_exists);
    };
    for (const Inside& one : content.files) unmark(one.entry_at);
    unmark(slot.at);
    for (const std::size_t cluster : blocks) release(cluster);
    look_again();
  }
  std::string untrusted() const override {
    if (!super_.problem.empty()) return "the superblock is broken: " + super_.problem;
    return root_problem_.empty() ? "" : "the root folder is broken: " + root_problem_;
  }
  void mend() override { pages_.mend(); }
  void release(std::size_t cluster) override { set_link(cluster, link(cluster) & ~link_used); }

  std::vector<Slot> hidden_slots() const override {
    // Entries of folders that the root does not lead to: anywhere on the card.
    std::vector<Slot> list;
    std::set<std::size_t> known;
    for (const Slot& slot : slots()) known.insert(slot.at);
    for (std::size_t i = 0; i < super_.allocatable; ++i) {
      const std::size_t at = block_at(i);
      if (at + cluster_bytes > pages_.data().size()) break;
      for (const std::size_t half : {at, at + entry_bytes}) {
        const ByteView entry = bytes_at(half);
        const unsigned mode = le16(entry, mode_at);
        if (known.contains(half) || (mode & mode_folder) == 0 || (mode & mode_file) != 0 || is_dots(entry) ||
            !is_plain_name(entry))
          continue;
        const std::size_t first = le32(entry, cluster_at);
        if (first >= super_.allocatable || !begins_with_dots(first)) continue;
        list.push_back({i * 2 + (half == at ? 0U : 1U), half, (mode & mode_exists) == 0});
      }
    }
    return list;
  }

 private:
  struct Inside {
    std::size_t entry_at = 0;
    std::vector<std::size_t> clusters;
  };
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
    [[nodiscard]] std::size_t entry_at(std::size_t index) const {
      return first_at + clusters[index / 2] * cluster_bytes + index % 2 * entry_bytes;
    }
  };

  [[nodiscard]] ByteView bytes_at(std::size_t entry) const {
    return pages_.data().subspan(entry, entry_bytes);
  }
  static std::string name_of_entry(ByteView entry) {
    return to_utf8(entry.subspan(name_at, name_bytes), TextEncoding::shift_jis);
  }
  static bool is_dots(ByteView entry) {
    return entry[name_at] == '.' &&
           (entry[name_at + 1] == 0 || (entry[name_at + 1] == '.' && entry[name_at + 2] == 0));
  }
  static bool is_plain_name(ByteView entry) {
    const ByteView field = entry.subspan(name_at, name_bytes);
    const auto end = std::ranges::find(field, Byte{0});
    return end != field.begin() && end != field.end() &&
           std::all_of(field.begin(), end, [](Byte b) { return b > 0x20 && b < 0x7f; });
  }
  [[nodiscard]] bool begins_with_dots(std::size_t cluster) const {
    const std::size_t at = block_at(cluster);
    return at + cluster_bytes <= pages_.data().size() && is_dots(bytes_at(at)) &&
           is_dots(bytes_at(at + entry_bytes));
  }
  [[nodiscard]] std::uint32_t link(std::size_t cluster) const {
    const std::size_t at = super_.link_at(pages_.data(), cluster);
    return at == 0 ? link_free : le32(pages_.data(), at);
  }
  void set_link(std::size_t cluster, std::uint32_t value) {
    if (const std::size_t at = super_.link_at(pages_.data(), cluster); at != 0)
      put_le(pages_.change(at, 4), 0, 4, value);
  }

  // `count` clusters from `first` on. Those of something deleted are marked as free.
  [[nodiscard]] Chain chain_from(std::size_t first, std::size_t count, bool deleted) const {
    Chain way;
    if (count == 0) return way;
    std::size_t cluster = first;
    std::vector<bool> seen(super_.allocatable);
    for (;;) {
      if (cluster >= super_.allocatable)
        way.problem = way.blocks.empty() ? fmt::format("it begins at cluster {}, which there is not", cluster)
                                         : fmt::format("cluster {} leads to cluster {}, which there is not",
                                                       way.blocks.back(), cluster);
      else if (seen[cluster])
        way.problem = fmt::format("its clusters lead in a circle at cluster {}", cluster);
      else if (way.blocks.size() == count)
        way.problem = fmt::format("it has {} clusters by its size, and the links lead on to cluster {}",
                                  count, cluster);
      if (!way.problem.empty()) return way;
      const std::uint32_t next = link(cluster);
      if (((next & link_used) == 0) != deleted) {
        way.problem = fmt::format("cluster {} is marked as {}", cluster, deleted ? "in use" : "free");
        return way;
      }
      seen[cluster] = true;
      way.blocks.push_back(cluster);
      if ((next & ~link_used) == link_end) break;
      cluster = next & ~link_used;
    }
    if (way.blocks.size() != count)
      way.problem =
          fmt::format("it has {} clusters by its size, and {} can be told", count, way.blocks.size());
    for (const std::size_t own : way.blocks)
      if (way.problem.empty() && unreadable_.contains(own))
        way.problem = fmt::format("cluster {} has more wrong bits than its ECC can mend", own);
    return way;
  }

  [[nodiscard]] Content content_of(std::size_t at, bool deleted) const {
    const ByteView entry = bytes_at(at);
    Content content;
    content.is_folder = (le16(entry, mode_at) & mode_folder) != 0;
    const std::size_t length = le32(entry, length_at);
    const auto take = [&](std::size_t first, std::size_t count, const std::string& what) {
      Chain way = content_chain(first, count, deleted);
      if (!way.problem.empty() && content.problem.empty()) content.problem = what + way.problem;
      content.clusters.insert(content.clusters.end(), way.blocks.begin(), way.blocks.end());
      return std::move(way.blocks);
    };
    const std::size_t most = super_.allocatable * (content.is_folder ? 2 : cluster_bytes);
    if (length > most) {
      content.problem = fmt::format("its entry says {} {}, which is more than the card has", length,
                                    content.is_folder ? "entries" : "bytes");
      return content;
    }
    content.own = take(le32(entry, cluster_at),
                       content.is_folder ? clusters_of_folder(length) : clusters_of(length), "");
    if (!content.is_folder) return content;
    for (std::size_t i = 2; i < std::min(length, content.own.size() * 2); ++i) {
      const std::size_t its = block_at(content.own[i / 2]) + i % 2 * entry_bytes;
      if (its + entry_bytes > pages_.data().size()) break;
      const unsigned mode = le16(bytes_at(its), mode_at);
      if (((mode & mode_exists) == 0) != deleted || (mode & (mode_file | mode_folder)) == 0) continue;
      const std::string name = name_of_entry(bytes_at(its));
      const std::size_t size = le32(bytes_at(its), length_at);
      if ((mode & mode_file) == 0 || size > super_.allocatable * cluster_bytes) {
        if (content.problem.empty())
          content.problem = (mode & mode_file) == 0
                                ? fmt::format("{} in it is a folder", name)
                                : fmt::format("{} in it has {} bytes by its entry", name, size);
        continue;
      }
      content.files.push_back({its, take(le32(bytes_at(its), cluster_at), clusters_of(size), name + ": ")});
    }
    return content;
  }
  // Where the links are broken, the clusters behind one another: only while carving.
  [[nodiscard]] Chain content_chain(std::size_t first, std::size_t count, bool deleted) const {
    Chain way = chain_from(first, count, deleted);
    if (way.problem.empty() || !bridging_) return way;
    bridging_ = false;  // the other saves are asked as they are
    auto other = bridged(first, count, 1, {[&](std::size_t cluster) {
                           const std::uint32_t next = link(cluster);
                           return ((next & link_used) == 0) == deleted ? std::size_t{next & ~link_used}
                                                                       : super_.allocatable;
                         }});
    bridging_ = true;
    if (other) {
      other->problem.clear();
      for (const std::size_t own : other->blocks)
        if (unreadable_.contains(own)) return way;
      return *std::move(other);
    }
    return way;
  }
  std::vector<Chain> other_chains(const Slot& slot) const override {
    bridging_ = true;
    const Content content = content_of(slot.at, slot.deleted);
    bridging_ = false;
    if (!content.problem.empty()) return {};
    return {{content.clusters, "the missing links are guessed to be the clusters beside", true}};
  }
  CardSave save_by(const Slot& slot, const Chain& way) const override {
    bridging_ = way.bridged;
    CardSave save = save_at(slot, way.blocks);
    bridging_ = false;
    return save;
  }

  [[nodiscard]] Blob bytes_of(const std::vector<std::size_t>& clusters, std::size_t size) const {
    Buffer bytes(std::min(size, clusters.size() * cluster_bytes));
    std::size_t done = 0;
    for (const std::size_t cluster : clusters) {
      const std::size_t at = std::min(block_at(cluster), pages_.data().size());
      const std::size_t count =
          std::min({bytes.bytes().size() - done, cluster_bytes, pages_.data().size() - at});
      std::ranges::copy(pages_.data().subspan(at, count), bytes.bytes().subspan(done).begin());
      done += count;
    }
    return std::move(bytes).freeze(done);
  }

  // Free clusters, the lowest first, chained and marked.
  std::vector<std::size_t> allocate(std::size_t count) {
    std::vector<std::size_t> clusters;
    clusters.reserve(count);
    for (std::size_t cluster = 0; cluster < super_.allocatable && clusters.size() < count; ++cluster)
      if (use_of(cluster) == BlockUse::free) clusters.push_back(cluster);
    for (std::size_t i = 0; i < clusters.size(); ++i)
      set_link(clusters[i], link_used | (i + 1 < clusters.size() ? static_cast<std::uint32_t>(clusters[i + 1])
                                                                 : link_end));
    return clusters;
  }
  // Gives the first cluster; FFFFFFFF for no bytes.
  std::size_t write(ByteView content) {
    if (content.empty()) return 0xffffffff;
    const std::vector<std::size_t> clusters = allocate(clusters_of(content.size()));
    for (std::size_t i = 0; i < clusters.size(); ++i) {
      const std::span<Byte> out = pages_.change(block_at(clusters[i]), cluster_bytes);
      const ByteView piece =
          content.subspan(i * cluster_bytes, std::min(cluster_bytes, content.size() - i * cluster_bytes));
      std::fill(std::ranges::copy(piece, out.begin()).out, out.end(), Byte{0});
    }
    return clusters.front();
  }
  static void put_dots(std::span<Byte> inside, ByteView folder, std::size_t index) {
    for (const std::size_t i : {0U, 1U}) {
      const std::span<Byte> entry = inside.subspan(i * entry_bytes, entry_bytes);
      put_le(entry, mode_at, 2, usual_folder_mode);
      std::ranges::copy(folder.subspan(created_at, 8), entry.subspan(created_at).begin());
      std::ranges::copy(folder.subspan(modified_at, 8), entry.subspan(modified_at).begin());
      std::fill_n(entry.subspan(name_at).begin(), i + 1, Byte{'.'});
      put_le(entry, parent_entry_at, 4, i == 0 ? index : 0);
    }
  }

  // The first entry of the root that nobody uses, or the one behind the last.
  [[nodiscard]] std::size_t free_entry() const {
    for (std::size_t i = 2; i < root_.length; ++i)
      if ((le16(bytes_at(root_.entry_at(i)), mode_at) & mode_exists) == 0) return i;
    return root_.length;
  }
  // The root's clusters, after a change.
  void look_again(std::size_t at_least = 0) {
    unreadable_.clear();
    for (const EccFlaw& flaw : pages_.flaws())
      if (flaw.state == EccState::hopeless && flaw.page / 2 >= super_.first_cluster)
        unreadable_.insert(flaw.page / 2 - super_.first_cluster);
    root_ = {{}, 0, block_at(0)};
    root_problem_.clear();
    in_root_.assign(super_.allocatable, false);
    const std::size_t length = std::max<std::size_t>(le32(pages_.data(), block_at(0) + length_at), at_least);
    std::size_t cluster = 0;
    while (root_.clusters.size() < clusters_of_folder(length)) {
      if (cluster >= super_.allocatable || in_root_[cluster]) {
        root_problem_ = fmt::format("it has {} entries, and only {} of its clusters can be told", length,
                                    root_.clusters.size());
        break;
      }
      in_root_[cluster] = true;
      root_.clusters.push_back(cluster);
      const std::uint32_t next = link(cluster);
      cluster = (next & link_used) != 0 ? next & ~link_used : super_.allocatable;
    }
    root_.length = std::min(length, root_.clusters.size() * 2);
    if (!is_dots(bytes_at(block_at(0)))) root_problem_ = "it does not begin with its own entry";
  }

  Pages pages_;
  Superblock super_;
  Root root_;
  std::string root_problem_;
  std::vector<bool> in_root_;
  std::set<std::size_t> unreadable_;  // clusters
  mutable bool bridging_ = false;
};

}  // namespace

const CardFormat& ps2_format() {
  static constexpr std::size_t mega = std::size_t{1} << 20;
  static constexpr std::array sizes{ps2_size(8 * mega), ps2_size(16 * mega), ps2_size(32 * mega),
                                    ps2_size(64 * mega)};
  static constexpr std::array forms{std::string_view("ecc"), std::string_view("plain")};
  static constexpr std::array<std::size_t, 8> image_sizes{
      8 * mega,  8 * mega / 512 * 528,  16 * mega, 16 * mega / 512 * 528,
      32 * mega, 32 * mega / 512 * 528, 64 * mega, 64 * mega / 512 * 528};
  static const CardFormat format{ps2_save(),
                                 "ps2",
                                 sizes,
                                 forms,
                                 image_sizes,
                                 weigh_ps2,
                                 [](Blob image) -> std::unique_ptr<Card> {
                                   const bool spare = image.size() % (page_bytes + spare_bytes) == 0 &&
                                                      image.size() % mega != 0;
                                   return std::make_unique<Ps2Card>(image, spare);
                                 },
                                 fresh_ps2};
  return format;
}

}  // namespace bayswap
