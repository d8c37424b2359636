// Which form does a file of the target's own have? Asked when nobody has said so.
#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "base/order.hpp"
#include "base/try.hpp"
#include "layout/byte_order.hpp"

namespace bayswap {
namespace {

constexpr std::size_t max_wrapper_bytes = std::size_t{1} << 20;
constexpr std::size_t max_samples = 1024;

const Part* main_part(const std::vector<Save>& inputs) {
  const Part* best = nullptr;
  for (const Save& save : inputs)
    for (const Part& part : save.parts)
      if (part.role.kind != PartKind::rtc && !is_blank(part) &&
          (best == nullptr || part.bytes.size() > best->bytes.size()))
        best = &part;
  return best;
}

// One way a part's bytes may be in a file: a slot without its place.
std::vector<Slot> ways(const Part& part) {
  std::vector<Slot> slots;
  const auto add = [&](ByteOrder order, Interleave spread, AddressParity lane) {
    Slot slot{
        part.role, 0, false, {part.bytes.size() * (spread == Interleave::none ? 1 : 2)}, {part.bytes.size()}};
    slot.order = order;
    slot.interleave = spread;
    slot.parity = lane;
    slots.push_back(std::move(slot));
  };
  for (const ByteOrder order : {ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64})
    add(order, Interleave::none, AddressParity::odd);
  for (const Interleave spread : {Interleave::zero, Interleave::ff, Interleave::doubled})
    for (const AddressParity lane : {AddressParity::odd, AddressParity::even})
      add(ByteOrder::chip, spread, lane);
  return slots;
}

// Two neighbouring bytes of the chip, where they are in a slot, and how far apart their values are. Another
// save of the same game shares many such steps, even in tables whose values have all moved.
struct Sample {
  std::size_t first = 0;
  std::size_t second = 0;
  Byte step = 0;
};

std::vector<Sample> samples_of(const Slot& slot, ByteView chip) {
  const auto position = [&](std::size_t i) {
    i ^= (word_bytes(slot.order) - 1);
    return slot.interleave == Interleave::none ? i : 2 * i + (slot.parity == AddressParity::odd ? 1 : 0);
  };
  std::size_t telling = 0;
  for (std::size_t i = 0; i + 1 < chip.size(); ++i) telling += chip[i] != chip[i + 1] ? 1 : 0;
  const std::size_t stride = 1 + telling / max_samples;
  std::vector<Sample> samples;
  std::size_t seen = 0;
  for (std::size_t i = 0; i + 1 < chip.size(); ++i)
    if (chip[i] != chip[i + 1] && seen++ % stride == 0)
      samples.push_back({position(i), position(i + 1), static_cast<Byte>(chip[i + 1] - chip[i])});
  return samples;
}

double likeness(const std::vector<Sample>& samples, ByteView there) {
  std::size_t same = 0;
  for (const Sample& sample : samples)
    same += static_cast<Byte>(there[sample.second] - there[sample.first]) == sample.step ? 1 : 0;
  return samples.empty() ? 0 : static_cast<double>(same) / static_cast<double>(samples.size());
}

// How alike the part is to what the file would hold in that layout.
double likeness(const Part& part, const LayoutMatch& match, const Blob& file) {
  const auto own = open_save(*match.layout, file);
  const Part* there = own ? own->save.find(part.role) : nullptr;
  if (there == nullptr || there->bytes.size() < part.bytes.size()) return 0;
  const Slot straight{part.role, 0, false, {part.bytes.size()}, {part.bytes.size()}};
  return likeness(samples_of(straight, part.bytes.view()), there->bytes.view());
}

struct Placing {
  Slot slot;
  double steps = 0;   // share of steps that are the same there
  double excess = 0;  // how many standard deviations more bytes are the same there than chance would have
};

// Tries every place and way. A rough measure leaves a few; those are compared to the last byte.
class Search {
 public:
  Search(const Part& part, ByteView base) : part_(part), base_(base) {
    for (const Byte b : base) ++counts_.at(b);
    for (const Slot& slot : ways(part)) {
      const std::size_t size = slot.file_sizes.front();
      if (size > base.size() || base.size() - size > max_wrapper_bytes) continue;
      if (part.bytes.size() % 8 != 0 && slot.order != ByteOrder::chip) continue;
      try_way(slot);
    }
    std::vector<Placing> finalists;
    for (auto measure : {&Placing::steps, &Placing::excess}) {
      sort_by_descending(rough_, measure);
      for (std::size_t i = 0; i < rough_.size() && i < kept; ++i) finalists.push_back(rough_[i]);
    }
    rough_.clear();
    for (Placing& placing : finalists) {
      const auto known = [&](const Placing& other) {
        return other.slot.at == placing.slot.at && other.slot.order == placing.slot.order &&
               other.slot.interleave == placing.slot.interleave && other.slot.parity == placing.slot.parity;
      };
      if (std::ranges::any_of(places_, known)) continue;
      placing.excess = excess_of(placing.slot, 1) - oddness(placing.slot);
      places_.push_back(placing);
    }
  }

  // The one place that stands out, if one does.
  [[nodiscard]] const Placing* best() {
    if (places_.empty()) return nullptr;
    // Where nearly every step is the same, as in tables, the right place has hardly one that is off.
    sort_by_descending(places_, &Placing::steps);
    const auto next = [&](double Placing::*measure) {
      return places_.size() > 1 ? places_[1].*measure : 0.0;
    };
    constexpr double table = 0.95;
    if (places_.front().steps >= table)
      return 1 - next(&Placing::steps) > 1.5 * (1 - places_.front().steps) + 0.003 ? &places_.front()
                                                                                   : nullptr;
    sort_by_descending(places_, &Placing::excess);
    constexpr double sure = 8;
    constexpr double ahead = 5;
    return places_.front().excess >= sure && places_.front().excess >= next(&Placing::excess) + ahead
               ? &places_.front()
               : nullptr;
  }

 private:
  static constexpr std::size_t kept = 24;
  static constexpr std::size_t rough_bytes = 1024;

  // What hardly anybody does needs better evidence: offsets that are no multiple of 16, other than a
  // trailer's absence, and words of 16 or 64 bits reversed.
  [[nodiscard]] double oddness(const Slot& slot) const {
    constexpr double handicap = 3;
    const bool plain_offset = slot.at % 16 == 0 || slot.at + slot.file_sizes.front() == base_.size();
    const bool plain_order = slot.order == ByteOrder::chip || slot.order == ByteOrder::swap32;
    return (plain_offset ? 0 : handicap) + (plain_order ? 0 : handicap);
  }

  void try_way(const Slot& slot) {
    const auto samples = samples_of(slot, part_.bytes.view());
    const std::size_t size = slot.file_sizes.front();
    const std::size_t room = base_.size() - size;
    const std::size_t stride = 1 + part_.bytes.size() / rough_bytes;
    Slot placed = slot;
    // Close to both ends every offset; in between headers are aligned.
    constexpr std::size_t fine = 4096;
    for (std::size_t at = 0; at <= room; at += at < fine || room - at <= fine ? 1 : 16) {
      placed.at = at;
      rough_.push_back({placed, likeness(samples, base_.subspan(at, size)), excess_of(placed, stride)});
      if (rough_.size() > 64 * kept) thin_out();
    }
  }

  // Keeps those that are among the best by one measure or the other.
  void thin_out() {
    sort_by_descending(rough_, &Placing::steps);
    std::ranges::stable_sort(rough_.begin() + kept, rough_.end(), std::greater<>{}, &Placing::excess);
    rough_.resize(3 * kept);
  }

  [[nodiscard]] double excess_of(const Slot& slot, std::size_t stride) const {
    const ByteView chip = part_.bytes.view();
    const std::size_t mask = (word_bytes(slot.order) - 1);
    const bool spread = slot.interleave != Interleave::none;
    const std::size_t lane = slot.parity == AddressParity::odd ? 1 : 0;
    const auto all = static_cast<double>(base_.size());
    double same = 0;
    double expected = 0;
    double variance = 0;
    for (std::size_t i = 0; i < chip.size(); i += stride) {
      const std::size_t from = slot.at + (spread ? 2 * (i ^ mask) + lane : i ^ mask);
      same += base_[from] == chip[i] ? 1 : 0;
      const double p = static_cast<double>(counts_.at(chip[i])) / all;
      expected += p;
      variance += p * (1 - p);
    }
    return variance > 0 ? (same - expected) / std::sqrt(variance) : 0;
  }

  const Part& part_;
  ByteView base_;
  std::array<std::size_t, 256> counts_{};
  std::vector<Placing> rough_;
  std::vector<Placing> places_;
};

bool is_text(ByteView bytes) {
  return std::ranges::all_of(bytes, [](Byte b) { return b >= 0x20 && b < 0x7f; });
}

// A file that holds no save of that game yet: its wrapper is what is not blank, or what is text at one end.
std::optional<std::pair<std::size_t, std::string>> by_wrapper(std::size_t part_bytes, ByteView base) {
  if (base.size() <= part_bytes) return std::nullopt;
  const std::size_t extra = base.size() - part_bytes;
  const bool blank_behind = is_uniform(base.subspan(extra));
  const bool blank_before = is_uniform(base.first(part_bytes));
  if (blank_behind != blank_before)
    return std::pair{blank_behind ? extra : 0,
                     fmt::format("{} bytes that are all the same are {} the other {}", part_bytes,
                                 blank_behind ? "after" : "before", extra)};
  constexpr std::size_t mark = 4;
  constexpr std::size_t max_head_bytes = 512;  // more is likely to be on both sides, or padding
  if (extra < mark || extra > max_head_bytes) return std::nullopt;
  const bool head = is_text(base.first(mark));
  const bool tail = is_text(base.last(mark));
  if (head != tail)
    return std::pair{head ? extra : 0,
                     fmt::format("the file {} with a mark in letters", head ? "begins" : "ends")};
  return std::nullopt;
}

Result<DetectedLayout> made_up(const Part& part, Platform platform, const Blob& base, const Hints& hints) {
  const auto form = [&](const Slot& slot, double confidence, std::string why) {
    DetectedLayout own;
    own.layout.id = fmt::format("{}.as-base", tag(saves_as(platform)));
    own.layout.platform = saves_as(platform);
    own.layout.name = "as the target's own file has it";
    own.layout.extension = hints.extension;
    own.layout.size = base.size();
    own.layout.slots.push_back(slot);
    own.layout.origin = "worked out from the base";
    own.confidence = confidence;
    own.evidence.push_back(std::move(why));
    own.evidence.push_back(
        fmt::format("{} of {} bytes is taken to be at {} of {}, {}; the bytes around it are kept",
                    to_text(part.role), part.bytes.size(), slot.at, base.size(), in_words(slot.order)));
    return own;
  };
  Search search(part, base.view());
  if (const Placing* best = search.best())
    return form(best->slot, 0.9, "the save that is there now is much like the new one");
  if (const auto placed = by_wrapper(part.bytes.size(), base.view())) {
    Slot slot = ways(part).front();
    slot.at = placed->first;
    return form(slot, 0.6, placed->second);
  }
  return fail(
      ErrorCode::not_recognised,
      fmt::format("a file of {} bytes in no known layout, and its bytes do not show where {} of {} bytes "
                  "would be",
                  base.size(), to_text(part.role), part.bytes.size()),
      "show the form with a pair of files that hold the same save, or name the layout",
      {Remedy::Kind::target_layout, {}});
}

}  // namespace

Result<DetectedLayout> detect_layout(const Catalog& catalog, const std::vector<Save>& inputs,
                                     const Blob& base, const Hints& hints) {
  BAYSWAP_TRY(const Compressed file, unwrap(base));
  if (inputs.empty()) return fail(ErrorCode::bad_usage, "nothing to convert");
  const Platform platform = inputs.front().platform;
  Hints asked = hints;
  if (!asked.platform) asked.platform = platform;
  const Recognition recognition = recognise(catalog, file.plain, asked);
  const Part* part = main_part(inputs);
  // Forms that the save fits into; what only wildly might be is left to the search below.
  constexpr double wild = 0.02;
  std::vector<LayoutMatch> matches = recognition.matches;
  if (part != nullptr && recognition.either())  // what the save itself looks like decides between them
    std::ranges::stable_sort(
        matches.begin(), matches.begin() + static_cast<std::ptrdiff_t>(recognition.alike), std::greater<>{},
        [&](const LayoutMatch& match) { return likeness(*part, match, file.plain); });
  for (const LayoutMatch& match : matches) {
    if (match.confidence < wild) break;
    if (match.fit == Fit::trimmed) continue;  // a base is whole
    ConvertRequest request{inputs, match.layout, &file.plain, hints.chips, 0};
    if (!convert(catalog, request)) continue;
    DetectedLayout own{*match.layout, match.confidence, match.evidence};
    if (recognition.either() && part != nullptr)
      for (std::size_t i = 0; i < recognition.alike; ++i)
        if (recognition.matches[i].layout != match.layout)
          own.evidence.push_back(fmt::format("it could be {} as well", recognition.matches[i].layout->id));
    return own;
  }
  if (part == nullptr)
    return fail(ErrorCode::unsafe, "everything that was brought is blank, so there is nothing to place");
  return made_up(*part, platform, file.plain, hints);
}

}  // namespace bayswap
