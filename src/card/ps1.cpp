// The ps1 memory card: 16 blocks of 64 frames of 128 bytes; block 0 is the directory (docs/formats/ps1.md).
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

constexpr std::size_t frame_bytes = 128;
constexpr std::size_t block_size = 8192;
constexpr std::size_t card_bytes = 16 * block_size;
constexpr std::size_t block_count = 15;  // that saves can have
constexpr std::size_t checksum_at = 127;
constexpr std::size_t first_broken_frame = 16;
constexpr std::size_t broken_frames = 20;
constexpr std::size_t write_test_frame = 63;

// ---- A directory frame: one for each block ------------------------------------------------------
constexpr std::size_t state_at = 0;  // 32 bits
constexpr std::size_t size_at = 4;   // 32 bits, of the whole save; in its first frame only
constexpr std::size_t next_at = 8;   // 16 bits: the block that follows, counted from 0; FFFF: none
constexpr std::size_t name_at = 10;  // 21 bytes, ended by 0
constexpr std::size_t name_bytes = 21;
constexpr std::uint16_t no_next = 0xffff;

constexpr std::uint32_t state_first = 0x51;
constexpr std::uint32_t state_middle = 0x52;
constexpr std::uint32_t state_last = 0x53;
constexpr std::uint32_t state_free = 0xa0;
constexpr std::uint32_t deleted_bit = 0xf0;  // 5x becomes Ax

constexpr std::uint32_t deleted(std::uint32_t state) {
  return (state & ~deleted_bit) | 0xa0;
}
bool is_used(std::uint32_t state) {
  return state >= state_first && state <= state_last;
}

Byte checksum(ByteView frame) {
  Byte sum = 0;
  for (const Byte b : frame.first(checksum_at)) sum ^= b;
  return sum;
}
void seal(std::span<Byte> frame) {
  frame[checksum_at] = checksum(frame);
}
bool is_sealed(ByteView frame) {
  return frame[checksum_at] == checksum(frame);
}

std::string name_of_entry(ByteView frame) {
  const ByteView field = frame.subspan(name_at, name_bytes);
  const auto end = std::ranges::find(field, Byte{0});
  return printable(std::string(field.begin(), end));
}

// "BISLPS-99001SKIFF": two letters for the region, ten for the code, the rest is the game's own.
Region region_of(std::string_view name) {
  if (name.starts_with("BI")) return Region::japan;
  if (name.starts_with("BA")) return Region::north_america;
  if (name.starts_with("BE")) return Region::europe;
  return Region::unknown;
}
std::string code_of(std::string_view name) {
  constexpr std::size_t code_end = 12;
  return name.size() >= code_end && region_of(name) != Region::unknown ? std::string(name.substr(2, 10))
                                                                       : std::string{};
}

// The title in the save's first frame.
std::string title_of(ByteView payload) {
  constexpr std::size_t title_at = 4;
  constexpr std::size_t title_bytes = 64;
  if (payload.size() < frame_bytes || payload[0] != 'S' || payload[1] != 'C') return {};
  return to_utf8(payload.subspan(title_at, title_bytes), TextEncoding::shift_jis);
}

class Ps1Card final : public Card {
 public:
  explicit Ps1Card(std::vector<Byte> image) : image_(std::move(image)) {}

  CardKind kind() const override { return CardKind::ps1; }
  std::size_t block_bytes() const override { return block_size; }
  std::size_t capacity_blocks() const override { return block_count; }
  std::size_t free_blocks() const override {
    std::size_t count = 0;
    for (std::size_t block = 0; block < block_count; ++block) count += is_used(state(block)) ? 0 : 1;
    return count;
  }

  std::vector<CardEntry> entries() const override {
    std::vector<CardEntry> list;
    for (std::size_t block = 0; block < block_count; ++block) {
      const bool gone = state(block) == deleted(state_first);
      if (state(block) != state_first && !gone) continue;
      std::string problem;
      const auto blocks = chain(block, problem);
      if (gone && !problem.empty()) continue;  // overwritten in part
      CardEntry entry;
      entry.name = name_of_entry(frame(block));
      entry.code = code_of(entry.name);
      entry.region = region_of(entry.name);
      entry.title = title_of(data(block));
      entry.blocks = blocks.size();
      entry.size_bytes = blocks.size() * block_size;
      entry.state = gone                                         ? CardEntry::State::deleted
                    : problem.empty() && is_sealed(frame(block)) ? CardEntry::State::good
                                                                 : CardEntry::State::damaged;
      list.push_back(std::move(entry));
    }
    return list;
  }

  Result<CardSave> read(const std::string& name) const override {
    BAYSWAP_TRY(const std::size_t first, find(name));
    std::string problem;
    const auto blocks = chain(first, problem);
    if (!problem.empty())
      return fail(
          ErrorCode::damaged, fmt::format("{}: {}", name, problem),
          "not all of its blocks can be told; `bayswap card check` shows what is wrong with the card");
    CardSave save;
    save.kind = CardKind::ps1;
    save.name = name;
    save.title = title_of(data(first));
    save.entry = Blob::copy_of(frame(first));
    std::vector<Byte> payload;
    for (const std::size_t block : blocks)
      payload.insert(payload.end(), data(block).begin(), data(block).end());
    save.payload = Blob::copy_of(payload);
    return save;
  }

  Result<void> put(const CardSave& save) override {
    if (save.kind != CardKind::ps1 || save.entry.size() != frame_bytes || save.payload.empty() ||
        save.payload.size() % block_size != 0)
      return fail(ErrorCode::bad_usage, fmt::format("{} is no save of a ps1 card", save.name),
                  "a save of another platform has no place there");
    const std::string name = name_of_entry(save.entry.view());
    if (find(name))
      return fail(ErrorCode::unsafe, fmt::format("{} is on the card already", name),
                  "say --replace to have it replaced, or drop it first");
    const std::size_t wanted = save.payload.size() / block_size;
    std::vector<std::size_t> blocks;
    // Fresh blocks before deleted ones, so that what was deleted can be had back as long as possible.
    for (const bool fresh : {true, false})
      for (std::size_t block = 0; block < block_count && blocks.size() < wanted; ++block)
        if (!is_used(state(block)) && (state(block) == state_free) == fresh) blocks.push_back(block);
    if (blocks.size() < wanted)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} takes {} blocks, and {} are free: {} are missing", name, wanted,
                              blocks.size(), wanted - blocks.size()),
                  "drop another save, or use another card");
    std::ranges::sort(blocks);
    for (std::size_t i = 0; i < wanted; ++i) {
      const std::span<Byte> out = frame(blocks[i]);
      std::ranges::fill(out, Byte{0});
      if (i == 0) std::ranges::copy(save.entry.view(), out.begin());
      const bool last = i + 1 == wanted;
      put_le(out, state_at, 4, i == 0 ? state_first : last ? state_last : state_middle);
      put_le(out, size_at, 4, i == 0 ? save.payload.size() : 0);
      put_le(out, next_at, 2, last ? no_next : blocks[i + 1]);
      seal(out);
      std::ranges::copy(save.payload.view().subspan(i * block_size, block_size), data(blocks[i]).begin());
    }
    return {};
  }

  Result<void> drop(const std::string& name) override {
    BAYSWAP_TRY(const std::size_t first, find(name));
    std::string problem;
    for (const std::size_t block : chain(first, problem)) {
      put_le(frame(block), state_at, 4, deleted(state(block)));
      seal(frame(block));
    }
    return {};
  }

  std::vector<CardProblem> check() const override {
    std::vector<CardProblem> problems;
    const auto report = [&](std::size_t at, bool mendable, std::string text) {
      problems.push_back({at, mendable, std::move(text)});
    };
    for (const std::size_t index : header_frames()) {
      const ByteView head = ByteView(image_).subspan(index * frame_bytes, frame_bytes);
      if (index == 0 && (head[0] != 'M' || head[1] != 'C'))
        report(0, true,
               fmt::format("frame 0 begins with {:02X} {:02X}, not with the card's mark", head[0], head[1]));
      if (!is_sealed(head))
        report(index * frame_bytes + checksum_at, true,
               fmt::format("frame {}: checksum {:02X}, should be {:02X}", index, head[checksum_at],
                           checksum(head)));
    }
    std::set<std::size_t> reached;
    std::set<std::string> names;
    for (std::size_t block = 0; block < block_count; ++block) {
      const std::size_t at = (block + 1) * frame_bytes;
      const std::uint32_t s = state(block);
      if (!is_used(s) && (s < state_free || s > deleted(state_last)))
        report(at + state_at, false, fmt::format("block {}: state {:X}, which there is not", block + 1, s));
      if (s != state_first) continue;
      std::string problem;
      const auto blocks = chain(block, problem);
      const std::string name = name_of_entry(frame(block));
      if (!problem.empty()) report(at, false, fmt::format("{} (block {}): {}", name, block + 1, problem));
      for (const std::size_t own : blocks)
        if (!reached.insert(own).second)
          report(at, false,
                 fmt::format("{} (block {}): block {} belongs to another save as well", name, block + 1,
                             own + 1));
      const std::size_t size = le32(frame(block), size_at);
      if (problem.empty() && size != blocks.size() * block_size)
        report(at + size_at, true,
               fmt::format("{} (block {}): {} bytes by its entry, {} by its blocks", name, block + 1, size,
                           blocks.size() * block_size));
      if (!names.insert(name).second)
        report(at + name_at, false, fmt::format("{} (block {}): that name is there twice", name, block + 1));
    }
    for (std::size_t block = 0; block < block_count; ++block)
      if ((state(block) == state_middle || state(block) == state_last) && !reached.contains(block))
        report((block + 1) * frame_bytes, true,
               fmt::format("block {} is in use, but no save leads to it", block + 1));
    return problems;
  }

  std::size_t repair() override {
    const std::size_t before = check().size();
    image_[0] = 'M';
    image_[1] = 'C';
    std::set<std::size_t> reached;
    for (std::size_t block = 0; block < block_count; ++block) {
      if (state(block) != state_first) continue;
      std::string problem;
      const auto blocks = chain(block, problem);
      reached.insert(blocks.begin(), blocks.end());
      if (problem.empty()) put_le(frame(block), size_at, 4, blocks.size() * block_size);
    }
    for (std::size_t block = 0; block < block_count; ++block)
      if ((state(block) == state_middle || state(block) == state_last) && !reached.contains(block))
        put_le(frame(block), state_at, 4, deleted(state(block)));
    for (const std::size_t index : header_frames())
      seal(std::span(image_).subspan(index * frame_bytes, frame_bytes));
    return before - check().size();
  }

  Blob image() const override { return Blob::copy_of(image_); }

 private:
  // Frames with a checksum of their own: the mark, the directory, the list of broken frames.
  static std::vector<std::size_t> header_frames() {
    std::vector<std::size_t> frames;
    for (std::size_t i = 0; i < first_broken_frame + broken_frames; ++i) frames.push_back(i);
    return frames;
  }
  [[nodiscard]] ByteView frame(std::size_t block) const {
    return ByteView(image_).subspan((block + 1) * frame_bytes, frame_bytes);
  }
  [[nodiscard]] std::span<Byte> frame(std::size_t block) {
    return std::span(image_).subspan((block + 1) * frame_bytes, frame_bytes);
  }
  [[nodiscard]] ByteView data(std::size_t block) const {
    return ByteView(image_).subspan((block + 1) * block_size, block_size);
  }
  [[nodiscard]] std::span<Byte> data(std::size_t block) {
    return std::span(image_).subspan((block + 1) * block_size, block_size);
  }
  [[nodiscard]] std::uint32_t state(std::size_t block) const { return le32(frame(block), state_at); }

  // The blocks of the save that begins there. What is wrong with it goes into `problem`.
  [[nodiscard]] std::vector<std::size_t> chain(std::size_t first, std::string& problem) const {
    const bool gone = !is_used(state(first));
    const auto is = [&](std::size_t block, std::uint32_t wanted) {
      return state(block) == (gone ? deleted(wanted) : wanted);
    };
    std::vector<std::size_t> blocks{first};
    for (;;) {
      const std::uint16_t next = le16(frame(blocks.back()), next_at);
      if (next == no_next) break;
      if (next >= block_count) {
        problem = fmt::format("block {} leads to block {}, which there is not", blocks.back() + 1, next + 1);
        return blocks;
      }
      if (std::ranges::find(blocks, next) != blocks.end()) {
        problem = fmt::format("its blocks lead in a circle at block {}", next + 1);
        return blocks;
      }
      if (!is(next, state_middle) && !is(next, state_last)) {
        problem = fmt::format("block {} leads to block {}, whose state is {:X}", blocks.back() + 1, next + 1,
                              state(next));
        return blocks;
      }
      blocks.push_back(next);
    }
    if (blocks.size() > 1 && !is(blocks.back(), state_last))
      problem = fmt::format("it ends at block {}, which is not marked as the last", blocks.back() + 1);
    const std::size_t size = le32(frame(first), size_at);
    if (problem.empty() && size > blocks.size() * block_size && size <= block_count * block_size)
      problem = fmt::format("its entry says {} bytes, and {} blocks can be told", size, blocks.size());
    return blocks;
  }

  [[nodiscard]] Result<std::size_t> find(const std::string& name) const {
    std::vector<std::string> names;
    for (std::size_t block = 0; block < block_count; ++block) {
      if (state(block) != state_first) continue;
      names.push_back(name_of_entry(frame(block)));
      if (names.back() == name) return block;
    }
    const std::string hint = did_you_mean(name, names);
    return fail(ErrorCode::bad_usage, fmt::format("no save called '{}' is on the card", printable(name)),
                hint.empty() ? "`bayswap card list` shows what there is" : hint);
  }

  std::vector<Byte> image_;
};

std::vector<Byte> fresh_ps1() {
  std::vector<Byte> image(card_bytes);
  const auto frame = [&](std::size_t index) {
    return std::span(image).subspan(index * frame_bytes, frame_bytes);
  };
  for (const std::size_t index : {std::size_t{0}, write_test_frame}) {
    frame(index)[0] = 'M';
    frame(index)[1] = 'C';
    seal(frame(index));
  }
  for (std::size_t block = 0; block < block_count; ++block) {
    put_le(frame(block + 1), state_at, 4, state_free);
    put_le(frame(block + 1), next_at, 2, no_next);
    seal(frame(block + 1));
  }
  for (std::size_t i = 0; i < broken_frames; ++i) {
    put_le(frame(first_broken_frame + i), 0, 4, 0xffffffff);  // none is broken
    put_le(frame(first_broken_frame + i), 8, 2, 0xffff);
    seal(frame(first_broken_frame + i));
  }
  return image;
}

double weigh_ps1(ByteView image, std::string& evidence) {
  const bool marked = image[0] == 'M' && image[1] == 'C';
  std::size_t sound = 0;
  for (std::size_t block = 1; block <= block_count; ++block) {
    const ByteView frame = image.subspan(block * frame_bytes, frame_bytes);
    const std::uint32_t state = le32(frame, state_at);
    if (is_sealed(frame) && (is_used(state) || (state >= state_free && state <= deleted(state_last))))
      ++sound;
  }
  evidence = fmt::format("{}the directory frames of {} of 15 blocks are sound",
                         marked ? "the card's mark stands in frame 0, and " : "", sound);
  return std::min(0.99, (marked ? 0.45 : 0.0) + 0.54 * static_cast<double>(sound) / block_count);
}

std::optional<CardSave> ps1_from_entry(ByteView entry, const Blob& payload) {
  const std::uint32_t state = le32(entry, state_at);
  if (payload.size() % block_size != 0 || payload.size() > block_count * block_size ||
      (state != state_first && state != deleted(state_first)) || entry[name_at] == 0)
    return std::nullopt;
  CardSave save;
  save.kind = CardKind::ps1;
  save.name = name_of_entry(entry);
  save.title = title_of(payload.view());
  save.entry = Blob::copy_of(entry);
  save.payload = payload;
  return save;
}

}  // namespace

const CardFormat& ps1_format() {
  static const CardFormat format{CardKind::ps1,
                                 "ps1",
                                 card_bytes,
                                 weigh_ps1,
                                 [](std::vector<Byte> image) -> std::unique_ptr<Card> {
                                   return std::make_unique<Ps1Card>(std::move(image));
                                 },
                                 fresh_ps1,
                                 frame_bytes,
                                 ps1_from_entry};
  return format;
}

}  // namespace bayswap
