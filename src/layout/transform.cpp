#include "layout/transform.hpp"

#include <algorithm>
#include <array>
#include <cassert>
#include <cstring>

#include "base/ecc.hpp"
#include "base/endian.hpp"
#include "layout/byte_order.hpp"

namespace bayswap {
namespace {

constexpr Byte open_half = 0xf0;

// ---- The gb clock: registers s, m, h, day, day-high as they run, then as they were latched; Unix seconds
// --------
constexpr std::size_t clock_bytes = 48;
constexpr std::size_t clock_time_at = 40;
constexpr std::array<std::uint64_t, 5> register_seconds{1, 60, 3600, 86400, 86400 * 256};

// When the clock was at zero, if it has run ever since.
std::uint64_t clock_start(ByteView clock) {
  std::uint64_t elapsed = 0;
  for (std::size_t i = 0; i < register_seconds.size(); ++i) {
    const std::uint32_t value = le32(clock, 4 * i) & (i == 4 ? 1U : 0xffU);
    elapsed += value * register_seconds.at(i);
  }
  // The counter of days ran over: 512 of them at least are behind it.
  constexpr std::uint32_t ran_over = 0x80;
  if ((le32(clock, 16) & ran_over) != 0) elapsed += 2 * register_seconds.at(4);
  return le64(clock, clock_time_at) - elapsed;
}

// ---- Pages with spare bytes: single wrong bits are set right on the way in -------------------------------
constexpr std::size_t raw_page_bytes = ecc_page_bytes + ecc_spare_bytes;

void read_pages(ByteView in, std::span<Byte> part) {
  for (std::size_t i = 0; (i + 1) * raw_page_bytes <= in.size(); ++i) {
    const ByteView raw = in.subspan(i * raw_page_bytes, raw_page_bytes);
    const std::span<Byte> page = part.subspan(i * ecc_page_bytes, ecc_page_bytes);
    std::memcpy(page.data(), raw.data(), ecc_page_bytes);
    (void)repair_page(page, raw.subspan(ecc_page_bytes));
  }
}
// A page that says what the shell's says keeps the shell's bytes, spare ones and all.
void write_pages(ByteView part, std::span<Byte> out, ByteView shell) {
  std::array<Byte, ecc_page_bytes> before{};
  for (std::size_t i = 0; (i + 1) * raw_page_bytes <= out.size(); ++i) {
    const ByteView page = part.subspan(i * ecc_page_bytes, ecc_page_bytes);
    const std::span<Byte> raw = out.subspan(i * raw_page_bytes, raw_page_bytes);
    if (!shell.empty()) {
      const ByteView its = shell.subspan(i * raw_page_bytes, raw_page_bytes);
      read_pages(its, before);
      if (std::memcmp(before.data(), page.data(), before.size()) == 0) {
        std::memcpy(raw.data(), its.data(), raw_page_bytes);
        continue;
      }
    }
    std::memcpy(raw.data(), page.data(), ecc_page_bytes);
    put_likely_spare(raw.subspan(ecc_page_bytes), page);
  }
}

void read_form(Encoding form, ByteView in, std::span<Byte> part) {
  switch (form) {
    case Encoding::plain:
      std::ranges::copy(in, part.begin());
      return;
    case Encoding::nibbles:
      std::ranges::transform(in, part.begin(), [](Byte b) { return static_cast<Byte>(open_half | b); });
      return;
    case Encoding::nibbles_packed:
      for (std::size_t i = 0; i < in.size(); ++i) {
        part[2 * i] = static_cast<Byte>(open_half | in[i]);
        part[2 * i + 1] = static_cast<Byte>(open_half | in[i] >> 4);
      }
      return;
    case Encoding::clock44:
      std::ranges::fill(part, Byte{0});
      std::ranges::copy(in, part.begin());
      return;
    case Encoding::clock_start:  // a clock that was at zero then: whoever reads it lets it run on from
                                 // there
      std::ranges::fill(part, Byte{0});
      std::ranges::copy(in, part.subspan(clock_time_at).begin());
      return;
    case Encoding::pages_ecc:
      return read_pages(in, part);
  }
}

void write_form(Encoding form, ByteView part, std::span<Byte> out, ByteView shell) {
  switch (form) {
    case Encoding::plain:
      std::ranges::copy(part, out.begin());
      return;
    case Encoding::nibbles:
      for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = static_cast<Byte>((shell.empty() ? open_half : shell[i] & 0xf0) | (part[i] & 0x0f));
      return;
    case Encoding::nibbles_packed:
      for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = static_cast<Byte>((part[2 * i] & 0x0f) | part[2 * i + 1] << 4);
      return;
    case Encoding::clock44:
      std::ranges::copy(part.first(out.size()), out.begin());
      return;
    case Encoding::clock_start:
      put_le(out, 0, out.size(), clock_start(part));
      return;
    case Encoding::pages_ecc:
      return write_pages(part, out, shell);
  }
}

// How many bytes a form has in the file for one, two, ... of the part's.
std::size_t form_to_file(Encoding form, std::size_t part_bytes) {
  switch (form) {
    case Encoding::plain:
    case Encoding::nibbles:
      return part_bytes;
    case Encoding::nibbles_packed:
      return part_bytes / 2;
    case Encoding::clock44:
      return 44;
    case Encoding::clock_start:
      return 8;
    case Encoding::pages_ecc:
      return part_bytes / ecc_page_bytes * raw_page_bytes;
  }
  return part_bytes;
}

std::size_t form_to_part(Encoding form, std::size_t file_bytes) {
  switch (form) {
    case Encoding::plain:
    case Encoding::nibbles:
      return file_bytes;
    case Encoding::nibbles_packed:
      return file_bytes * 2;
    case Encoding::clock44:
    case Encoding::clock_start:
      return clock_bytes;
    case Encoding::pages_ecc:
      return file_bytes / raw_page_bytes * ecc_page_bytes;
  }
  return file_bytes;
}

std::size_t lane_of(const Slot& slot) {
  return slot.parity == AddressParity::odd ? 1 : 0;
}

std::vector<Byte> gathered(const Slot& slot, ByteView file) {
  std::vector<Byte> out(file.size() / 2);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = file[2 * i + lane_of(slot)];
  return out;
}

Byte filler(const Slot& slot, Byte beside) {
  switch (slot.interleave) {
    case Interleave::zero:
      return 0x00;
    case Interleave::ff:
      return 0xff;
    case Interleave::none:
    case Interleave::doubled:
      break;
  }
  return beside;
}

void scatter(const Slot& slot, ByteView bytes, std::span<Byte> file, ByteView shell) {
  const std::size_t lane = lane_of(slot);
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    const std::size_t at = 2 * i + lane;
    const std::size_t beside = 2 * i + 1 - lane;
    file[at] = bytes[i];
    // A doubled byte follows the one it doubles, once that changes.
    const bool keep = !shell.empty() && (slot.interleave != Interleave::doubled || shell[at] == bytes[i]);
    file[beside] = keep ? shell[beside] : filler(slot, bytes[i]);
  }
}

}  // namespace

void read_slot(const Slot& slot, ByteView file, std::span<Byte> part) {
  assert(part.size() == slot.part_size(file.size()));
  if (slot.interleave == Interleave::none && slot.encoding == Encoding::plain)
    return copy_ordered(slot.order, file, part);
  const std::vector<Byte> gathered_bytes =
      slot.interleave == Interleave::none ? std::vector<Byte>{} : gathered(slot, file);
  const ByteView in = slot.interleave == Interleave::none ? file : ByteView(gathered_bytes);
  if (slot.encoding == Encoding::plain) return copy_ordered(slot.order, in, part);
  if (slot.order == ByteOrder::chip) return read_form(slot.encoding, in, part);
  std::vector<Byte> straight(in.size());
  copy_ordered(slot.order, in, straight);
  read_form(slot.encoding, straight, part);
}

void write_slot(const Slot& slot, ByteView part, std::span<Byte> file, ByteView shell) {
  assert(part.size() == slot.part_size(file.size()) && (shell.empty() || shell.size() == file.size()));
  if (slot.interleave == Interleave::none && slot.encoding == Encoding::plain)
    return copy_ordered(slot.order, part, file);
  if (slot.interleave == Interleave::none && slot.order == ByteOrder::chip)
    return write_form(slot.encoding, part, file, shell);
  // The steps of reading, backwards; the shell goes forwards to each of them.
  const std::size_t formed_bytes = form_to_file(slot.encoding, part.size());
  std::vector<Byte> shell_formed;
  if (!shell.empty() && (slot.encoding == Encoding::nibbles || slot.encoding == Encoding::pages_ecc)) {
    const std::vector<Byte> lane = slot.interleave == Interleave::none
                                       ? std::vector<Byte>(shell.begin(), shell.end())
                                       : gathered(slot, shell);
    shell_formed.resize(formed_bytes);
    copy_ordered(slot.order, lane, shell_formed);
  }
  std::vector<Byte> formed(formed_bytes);
  write_form(slot.encoding, part, formed, shell_formed);
  std::vector<Byte> turned(formed_bytes);
  copy_ordered(slot.order, formed, turned);
  if (slot.interleave == Interleave::none) {
    std::ranges::copy(turned, file.begin());
  } else {
    scatter(slot, turned, file, shell);
  }
}

std::size_t Slot::part_size(std::size_t file_bytes) const {
  return form_to_part(encoding, interleave == Interleave::none ? file_bytes : file_bytes / 2);
}

std::size_t Slot::file_size(std::size_t part_bytes) const {
  return form_to_file(encoding, part_bytes) * (interleave == Interleave::none ? 1 : 2);
}

std::vector<std::size_t> Slot::part_sizes() const {
  std::vector<std::size_t> sizes;
  sizes.reserve(file_sizes.size());
  for (const std::size_t bytes : file_sizes) sizes.push_back(part_size(bytes));
  return sizes;
}

}  // namespace bayswap
