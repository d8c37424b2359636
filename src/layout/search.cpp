#include "layout/search.hpp"

#include <algorithm>
#include <cstring>

#include "layout/byte_order.hpp"
#include "layout/transform.hpp"

namespace bayswap {
namespace {

constexpr std::size_t anchor_bytes = 24;
constexpr std::size_t max_places = 16;  // a way with more than these says nothing

bool is_fill_only(ByteView bytes) {
  Byte value = 1;
  return is_uniform(bytes, &value) && (value == 0x00 || value == 0xff);
}

// The stretch that is the least likely to be somewhere by chance: the one with the most changes.
std::size_t anchor_of(ByteView bytes) {
  std::size_t best = 0;
  std::size_t best_changes = 0;
  const std::size_t stride = std::max<std::size_t>(anchor_bytes, bytes.size() / 512);
  for (std::size_t at = 0; at + anchor_bytes <= bytes.size(); at += stride) {
    std::size_t changes = 0;
    for (std::size_t i = 1; i < anchor_bytes; ++i) changes += bytes[at + i] != bytes[at + i - 1] ? 1 : 0;
    if (changes > best_changes) {
      best_changes = changes;
      best = at;
    }
  }
  return best;
}

// All offsets in `file` at which the whole of `needle` is.
std::vector<std::size_t> places_of(ByteView needle, ByteView file) {
  std::vector<std::size_t> places;
  if (needle.empty() || needle.size() > file.size()) return places;
  const std::size_t anchor = needle.size() <= anchor_bytes ? 0 : anchor_of(needle);
  const std::size_t length = std::min(needle.size(), anchor_bytes);
  std::size_t from = anchor;
  const std::size_t last = file.size() - needle.size() + anchor;
  // Few tries: in a file full of repeats the anchor may be nearly everywhere.
  const std::size_t max_tries = std::clamp<std::size_t>((std::size_t{32} << 20) / needle.size(), 64, 4096);
  for (std::size_t tries = 0; tries < max_tries && from <= last; ++tries) {
    const void* hit = memmem(file.data() + from, last - from + length, needle.data() + anchor, length);
    if (hit == nullptr) break;
    const auto at = static_cast<std::size_t>(static_cast<const Byte*>(hit) - file.data()) - anchor;
    if (std::memcmp(file.data() + at, needle.data(), needle.size()) == 0) {
      places.push_back(at);
      if (places.size() >= max_places) break;
    }
    from = at + anchor + 1;
  }
  return places;
}

std::vector<Byte> bytes_of_lane(ByteView file, AddressParity lane) {
  const std::size_t first = lane == AddressParity::odd ? 1 : 0;
  std::vector<Byte> out((file.size() + 1 - first) / 2);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = file[2 * i + first];
  return out;
}

std::vector<Byte> lower_halves(ByteView bytes) {
  std::vector<Byte> out(bytes.begin(), bytes.end());
  for (Byte& b : out) b &= 0x0f;
  return out;
}

class Finder {
 public:
  Finder(const Part& part, ByteView file) : part_(part), file_(file) {}

  std::vector<Slot> run() {
    ByteView bytes = part_.bytes.view();
    // Whole first; then without the filler that a larger slot has after a smaller chip.
    for (;;) {
      plain(bytes);
      if (found_.empty() && part_.role.kind == PartKind::rtc) clock(bytes);
      if (found_.empty()) spread(bytes);
      if (found_.empty()) half_bytes(bytes);
      if (found_.empty()) early_end(bytes);
      constexpr std::size_t smallest = 64;
      if (!found_.empty() || bytes.size() / 2 < smallest || bytes.size() % 2 != 0 ||
          !is_fill_only(bytes.subspan(bytes.size() / 2)))
        break;
      bytes = bytes.first(bytes.size() / 2);
    }
    return std::move(found_);
  }

 private:
  Slot slot(std::size_t at, std::size_t file_bytes, ByteOrder order) const {
    Slot slot{part_.role, at, false, {file_bytes}, {}};
    slot.order = order;
    return slot;
  }
  void keep(Slot slot) {
    slot.chip_sizes = slot.part_sizes();
    found_.push_back(std::move(slot));
  }

  template <class Keep>
  void in_orders(ByteView bytes, ByteView file, Keep keep_at) {
    std::vector<Byte> turned(bytes.size());
    for (const ByteOrder order : {ByteOrder::chip, ByteOrder::swap16, ByteOrder::swap32, ByteOrder::swap64}) {
      if (bytes.size() % word_bytes(order) != 0) continue;
      copy_ordered(order, bytes, turned);
      for (const std::size_t at : places_of(turned, file)) keep_at(at, order);
    }
  }

  void plain(ByteView bytes) {
    in_orders(bytes, file_, [&](std::size_t at, ByteOrder order) { keep(slot(at, bytes.size(), order)); });
  }

  // The file ends with the part, before the filler that the part ends in.
  void early_end(ByteView bytes) {
    std::size_t data = bytes.size();
    const Byte last = bytes.empty() ? Byte{1} : bytes.back();
    if (last != 0x00 && last != 0xff) return;
    while (data > 0 && bytes[data - 1] == last) --data;
    if (data < anchor_bytes) return;
    in_orders(bytes.first((data + 7) / 8 * 8), file_, [&](std::size_t at, ByteOrder order) {
      const ByteView rest = file_.subspan(at);
      if (rest.size() < bytes.size() && is_uniform_from(rest, (data + 7) / 8 * 8, last))
        keep(slot(at, rest.size(), order));
    });
  }
  static bool is_uniform_from(ByteView bytes, std::size_t from, Byte value) {
    return std::ranges::all_of(bytes.subspan(from), [&](Byte b) { return b == value; });
  }

  void spread(ByteView bytes) {
    for (const AddressParity lane : {AddressParity::odd, AddressParity::even})
      in_orders(bytes, bytes_of_lane(file_, lane), [&](std::size_t at, ByteOrder order) {
        // The byte beside each is the one before it, or the one after.
        const std::size_t first = 2 * at + (lane == AddressParity::odd ? 1 : 0);
        std::vector<Slot> unsure;
        for (const AddressParity way : {AddressParity::odd, AddressParity::even}) {
          if (way == AddressParity::odd && first == 0) continue;
          Slot found = slot(way == AddressParity::odd ? first - 1 : first, 2 * bytes.size(), order);
          if (found.at + 2 * bytes.size() > file_.size()) continue;
          found.parity = way;
          found.interleave = spread_of(found, file_.subspan(found.at, found.file_sizes.front()));
          if (found.interleave != Interleave::none) {
            keep(std::move(found));
          } else {
            found.interleave = Interleave::zero;
            unsure.push_back(std::move(found));
          }
        }
        for (Slot& found : unsure) keep(std::move(found));
      });
  }

  void half_bytes(ByteView bytes) {
    if (part_.role.kind != PartKind::sram || part_.bytes.size() > 65536) return;
    for (const std::size_t at : places_of(lower_halves(bytes), lower_halves(file_))) {
      Slot found = slot(at, bytes.size(), ByteOrder::chip);
      found.encoding = Encoding::nibbles;
      keep(std::move(found));
    }
    Slot packed = slot(0, bytes.size() / 2, ByteOrder::chip);
    packed.encoding = Encoding::nibbles_packed;
    std::vector<Byte> needle(bytes.size() / 2);
    if (bytes.size() % 2 != 0) return;
    write_slot(packed, bytes, needle, {});
    for (const std::size_t at : places_of(needle, file_)) {
      packed.at = at;
      keep(packed);
    }
  }

  void clock(ByteView bytes) {
    if (bytes.size() != 48) return;
    for (const Encoding form : {Encoding::clock44, Encoding::clock_start}) {
      Slot found = slot(0, form == Encoding::clock44 ? 44 : 8, ByteOrder::chip);
      found.encoding = form;
      std::vector<Byte> needle(found.file_sizes.front());
      write_slot(found, bytes, needle, {});
      for (const std::size_t at : places_of(needle, file_)) {
        found.at = at;
        keep(found);
      }
    }
  }

  const Part& part_;
  ByteView file_;
  std::vector<Slot> found_;
};

}  // namespace

std::vector<Slot> find_part(const Part& part, ByteView file) {
  return Finder(part, file).run();
}

Interleave spread_of(const Slot& slot, ByteView place) {
  const std::size_t lane = slot.parity == AddressParity::odd ? 1 : 0;
  bool zero = true;
  bool ff = true;
  bool doubled = true;
  for (std::size_t i = 0; i + 2 <= place.size(); i += 2) {
    const Byte beside = place[i + 1 - lane];
    zero = zero && beside == 0x00;
    ff = ff && beside == 0xff;
    doubled = doubled && beside == place[i + lane];
  }
  return zero ? Interleave::zero : ff ? Interleave::ff : doubled ? Interleave::doubled : Interleave::none;
}

}  // namespace bayswap
