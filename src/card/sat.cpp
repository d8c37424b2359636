#include "card/sat.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "card/block_card.hpp"

namespace bayswap {
namespace {

using namespace sat;

constexpr std::string_view mark = "BackUpRam Format";  // over and over through block 0
constexpr std::size_t first_block = 2;
constexpr std::size_t smallest_block = 64;
constexpr std::size_t largest_block = 1024;
constexpr std::size_t largest_cartridge = std::size_t{4} << 20;

std::size_t usual_block_size(std::size_t memory_bytes) {
  if (memory_bytes == 32768) return smallest_block;
  return memory_bytes == largest_cartridge ? largest_block : 512;
}

// How the file holds the memory: byte by byte, or at every other address.
struct Form {
  bool spread = false;
  [[nodiscard]] std::size_t step() const { return spread ? 2 : 1; }
};
bool has_mark(ByteView image, Form form, std::size_t at) {
  for (std::size_t i = 0; i < mark.size(); ++i) {
    const std::size_t byte = (at + i) * form.step() + (form.spread ? 1 : 0);
    if (byte >= image.size() || image[byte] != static_cast<Byte>(mark[i])) return false;
  }
  return true;
}
bool is_first_at(ByteView image, Form form, std::size_t at) {
  const auto byte = [&](std::size_t i) { return image[(at + i) * form.step() + (form.spread ? 1 : 0)]; };
  return byte(0) == 0x80 && byte(1) == 0 && byte(2) == 0 && byte(3) == 0 && byte(name_at) > 0x20 &&
         byte(name_at) < 0x7f && byte(language_at) <= max_language && byte(size_at) == 0;
}
// A spread file is twice as long as a memory there is; half of one is no memory.
bool is_memory_size(std::size_t bytes) {
  constexpr std::size_t kilo = 1024;
  return bytes == 32 * kilo || bytes == 512 * kilo || bytes == 1024 * kilo || bytes == 2048 * kilo ||
         bytes == 4096 * kilo;
}
// Spread where something of a memory is at the odd addresses only.
Form form_of(ByteView image) {
  const Form spread{true};
  if (has_mark(image, spread, 0)) return spread;
  if (has_mark(image, Form{}, 0)) return Form{};
  for (std::size_t at = 0; at + smallest_block <= image.size() / 2; at += smallest_block)
    if (is_first_at(image, spread, at)) return spread;
  Byte value = 0;
  bool filler = true;  // the even addresses all FF or all 00
  value = image[0];
  for (std::size_t i = 0; i < image.size() && filler; i += 2)
    filler = image[i] == value && (value == 0 || value == 0xff);
  return Form{filler && image.size() == 65536};
}
Blob packed(const Blob& image, Form form) {
  if (!form.spread) return image;
  Buffer memory(image.size() / 2);
  for (std::size_t i = 0; i < memory.bytes().size(); ++i) memory.bytes()[i] = image.view()[2 * i + 1];
  return std::move(memory).freeze();
}

class SatCard final : public BlockCard {
 public:
  explicit SatCard(const Blob& image)
      : BlockCard(sat_save(), packed(image, form_of(image.view()))),
        file_(image),
        spread_(form_of(image.view()).spread) {
    std::size_t marked = 0;
    while (marked < largest_block && has_mark(image_, Form{}, marked)) marked += mark.size();
    block_size_ = marked == 64 || marked == 128 || marked == 256 || marked == 512 || marked == 1024
                      ? marked
                      : usual_block_size(image_.size());
  }

  std::string_view form() const override { return spread_ ? "spread" : "packed"; }
  std::size_t block_bytes() const override { return block_size_; }
  std::size_t capacity_blocks() const override { return block_count() - first_block; }
  std::size_t free_blocks() const override {
    const auto taken = static_cast<std::size_t>(std::ranges::count(used(), true));
    return capacity_blocks() - std::min(capacity_blocks(), taken);
  }
  // Each block has its tag; the first one the entry; the list has two bytes a block.
  std::size_t blocks_for(const CardSave& save) const override {
    const std::size_t content = entry_bytes - tag_bytes + save.payload.size();
    return (content + block_size_ - tag_bytes - 2 - 1) / (block_size_ - tag_bytes - 2);
  }
  // Spread: what is between the bytes stays.
  Blob image() const override {
    if (!spread_) return BlockCard::image();
    Buffer file(file_.size());
    std::ranges::copy(file_.view(), file.bytes().begin());
    for (std::size_t i = 0; i < image_.size(); ++i) file.bytes()[2 * i + 1] = image_[i];
    return std::move(file).freeze();
  }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    const std::vector<bool> taken = used();
    for (std::size_t block = first_block; block < block_count(); ++block) {
      const bool live = tag(block) == tag_first;
      if (!live && (tag(block) != 0 || taken[block] || !was_first(block))) continue;
      list.push_back({block, block_at(block), !live});
    }
    return list;
  }
  Chain chain(const Slot& slot) const override {
    Chain way{{slot.number}, {}};
    std::vector<bool> seen(block_count());
    seen[slot.number] = true;
    const std::size_t size = be32(image_, slot.at + size_at);
    std::size_t in = 0;            // which block of the chain the list has come to
    std::size_t at = entry_bytes;  // and where in it
    for (;;) {
      if (at + 2 > block_size_) {
        if (++in >= way.blocks.size()) {
          way.problem = "the list of its blocks has no end";
          return way;
        }
        at = tag_bytes;
      }
      const std::size_t next = be16(image_, block_at(way.blocks[in]) + at);
      at += 2;
      if (next == 0) break;
      if (next < first_block || next >= block_count())
        way.problem = fmt::format("block {} is in its list, and no save can be there", next);
      else if (seen[next])
        way.problem = fmt::format("block {} is twice in its list", next);
      else if (tag(next) == tag_first)
        way.problem = fmt::format("block {} is in its list, and begins another save", next);
      if (!way.problem.empty()) return way;
      seen[next] = true;
      way.blocks.push_back(next);
    }
    const std::size_t room = (way.blocks.size() - in) * (block_size_ - tag_bytes) - (at - tag_bytes);
    if (size > room) way.problem = fmt::format("its entry says {} bytes, and its blocks have {}", size, room);
    if (size == 0) way.problem = "its entry says 0 bytes";
    return way;
  }
  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    std::vector<Byte> stream;
    for (const std::size_t block : blocks) {
      const ByteView inside = bytes(block_at(block) + tag_bytes, block_size_ - tag_bytes);
      stream.insert(stream.end(), inside.begin(), inside.end());
    }
    std::size_t at = entry_bytes - tag_bytes;
    while (at + 2 <= stream.size() && be16(stream, at) != 0) at += 2;
    at = std::min(at + 2, stream.size());
    const std::size_t size = std::min<std::size_t>(be32(image_, slot.at + size_at), stream.size() - at);
    return named_save(CardKind::sat, Blob::copy_of(bytes(slot.at, entry_bytes)),
                      Blob::copy_of(ByteView(stream).subspan(at, size)));
  }
  std::size_t block_count() const override { return image_.size() / block_size_; }
  // No table: what no save lists is free.
  BlockUse use_of(std::size_t block) const override {
    return block < first_block ? BlockUse::system : BlockUse::free;
  }
  std::size_t block_at(std::size_t block) const override { return block * block_size_; }

  void check_medium(Problems& problems) const override {
    for (std::size_t at = 0; at < block_size_; at += mark.size())
      if (!has_mark(image_, Form{}, at)) {
        problems.add(at, true, "block 0 is not filled with the memory's mark");
        break;
      }
    for (std::size_t block = first_block; block < block_count(); ++block)
      if (tag(block) == tag_first && image_[block_at(block) + language_at] > max_language)
        problems.add(block_at(block) + language_at, false, "block {}: unknown language {}", block,
                     image_[block_at(block) + language_at]);
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t wanted = blocks_for(save);
    const std::vector<bool> taken = used();
    std::vector<std::size_t> blocks;
    for (std::size_t block = first_block; block < block_count() && blocks.size() < wanted; ++block)
      if (!taken[block]) blocks.push_back(block);
    std::vector<Byte> stream(save.entry.view().begin() + tag_bytes, save.entry.view().end());
    for (std::size_t i = 1; i <= wanted; ++i) {  // the list, and the 0 after it
      const std::size_t next = i < wanted ? blocks[i] : 0;
      stream.push_back(static_cast<Byte>(next >> 8U));
      stream.push_back(static_cast<Byte>(next & 0xffU));
    }
    stream.insert(stream.end(), save.payload.view().begin(), save.payload.view().end());
    stream.resize(wanted * (block_size_ - tag_bytes));
    for (std::size_t i = 0; i < wanted; ++i) {
      put_be32(image_, block_at(blocks[i]), i == 0 ? tag_first : 0);
      std::ranges::copy(ByteView(stream).subspan(i * (block_size_ - tag_bytes), block_size_ - tag_bytes),
                        bytes(block_at(blocks[i]) + tag_bytes, block_size_ - tag_bytes).begin());
    }
    return {};
  }
  void erase(const Slot& slot, const std::vector<std::size_t>& /*blocks*/) override {
    put_be32(image_, slot.at, 0);
  }
  void forget() const override { used_.reset(); }
  void repair_medium() override {
    for (std::size_t at = 0; at < block_size_; at += mark.size())
      std::ranges::copy(mark, image_.begin() + static_cast<std::ptrdiff_t>(at));
  }
  std::string misunderstood() const override {
    const std::size_t usual = usual_block_size(image_.size());
    if (block_size_ == usual) return {};
    return fmt::format(
        "its mark fills a block of {} bytes, and a memory of {} bytes has blocks of {}: it is of "
        "another size, or several in one file",
        block_size_, image_.size(), usual);
  }
  std::string entry_problem(const Slot& slot) const override {
    const Byte language = image_[slot.at + language_at];
    return language <= max_language ? "" : fmt::format("unknown language {}", language);
  }
  // Off a damaged card: the language is only a label, and the console takes no other.
  CardSave save_by(const Slot& slot, const Chain& way) const override {
    CardSave save = save_at(slot, way.blocks);
    if (save.entry.view()[language_at] <= max_language) return save;
    std::vector<Byte> entry(save.entry.view().begin(), save.entry.view().end());
    entry[language_at] = 0;
    return named_save(CardKind::sat, Blob::copy_of(entry), save.payload);
  }
  // First blocks whose tag was hit.
  std::vector<Slot> hidden_slots() const override {
    std::vector<Slot> list;
    for (std::size_t block = first_block; block < block_count(); ++block)
      if (tag(block) != tag_first && tag(block) != 0 && was_first(block))
        list.push_back({block, block_at(block), false});
    return list;
  }

 private:
  [[nodiscard]] std::uint32_t tag(std::size_t block) const { return be32(image_, block_at(block)); }
  // Per block: a live save has it.
  [[nodiscard]] std::vector<bool> used() const {
    if (used_) return *used_;
    std::vector<bool> blocks(block_count());
    // Saves that claim more than this are not followed any further, and nothing is put on such a card.
    std::size_t budget = 4 * block_count();
    for (std::size_t block = first_block; block < block_count(); ++block)
      if (tag(block) == tag_first) {
        blocks[block] = true;
        if (budget == 0) continue;
        const Chain own = chain({block, block_at(block), false});
        for (const std::size_t one : own.blocks) blocks[one] = true;
        budget -= std::min(budget, own.blocks.size());
      }
    used_ = std::move(blocks);
    return *used_;
  }
  // A block that reads like the first one of a save, whatever its tag: a name, a list that ends, and a size
  // that takes just these blocks.
  [[nodiscard]] bool was_first(std::size_t block) const {
    const ByteView head = bytes(block_at(block), entry_bytes);
    const ByteView name = head.subspan(name_at, name_bytes);
    const auto end = std::ranges::find(name, Byte{0});
    const auto plain = [](Byte b) { return b >= 0x20 && b < 0x7f; };
    if (end == name.begin() || !std::all_of(name.begin(), end, plain) ||
        !std::all_of(end, name.end(), [](Byte b) { return b == 0; }) || head[language_at] > max_language)
      return false;
    const Chain way = chain({block, block_at(block), true});
    if (!way.problem.empty()) return false;
    const std::size_t content = entry_bytes - tag_bytes + be32(head, size_at);
    return way.blocks.size() == (content + block_size_ - tag_bytes - 3) / (block_size_ - tag_bytes - 2);
  }

  Blob file_;
  mutable std::optional<std::vector<bool>> used_;
  bool spread_;
  std::size_t block_size_ = smallest_block;
};

Blob fresh_sat(const CardSize& size, const NewCardOptions& options) {
  std::vector<Byte> memory(size.image_bytes);
  const std::size_t block = usual_block_size(size.image_bytes);
  for (std::size_t at = 0; at < block; at += mark.size())
    std::ranges::copy(mark, memory.begin() + static_cast<std::ptrdiff_t>(at));
  if (options.form != "spread") return Blob::copy_of(memory);
  std::vector<Byte> file(2 * memory.size(), 0xff);
  for (std::size_t i = 0; i < memory.size(); ++i) file[2 * i + 1] = memory[i];
  return Blob::copy_of(file);
}

// Where the marks of block 0 are: how many of those that a memory of that size has, and whether they stop
// where a block of another size ends, or go on.
struct Marks {
  std::size_t hits = 0;
  std::size_t wanted = 0;
  bool is_of_another_size = false;
};
Marks marks_of(ByteView image, Form form) {
  const std::size_t block = usual_block_size(image.size() / form.step());
  Marks marks;
  marks.wanted = block / mark.size();
  std::size_t run = 0;
  for (std::size_t i = 0; i < marks.wanted; ++i) {
    const bool is_there = has_mark(image, form, i * mark.size());
    marks.hits += is_there ? 1 : 0;
    if (is_there && run == i) ++run;
  }
  const bool stops = run == marks.hits && run < marks.wanted && std::has_single_bit(run) &&
                     run >= smallest_block / mark.size();
  marks.is_of_another_size = stops || (run == marks.wanted && has_mark(image, form, block));
  return marks;
}

double score_sat(ByteView image, std::string& evidence) {
  for (const Form form : {Form{false}, Form{true}}) {
    if (!has_mark(image, form, 0) || !is_memory_size(image.size() / form.step())) continue;
    const Marks marks = marks_of(image, form);
    evidence = fmt::format("the memory begins with its mark{}", form.spread ? ", at the odd addresses" : "");
    if (marks.is_of_another_size) return 0.25;
    return marks.hits == marks.wanted ? 0.98 : 2 * marks.hits > marks.wanted ? 0.6 : 0.45;
  }
  // Without its mark: first blocks of saves, near the start.
  constexpr std::size_t max_blocks = 64;
  for (const Form form : {Form{false}, Form{true}}) {
    if (!is_memory_size(image.size() / form.step())) continue;
    std::size_t saves = 0;
    const std::size_t block = usual_block_size(image.size() / form.step());
    for (std::size_t i = first_block; i < max_blocks && (i + 1) * block * form.step() <= image.size(); ++i)
      saves += is_first_at(image, form, i * block) ? 1 : 0;
    if (saves == 0) continue;
    evidence = fmt::format("no mark, but {} blocks that begin a save", saves);
    return 0.3;
  }
  return 0;
}

}  // namespace

const CardFormat& sat_format() {
  static constexpr auto size = [](std::size_t bytes, std::size_t block) {
    return CardSize{bytes / block - first_block, bytes};
  };
  constexpr std::size_t kilo = 1024;
  static constexpr std::array sizes{size(32 * kilo, 64), size(512 * kilo, 512), size(1024 * kilo, 512),
                                    size(2048 * kilo, 512), size(4096 * kilo, 1024)};
  static constexpr std::array forms{std::string_view("packed"), std::string_view("spread")};
  static constexpr std::array<std::size_t, 7> image_sizes{32 * kilo,   64 * kilo,   512 * kilo, 1024 * kilo,
                                                          2048 * kilo, 4096 * kilo, 8192 * kilo};
  static const CardFormat format{
      sat_save(),
      "sat",
      sizes,
      forms,
      image_sizes,
      score_sat,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<SatCard>(image); },
      fresh_sat,
      [](ByteView image) { return has_mark(image, Form{false}, 0) || has_mark(image, Form{true}, 0); },
      [](ByteView file) {
        for (std::size_t at = 0; at + 2 <= file.size(); at += 16)
          if ((file[at] == static_cast<Byte>(mark[0]) || file[at + 1] == static_cast<Byte>(mark[0])) &&
              (has_mark(file.subspan(at), Form{false}, 0) || has_mark(file.subspan(at), Form{true}, 0)))
            return true;
        return false;
      }};
  return format;
}

}  // namespace bayswap
