#include "card/gc.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "card/block_card.hpp"

namespace bayswap {
namespace {

using namespace gc;

// ---- Header, in block 0 -----------------------------------------------------------------------------
constexpr std::size_t serial_bytes = 12;
constexpr std::size_t format_time_at = 12;  // 64 bits, ticks since 2000
constexpr std::int64_t ticks_a_second = 40500000;
// From 20 on 4 bytes each: what the console had set as clock bias, language, video; at 32 the slot.
constexpr std::size_t megabits_at = 34;  // 16 blocks each
constexpr std::size_t blocks_a_megabit = 16;
constexpr std::size_t encoding_at = 36;  // 0: western; 1: Shift-JIS
constexpr std::size_t header_rest_at = 38;
constexpr std::size_t header_sum_at = 508;
// ---- Directory, in blocks 1 and 2 ---------------------------------------------------------------------
constexpr std::array<std::size_t, 2> directories{block_size, 2 * block_size};
constexpr std::size_t entry_count = 127;
constexpr std::size_t directory_counter_at = 8186;
constexpr std::size_t directory_sum_at = 8188;
// ---- Allocation table, in blocks 3 and 4 ----------------------------------------------------------------
constexpr std::array<std::size_t, 2> tables{3 * block_size, 4 * block_size};
constexpr std::size_t table_counter_at = 4;
constexpr std::size_t free_at = 6;
constexpr std::size_t last_allocated_at = 8;
constexpr std::size_t links_at = 10;  // 16 bits a block, from block 5 on; 0: free
constexpr std::uint16_t link_end = 0xffff;

// The sum of the 16-bit words, and that of their complements; FFFF becomes 0.
struct Sums {
  std::uint16_t plain = 0;
  std::uint16_t inverse = 0;
  bool operator==(const Sums&) const = default;
};
Sums sums_of(ByteView area) {
  std::uint32_t plain = 0;
  for (std::size_t i = 0; i + 1 < area.size(); i += 2) plain += be16(area, i);
  const auto words = static_cast<std::uint32_t>(area.size() / 2);
  const auto wrap = [](std::uint32_t sum) {
    const auto low = static_cast<std::uint16_t>(sum & 0xffff);
    return low == 0xffff ? std::uint16_t{0} : low;
  };
  return {wrap(plain), wrap(words * 0xffffU - plain)};
}

// An area with a checksum pair: where it begins, how long it is, where the pair is.
struct Area {
  std::size_t at;
  std::size_t size;
  std::size_t sum_at;
};
constexpr Area header{0, header_sum_at, header_sum_at};
constexpr Area directory(std::size_t copy) {
  return {directories.at(copy), directory_sum_at, directories.at(copy) + directory_sum_at};
}
constexpr Area table(std::size_t copy) {
  return {tables.at(copy) + 4, block_size - 4, tables.at(copy)};
}
Sums stored(ByteView image, const Area& area) {
  return {be16(image, area.sum_at), be16(image, area.sum_at + 2)};
}
bool has_right_sums(ByteView image, const Area& area) {
  return stored(image, area) == sums_of(image.subspan(area.at, area.size));
}
std::size_t free_by_links(ByteView image, std::size_t table_at) {
  std::size_t count = 0;
  for (std::size_t block = system_blocks; block < image.size() / block_size; ++block)
    count += be16(image, table_at + links_at + 2 * (block - system_blocks)) == 0 ? 1 : 0;
  return count;
}
// The console also counts the free blocks of an allocation table: one whose head says another number counts
// as broken.
bool is_sound(ByteView image, const Area& area) {
  if (!has_right_sums(image, area)) return false;
  const auto* table = std::find(tables.begin(), tables.end(), area.sum_at);
  return table == tables.end() || free_by_links(image, *table) == be16(image, *table + free_at);
}
void checksum_area(std::span<Byte> image, const Area& area) {
  const Sums sums = sums_of(image.subspan(area.at, area.size));
  put_be16(image, area.sum_at, sums.plain);
  put_be16(image, area.sum_at + 2, sums.inverse);
}
// The copy that counts: the sound one, or of two the one with the later counter.
std::size_t current(ByteView image, Area (*area)(std::size_t), std::size_t counter_0, std::size_t counter_1) {
  const bool first = is_sound(image, area(0));
  const bool second = is_sound(image, area(1));
  if (first != second) return first ? 0 : 1;
  const auto ahead = static_cast<std::int16_t>(be16(image, counter_1) - be16(image, counter_0));
  return ahead > 0 ? 1 : 0;
}

class GcCard final : public BlockCard {
 public:
  explicit GcCard(const Blob& image) : BlockCard(gc_save(), image) { refresh(); }

  std::size_t block_bytes() const override { return block_size; }
  std::size_t capacity_blocks() const override { return block_count() - system_blocks; }
  std::size_t blocks_for(const CardSave& save) const override { return save.payload.size() / block_size; }
  // The console formats a card for its own encoding, and takes no other.
  std::vector<std::string> warnings_for(const CardSave& save) const override {
    const Region region = describe(save).region;
    const bool is_japanese = be16(image_, encoding_at) == 1;
    if (region == Region::unknown || (region == Region::japan) == is_japanese) return {};
    return {fmt::format(
        "the card is formatted for {} consoles, and {} is of {}: a console reads only cards of its "
        "own encoding, so the game does not find it here",
        is_japanese ? "Japanese" : "western", save.name, name(region))};
  }

 protected:
  std::vector<Slot> slots() const override { return slots_of(current_directory(), false); }
  Chain chain(const Slot& slot) const override { return chain_by(current_table(), slot); }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    return named_save(CardKind::gc, Blob::copy_of(bytes(slot.at, entry_bytes)), gather(blocks));
  }
  std::size_t block_count() const override { return image_.size() / block_size; }
  BlockUse use_of(std::size_t block) const override {
    if (block < system_blocks) return BlockUse::system;
    return link(current_table(), block) == 0 ? BlockUse::free : BlockUse::save;
  }
  std::size_t block_at(std::size_t block) const override { return block * block_size; }
  std::size_t mark_at(std::size_t block) const override { return link_at(current_table(), block); }

  void check_medium(Problems& problems) const override {
    if (!is_sound(image_, header)) report_sum(problems, header, "header", true);
    if (be16(image_, megabits_at) != block_count() / blocks_a_megabit)
      problems.add(megabits_at, true, "header: {} Mbit, and the image has {}", be16(image_, megabits_at),
                   block_count() / blocks_a_megabit);
    if (be16(image_, encoding_at) > 1)
      problems.add(encoding_at, false, "header: unknown encoding {}", be16(image_, encoding_at));
    for (const std::size_t copy : {0U, 1U}) {
      if (!is_sound(image_, directory(copy)))
        report_sum(problems, directory(copy), copy == 0 ? "directory" : "backup of the directory",
                   is_sound(image_, directory(1 - copy)) && orphans().empty());
      const std::string_view what = copy == 0 ? "allocation table" : "backup of the allocation table";
      const std::size_t at = tables.at(copy);
      if (!has_right_sums(image_, table(copy)))
        report_sum(problems, table(copy), what, is_sound(image_, table(1 - copy)));
      else if (be16(image_, at + free_at) != free_blocks_by(copy))
        problems.add(at + free_at, true,
                     "{}: {} blocks free by its head, {} by its links: the console takes it for broken", what,
                     be16(image_, at + free_at), free_blocks_by(copy));
    }
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t wanted = blocks_for(save);
    const std::size_t slot = free_entry();
    if (slot == entry_count)
      return fail(ErrorCode::does_not_fit, fmt::format("all {} entries of the card are taken", entry_count),
                  "drop a save, or use another card");
    const std::size_t at = turn_table();
    // On from the block that was given last, as the console does.
    std::vector<std::size_t> blocks;
    std::size_t block = be16(image_, at + last_allocated_at);
    for (std::size_t i = 0; i < block_count() && blocks.size() < wanted; ++i) {
      block = block + 1 >= block_count() || block + 1 < system_blocks ? system_blocks : block + 1;
      if (be16(image_, at + links_at + 2 * (block - system_blocks)) == 0) blocks.push_back(block);
    }
    for (std::size_t i = 0; i < wanted; ++i) {
      const std::uint16_t next = i + 1 < wanted ? static_cast<std::uint16_t>(blocks[i + 1]) : link_end;
      put_be16(image_, at + links_at + 2 * (blocks[i] - system_blocks), next);
      std::ranges::copy(save.payload.view().subspan(i * block_size, block_size),
                        bytes(block_at(blocks[i]), block_size).begin());
    }
    put_be16(image_, at + last_allocated_at, static_cast<std::uint16_t>(blocks.back()));
    put_be16(image_, at + free_at, static_cast<std::uint16_t>(be16(image_, at + free_at) - wanted));
    const std::span<Byte> entry = bytes(turn_directory() + slot * entry_bytes, entry_bytes);
    std::ranges::copy(save.entry.view(), entry.begin());
    put_be16(entry, first_block_at, static_cast<std::uint16_t>(blocks.front()));
    put_be16(entry, blocks_at, static_cast<std::uint16_t>(wanted));
    update_checksums();
    return {};
  }
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    const std::size_t at = turn_directory();
    std::ranges::fill(bytes(at + slot.number * entry_bytes, entry_bytes), Byte{0xff});
    const std::size_t links = turn_table();
    for (const std::size_t block : blocks)
      put_be16(image_, links + links_at + 2 * (block - system_blocks), 0);
    put_be16(image_, links + free_at, static_cast<std::uint16_t>(free_by_links(image_, links)));
    update_checksums();
  }
  void repair_medium() override {
    put_be16(image_, megabits_at, static_cast<std::uint16_t>(block_count() / blocks_a_megabit));
    checksum_area(image_, header);
    // The links first: it is the count that is wrong, and the other copy may not know the newest save.
    for (const std::size_t copy : {0U, 1U})
      if (has_right_sums(image_, table(copy)) && !is_sound(image_, table(copy))) {
        put_be16(image_, tables.at(copy) + free_at, static_cast<std::uint16_t>(free_blocks_by(copy)));
        checksum_area(image_, table(copy));
      }
    if (orphans().empty()) repair_copy(directory, directories);
    repair_copy(table, tables);
    refresh();
  }
  std::string untrusted() const override {
    if (!has_sound_copies()) return "the directory or the allocation table is broken, and its backup too";
    for (const std::size_t copy : {0U, 1U})
      if (has_right_sums(image_, table(copy)) && !is_sound(image_, table(copy)))
        return "an allocation table contradicts its own count of free blocks: repair the card first";
    // A change would be written over the broken copy, and that one may be all that names them.
    if (!is_sound(image_, directory(1 - current_directory())) && !orphans().empty())
      return "a copy of the directory is broken, and blocks are in use that the other one does not name";
    return "";
  }
  // Blocks without an owner may belong to a save that only the broken copy of the directory names: then that
  // copy stays as it is, and they stay in use.
  bool is_lost_for_sure() const override {
    return untrusted().empty() && is_sound(image_, directory(0)) && is_sound(image_, directory(1));
  }
  void release(std::size_t block) override {
    const std::size_t copy = current_table();
    put_be16(image_, link_at(copy, block), 0);
    put_be16(image_, tables.at(copy) + free_at, static_cast<std::uint16_t>(free_blocks_by(copy)));
    checksum_area(image_, table(copy));
  }
  void update_checksums() override {
    // Only what was sound, or was just made from it: the newer copy of each.
    for (const std::size_t copy : {0U, 1U}) {
      if (directory_turned_ == copy + 1) checksum_area(image_, directory(copy));
      if (table_turned_ == copy + 1) checksum_area(image_, table(copy));
    }
    refresh();
  }

  std::vector<Slot> hidden_slots() const override {
    const std::size_t now = current_directory();
    const bool trusted = is_sound(image_, directory(now));
    std::vector<Slot> list;
    for (Slot slot : slots_of(1 - now, trusted)) {
      const ByteView entry = bytes(slot.at, entry_bytes);
      const bool still_there = std::ranges::any_of(slots(), [&](const Slot& other) {
        return std::ranges::equal(bytes(other.at, entry_bytes), entry);
      });
      if (!still_there) list.push_back(slot);
    }
    return list;
  }
  Link link_of(std::size_t block) const override {
    if (block < system_blocks || !table_is_sound_) return {0, false, "free"};
    return link_by(current_table(), block);
  }
  std::vector<Chain> other_chains(const Slot& slot) const override {
    std::vector<Chain> ways;
    const std::size_t now = current_table();
    if (Chain way = chain_by(1 - now, slot); way.problem.empty()) {
      way.problem = std::string("its blocks are as the other allocation table has them");
      ways.push_back(std::move(way));
    }
    const ByteView entry = bytes(slot.at, entry_bytes);
    const auto links = [this](std::size_t copy) {
      return [this, copy](std::size_t block) { return std::size_t{link(copy, block)}; };
    };
    if (auto way =
            bridged(be16(entry, first_block_at), be16(entry, blocks_at), 1, {links(now), links(1 - now)}))
      ways.push_back(*std::move(way));
    return ways;
  }

 private:
  // Which copies count: told by their checksums, so asked once a change.
  void refresh() {
    directory_now_ = current(image_, directory, directories[0] + directory_counter_at,
                             directories[1] + directory_counter_at);
    table_now_ = current(image_, table, tables[0] + table_counter_at, tables[1] + table_counter_at);
    table_is_sound_ = is_sound(image_, table(table_now_));
  }
  [[nodiscard]] bool has_sound_copies() const {
    return is_sound(image_, table(current_table())) && is_sound(image_, directory(current_directory()));
  }
  [[nodiscard]] std::size_t current_directory() const { return directory_now_; }
  [[nodiscard]] std::size_t current_table() const { return table_now_; }
  [[nodiscard]] std::size_t link_at(std::size_t copy, std::size_t block) const {
    return tables.at(copy) + links_at + 2 * (block - system_blocks);
  }
  [[nodiscard]] std::uint16_t link(std::size_t copy, std::size_t block) const {
    return be16(image_, link_at(copy, block));
  }
  [[nodiscard]] std::size_t free_blocks_by(std::size_t copy) const {
    return free_by_links(image_, tables.at(copy));
  }
  [[nodiscard]] std::vector<Slot> slots_of(std::size_t copy, bool deleted) const {
    std::vector<Slot> list;
    for (std::size_t i = 0; i < entry_count; ++i) {
      const std::size_t at = directories.at(copy) + i * entry_bytes;
      if (!is_no_entry(bytes(at, entry_bytes))) list.push_back({i, at, deleted});
    }
    return list;
  }
  [[nodiscard]] std::size_t free_entry() const {
    std::size_t i = 0;
    while (i < entry_count &&
           !is_no_entry(bytes(directories.at(current_directory()) + i * entry_bytes, entry_bytes)))
      ++i;
    return i;
  }
  static void report(Problems& problems, const Area& area, const Sums& is, const Sums& should,
                     std::string_view what, bool repairable) {
    problems.add(area.sum_at, repairable, "{}: checksums {:04X} {:04X}, should be {:04X} {:04X}", what,
                 is.plain, is.inverse, should.plain, should.inverse);
  }
  void report_sum(Problems& problems, const Area& area, std::string_view what, bool repairable) const {
    report(problems, area, stored(image_, area), sums_of(bytes(area.at, area.size)), what, repairable);
  }
  // A change goes into the older copy, with the counter one on; the other stays as it was.
  std::size_t turn_directory() {
    return turn(current_directory(), directories, directory_counter_at, directory_turned_);
  }
  std::size_t turn_table() { return turn(current_table(), tables, table_counter_at, table_turned_); }
  std::size_t turn(std::size_t now, const std::array<std::size_t, 2>& copies, std::size_t counter_at,
                   std::size_t& turned) {
    const std::size_t to = copies.at(1 - now);
    std::ranges::copy(bytes(copies.at(now), block_size), bytes(to, block_size).begin());
    put_be16(image_, to + counter_at, static_cast<std::uint16_t>(be16(image_, to + counter_at) + 1));
    turned = 2 - now;
    return to;
  }
  void repair_copy(Area (*area)(std::size_t), const std::array<std::size_t, 2>& copies) {
    for (const std::size_t copy : {0U, 1U})
      if (!is_sound(image_, area(copy)) && is_sound(image_, area(1 - copy)))
        std::ranges::copy(bytes(copies.at(1 - copy), block_size), bytes(copies.at(copy), block_size).begin());
  }

  [[nodiscard]] Chain chain_by(std::size_t copy, const Slot& slot) const {
    const ByteView entry = bytes(slot.at, entry_bytes);
    return walk(be16(entry, first_block_at), be16(entry, blocks_at),
                [&](std::size_t block) { return link_by(copy, block); });
  }
  [[nodiscard]] Link link_by(std::size_t copy, std::size_t block) const {
    const std::uint16_t next = link(copy, block);
    return {next, next == link_end, next == 0 ? "free" : ""};
  }

  std::size_t directory_now_ = 0;
  std::size_t table_now_ = 0;
  bool table_is_sound_ = false;       // as of the last refresh
  std::size_t directory_turned_ = 0;  // which copy was written in this session, counted from 1
  std::size_t table_turned_ = 0;
};

Blob fresh_gc(const CardSize& size, const NewCardOptions& options) {
  std::vector<Byte> image(size.image_bytes, 0xff);
  const std::span<Byte> all(image);
  // The serial number comes from the flash chip and the time: here from the time alone.
  std::ranges::fill(all.first(header_rest_at), Byte{0});
  const std::uint64_t ticks =
      options.formatted > epoch ? static_cast<std::uint64_t>(options.formatted - epoch) * ticks_a_second : 0;
  std::uint64_t random = ticks;
  for (std::size_t i = 0; i < serial_bytes; ++i) {
    random = ((random * 0x41c64e6dU) + 0x3039U) >> 16U;
    all[i] = static_cast<Byte>(random & 0xffU);
    random = ((random * 0x41c64e6dU + 0x3039U) >> 16U) & 0x7fffU;
  }
  put_be32(all, format_time_at, static_cast<std::uint32_t>(ticks >> 32U));
  put_be32(all, format_time_at + 4, static_cast<std::uint32_t>(ticks & 0xffffffffU));
  put_be16(all, megabits_at, static_cast<std::uint16_t>(size.image_bytes / block_size / blocks_a_megabit));
  put_be16(all, encoding_at, options.japanese ? 1 : 0);
  checksum_area(all, header);
  for (const std::size_t copy : {0U, 1U}) {
    put_be16(all, directories.at(copy) + directory_counter_at, static_cast<std::uint16_t>(copy));
    checksum_area(all, directory(copy));
    std::ranges::fill(all.subspan(tables.at(copy), block_size), Byte{0});
    put_be16(all, tables.at(copy) + table_counter_at, static_cast<std::uint16_t>(copy));
    put_be16(all, tables.at(copy) + free_at, static_cast<std::uint16_t>(size.blocks));
    put_be16(all, tables.at(copy) + last_allocated_at, system_blocks - 1);
    checksum_area(all, table(copy));
  }
  return Blob::copy_of(image);
}

double score_gc(ByteView image, std::string& evidence) {
  const std::size_t blocks = image.size() / block_size;
  const bool size = be16(image, megabits_at) == blocks / blocks_a_megabit && be16(image, encoding_at) <= 1;
  int sound = size && is_sound(image, header) ? 1 : 0;
  for (const std::size_t copy : {0U, 1U}) {
    const std::size_t names = directories.at(copy);
    const bool plausible = image[names] == 0xff || (image[names] > 0x20 && image[names] < 0x7f);
    if (plausible && image[names + directory_counter_at - 1] == 0xff && is_sound(image, directory(copy)))
      ++sound;
    const std::size_t links = tables.at(copy);
    if (be16(image, links + free_at) <= blocks - system_blocks &&
        be16(image, links + last_allocated_at) >= system_blocks - 1 &&
        be16(image, links + last_allocated_at) < blocks && is_sound(image, table(copy)))
      ++sound;
  }
  if (!size && sound == 0) return 0;
  evidence = fmt::format("{} of 5 checksums of header, directories and allocation tables are right{}", sound,
                         size ? ", and the header has the size of the image" : "");
  return std::min(0.99, (size ? 0.24 : 0.0) + 0.15 * sound);
}

}  // namespace

const CardFormat& gc_format() {
  static constexpr auto size = [](std::size_t megabits) {
    return CardSize{megabits * blocks_a_megabit - system_blocks, megabits * blocks_a_megabit * block_size};
  };
  static constexpr std::array sizes{size(16), size(4), size(8), size(32), size(64), size(128)};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array image_sizes{sizes[0].image_bytes, sizes[1].image_bytes, sizes[2].image_bytes,
                                          sizes[3].image_bytes, sizes[4].image_bytes, sizes[5].image_bytes};
  static const CardFormat format{
      gc_save(),
      "gc",
      sizes,
      forms,
      image_sizes,
      score_gc,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<GcCard>(image); },
      fresh_gc};
  return format;
}

}  // namespace bayswap
