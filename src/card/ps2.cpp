#include "card/ps2.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "card/block_card.hpp"
#include "card/ps2_tree.hpp"

namespace bayswap {
namespace {

using namespace ps2;

class Ps2Card final : public BlockCard {
 public:
  Ps2Card(const Blob& image, bool with_spare) : BlockCard(ps2_save(), Blob{}), tree_(image, with_spare) {}

  std::string_view form() const override { return tree_.pages().with_spare() ? "ecc" : "plain"; }
  std::size_t block_bytes() const override { return cluster_bytes; }
  std::size_t capacity_blocks() const override {
    return tree_.super().console_limit - 1;
  }  // one is the root's
  Blob image() const override { return tree_.pages().file(); }

  std::size_t blocks_for(const CardSave& save) const override {
    const bool root_grows = tree_.free_entry() == tree_.root().length && tree_.root().length % 2 == 0;
    std::size_t count = root_grows ? 1 : 0;
    if (save.files.empty() && !save.payload.empty()) return count + clusters_of(save.payload.size());
    count += clusters_of_folder(save.files.size() + 2);
    for (const CardFile& file : save.files) count += clusters_of(file.bytes.size());
    return count;
  }
  std::vector<std::string> notes() const override {
    if (!tree_.pages().has_blank_codes()) return {};
    return {"its spare areas are all 00: there are no codes to check its data by"};
  }
  std::vector<FoundSave> carve(std::size_t present_bytes) const override {
    return BlockCard::carve(
        tree_.pages().with_spare() ? present_bytes / (page_bytes + spare_bytes) * page_bytes : present_bytes);
  }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t i = 2; i < tree_.root().length; ++i) {
      const ByteView entry = tree_.entry(tree_.root().entry_at(i));
      const unsigned mode = le16(entry, mode_at);
      if ((mode & (mode_folder | mode_file)) == 0 || entry[name_at] == 0 || is_dots(entry)) continue;
      const bool exists = (mode & mode_exists) != 0;
      // The folder that another one was made over keeps its name until its entry is used again.
      list.push_back({i, tree_.root().entry_at(i), !exists});
    }
    return list;
  }

  Chain chain(const Slot& slot) const override {
    const Content& content = content_of(slot);
    return {content.clusters, content.problem, false};
  }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& /*blocks*/) const override {
    return save_of(slot, content_of(slot));
  }
  CardSave save_by(const Slot& slot, const Chain& way) const override {
    return way.bridged ? save_of(slot, tree_.content_of(slot.at, slot.deleted, bridge(slot)))
                       : save_of(slot, content_of(slot));
  }
  // The title needs one file only.
  CardEntry listed(const Slot& slot, const Chain& /*chain*/) const override {
    const Content& content = content_of(slot);
    CardSave light{CardKind::ps2, {}, {}, Blob::copy_of(tree_.entry(slot.at)), {}, {}};
    std::size_t size = content.is_folder ? 0 : le32(light.entry.view(), length_at);
    for (const Inside& one : content.files) {
      const ByteView its = tree_.entry(one.entry_at);
      size += le32(its, length_at);
      if (name_of_entry(its) == "icon.sys")
        light.files.push_back({"icon.sys", Blob{}, tree_.read(one.clusters, le32(its, length_at))});
    }
    CardEntry entry = describe(light);
    entry.size_bytes = size;
    return entry;
  }
  std::size_t block_count() const override { return tree_.super().allocatable; }
  BlockUse use_of(std::size_t cluster) const override {
    if (tree_.is_system(cluster)) return BlockUse::system;
    return tree_.is_free(cluster) ? BlockUse::free : BlockUse::save;
  }
  std::size_t block_at(std::size_t cluster) const override { return tree_.offset_of(cluster); }
  std::size_t mark_at(std::size_t cluster) const override {
    return tree_.super().link_at(tree_.pages(), cluster);
  }
  std::string_view unit() const override { return "cluster"; }

  void check_medium(Problems& problems) const override {
    if (!tree_.super().problem.empty()) problems.add(0, false, "superblock: {}", tree_.super().problem);
    for (const std::size_t at : tree_.super().broken_pointers(tree_.pages()))
      problems.add(at, false, "the pointer to a table is {}, where there is none", tree_.pages().number(at));
    for (const EccFlaw& flaw : tree_.pages().flaws())
      problems.add(flaw.page * (page_bytes + spare_bytes) + flaw.chunk * ecc_chunk_bytes,
                   flaw.state != EccState::hopeless, "page {}, chunk {}: {}", flaw.page, flaw.chunk,
                   flaw.state == EccState::one_bit     ? "one bit is wrong by its ECC"
                   : flaw.state == EccState::code_only ? "the ECC itself has a wrong bit"
                                                       : "more bits are wrong than its ECC can correct");
    if (!tree_.root().problem.empty()) problems.add(block_at(0), false, "root: {}", tree_.root().problem);
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t index = tree_.free_entry();
    const bool grows = index == tree_.root().length;
    if (grows && index % 2 == 0) {
      const std::vector<std::size_t> more = tree_.allocate(1);
      tree_.set_link(tree_.root().clusters.back(), link_used | static_cast<std::uint32_t>(more.front()));
    }
    tree_.refresh(index + 1);
    if (tree_.root().length <= index)
      return fail(ErrorCode::damaged, "the root folder can't grow: the card's allocation table is broken", "",
                  {Remedy::Kind::rescue_card, {}});
    const std::span<Byte> entry = tree_.pages().change(tree_.root().entry_at(index), entry_bytes);
    std::ranges::copy(save.entry.view(), entry.begin());
    const bool folder = (le16(entry, mode_at) & mode_folder) != 0;
    put_le(entry, mode_at, 2, le16(entry, mode_at) | mode_exists);
    if (!folder) {
      put_le(entry, cluster_at, 4, tree_.write(save.payload.view()));
    } else {
      std::vector<Byte> inside((save.files.size() + 2) * entry_bytes);
      const std::span<Byte> all(inside);
      put_dots(all, save.entry.view(), index);
      for (std::size_t i = 0; i < save.files.size(); ++i) {
        const std::span<Byte> its = all.subspan((i + 2) * entry_bytes, entry_bytes);
        std::ranges::copy(save.files[i].entry.view(), its.begin());
        put_le(its, mode_at, 2, le16(its, mode_at) | mode_exists);
      }
      const std::size_t first = tree_.write(inside);
      put_le(entry, length_at, 4, save.files.size() + 2);
      put_le(entry, cluster_at, 4, first);
      const std::vector<std::size_t> own =
          tree_.row(first, clusters_of_folder(save.files.size() + 2), false).clusters;
      if (own.size() != clusters_of_folder(save.files.size() + 2))
        return fail(ErrorCode::damaged,
                    "the save's folder can't be read back: the allocation table is broken", "",
                    {Remedy::Kind::rescue_card, {}});
      for (std::size_t i = 0; i < save.files.size(); ++i) {
        const std::size_t at = block_at(own[(i + 2) / 2]) + (i + 2) % 2 * entry_bytes;
        const std::size_t data = tree_.write(save.files[i].bytes.view());
        put_le(tree_.pages().change(at + cluster_at, 4), 0, 4, data);
      }
    }
    if (grows) put_le(tree_.pages().change(block_at(0) + length_at, 4), 0, 4, index + 1);
    std::ranges::copy(save.entry.view().subspan(modified_at, 8),
                      tree_.pages().change(block_at(0) + modified_at, 8).begin());
    tree_.refresh();
    return {};
  }
  // Entries lose their mark, clusters too; names and links stay.
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    const Content content = tree_.content_of(slot.at, false);
    const auto unmark = [&](std::size_t at) {
      const unsigned mode = le16(tree_.entry(at), mode_at);
      put_le(tree_.pages().change(at + mode_at, 2), 0, 2, mode & ~mode_exists);
    };
    for (const Inside& one : content.files) unmark(one.entry_at);
    unmark(slot.at);
    for (const std::size_t cluster : blocks) release(cluster);
    tree_.refresh();
  }
  std::string untrusted() const override {
    if (!tree_.super().problem.empty()) return "the superblock is broken: " + tree_.super().problem;
    return tree_.root().problem.empty() ? "" : "the root folder is broken: " + tree_.root().problem;
  }
  void repair_medium() override { tree_.pages().repair(); }
  void release(std::size_t cluster) override { tree_.set_link(cluster, tree_.link(cluster) & ~link_used); }

  std::vector<Slot> hidden_slots() const override {
    // Entries of folders that the root does not lead to: anywhere on the card.
    std::vector<Slot> list;
    std::set<std::size_t> known;
    for (const Slot& slot : slots()) known.insert(slot.at);
    for (std::size_t i = 0; i < tree_.super().allocatable; ++i) {
      const std::size_t at = block_at(i);
      if (at + cluster_bytes > tree_.pages().size()) break;
      for (const std::size_t half : {at, at + entry_bytes}) {
        const ByteView entry = tree_.entry(half);
        if ((entry[mode_at] & mode_folder) == 0) continue;
        const unsigned mode = le16(entry, mode_at);
        if (known.contains(half) || (mode & mode_file) != 0 || is_dots(entry) ||
            !is_plain_text(entry.subspan(name_at, name_bytes)))
          continue;
        const std::size_t first = le32(entry, cluster_at);
        if (first >= tree_.super().allocatable || !tree_.begins_with_dots(first)) continue;
        list.push_back({i * 2 + (half == at ? 0U : 1U), half, (mode & mode_exists) == 0});
      }
    }
    return list;
  }

  std::vector<Chain> other_chains(const Slot& slot) const override {
    const Content content = tree_.content_of(slot.at, slot.deleted, bridge(slot));
    if (!content.problem.empty()) return {};
    return {{content.clusters, "the missing links are guessed to be the clusters beside", true}};
  }

  void forget() const override { contents_.clear(); }

 private:
  // Each is asked for several times: which clusters, what name, what content.
  [[nodiscard]] const Content& content_of(const Slot& slot) const {
    const auto known = contents_.find(slot.at);
    if (known != contents_.end()) return known->second;
    return contents_.emplace(slot.at, tree_.content_of(slot.at, slot.deleted)).first->second;
  }
  [[nodiscard]] CardSave save_of(const Slot& slot, const Content& content) const {
    const Blob entry = Blob::copy_of(tree_.entry(slot.at));
    if (!content.is_folder)
      return named_save(CardKind::ps2, entry, tree_.read(content.own, le32(entry.view(), length_at)));
    std::vector<CardFile> files;
    for (const Inside& one : content.files) {
      const ByteView its = tree_.entry(one.entry_at);
      files.push_back(
          {name_of_entry(its), Blob::copy_of(its), tree_.read(one.clusters, le32(its, length_at))});
    }
    return named_save(CardKind::ps2, entry, Blob{}, std::move(files));
  }
  // Where links are broken, the clusters beside; none that the ECC could not repair.
  [[nodiscard]] Bridge bridge(const Slot& slot) const {
    return [this, deleted = slot.deleted](std::size_t first, std::size_t count) -> std::optional<Row> {
      const auto way = bridged(first, count, 1, {[&](std::size_t cluster) {
                                 const std::uint32_t next = tree_.link(cluster);
                                 return ((next & link_used) == 0) == deleted ? std::size_t{next & ~link_used}
                                                                             : tree_.super().allocatable;
                               }});
      if (!way || std::ranges::any_of(way->blocks, [&](std::size_t own) { return tree_.is_unreadable(own); }))
        return std::nullopt;
      return Row{way->blocks, {}};
    };
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

  Tree tree_;
  mutable std::map<std::size_t, Content> contents_;  // by where the entry is
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
                                 score_ps2,
                                 [](const Blob& image) -> std::unique_ptr<Card> {
                                   const bool spare = image.size() % (page_bytes + spare_bytes) == 0 &&
                                                      image.size() % mega != 0;
                                   return std::make_unique<Ps2Card>(image, spare);
                                 },
                                 fresh_ps2};
  return format;
}

}  // namespace bayswap
