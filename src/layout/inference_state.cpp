#include "layout/inference_state.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"
#include "layout/search.hpp"
#include "layout/transform.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_streams = 1024;
constexpr std::size_t failed_stream_cost = std::size_t{16} << 10;
constexpr std::size_t max_plain_bytes = std::size_t{16} << 20;

bool same_way(const Slot& a, const Slot& b) {
  return a.order == b.order && a.encoding == b.encoding && a.parity == b.parity &&
         (a.interleave == Interleave::none) == (b.interleave == Interleave::none);
}

Reading read_plain(const Example& example, const Stream& stream, const Blob& plain) {
  Reading reading{stream, plain, {}};
  for (const Part& part : example.save.parts)
    if (!is_blank(part))
      if (auto ways = find_part(part, plain.view()); !ways.empty())
        reading.ways[to_text(part.role)] = std::move(ways);
  return reading;
}

// The first compressed stream in the file that holds a part, or the file as it is. In this order: bytes that
// don't compress stand in their stream as they are.
Reading read_example(const Example& example) {
  const ByteView file = example.file.view();
  std::size_t tried = 0;
  // Streams may unfold to a lot, and overlap: all of them together get so much attention and no more.
  std::size_t budget = std::min(max_plain_bytes, file.size() * 16 + (std::size_t{4} << 20));
  for (std::size_t at = 0; at + 8 < file.size() && tried < max_streams && budget > 0; ++at) {
    const bool gzip = file[at] == 0x1f && file[at + 1] == 0x8b && file[at + 2] == 8;
    const bool zlib =
        (file[at] & 0x8f) == 8 && (file[at] * 256 + file[at + 1]) % 31 == 0 && (file[at + 1] & 0x20) == 0;
    const bool chunks = file[at] == '#' && file[at + 7] == '#';
    if (!gzip && !zlib && !chunks) continue;
    ++tried;
    const Compression kind = gzip ? Compression::gzip : zlib ? Compression::zlib : Compression::chunks;
    auto stream = read_stream(kind, example.file.slice(at, file.size()), budget);
    if (!stream || stream->plain.empty()) {
      budget -= std::min(budget, failed_stream_cost);
      continue;
    }
    budget -= std::min(budget, stream->plain.size());
    Reading inside = read_plain(example, {kind, at}, stream->plain);
    if (!inside.ways.empty()) return inside;
    at += stream->stream.size() - 1;
  }
  return read_plain(example, {}, example.file);
}

// How close the two come where they don't hold the same: the share of equal bytes at the likeliest places.
std::string closest_in_words(const Example& example) {
  const ByteView file = example.file.view();
  double best = 0;
  std::string words;
  for (const Part& part : example.save.parts) {
    if (is_blank(part) || part.bytes.size() > file.size()) continue;
    std::vector<Byte> turned(part.bytes.size());
    for (const ByteOrder order : {ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64}) {
      Slot slot{part.role, 0, false, {part.bytes.size()}, {part.bytes.size()}};
      slot.order = order;
      if (part.bytes.size() % 8 != 0 && order != ByteOrder::chip) continue;
      write_slot(slot, part.bytes.view(), turned, {});
      for (const std::size_t at : {std::size_t{0}, file.size() - turned.size()}) {
        std::size_t same = 0;
        std::size_t first = turned.size();
        for (std::size_t i = 0; i < turned.size(); ++i) {
          if (turned[i] == file[at + i]) {
            ++same;
          } else if (first == turned.size()) {
            first = i;
          }
        }
        const double share = static_cast<double>(same) / static_cast<double>(turned.size());
        if (share <= best) continue;
        best = share;
        words = fmt::format("at {}, {}, {} of {} bytes of {} are the same, the first other one is byte {}",
                            at, in_words(order), same, turned.size(), to_text(part.role), first);
      }
    }
  }
  constexpr double telling = 0.6;
  return best < telling ? "no order, spreading or compression that we know brings one into the other"
                        : "they come closest " + words;
}

}  // namespace

Result<void> InferenceState::read() {
  const Platform platform = examples.front().save.platform;
  for (std::size_t i = 0; i < examples.size(); ++i) {
    const Example& example = examples[i];
    const std::string which = examples.size() == 1 ? "" : fmt::format("pair {}: ", i + 1);
    if (example.save.platform != platform)
      return fail(ErrorCode::bad_usage, which + "it is of another platform than the first");
    if (example.file.empty() ||
        std::ranges::all_of(example.save.parts, [](const Part& part) { return part.bytes.empty(); }))
      return fail(ErrorCode::damaged,
                  which + "one of the files is empty: the copy was cut off before its first byte",
                  "copy it again from where it came from");
    if (example.save.is_blank())
      return fail(ErrorCode::bad_usage, which + "the known save is blank, so any place would do for it",
                  "save something in the game first, and take both files after that");
    Reading reading = read_example(example);
    if (reading.ways.empty())
      return fail(
          ErrorCode::not_recognised,
          fmt::format("{}the two files don't hold the same save: {}", which, closest_in_words(example)),
          "take both files after the same saving, without playing in between; if the known one is not in "
          "chip order, name its layout",
          {Remedy::Kind::source_layout, {}});
    if (!readings.empty() && (reading.stream.kind != readings.front().stream.kind ||
                              reading.stream.at != readings.front().stream.at))
      return fail(ErrorCode::not_recognised, which + "it is stored in another way than the first pair",
                  "learn one form at a time");
    readings.push_back(std::move(reading));
  }
  result.layout.platform = saves_as(platform);
  result.layout.stream = readings.front().stream;
  return {};
}

// How much longer than in the first example the file is.
std::ptrdiff_t InferenceState::grown(std::size_t example) const {
  return static_cast<std::ptrdiff_t>(readings[example].plain.size()) -
         static_cast<std::ptrdiff_t>(readings.front().plain.size());
}

// The same way at the same place in another example; a place after what grew has moved along.
const Slot* InferenceState::counterpart(const Slot& slot, std::size_t example) const {
  const auto ways = readings[example].ways.find(to_text(slot.role));
  if (ways == readings[example].ways.end()) return nullptr;
  for (const Slot& way : ways->second) {
    const auto moved = static_cast<std::ptrdiff_t>(way.at) - static_cast<std::ptrdiff_t>(slot.at);
    if (same_way(way, slot) && (moved == 0 || (moved == grown(example) && way.file_sizes == slot.file_sizes)))
      return &way;
  }
  return nullptr;
}

bool InferenceState::brings(std::size_t example, Role role) const {
  const Part* part = examples[example].save.find(role);
  return part != nullptr && !is_blank(*part);
}

// The byte at offset `at` of the first example, in another one.
Byte InferenceState::byte_of(std::size_t example, std::size_t at) const {
  const bool moved = elastic_end != 0 && at >= elastic_end;
  return readings[example]
      .plain.view()[static_cast<std::size_t>(static_cast<std::ptrdiff_t>(at) + (moved ? grown(example) : 0))];
}

}  // namespace bayswap
