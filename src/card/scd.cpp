// scd backup memory, internal or on a cartridge: blocks of 64 bytes, the last one names the format and
// counts. The directory below it is written in an error-correcting code without a public description:
// docs/formats/scd.md says what that leaves us.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <map>

#include "base/endian.hpp"
#include "card/kinds.hpp"

namespace bayswap {
namespace {

constexpr std::size_t block_size = 64;
constexpr std::size_t reserved_blocks = 3;  // the first one, the last one, the directory's first

// ---- The last block ---------------------------------------------------------------------------------------
constexpr std::size_t volume_at = 0;  // 11 bytes, 5F where it has no name
constexpr std::size_t volume_bytes = 11;
constexpr std::size_t code_size_at = 15;  // 40: bytes of a coded block
constexpr std::size_t free_at = 16;       // four times 16 bits, big-endian: free blocks
constexpr std::size_t count_at = 24;      // four times 16 bits: saves
constexpr std::size_t copies = 4;
constexpr std::size_t mark_at = 32;
// Two texts of 16 bytes that the console looks for.
constexpr std::array<Byte, 32> mark{0x53, 0x45, 0x47, 0x41, 0x5f, 0x43, 0x44, 0x5f, 0x52, 0x4f, 0x4d,
                                    0x00, 0x01, 0x00, 0x00, 0x00, 0x52, 0x41, 0x4d, 0x5f, 0x43, 0x41,
                                    0x52, 0x54, 0x52, 0x49, 0x44, 0x47, 0x45, 0x5f, 0x5f, 0x5f};

Error no_directory() {
  return {ErrorCode::unsupported,
          "the saves of an scd memory can't be listed: its directory is written in a code that has no "
          "public description",
          "carry or convert the memory whole"};
}

class ScdCard final : public Card {
 public:
  explicit ScdCard(const Blob& image) : image_(image.view().begin(), image.view().end()) {}

  CardKind kind() const override { return CardKind::scd; }
  std::size_t block_bytes() const override { return block_size; }
  std::size_t capacity_blocks() const override { return image_.size() / block_size - reserved_blocks; }
  std::size_t free_blocks() const override {
    return std::min<std::size_t>(voted(free_at).value, capacity_blocks());
  }
  std::size_t blocks_for(const CardSave& save) const override {
    return (save.payload.size() + block_size - 1) / block_size;
  }
  std::vector<CardEntry> entries() const override { return {}; }
  Result<CardSave> read(const std::string& /*name*/) const override { return tl::unexpected(no_directory()); }
  Result<void> put(const CardSave& save) override {
    if (save.kind != CardKind::scd)
      return fail(ErrorCode::bad_usage, fmt::format("{} is not a save of an scd card", save.name),
                  "a save of another platform has no place there");
    return tl::unexpected(no_directory());
  }
  Result<void> drop(const std::string& /*name*/) override { return tl::unexpected(no_directory()); }

  std::vector<CardProblem> check() const override {
    std::vector<CardProblem> problems;
    if (!std::ranges::equal(footer().subspan(mark_at, mark.size()), mark))
      problems.push_back({footer_at() + mark_at, true, "the last block does not end with its mark"});
    for (const auto& [at, what] :
         {std::pair{free_at, "free blocks"}, std::pair{count_at, "number of saves"}}) {
      const Vote vote = voted(at);
      if (vote.votes < copies)
        problems.push_back(
            {footer_at() + at, vote.votes > copies / 2,
             fmt::format("{}: only {} of {} copies say {}", what, vote.votes, copies, vote.value)});
    }
    if (voted(free_at).value > capacity_blocks())
      problems.push_back({footer_at() + free_at, false,
                          fmt::format("{} blocks are free, of {}", voted(free_at).value, capacity_blocks())});
    return problems;
  }
  std::size_t repair() override {
    const std::size_t before = check().size();
    const std::span<Byte> last = std::span(image_).subspan(footer_at(), block_size);
    std::ranges::copy(mark, last.subspan(mark_at).begin());
    for (const std::size_t at : {free_at, count_at})
      if (const Vote vote = voted(at); vote.votes > copies / 2)
        for (std::size_t i = 0; i < copies; ++i) put_be16(last, at + 2 * i, vote.value);
    return before - check().size();
  }
  std::vector<FoundSave> carve(std::size_t /*present_bytes*/) const override { return {}; }
  std::vector<CardBlock> map() const override {
    // Saves fill the memory from below, the directory grows from above.
    std::vector<CardBlock> blocks(image_.size() / block_size, CardBlock{BlockUse::system, 0});
    const std::size_t used = capacity_blocks() - free_blocks();
    for (std::size_t i = 1; i + 2 < blocks.size(); ++i)
      blocks[i].use = i <= used ? BlockUse::lost : BlockUse::free;
    return blocks;
  }
  Blob image() const override { return Blob::copy_of(image_); }

 private:
  struct Vote {
    std::uint16_t value = 0;
    std::size_t votes = 0;
  };
  [[nodiscard]] std::size_t footer_at() const { return image_.size() - block_size; }
  [[nodiscard]] ByteView footer() const { return ByteView(image_).subspan(footer_at(), block_size); }
  // What most of the four copies say.
  [[nodiscard]] Vote voted(std::size_t at) const {
    std::map<std::uint16_t, std::size_t> votes;
    for (std::size_t i = 0; i < copies; ++i) ++votes[be16(footer(), at + 2 * i)];
    const auto most = std::ranges::max_element(votes, {}, [](const auto& vote) { return vote.second; });
    return {most->first, most->second};
  }

  std::vector<Byte> image_;
};

Blob fresh_scd(const CardSize& size, const NewCardOptions& /*options*/) {
  std::vector<Byte> image(size.image_bytes);
  const std::span<Byte> last = std::span(image).last(block_size);
  std::fill_n(last.begin() + volume_at, volume_bytes, Byte{'_'});
  last[code_size_at] = block_size;
  for (std::size_t i = 0; i < copies; ++i)
    put_be16(last, free_at + 2 * i, static_cast<std::uint16_t>(size.blocks));
  std::ranges::copy(mark, last.subspan(mark_at).begin());
  return Blob::copy_of(image);
}

// How many bytes of the mark are there, 8 at a time.
std::size_t marks_right(ByteView image) {
  const ByteView there = image.last(block_size).subspan(mark_at, mark.size());
  std::size_t right = 0;
  for (std::size_t i = 0; i < mark.size(); i += 8) {
    std::uint64_t a = 0;
    std::uint64_t b = 0;
    std::memcpy(&a, there.data() + i, 8);
    std::memcpy(&b, mark.data() + i, 8);
    const std::uint64_t differs = a ^ b;
    constexpr std::uint64_t low_bits = 0x7f7f7f7f7f7f7f7f;
    const std::uint64_t same = ~(((differs & low_bits) + low_bits) | differs | low_bits) >> 7U;  // 1 a byte
    right += (same * 0x0101010101010101) >> 56U;
  }
  return right;
}

double score_scd(ByteView image, std::string& evidence) {
  const ByteView last = image.last(block_size);
  const std::size_t right = marks_right(image);
  if (right < mark.size() / 2) return 0;
  const bool size = be16(last, free_at) <= image.size() / block_size - reserved_blocks;
  evidence = fmt::format("the last block ends with {} of {} bytes of the format's mark", right, mark.size());
  return (size ? 0.28 : 0.0) + 0.7 * static_cast<double>(right) / static_cast<double>(mark.size());
}

}  // namespace

const SaveFormat& scd_save() {
  static const SaveFormat format{CardKind::scd,
                                 0,
                                 false,
                                 [](ByteView) { return false; },
                                 [](const CardSave&) { return false; },
                                 [](const CardSave& save) {
                                   CardEntry entry;
                                   entry.size_bytes = save.payload.size();
                                   return entry;
                                 },
                                 nullptr,
                                 nullptr};
  return format;
}

const CardFormat& scd_format() {
  constexpr std::size_t kilo = 1024;
  static constexpr auto size = [](std::size_t bytes) {
    return CardSize{bytes / block_size - reserved_blocks, bytes};
  };
  static constexpr std::array sizes{size(8 * kilo),   size(16 * kilo),  size(32 * kilo), size(64 * kilo),
                                    size(128 * kilo), size(256 * kilo), size(512 * kilo)};
  static constexpr std::array forms{std::string_view("plain")};
  static constexpr std::array<std::size_t, 7> image_sizes{8 * kilo,   16 * kilo,  32 * kilo, 64 * kilo,
                                                          128 * kilo, 256 * kilo, 512 * kilo};
  static const CardFormat format{
      scd_save(),
      "scd",
      sizes,
      forms,
      image_sizes,
      score_scd,
      [](const Blob& image) -> std::unique_ptr<Card> { return std::make_unique<ScdCard>(image); },
      fresh_scd,
      [](ByteView image) {
        const Byte* const there = image.data() + image.size() - block_size + mark_at;
        constexpr std::size_t piece = 8;
        return std::memcmp(there, mark.data(), piece) == 0 ||
               std::memcmp(there + mark.size() - piece, mark.data() + mark.size() - piece, piece) == 0;
      },
      [](ByteView file) {
        constexpr std::size_t piece = 8;
        for (std::size_t at = 0; at + mark.size() <= file.size(); at += 16)
          if (std::memcmp(file.data() + at, mark.data(), piece) == 0 ||
              std::memcmp(file.data() + at + mark.size() - piece, mark.data() + mark.size() - piece, piece) ==
                  0)
            return true;
        return false;
      }};
  return format;
}

}  // namespace bayswap
