// pce backup memory: 2 KiB, entries one after the other, each with its data (docs/formats/pce.md).
#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "card/block_card.hpp"

namespace bayswap {
namespace {

constexpr std::size_t memory_bytes = 2048;
constexpr std::array<Byte, 4> mark{'H', 'U', 'B', 'M'};
constexpr std::size_t end_at = 4;   // 16 bits: address after the memory
constexpr std::size_t free_at = 6;  // 16 bits: address of the first free byte
constexpr std::uint16_t base_address = 0x8000;
constexpr std::size_t first_entry = 16;

// ---- An entry -----------------------------------------------------------------------------------
constexpr std::size_t size_at = 0;      // 16 bits, of entry and data; 0: no more entries
constexpr std::size_t checksum_at = 2;  // 16 bits: with it the bytes from 4 on come to 0
constexpr std::size_t summed_at = 4;
constexpr std::size_t entry_bytes = 16;
constexpr std::size_t closing_bytes = 2;  // the size 0 after the last one

std::uint16_t checksum(ByteView entry_and_data) {
  return static_cast<std::uint16_t>(-sum16(entry_and_data.subspan(summed_at)) & 0xffff);
}

// A block is a byte.
class PceCard final : public BlockCard {
 public:
  explicit PceCard(const Blob& image) : BlockCard(pce_save(), image) {}

  std::size_t block_bytes() const override { return 1; }
  std::size_t capacity_blocks() const override { return memory_bytes - first_entry - closing_bytes; }
  std::size_t free_blocks() const override {
    const std::size_t used = end() - first_entry;
    return capacity_blocks() - std::min(capacity_blocks(), used);
  }
  std::size_t blocks_for(const CardSave& save) const override { return entry_bytes + save.payload.size(); }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t at = first_entry; is_entry(at); at += le16(image_, at + size_at))
      list.push_back({list.size(), at, false});
    return list;
  }
  Chain chain(const Slot& slot) const override {
    Chain way;
    way.blocks.resize(le16(image_, slot.at + size_at));
    std::iota(way.blocks.begin(), way.blocks.end(), slot.at);
    return way;
  }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    const std::size_t payload = std::max(blocks.size(), entry_bytes) - entry_bytes;
    return named_save(CardKind::pce, Blob::copy_of(bytes(slot.at, entry_bytes)),
                      Blob::copy_of(bytes(slot.at + entry_bytes, payload)));
  }
  std::size_t block_count() const override { return memory_bytes; }
  // No table: what no entry has is free.
  BlockUse use_of(std::size_t byte) const override {
    return byte < first_entry ? BlockUse::system : BlockUse::free;
  }
  std::size_t block_at(std::size_t byte) const override { return byte; }
  std::string_view unit() const override { return "byte"; }
  std::string entry_problem(const Slot& slot) const override {
    return le16(image_, slot.at + checksum_at) == checksum(whole(slot.at)) ? "" : "its checksum is wrong";
  }

  void check_medium(Problems& problems) const override {
    if (!std::ranges::equal(bytes(0, mark.size()), mark))
      problems.add(0, true, "the memory does not begin with its mark");
    if (le16(image_, end_at) != base_address + memory_bytes)
      problems.add(end_at, true, "the memory ends at {:04X} by its head, should be {:04X}",
                   le16(image_, end_at), base_address + memory_bytes);
    if (le16(image_, free_at) != base_address + end())
      problems.add(free_at, le16(image_, end()) == 0 || !more_behind(),
                   "the first free byte is at {:04X} by the header, at {:04X} by the entries",
                   le16(image_, free_at), base_address + end());
    const std::size_t size = le16(image_, end());
    if (size != 0)
      problems.add(end(), !more_behind(),
                   "the entry at {:04X} says {} bytes, and none can be that long there", base_address + end(),
                   size);
    for (const Slot& slot : slots())
      if (!entry_problem(slot).empty())
        problems.add(slot.at + checksum_at, false, "{}: checksum {:04X}, should be {:04X}",
                     listed(slot, chain(slot)).name, le16(image_, slot.at + checksum_at),
                     checksum(whole(slot.at)));
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t at = end();
    const std::span<Byte> out = bytes(at, blocks_for(save));
    std::ranges::copy(save.payload.view(), std::ranges::copy(save.entry.view(), out.begin()).out);
    put_le(out, size_at, 2, out.size());
    put_le(out, checksum_at, 2, checksum(out));
    close(at + out.size());
    return {};
  }
  // The entries after it move up, as the console moves them.
  void erase(const Slot& slot, const std::vector<std::size_t>& /*blocks*/) override {
    const std::size_t size = le16(image_, slot.at + size_at);
    const std::size_t behind = end();
    std::ranges::copy(bytes(slot.at + size, behind - slot.at - size), bytes(slot.at, 0).data());
    close(behind - size);
  }
  void repair_medium() override {
    std::ranges::copy(mark, image_.begin());
    put_le(image_, end_at, 2, base_address + memory_bytes);
    if (le16(image_, end()) == 0 || !more_behind()) close(end());
  }

  // Entries after a broken one: wherever size and checksum agree.
  std::vector<Slot> hidden_slots() const override {
    std::vector<Slot> list;
    for (std::size_t at = first_entry; at + entry_bytes < memory_bytes; ++at)
      if (is_entry(at) && le16(image_, at + size_at) > entry_bytes && !is_uniform(whole(at).subspan(4)) &&
          le16(image_, at + checksum_at) == checksum(whole(at)))
        list.push_back({list.size(), at, le16(image_, free_at) <= base_address + at});
    return list;
  }
  std::optional<bool> proven(const CardSave& save) const override {
    std::vector<Byte> all(save.entry.view().begin(), save.entry.view().end());
    all.insert(all.end(), save.payload.view().begin(), save.payload.view().end());
    return le16(all, checksum_at) == checksum(all) && le16(all, size_at) == all.size();
  }

 private:
  [[nodiscard]] ByteView whole(std::size_t at) const { return bytes(at, le16(image_, at + size_at)); }
  [[nodiscard]] bool is_entry(std::size_t at) const {
    if (at + entry_bytes + closing_bytes > memory_bytes) return false;
    const std::size_t size = le16(image_, at + size_at);
    return size >= entry_bytes && size <= memory_bytes - closing_bytes - at;
  }
  // Behind the last entry.
  [[nodiscard]] std::size_t end() const {
    std::size_t at = first_entry;
    while (is_entry(at)) at += le16(image_, at + size_at);
    return at;
  }
  // Entries that a broken one hides.
  [[nodiscard]] bool more_behind() const {
    return std::ranges::any_of(hidden_slots(), [&](const Slot& slot) { return slot.at > end(); });
  }
  void close(std::size_t at) {
    put_le(image_, at, closing_bytes, 0);
    put_le(image_, free_at, 2, base_address + at);
  }
};

Blob fresh_pce(const CardSize& /*size*/, const NewCardOptions& /*options*/) {
  std::vector<Byte> image(memory_bytes);
  std::ranges::copy(mark, image.begin());
  put_le(image, end_at, 2, base_address + memory_bytes);
  put_le(image, free_at, 2, base_address + first_entry);
  return Blob::copy_of(image);
}

double score_pce(ByteView image, std::string& evidence) {
  if (!std::ranges::equal(image.first(mark.size()), mark)) {
    const std::size_t size = le16(image, first_entry);
    const bool entry = size > entry_bytes && size <= memory_bytes - first_entry - closing_bytes &&
                       le16(image, first_entry + checksum_at) != 0 &&
                       le16(image, first_entry + checksum_at) == checksum(image.subspan(first_entry, size));
    if (entry) evidence = "no mark at the start, but an entry with a sound checksum";
    return entry ? 0.5 : 0;
  }
  const bool ends = le16(image, end_at) == base_address + memory_bytes;
  evidence = ends ? "the memory begins with its mark, and its end is right"
                  : "the memory begins with its mark, but its end is wrong";
  return ends ? 0.98 : 0.7;
}

}  // namespace

const CardFormat& pce_format() {
  static constexpr std::array sizes{CardSize{memory_bytes - first_entry - closing_bytes, memory_bytes}};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array image_sizes{memory_bytes};
  static const CardFormat format{
      pce_save(),
      "pce",
      sizes,
      forms,
      image_sizes,
      score_pce,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<PceCard>(image); },
      fresh_pce,
      [](ByteView image) {
        return std::ranges::equal(image.first(mark.size()), mark) &&
               le16(image, end_at) == base_address + memory_bytes;
      }};
  return format;
}

}  // namespace bayswap
