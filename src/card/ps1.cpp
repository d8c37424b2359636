#include "card/ps1.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "card/block_card.hpp"

#include "base/order.hpp"

namespace bayswap {
namespace {

using namespace ps1;

constexpr std::size_t first_broken_frame = 16;
constexpr std::size_t broken_frames = 20;
constexpr std::size_t write_test_frame = 63;

// Blocks count from 1, as block 0 is the directory; a frame's link counts from 0.
class Ps1Card final : public BlockCard {
 public:
  explicit Ps1Card(const Blob& image) : BlockCard(ps1_save(), image) {}

  std::size_t block_bytes() const override { return block_size; }
  std::size_t capacity_blocks() const override { return save_blocks; }
  std::size_t blocks_for(const CardSave& save) const override { return save.payload.size() / block_size; }

 protected:
  std::vector<Slot> slots() const override {
    std::vector<Slot> list;
    for (std::size_t block = 1; block <= save_blocks; ++block) {
      const bool gone = state(block) == deleted(state_first);
      if (state(block) == state_first || gone) list.push_back({block, block * frame_bytes, gone});
    }
    return list;
  }

  Chain chain(const Slot& slot) const override {
    Chain way{{slot.number}, {}};
    const auto is = [&](std::size_t block, std::uint32_t wanted) {
      return state(block) == (slot.deleted ? deleted(wanted) : wanted);
    };
    for (;;) {
      const std::size_t here = way.blocks.back();
      const std::uint16_t link = le16(frame(here), next_at);
      if (link == no_next) break;
      const std::size_t next = link + std::size_t{1};
      if (next > save_blocks)
        way.problem = fmt::format("block {} leads to block {}, beyond the card", here, next);
      else if (std::ranges::find(way.blocks, next) != way.blocks.end())
        way.problem = fmt::format("its blocks lead in a circle at block {}", next);
      else if (!is(next, state_middle) && !is(next, state_last))
        way.problem = fmt::format("block {} leads to block {}, whose state is {:X}", here, next, state(next));
      if (!way.problem.empty()) return way;
      way.blocks.push_back(next);
    }
    if (way.blocks.size() > 1 && !is(way.blocks.back(), state_last))
      way.problem = fmt::format("it ends at block {}, which is not marked as the last", way.blocks.back());
    const std::size_t size = le32(frame(slot.number), size_at);
    if (way.problem.empty() && size > way.blocks.size() * block_size && size <= save_blocks * block_size)
      way.problem = fmt::format("its entry says {} bytes, and {} blocks are known", size, way.blocks.size());
    return way;
  }

  CardSave save_at(const Slot& slot, const std::vector<std::size_t>& blocks) const override {
    return named_save(CardKind::ps1, Blob::copy_of(frame(slot.number)), gather(blocks));
  }
  std::size_t block_count() const override { return save_blocks + 1; }
  BlockUse use_of(std::size_t block) const override {
    return block == 0 ? BlockUse::system : is_used(state(block)) ? BlockUse::save : BlockUse::free;
  }
  std::size_t block_at(std::size_t block) const override { return block * block_size; }
  std::size_t mark_at(std::size_t block) const override { return block * frame_bytes; }
  std::string entry_problem(const Slot& slot) const override {
    return has_right_checksum(frame(slot.number)) ? "" : "the checksum of its directory frame is wrong";
  }

  void check_medium(Problems& problems) const override {
    for (std::size_t index = 0; index < first_broken_frame + broken_frames; ++index) {
      const ByteView head = frame(index);
      if (index == 0 && (head[0] != 'M' || head[1] != 'C'))
        problems.add(0, true, "frame 0 begins with {:02X} {:02X}, not with the card's mark", head[0],
                     head[1]);
      if (!has_right_checksum(head))
        problems.add(index * frame_bytes + checksum_at, true, "frame {}: checksum {:02X}, should be {:02X}",
                     index, head[checksum_at], checksum(head));
    }
    for (std::size_t block = 1; block <= save_blocks; ++block) {
      const std::uint32_t s = state(block);
      if (!is_used(s) && (s < state_free || s > deleted(state_last)))
        problems.add(block * frame_bytes + state_at, false, "block {}: unknown state {:X}", block, s);
      if (s != state_first) continue;
      const Chain way = chain({block, 0, false});
      const std::size_t size = le32(frame(block), size_at);
      if (way.problem.empty() && size != way.blocks.size() * block_size)
        problems.add(block * frame_bytes + size_at, true, "block {}: {} bytes by its entry, {} by its blocks",
                     block, size, way.blocks.size() * block_size);
    }
  }

  Result<void> place(const CardSave& save) override {
    const std::size_t wanted = blocks_for(save);
    std::vector<std::size_t> blocks;
    // Fresh blocks before deleted ones, so that what was deleted can be had back as long as possible.
    for (const bool fresh : {true, false})
      for (std::size_t block = 1; block <= save_blocks && blocks.size() < wanted; ++block)
        if (!is_used(state(block)) && (state(block) == state_free) == fresh) blocks.push_back(block);
    sort_by(blocks, std::identity{});
    for (std::size_t i = 0; i < wanted; ++i) {
      const std::span<Byte> out = frame(blocks[i]);
      std::ranges::fill(out, Byte{0});
      if (i == 0) std::ranges::copy(save.entry.view(), out.begin());
      const bool last = i + 1 == wanted;
      put_le(out, state_at, 4, i == 0 ? state_first : last ? state_last : state_middle);
      put_le(out, size_at, 4, i == 0 ? save.payload.size() : 0);
      put_le(out, next_at, 2, last ? no_next : blocks[i + 1] - 1);
      ps1::write_checksum(out);
      std::ranges::copy(save.payload.view().subspan(i * block_size, block_size),
                        bytes(block_at(blocks[i]), block_size).begin());
    }
    return {};
  }
  void erase(const Slot& slot, const std::vector<std::size_t>& blocks) override {
    release(slot.number);
    for (const std::size_t block : blocks) release(block);
  }
  // The states of all its frames, as they were.
  bool revive(const Slot& /*slot*/, const Chain& chain) override {
    for (const std::size_t block : chain.blocks) {
      put_le(frame(block), state_at, 4, (state(block) & 0xfU) | (state_first & ~0xfU));
      ps1::write_checksum(frame(block));
    }
    return true;
  }

  // Links that are broken: the block beside.
  std::vector<Chain> other_chains(const Slot& slot) const override {
    const std::size_t size = le32(frame(slot.number), size_at);
    if (slot.deleted || size == 0 || size % block_size != 0 || size > save_blocks * block_size) return {};
    const auto link = [this](std::size_t block) {
      return has_right_checksum(frame(block)) ? le16(frame(block), next_at) + std::size_t{1} : block_count();
    };
    auto way = bridged(slot.number, size / block_size, 1, {link});
    if (!way || std::any_of(way->blocks.begin() + 1, way->blocks.end(), [this](std::size_t block) {
          return blocks_by_title(bytes(block_at(block), frame_bytes)) > 0;
        }))
      return {};
    return {*std::move(way)};
  }

  // Content begins with a title frame that says how many blocks it has. Its name was in the directory only.
  void add_by_content(std::vector<FoundSave>& found, std::vector<bool>& open,
                      std::size_t present_bytes) const override {
    for (std::size_t block = 1; block <= save_blocks; ++block) {
      if (!open[block] || block_at(block) + block_size > present_bytes) continue;
      const std::size_t count = blocks_by_title(bytes(block_at(block), frame_bytes));
      if (count == 0) continue;
      const Chain way = by_title(block, count, open);
      for (const std::size_t own : way.blocks) open[own] = false;
      std::vector<Byte> entry = *ps1_save().fresh_entry(fmt::format("UNNAMED-{}", block), 0);
      ps1_save().set_size(entry, way.blocks.size() * block_size);
      const std::uint32_t was = state(block);
      FoundSave one{named_save(CardKind::ps1, Blob::copy_of(entry), gather(way.blocks)),
                    way.problem.empty() ? FoundSave::Confidence::likely : FoundSave::Confidence::doubtful,
                    has_right_checksum(frame(block)) && was >= state_free && was <= deleted(state_last),
                    {"its directory frame is gone, and with it the name that the game looks for"}};
      if (!way.problem.empty()) one.notes.push_back(way.problem);
      found.push_back(std::move(one));
    }
  }

  void repair_medium() override {
    image_[0] = 'M';
    image_[1] = 'C';
    for (const Slot& slot : slots())
      if (const Chain way = chain(slot); !slot.deleted && way.problem.empty())
        put_le(frame(slot.number), size_at, 4, way.blocks.size() * block_size);
    for (std::size_t index = 0; index < first_broken_frame + broken_frames; ++index)
      ps1::write_checksum(frame(index));
  }
  void release(std::size_t block) override {
    if (is_used(state(block))) put_le(frame(block), state_at, 4, deleted(state(block)));
    ps1::write_checksum(frame(block));
  }

 private:
  // The blocks after the first one, by the frames that are left of them, or else those beside it.
  [[nodiscard]] Chain by_title(std::size_t first, std::size_t count, const std::vector<bool>& open) const {
    Chain way{{first}, {}};
    if (count == 1) return way;
    // Runs of frames that nothing leads to and that end as they should.
    std::vector<bool> led(save_blocks + 2);
    for (std::size_t block = 1; block <= save_blocks; ++block)
      if (is_used(state(block)) && has_right_checksum(frame(block)) &&
          le16(frame(block), next_at) < save_blocks)
        led[le16(frame(block), next_at) + std::size_t{1}] = true;
    std::vector<std::vector<std::size_t>> runs;
    for (std::size_t head = 1; head <= save_blocks; ++head) {
      if (!open[head] || led[head] || head == first || !has_right_checksum(frame(head)) ||
          (state(head) != state_middle && state(head) != state_last))
        continue;
      std::vector<std::size_t> run;
      for (std::size_t block = head; block <= save_blocks && open[block] && run.size() < count;) {
        run.push_back(block);
        if (state(block) == state_last) break;
        block = le16(frame(block), next_at) + std::size_t{1};
      }
      if (run.size() + 1 == count && state(run.back()) == state_last) runs.push_back(std::move(run));
    }
    if (runs.size() == 1) {
      way.blocks.insert(way.blocks.end(), runs.front().begin(), runs.front().end());
      return way;
    }
    for (std::size_t block = first + 1; block <= save_blocks && way.blocks.size() < count; ++block) {
      if (!open[block] || blocks_by_title(bytes(block_at(block), frame_bytes)) > 0) break;
      way.blocks.push_back(block);
    }
    way.problem = way.blocks.size() == count
                      ? count == 2
                            ? std::string("its other block is guessed to be the next one")
                            : fmt::format("its other {} blocks are guessed to be the next ones", count - 1)
                      : fmt::format("of its {} blocks, {} are known", count, way.blocks.size());
    return way;
  }
  [[nodiscard]] ByteView frame(std::size_t index) const { return bytes(index * frame_bytes, frame_bytes); }
  [[nodiscard]] std::span<Byte> frame(std::size_t index) { return bytes(index * frame_bytes, frame_bytes); }
  [[nodiscard]] std::uint32_t state(std::size_t block) const { return le32(frame(block), state_at); }
};

Blob fresh_ps1(const CardSize& /*size*/, const NewCardOptions& /*options*/) {
  std::vector<Byte> image(card_bytes);
  const auto frame = [&](std::size_t index) {
    return std::span(image).subspan(index * frame_bytes, frame_bytes);
  };
  for (const std::size_t index : {std::size_t{0}, write_test_frame}) {
    frame(index)[0] = 'M';
    frame(index)[1] = 'C';
    write_checksum(frame(index));
  }
  for (std::size_t block = 1; block <= save_blocks; ++block) {
    put_le(frame(block), state_at, 4, state_free);
    put_le(frame(block), next_at, 2, no_next);
    write_checksum(frame(block));
  }
  for (std::size_t i = 0; i < broken_frames; ++i) {
    put_le(frame(first_broken_frame + i), 0, 4, 0xffffffff);  // none is broken
    put_le(frame(first_broken_frame + i), 8, 2, 0xffff);
    write_checksum(frame(first_broken_frame + i));
  }
  // Room for replaced frames, and unused ones: as erased.
  for (std::size_t i = first_broken_frame + broken_frames; i < write_test_frame; ++i)
    std::ranges::fill(frame(i), Byte{0xff});
  return Blob::copy_of(image);
}

double score_ps1(ByteView image, std::string& evidence) {
  // Two letters alone are somewhere in any large file.
  const bool marked = image[0] == 'M' && image[1] == 'C' &&
                      (has_right_checksum(image.first(frame_bytes)) ||
                       std::ranges::all_of(image.subspan(2, frame_bytes - 3), [](Byte b) { return b == 0; }));
  std::size_t sound = 0;
  for (std::size_t block = 1; block <= save_blocks; ++block) {
    const ByteView frame = image.subspan(block * frame_bytes, frame_bytes);
    const std::uint32_t state = le32(frame, state_at);
    if ((is_used(state) || (state >= state_free && state <= deleted(state_last))) &&
        has_right_checksum(frame))
      ++sound;
  }
  if (sound > 0 || marked)
    evidence = fmt::format("{}the directory frames of {} of 15 blocks are sound",
                           marked ? "the card's mark is in frame 0, and " : "", sound);
  return std::min(0.99, (marked ? 0.45 : 0.0) + 0.54 * static_cast<double>(sound) / save_blocks);
}

}  // namespace

const CardFormat& ps1_format() {
  static constexpr std::array sizes{CardSize{save_blocks, card_bytes}};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array image_sizes{card_bytes};
  static const CardFormat format{
      ps1_save(),
      "ps1",
      sizes,
      forms,
      image_sizes,
      score_ps1,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<Ps1Card>(image); },
      fresh_ps1};
  return format;
}

}  // namespace bayswap
