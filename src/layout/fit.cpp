#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/try.hpp"

namespace bayswap {
namespace {

bool is_padding(ByteView bytes) {
  Byte value = 1;
  return is_uniform(bytes, &value) && (value == 0x00 || value == 0xff);
}

// What other kind of file begins like this; no chip holds these bytes by chance.
std::string_view other_file(ByteView bytes) {
  struct Signature {
    std::array<Byte, 8> bytes;
    std::size_t count;
    std::string_view what;
  };
  static constexpr std::array<Signature, 4> signatures{
      Signature{{0x89, 'P', 'N', 'G', 0x0d, 0x0a, 0x1a, 0x0a}, 8, "a PNG picture"},
      Signature{{0x52, 0x41, 0x53, 0x54, 0x41, 0x54, 0x45, 0x01}, 8, "a save state in chunks"},
      Signature{{'P', 'K', 3, 4}, 4, "a zip archive"},
      Signature{{'7', 'z', 0xbc, 0xaf, 0x27, 0x1c}, 6, "a 7z archive"}};
  for (const Signature& one : signatures)
    if (bytes.size() >= one.count &&
        std::equal(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(one.count), one.bytes.begin()))
      return one.what;
  return {};
}

// How long a file with a part of that size in the elastic slot would be.
std::optional<std::size_t> size_for_chip(const Layout& layout, const std::vector<ChipFact>& chips) {
  const Slot* variable_slot = layout.variable_slot();
  if (variable_slot == nullptr) return std::nullopt;
  for (const ChipFact& chip : chips)
    if (chip.kind == variable_slot->role.kind &&
        std::ranges::binary_search(variable_slot->part_sizes(), chip.size_bytes))
      return layout.file_sizes().front() + variable_slot->file_size(chip.size_bytes) -
             variable_slot->file_sizes.front();
  return std::nullopt;
}

// The file ends with a part that may be blank at its end: nothing known comes after it.
const Slot* open_end(const Layout& layout, std::size_t file_size) {
  for (const Slot& slot : layout.slots) {
    const auto place = layout.place(slot, file_size);
    const bool plain = slot.role.kind != PartKind::rtc && slot.role.kind != PartKind::pak;
    if (place.at + place.size == file_size && plain && slot.encoding == Encoding::plain) return &slot;
  }
  return nullptr;
}

// Less than that of a chip is something else: half of the smallest chip that there is, a sixteenth of this
// one.
std::size_t least_trimmed(const Slot& slot, std::size_t file_bytes) {
  constexpr std::size_t share = 16;
  return std::max(slot.file_size(slot.part_sizes().front()) / 2, file_bytes / share);
}

bool is_known(const Slot& slot, std::size_t file_bytes, const std::vector<ChipFact>& chips) {
  return std::ranges::any_of(chips, [&](const ChipFact& chip) {
    return chip.kind == slot.role.kind && (chip.size_bytes == slot.part_size(file_bytes) ||
                                           std::ranges::binary_search(slot.chip_sizes, chip.size_bytes));
  });
}

}  // namespace

Result<Fitted> fit(const Layout& layout, const Blob& file, const std::vector<ChipFact>& chips) {
  const auto sizes = layout.file_sizes();
  const auto known = size_for_chip(layout, chips);
  // A file of one size can be one of a smaller chip, padded.
  const bool padded = known && *known < file.size() && is_padding(file.view().subspan(*known)) &&
                      layout.stream.kind == Compression::none;
  if ((std::ranges::binary_search(sizes, file.size()) && !padded) || layout.stream.kind != Compression::none)
    return Fitted{file, Fit::exact, {}, 0};
  // The longest whole that leaves nothing but padding behind; the chip's own where that is known.
  for (auto size = sizes.rbegin(); size != sizes.rend(); ++size) {
    if (*size >= file.size() || (known && *size != *known)) continue;
    if (!is_padding(file.view().subspan(*size))) break;
    return Fitted{file.slice(0, *size), Fit::padded, file.slice(*size, file.size()), 0};
  }
  if (const std::string_view other = other_file(file.view()); !other.empty() && file.size() < sizes.back())
    return fail(
        ErrorCode::not_recognised,
        fmt::format("it begins as {} does: it is not a {} file, whole or cut short", other, layout.id),
        "look what the file is", {Remedy::Kind::inspect, {}});
  // Only a known chip tells a trimmed file from one that was cut short.
  for (const std::size_t size : sizes) {
    if (size <= file.size() || (known && size != *known) || file.empty()) continue;
    const Slot* slot = open_end(layout, size);
    if (slot == nullptr || layout.place(*slot, size).at >= file.size() ||
        !is_known(*slot, layout.place(*slot, size).size, chips) ||
        file.size() - layout.place(*slot, size).at < least_trimmed(*slot, layout.place(*slot, size).size))
      continue;
    Buffer whole(size);
    std::ranges::copy(file.view(), whole.bytes().begin());
    std::ranges::fill(whole.bytes().subspan(file.size()),
                      slot->fill == DefaultFill::zero ? Byte{0x00} : Byte{0xff});
    return Fitted{std::move(whole).freeze(), Fit::trimmed, {}, size - file.size()};
  }
  auto exact = unpack(layout, file);  // says what is wrong with the size
  if (!exact) return tl::unexpected(std::move(exact.error()));
  return Fitted{file, Fit::exact, {}, 0};
}

Result<OpenedSave> open_save(const Layout& layout, const Blob& file, const std::vector<ChipFact>& chips) {
  OpenedSave opened;
  if (layout.stream.kind != Compression::none) {  // knows about its compression itself
    opened.file = {Compression::none, file, file};
  } else {
    BAYSWAP_TRY(opened.file, unwrap(file));
  }
  if (opened.file.kind != Compression::none)
    opened.notes.push_back(fmt::format("it is compressed as a whole ({}): {} bytes come out of {}",
                                       to_text(opened.file.kind), opened.file.plain.size(), file.size()));
  BAYSWAP_TRY(opened.fitted, fit(layout, opened.file.plain, chips));
  if (opened.fitted.fit != Fit::exact) opened.notes.push_back(opened.fitted.in_words(layout));
  BAYSWAP_TRY(opened.save, unpack(layout, opened.fitted.bytes));
  return opened;
}

std::string Fitted::in_words(const Layout& layout) const {
  switch (fit) {
    case Fit::exact:
      return {};
    case Fit::padded:
      return fmt::format("it is {} of {} bytes and padded with {} bytes of {:02X}", layout.id, bytes.size(),
                         padding.size(), padding.view().front());
    case Fit::trimmed:
      return fmt::format(
          "it ends {} bytes before a {} file of {} bytes would: trimmed, if the rest was blank, or cut "
          "short",
          missing, layout.id, bytes.size());
  }
  return {};
}

}  // namespace bayswap
