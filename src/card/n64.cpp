#include "card/n64.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "card/block_card.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

using namespace n64;

constexpr std::size_t index_at = page_bytes;
constexpr std::array<std::size_t, 4> id_places{0x20, 0x60, 0x80, 0xc0};
constexpr std::size_t id_banks_at = 0x1a;
constexpr std::size_t note_count = 16;
constexpr std::uint16_t page_free = 3;
constexpr std::uint16_t page_last = 1;

// Of an image of several banks all ID sectors that are sound have to say so.
bool says_banks(ByteView image, std::size_t banks) {
  return sound_pak_ids(image.first(bank_bytes)) > 0 &&
         std::any_of(id_places.begin(), id_places.end(),
                     [&](std::size_t at) { return image[at + id_banks_at] == banks; });
}

class PakCard final : public BlockCard {
 public:
  explicit PakCard(const Blob& image) : BlockCard(n64_save(), image), banks_(image.size() / bank_bytes) {}

  std::size_t block_bytes() const override { return page_bytes; }
  std::size_t capacity_blocks() const override {
    return block_count() - first_data_page(banks_) - (banks_ - 1);
  }
  std::size_t blocks_for(const CardSave& save) const override { return save.payload.size() / page_bytes; }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t i = 0; i < note_count; ++i)
      if (!is_blank_note(note(i))) list.push_back({i, notes_at() + i * note_bytes, false});
    return list;
  }
  Chain chain(const Slot& slot) const override { return chain_by(table(), slot); }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    return named_save(CardKind::n64, Blob::copy_of(note(slot.number)), gather(blocks));
  }
  std::size_t block_count() const override { return banks_ * bank_pages; }
  BlockUse use_of(std::size_t page) const override {
    if (!is_data(page)) return BlockUse::system;
    return next(page) == page_free ? BlockUse::free : BlockUse::save;
  }
  std::size_t block_at(std::size_t page) const override { return page * page_bytes; }
  std::size_t mark_at(std::size_t page) const override { return entry_at(index_at, page); }
  std::string_view unit() const override { return "page"; }

  void check_medium(Problems& problems) const override {
    const int ids = sound_pak_ids(bytes(0, bank_bytes));
    if (ids < 4) problems.add(0x20, ids > 0, "{} of 4 ID sectors are sound", ids);
    for (const auto& [at, what] : {std::pair{index_at, "index table"}, std::pair{backup_at(), "its backup"}})
      for (std::size_t bank = 0; bank < banks_; ++bank)
        if (const std::size_t page = at + bank * page_bytes; image_[page + 1] != table_sum(at, bank))
          problems.add(page + 1, untrusted().empty(), "{}: checksum {:02X}, should be {:02X}", what,
                       image_[page + 1], table_sum(at, bank));
    if (!std::ranges::equal(bytes(index_at, banks_ * page_bytes), bytes(backup_at(), banks_ * page_bytes)))
      problems.add(backup_at(), untrusted().empty(), "the index table and its backup differ");
    for (const Slot& slot : slots()) {
      if ((note(slot.number)[status_at] & status_occupied) == 0)
        problems.add(slot.at + status_at, true, "note {}: not marked as occupied", slot.number);
      if (const std::string title = describe(save_at(slot, {})).title;
          title.find("\uFFFD") != std::string::npos)
        problems.add(slot.at + name_at, false, "note {}: its name has bytes that are no characters: {}",
                     slot.number, title);
    }
  }

  Result<void> place(const CardSave& save) override {
    std::size_t index = 0;
    while (index < note_count && !is_blank_note(note(index))) ++index;
    if (index == note_count)
      return fail(ErrorCode::does_not_fit, "all 16 notes of the pak are taken",
                  "drop one, or use another pak");
    const std::size_t wanted = blocks_for(save);
    std::vector<std::size_t> pages;
    for (std::size_t page = 0; page < block_count() && pages.size() < wanted; ++page)
      if (is_data(page) && next(page) == page_free) pages.push_back(page);
    repair_tables();
    for (std::size_t i = 0; i < wanted; ++i) {
      set_next(pages[i], i + 1 < wanted ? number_of(pages[i + 1]) : page_last);
      std::ranges::copy(save.payload.view().subspan(i * page_bytes, page_bytes),
                        bytes(block_at(pages[i]), page_bytes).begin());
    }
    const std::span<Byte> out = note(index);
    std::ranges::copy(save.entry.view(), out.begin());
    put_be16(out, start_at, number_of(pages.front()));
    out[status_at] |= status_occupied;
    return {};
  }
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    repair_tables();
    for (const std::size_t page : blocks) set_next(page, page_free);
    std::ranges::fill(note(slot.number), Byte{0});
  }
  void repair_medium() override {
    repair_tables();
    repair_ids();
    for (const Slot& slot : slots()) note(slot.number)[status_at] |= status_occupied;
  }
  std::string untrusted() const override {
    return is_sound(index_at) || is_sound(backup_at())
               ? ""
               : "the index table of the pak and its backup are both broken";
  }
  void release(std::size_t page) override { set_next(page, page_free); }

  Link link_of(std::size_t page) const override {
    if (!is_data(page) || !untrusted().empty()) return {0, false, "free"};
    return {page_of(next(page)), next(page) == page_last, next(page) == page_free ? "free" : ""};
  }
  std::vector<Chain> other_chains(const Slot& slot) const override {
    std::vector<Chain> ways;
    for (const std::size_t at : {backup_at(), index_at})
      if (Chain way = chain_by(at, slot); way.problem.empty()) {
        way.problem = at == backup_at()
                          ? "its pages are as the backup of the index table has them"
                          : "its pages are as the index table has them, whose checksum is wrong";
        ways.push_back(std::move(way));
      }
    return ways;
  }

 private:
  [[nodiscard]] std::size_t backup_at() const { return index_at + banks_ * page_bytes; }
  [[nodiscard]] std::size_t notes_at() const { return index_at + 2 * banks_ * page_bytes; }
  // Page 0 of further banks can't be told from their tables' checksums, and is never given out.
  [[nodiscard]] bool is_data(std::size_t page) const {
    return page >= first_data_page(banks_) && (page < bank_pages || page % bank_pages != 0);
  }
  // Of several banks a page's number has the bank in its upper byte.
  [[nodiscard]] static std::uint16_t number_of(std::size_t page) {
    return static_cast<std::uint16_t>((page / bank_pages << 8U) | page % bank_pages);
  }
  [[nodiscard]] std::size_t page_of(std::uint16_t number) const {
    if ((number & 0xffU) >= bank_pages) return block_count();
    return (number >> 8U) * bank_pages + (number & 0xffU);
  }
  [[nodiscard]] static std::size_t entry_at(std::size_t table_at, std::size_t page) {
    return table_at + page / bank_pages * page_bytes + 2 * (page % bank_pages);
  }
  [[nodiscard]] ByteView note(std::size_t index) const {
    return bytes(notes_at() + index * note_bytes, note_bytes);
  }
  [[nodiscard]] std::span<Byte> note(std::size_t index) {
    return bytes(notes_at() + index * note_bytes, note_bytes);
  }
  // The backup where only that one is sound.
  [[nodiscard]] std::size_t table() const {
    return !is_sound(index_at) && is_sound(backup_at()) ? backup_at() : index_at;
  }
  [[nodiscard]] bool is_sound(std::size_t table_at) const {
    for (std::size_t bank = 0; bank < banks_; ++bank)
      if (image_[table_at + bank * page_bytes + 1] != table_sum(table_at, bank)) return false;
    return true;
  }
  [[nodiscard]] std::uint16_t next(std::size_t page) const { return be16(image_, entry_at(table(), page)); }
  void set_next(std::size_t page, std::uint16_t value) {
    const std::size_t bank = page / bank_pages;
    for (const std::size_t at : {index_at, backup_at()}) {
      put_be16(image_, entry_at(at, page), value);
      image_[at + bank * page_bytes + 1] = table_sum(at, bank);
    }
  }
  // Both tables as the sound one has it.
  void repair_tables() {
    if (!untrusted().empty()) return;
    const std::size_t from = table();
    const std::size_t size = banks_ * page_bytes;
    const std::vector<Byte> sound(bytes(from, size).begin(), bytes(from, size).end());
    for (const std::size_t at : {index_at, backup_at()}) std::ranges::copy(sound, bytes(at, size).begin());
  }
  // Each bad ID sector from a sound one.
  void repair_ids() {
    constexpr std::size_t id_bytes = 32;
    const int before = sound_pak_ids(bytes(0, bank_bytes));
    if (before == 0 || before == 4) return;
    for (const std::size_t good : id_places) {
      std::vector<Byte> tried = image_;
      for (const std::size_t at : id_places)
        std::ranges::copy(bytes(good, id_bytes), std::span(tried).subspan(at).begin());
      if (sound_pak_ids(ByteView(tried).first(bank_bytes)) != 4) continue;
      image_ = std::move(tried);
      return;
    }
  }
  [[nodiscard]] Byte table_sum(std::size_t at, std::size_t bank) const {
    const std::size_t first = 2 * (bank == 0 ? first_data_page(banks_) : 1);
    unsigned sum = 0;
    for (const Byte b : bytes(at + bank * page_bytes + first, page_bytes - first)) sum += b;
    return static_cast<Byte>(sum);
  }

  [[nodiscard]] Chain chain_by(std::size_t table_at, const Slot& slot) const {
    Chain way;
    std::size_t page = page_of(be16(note(slot.number), start_at));
    for (;;) {
      if (page >= block_count() || !is_data(page))
        way.problem = way.blocks.empty() ? fmt::format("it begins at page {}, where no note can", page)
                                         : fmt::format("page {} leads to page {}, where no note can be",
                                                       way.blocks.back(), page);
      else if (std::ranges::find(way.blocks, page) != way.blocks.end())
        way.problem = fmt::format("its pages lead in a circle at page {}", page);
      if (!way.problem.empty()) return way;
      way.blocks.push_back(page);
      const std::uint16_t following = be16(image_, entry_at(table_at, page));
      if (following == page_last) return way;
      if (following == page_free) {
        way.problem = fmt::format("page {} is marked as free", page);
        return way;
      }
      page = page_of(following);
    }
  }

  std::size_t banks_;
};

double score_pak(ByteView image, std::string& evidence) {
  if (const std::size_t banks = image.size() / bank_bytes; banks > 1) {
    if (!says_banks(image, banks)) return 0;
    evidence = fmt::format("a controller pak of {} banks by its ID sectors", banks);
    return 0.99;
  }
  const int ids = sound_pak_ids(image);
  if (ids > 0) {
    evidence = fmt::format("{} of 4 controller pak ID sectors are sound", ids);
    return 0.6 + 0.095 * ids;
  }
  // Two index tables that agree, with something in them: worth a look for rescue.
  const ByteView index = image.subspan(index_at, page_bytes);
  if (is_uniform(index) || !std::ranges::equal(index, image.subspan(index_at + page_bytes, page_bytes)))
    return 0;
  evidence = "no ID sector is sound, but the index table and its backup agree";
  return 0.3;
}

}  // namespace

const CardFormat& n64_format() {
  static constexpr std::array sizes{CardSize{bank_pages - first_data_page(1), pak_size_bytes}};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array image_sizes{bank_bytes, 2 * bank_bytes, 4 * bank_bytes, 8 * bank_bytes};
  static const CardFormat format{
      n64_save(),
      "n64",
      sizes,
      forms,
      image_sizes,
      score_pak,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<PakCard>(image); },
      [](const CardSize&, const NewCardOptions&) { return fresh_pak(1); },
      [](ByteView image) {
        const std::size_t banks = image.size() / bank_bytes;
        return banks > 1 ? says_banks(image, banks) : sound_pak_ids(image) > 0;
      },
      has_pak_id};
  return format;
}

}  // namespace bayswap
