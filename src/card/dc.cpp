#include "card/dc.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/clock.hpp"
#include "base/text.hpp"
#include "card/block_card.hpp"

namespace bayswap {
namespace {

using namespace dc;

constexpr std::size_t block_count_of_card = 256;
constexpr std::size_t card_bytes = block_count_of_card * block_size;
constexpr std::size_t user_blocks = 200;
constexpr std::size_t table_block = 254;
constexpr std::size_t directory_block = 253;  // the first; the others below it
constexpr std::size_t directory_blocks = 13;
constexpr std::size_t entries_a_block = block_size / entry_bytes;
constexpr std::size_t entry_count = directory_blocks * entries_a_block;

// ---- Allocation table: 16 bits a block ------------------------------------------------------------------
constexpr std::uint16_t link_free = 0xfffc;
constexpr std::uint16_t link_end = 0xfffa;
constexpr std::uint16_t link_broken = 0xffff;

// ---- Root, the last block -------------------------------------------------------------------------------
constexpr std::size_t root_at = 255 * block_size;
constexpr std::size_t mark_bytes = 16;
constexpr Byte mark_value = 0x55;
constexpr std::size_t formatted_at = 48;
// What is where: the same numbers on every card.
struct RootField {
  std::size_t at;
  std::uint16_t value;
  std::string_view what;
};
constexpr std::array<RootField, 11> root_fields{{{64, 255, "last block"},
                                                 {66, 0, "partition"},
                                                 {68, 255, "root block"},
                                                 {70, table_block, "block of the allocation table"},
                                                 {72, 1, "blocks of the allocation table"},
                                                 {74, directory_block, "first block of the directory"},
                                                 {76, directory_blocks, "blocks of the directory"},
                                                 {80, user_blocks, "blocks for saves"},
                                                 {82, 31, "blocks held back"},
                                                 {84, 0, "reserved"},
                                                 {86, 128, "most blocks of a game"}}};
constexpr std::size_t checked_root_fields = 7;  // the others differ between cards and are kept

// ---- A file's header: what its checksum covers ------------------------------------------------------------
constexpr std::size_t icon_count_at = 64;
constexpr std::size_t eyecatch_at = 68;
constexpr std::array<std::size_t, 4> eyecatch_bytes{0, 8064, 4544,
                                                    2048};  // none; 16 bits; 256 colours; 16 colours
constexpr std::size_t crc_at = content_crc_at;
constexpr std::size_t data_size_at = 72;
constexpr std::size_t header_bytes = 128;
constexpr std::size_t icon_bytes = 512;
constexpr std::string_view volume_icon = "ICONDATA_VMS";  // a header of its own, without a checksum

// Checksum stored, and as it should be; nothing where the file has none.
std::optional<std::pair<std::uint16_t, std::uint16_t>> checksums(const CardSave& save) {
  if (save.entry.view()[type_at] != type_data || save.name == volume_icon) return std::nullopt;
  const ByteView data = save.payload.view();
  const std::size_t size = covered_bytes(data);
  if (size == 0) return std::nullopt;
  return std::pair{le16(data, crc_at), content_crc(data.first(size))};
}

}  // namespace

std::size_t dc::covered_bytes(ByteView data) {
  if (data.size() < header_bytes) return 0;
  const std::size_t eyecatch = le16(data, eyecatch_at);
  const std::size_t icons = le16(data, icon_count_at);
  if (eyecatch >= eyecatch_bytes.size() || icons > 3 || le16(data, crc_at) == 0) return 0;
  const std::uint64_t size = header_bytes + icons * icon_bytes + eyecatch_bytes.at(eyecatch) +
                             std::uint64_t{le32(data, data_size_at)};
  return size > data.size() ? 0 : static_cast<std::size_t>(size);
}

std::optional<Blob> dc::in_true_order(ByteView entry, const Blob& payload) {
  if (entry[type_at] != type_data || payload.size() < header_bytes) return std::nullopt;
  const auto is_proven = [](ByteView data) {
    const std::size_t size = covered_bytes(data);
    return size > 0 && le16(data, crc_at) == content_crc(data.first(size));
  };
  if (is_proven(payload.view())) return std::nullopt;
  for (const std::size_t unit : {std::size_t{4}, std::size_t{2}})
    if (Blob turned = reversed_in_units(payload.view(), unit); is_proven(turned.view())) return turned;
  return std::nullopt;
}

std::uint16_t dc::content_crc(ByteView covered) {
  std::vector<Byte> bytes(covered.begin(), covered.end());
  put_le(bytes, crc_at, 2, 0);
  return crc16_ccitt(bytes);
}

namespace {

// What is the same on every card.
struct RootSigns {
  std::size_t fields = 0;  // of checked_root_fields
  std::size_t links = 0;   // of the directory's blocks, each to the one below it
};
RootSigns signs_of(ByteView image) {
  RootSigns signs;
  for (const RootField& field : std::span(root_fields).first(checked_root_fields))
    signs.fields += le16(image, root_at + field.at) == field.value ? 1 : 0;
  for (std::size_t block = max_user_blocks + 1; block <= directory_block; ++block)
    signs.links += le16(image, table_block * block_size + 2 * block) == block - 1 ? 1 : 0;
  return signs;
}

class DcCard final : public BlockCard {
 public:
  explicit DcCard(const Blob& image) : BlockCard(dc_save(), image) {}

  std::size_t block_bytes() const override { return block_size; }
  std::size_t capacity_blocks() const override { return user_blocks; }
  std::size_t blocks_for(const CardSave& save) const override { return save.payload.size() / block_size; }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t i = 0; i < entry_count; ++i)
      if (image_[entry_at(i)] != type_none) list.push_back({i, entry_at(i), false});
    return list;
  }
  Chain chain(const Slot& slot) const override {
    const ByteView entry = bytes(slot.at, entry_bytes);
    return walk(le16(entry, first_block_at), le16(entry, blocks_at),
                [&](std::size_t block) { return link_of(block); });
  }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    return named_save(CardKind::dc, Blob::copy_of(bytes(slot.at, entry_bytes)), gather(blocks));
  }
  std::size_t block_count() const override { return block_count_of_card; }
  BlockUse use_of(std::size_t block) const override {
    if (link(block) == link_broken) return BlockUse::system;
    if (block >= user_blocks)
      return block < max_user_blocks && link(block) != link_free ? BlockUse::save : BlockUse::system;
    return link(block) == link_free ? BlockUse::free : BlockUse::save;
  }
  std::size_t block_at(std::size_t block) const override { return block * block_size; }
  std::size_t mark_at(std::size_t block) const override { return link_at(block); }

  void check_medium(Problems& problems) const override {
    Byte value = 0;
    if (!is_uniform(bytes(root_at, mark_bytes), &value) || value != mark_value)
      problems.add(root_at, true, "the root block does not begin with its mark");
    for (const RootField& field : std::span(root_fields).first(checked_root_fields))
      if (le16(image_, root_at + field.at) != field.value)
        problems.add(root_at + field.at, true, "root: {}: {}, should be {}", field.what,
                     le16(image_, root_at + field.at), field.value);
    for (std::size_t block = max_user_blocks; block < block_count_of_card; ++block)
      if (link(block) != system_link(block))
        problems.add(link_at(block), true, "allocation table: block {} has {:04X}, should have {:04X}", block,
                     link(block), system_link(block));
    for (const Slot& slot : slots()) {
      const ByteView entry = bytes(slot.at, entry_bytes);
      if (entry[type_at] != type_data && entry[type_at] != type_game)
        problems.add(slot.at, false, "entry {}: unknown type {:02X}", slot.number, entry[type_at]);
      const ByteView date = entry.subspan(time_at, time_bytes);
      if (std::any_of(date.begin(), date.end(), [](Byte b) { return (b & 15U) > 9 || b >> 4U > 9; }))
        problems.add(slot.at + time_at, false, "entry {}: its date is not in decimal digits", slot.number);
      const Chain way = chain(slot);
      const CardSave save = save_at(slot, way.blocks);
      if (way.problem.empty() && in_true_order(entry, save.payload)) {
        problems.add(
            block_at(way.blocks.front()), false,
            "{}: its bytes are reversed in words: no console reads it so; take it off, and add it again",
            save.name);
        continue;
      }
      if (const auto sums = checksums(save); way.problem.empty() && sums && sums->first != sums->second)
        problems.add(block_at(way.blocks.front()) + crc_at, false,
                     "{}: checksum {:04X} in its header, {:04X} by its content", save.name, sums->first,
                     sums->second);
    }
  }

  Result<void> place(const CardSave& save) override {
    std::size_t index = 0;
    while (index < entry_count && image_[entry_at(index)] != type_none) ++index;
    if (index == entry_count)
      return fail(ErrorCode::does_not_fit, fmt::format("all {} entries of the card are taken", entry_count),
                  "drop a save, or use another card");
    const std::size_t wanted = blocks_for(save);
    std::vector<std::size_t> blocks;
    if (save.entry.view()[type_at] == type_game) {
      // A game runs where it is: from block 0 on, in a row.
      for (std::size_t block = 0; block < wanted; ++block) {
        if (use_of(block) != BlockUse::free)
          return fail(ErrorCode::does_not_fit,
                      fmt::format("{} is a game: it needs blocks 0 to {}, and block {} is taken", save.name,
                                  wanted - 1, block),
                      "drop what is there, or use another card");
        blocks.push_back(block);
      }
    } else {
      for (std::size_t block = user_blocks; block-- > 0 && blocks.size() < wanted;)
        if (use_of(block) == BlockUse::free) blocks.push_back(block);
    }
    for (std::size_t i = 0; i < wanted; ++i) {
      set_link(blocks[i], i + 1 < wanted ? static_cast<std::uint16_t>(blocks[i + 1]) : link_end);
      std::ranges::copy(save.payload.view().subspan(i * block_size, block_size),
                        bytes(block_at(blocks[i]), block_size).begin());
    }
    const std::span<Byte> entry = bytes(entry_at(index), entry_bytes);
    std::ranges::copy(save.entry.view(), entry.begin());
    put_le(entry, first_block_at, 2, blocks.front());
    put_le(entry, blocks_at, 2, wanted);
    return {};
  }
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    for (const std::size_t block : blocks) set_link(block, link_free);
    std::ranges::fill(bytes(slot.at, entry_bytes), Byte{0});
  }
  void repair_medium() override {
    std::ranges::fill(bytes(root_at, mark_bytes), mark_value);
    for (const RootField& field : std::span(root_fields).first(checked_root_fields))
      put_le(image_, root_at + field.at, 2, field.value);
    for (std::size_t block = max_user_blocks; block < block_count_of_card; ++block)
      set_link(block, system_link(block));
  }
  void release(std::size_t block) override { set_link(block, link_free); }
  std::string misunderstood() const override {
    const RootSigns signs = signs_of(image_);
    if (2 * signs.fields > checked_root_fields || 2 * signs.links > directory_blocks) return {};
    return fmt::format(
        "{} of {} fields of the root block are right, and {} of {} links of the directory: its "
        "bytes are in another order, or it is no dc card",
        signs.fields, checked_root_fields, signs.links, directory_blocks - 1);
  }

  bool can_hold(std::size_t block) const override { return block < max_user_blocks; }
  Link link_of(std::size_t block) const override {
    const std::uint16_t next = link(block);
    return {next, next == link_end, next == link_free ? "free" : next == link_broken ? "broken" : ""};
  }
  std::vector<Chain> other_chains(const Slot& slot) const override {
    const ByteView entry = bytes(slot.at, entry_bytes);
    std::vector<Chain> ways;
    const int step = entry[type_at] == type_game ? 1 : -1;
    if (auto way = bridged(le16(entry, first_block_at), le16(entry, blocks_at), step,
                           {[this](std::size_t block) { return std::size_t{link(block)}; }}))
      ways.push_back(*std::move(way));
    if (auto way = bridged(le16(entry, first_block_at), le16(entry, blocks_at), step, {}))
      ways.push_back(*std::move(way));
    return ways;
  }
  std::optional<bool> proven(const CardSave& save) const override {
    const auto sums = checksums(save);
    if (!sums) return std::nullopt;
    return sums->first == sums->second;
  }

 private:
  static std::size_t entry_at(std::size_t index) {
    return (directory_block - index / entries_a_block) * block_size + index % entries_a_block * entry_bytes;
  }
  static std::size_t link_at(std::size_t block) { return table_block * block_size + 2 * block; }
  [[nodiscard]] std::uint16_t link(std::size_t block) const { return le16(image_, link_at(block)); }
  void set_link(std::size_t block, std::uint16_t value) { put_le(image_, link_at(block), 2, value); }
  // The directory's blocks lead downwards; root and table are one block each.
  static std::uint16_t system_link(std::size_t block) {
    return block > directory_block || block == directory_block - directory_blocks + 1
               ? link_end
               : static_cast<std::uint16_t>(block - 1);
  }
};

Blob fresh_dc(const CardSize& size, const NewCardOptions& options) {
  std::vector<Byte> image(size.image_bytes);
  const std::span<Byte> root = std::span(image).subspan(root_at, block_size);
  std::ranges::fill(root.first(mark_bytes), mark_value);
  put_time(root.subspan(formatted_at, time_bytes), options.formatted);
  for (const RootField& field : root_fields) put_le(root, field.at, 2, field.value);
  for (std::size_t block = 0; block < block_count_of_card; ++block) {
    const bool system = block >= max_user_blocks;
    const bool end = block > directory_block || block == max_user_blocks;
    put_le(image, table_block * block_size + 2 * block, 2,
           !system ? link_free
           : end   ? link_end
                   : static_cast<std::uint16_t>(block - 1));
  }
  return Blob::copy_of(image);
}

double score_dc(ByteView image, std::string& evidence) {
  Byte value = 0;
  const bool mark = is_uniform(image.subspan(root_at, mark_bytes), &value) && value == mark_value;
  const bool table = le16(image, table_block * block_size + 2 * table_block) == link_end;
  if (!mark && !table) return 0;
  const auto [right, links] = signs_of(image);
  evidence = fmt::format("{}{} of {} fields of the root are right, {} of {} links of the directory",
                         mark ? "the root block has its mark, " : "", right, checked_root_fields, links,
                         directory_blocks - 1);
  // A filler's bytes may be the mark: by itself it says nothing.
  const double marked = !mark ? 0 : right + links > 1 ? 0.45 : right + links > 0 ? 0.2 : 0.05;
  return marked + 0.28 * static_cast<double>(right) / checked_root_fields +
         0.26 * static_cast<double>(links) / (directory_blocks - 1);
}

}  // namespace

const CardFormat& dc_format() {
  static constexpr std::array sizes{CardSize{user_blocks, card_bytes}};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array image_sizes{card_bytes};
  static const CardFormat format{
      dc_save(),
      "dc",
      sizes,
      forms,
      image_sizes,
      score_dc,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<DcCard>(image); },
      fresh_dc};
  return format;
}

}  // namespace bayswap
