#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "layout/byte_order.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

// How many of the file's bytes the slot takes, in a file of this size.
std::size_t slot_size(const Layout& layout, const Slot& slot, std::size_t file_size) {
  return slot.file_sizes.size() == 1 || layout.size != 0 ? slot.file_sizes.back() : file_size - slot.at;
}

std::string sizes_in_words(const std::vector<std::size_t>& sizes) {
  return fmt::format("{}", fmt::join(sizes, " or "));
}

tl::unexpected<Error> wrong_size(const Layout& layout, std::size_t size) {
  const auto sizes = layout.file_sizes();
  std::string how;
  if (size == 0) {
    how = "the file is empty";
  } else if (size < sizes.front()) {
    how = fmt::format("{} bytes are missing: it may be cut short", sizes.front() - size);
  } else if (size > sizes.back()) {
    how = fmt::format("{} bytes too many", size - sizes.back());
  } else {
    how = "the size is between the two";
  }
  return fail(ErrorCode::does_not_fit,
              fmt::format("{} bytes are no {} file, which has {} bytes ({})", size, layout.id,
                          sizes_in_words(sizes), how),
              "`bayswap inspect` tells what the file looks like");
}

Blob blank_part(const Slot& slot, std::size_t size) {
  switch (slot.absent) {
    case Absent::zero:
      return Blob::filled(size, 0x00);
    case Absent::fresh_pak:
      return fresh_pak(std::max(slot.role.number, 1));
    case Absent::ff:
      break;
  }
  return Blob::filled(size, 0xff);
}

// The file size a save needs: that of its part in the last slot, or of the shell, or the smallest there is.
std::size_t target_size(const Layout& layout, const Save& save, const Blob* shell) {
  if (layout.size != 0) return layout.size;
  const Slot& last = layout.slots.back();
  if (last.file_sizes.size() == 1) return last.at + last.file_sizes.front();
  if (const Part* part = save.find(last.role)) return last.at + part->bytes.size();
  if (shell != nullptr) return shell->size();
  return last.at + last.file_sizes.front();
}

}  // namespace

Result<Save> unpack(const Layout& layout, const Blob& file) {
  if (layout.is_set())
    return fail(ErrorCode::bad_usage, fmt::format("{} is a set of files, not one file", layout.id),
                fmt::format("name its files one by one; they are {}", fmt::join(layout.members, ", ")));
  if (!std::ranges::binary_search(layout.file_sizes(), file.size())) return wrong_size(layout, file.size());
  Save save;
  save.platform = layout.platform;
  save.parts.reserve(layout.slots.size());
  for (const Slot& slot : layout.slots) {
    const std::size_t size = slot_size(layout, slot, file.size());
    Part part{slot.role, file.slice(slot.at, size),
              slot.chip_sizes.size() == 1 || slot.file_sizes.size() > 1};
    if (slot.order != ByteOrder::chip) {
      Buffer turned(size);
      copy_ordered(slot.order, part.bytes.view(), turned.bytes());
      part.bytes = std::move(turned).freeze();
    }
    save.parts.push_back(std::move(part));
  }
  return save;
}

Result<Blob> pack(const Layout& layout, const Save& save, const Blob* shell) {
  if (layout.is_set())
    return fail(ErrorCode::bad_usage, fmt::format("{} is a set of files, not one file", layout.id));
  if (shell != nullptr && !std::ranges::binary_search(layout.file_sizes(), shell->size()))
    return wrong_size(layout, shell->size());
  for (const Part& part : save.parts)
    if (layout.slot(part.role) == nullptr)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has no place for {}", layout.id, to_text(part.role)));

  const std::size_t size = target_size(layout, save, shell);
  Buffer file(size);
  const std::span<Byte> out = file.bytes();
  std::size_t done = 0;
  const auto fill_gap = [&](std::size_t until) {
    if (until <= done) return;
    if (shell != nullptr && shell->size() >= until) {
      std::ranges::copy(shell->view().subspan(done, until - done),
                        out.begin() + static_cast<std::ptrdiff_t>(done));
    } else {
      std::ranges::fill(out.subspan(done, until - done), layout.fill);
    }
  };
  for (const Slot& slot : layout.slots) {
    fill_gap(slot.at);
    const Part* part = save.find(slot.role);
    const std::size_t room =
        part != nullptr && slot.file_sizes.size() > 1 ? part->bytes.size() : slot_size(layout, slot, size);
    if (part != nullptr && (part->bytes.size() != room || !std::ranges::binary_search(slot.file_sizes, room)))
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has {} bytes, but its place in {} has {}", to_text(slot.role),
                              part->bytes.size(), layout.id, sizes_in_words(slot.file_sizes)));
    const std::span<Byte> place = out.subspan(slot.at, room);
    if (part != nullptr) {
      copy_ordered(slot.order, part->bytes.view(), place);
    } else if (shell != nullptr && shell->size() >= slot.at + room) {
      std::ranges::copy(shell->view().subspan(slot.at, room), place.begin());
    } else {
      copy_ordered(slot.order, blank_part(slot, room).view(), place);
    }
    done = slot.at + room;
  }
  fill_gap(size);
  return std::move(file).freeze();
}

}  // namespace bayswap
