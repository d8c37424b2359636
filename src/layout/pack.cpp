#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/endian.hpp"
#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "layout/integrity.hpp"
#include "layout/transform.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

std::string sizes_in_words(const std::vector<std::size_t>& sizes) {
  constexpr std::size_t max_listed = 4;
  if (sizes.size() > max_listed) return fmt::format("{} to {}", sizes.front(), sizes.back());
  return joined(sizes, " or ");
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
    how = "the size is between two of these";
  }
  return fail(ErrorCode::does_not_fit,
              fmt::format("{} bytes are no {} file, which has {} bytes ({})", size, layout.id,
                          sizes_in_words(sizes), how),
              size != 0 && size < sizes.front()
                  ? "if its end was blank and left out on purpose, pass the chip"
                  : "look what the file is",
              {size != 0 && size < sizes.front() ? Remedy::Kind::chip : Remedy::Kind::inspect, {}});
}

Blob blank_part(const Slot& slot, std::size_t size) {
  switch (slot.fill) {
    case DefaultFill::zero:
      return Blob::filled(size, 0x00);
    case DefaultFill::fresh_pak:
      return fresh_pak(std::max(slot.role.number, 1));
    case DefaultFill::ff:
      break;
  }
  return Blob::filled(size, 0xff);
}

// The file size a save needs: that of its part in the elastic slot, or of the shell, or the smallest there
// is.
std::size_t target_size(const Layout& layout, const Save& save, const Blob* shell) {
  const Slot* variable_slot = layout.variable_slot();
  const std::size_t smallest = layout.file_sizes().front();
  if (variable_slot == nullptr) return smallest;
  if (const Part* part = save.find(variable_slot->role))
    return smallest + variable_slot->file_size(part->bytes.size()) - variable_slot->file_sizes.front();
  return shell != nullptr ? shell->size() : smallest;
}

// A slot or a field, in the order of the file.
struct Piece {
  const Slot* slot = nullptr;
  const Field* field = nullptr;
  Layout::Place place;
};

std::vector<Piece> pieces_of(const Layout& layout, std::size_t file_size) {
  std::vector<Piece> pieces;
  pieces.reserve(layout.slots.size() + layout.fields.size());
  for (const Slot& slot : layout.slots) pieces.push_back({&slot, nullptr, layout.place(slot, file_size)});
  if (layout.fields.empty()) return pieces;
  for (const Field& field : layout.fields)
    pieces.push_back({nullptr, &field, layout.place(field, file_size)});
  sort_by(pieces, [](const Piece& piece) { return piece.place.at; });
  return pieces;
}

class Packer {
 public:
  Packer(const Layout& layout, const Save& save, const Blob* shell, std::size_t size)
      : layout_(layout), save_(save), shell_(shell), file_(size), out_(file_.bytes()) {
    if (const Slot* variable_slot = layout.variable_slot()) {
      const auto place = layout.place(*variable_slot, size);
      elastic_end_ = place.at + place.size;
      elastic_part_ = variable_slot->part_size(place.size);
    } else {
      elastic_part_ = layout.slots.front().part_size(layout.slots.front().file_sizes.front());
    }
  }

  Result<Blob> run() && {
    for (const Piece& piece : pieces_of(layout_, out_.size())) {
      fill_gap(piece.place.at);
      if (piece.slot != nullptr) {
        BAYSWAP_CHECK(put(*piece.slot, piece.place));
      } else {
        put(*piece.field, piece.place);
      }
      done_ = piece.place.at + piece.place.size;
    }
    fill_gap(out_.size());
    for (const Field& field : layout_.fields) {
      if (!field.checksum) continue;
      const IntegrityField checksum = placed(layout_, field, out_.size());
      const std::vector<Byte> value = value_of(checksum, out_);
      if (value.empty())
        return fail(ErrorCode::does_not_fit, fmt::format("{}: the {} at {} covers more than the file has",
                                                         layout_.id, to_text(checksum.kind), checksum.at));
      std::ranges::copy(value, out_.begin() + static_cast<std::ptrdiff_t>(checksum.at));
    }
    return std::move(file_).freeze();
  }

 private:
  // What the shell has there; where the part of several sizes grew or shrank, what is after it has moved
  // along.
  [[nodiscard]] ByteView shell_at(std::size_t at, std::size_t size) const {
    if (shell_ == nullptr) return {};
    const std::size_t from = at >= elastic_end_ ? at + shell_->size() - out_.size() : at;
    if (from > shell_->size() || size > shell_->size() - from) return {};
    return shell_->view().subspan(from, size);
  }

  void fill_gap(std::size_t until) {
    if (until <= done_) return;
    const ByteView own = shell_at(done_, until - done_);
    if (own.empty()) {
      std::ranges::fill(out_.subspan(done_, until - done_), layout_.fill);
    } else {
      std::memcpy(out_.data() + done_, own.data(), own.size());
    }
  }

  Result<void> put(const Slot& slot, Layout::Place place) {
    const Part* part = save_.find(slot.role);
    const std::size_t room = slot.part_size(place.size);
    if (part != nullptr && part->bytes.size() != room)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has {} bytes, but its place in {} has {}", to_text(slot.role),
                              part->bytes.size(), layout_.id, sizes_in_words(slot.part_sizes())));
    const std::span<Byte> out = out_.subspan(place.at, place.size);
    const bool same_size = shell_ != nullptr && shell_->size() == out_.size();
    const ByteView own =
        same_size ? shell_->view().subspan(place.at, place.size)
                  : (&slot == layout_.variable_slot() ? ByteView{} : shell_at(place.at, place.size));
    if (part != nullptr) {
      write_slot(slot, part->bytes.view(), out, own);
    } else if (!own.empty()) {
      std::memcpy(out.data(), own.data(), own.size());
    } else {
      write_slot(slot, blank_part(slot, room).view(), out, {});
    }
    return {};
  }

  void put(const Field& field, Layout::Place place) {
    const std::span<Byte> out = out_.subspan(place.at, place.size);
    const bool follows_size = field.bytes.empty() && field.unknown_bytes == 0;
    const bool size_changed = shell_ == nullptr || shell_->size() != out_.size();
    if (const ByteView own = shell_at(place.at, place.size);
        !own.empty() && !(follows_size && size_changed)) {
      std::memcpy(out.data(), own.data(), own.size());
      return;
    }
    const std::vector<Byte> value = field.value(elastic_part_);
    if (value.empty()) {
      std::ranges::fill(out, layout_.fill);
    } else {
      std::ranges::copy(value, out.begin());
    }
  }

  const Layout& layout_;
  const Save& save_;
  const Blob* shell_;
  Buffer file_;
  std::span<Byte> out_;
  std::size_t elastic_end_ = SIZE_MAX;
  std::size_t elastic_part_ = 0;
  std::size_t done_ = 0;
};

Result<Blob> pack_plain(const Layout& layout, const Save& save, const Blob* shell) {
  if (shell != nullptr && !std::ranges::binary_search(layout.file_sizes(), shell->size()))
    return wrong_size(layout, shell->size());
  for (const Part& part : save.parts) {
    const Slot* slot = layout.slot(part.role);
    if (slot == nullptr)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has no place for {}", layout.id, to_text(part.role)));
    if (slot == layout.variable_slot() && !std::ranges::binary_search(slot->part_sizes(), part.bytes.size()))
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has {} bytes, but its place in {} has {}", to_text(slot->role),
                              part.bytes.size(), layout.id, sizes_in_words(slot->part_sizes())));
  }
  const std::size_t size = target_size(layout, save, shell);
  // A file that is its only part, byte for byte: nothing to copy.
  if (layout.slots.size() == 1 && layout.fields.empty() && layout.slots.front().is_straight() &&
      layout.slots.front().at == 0 && save.parts.size() == 1 && save.parts.front().bytes.size() == size)
    return save.parts.front().bytes;
  return Packer(layout, save, shell, size).run();
}

Blob around(ByteView head, ByteView stream, ByteView tail) {
  Buffer file(head.size() + stream.size() + tail.size());
  const auto behind_head = std::ranges::copy(head, file.bytes().begin()).out;
  std::ranges::copy(tail, std::ranges::copy(stream, behind_head).out);
  return std::move(file).freeze();
}

std::vector<Byte> filled_head(const Layout& layout) {
  return layout.stream.head.empty() ? std::vector<Byte>(layout.stream.at, layout.fill) : layout.stream.head;
}

Result<Compressed> stream_of(const Layout& layout, const Blob& file) {
  auto stream = read_stream(layout.stream.kind, file.slice(layout.stream.at, file.size()));
  if (!stream)
    stream.error().message =
        fmt::format("no {} file: after byte {}, {}", layout.id, layout.stream.at, stream.error().message);
  return stream;
}

}  // namespace

Result<Save> unpack(const Layout& layout, const Blob& file) {
  if (layout.is_set())
    return fail(ErrorCode::bad_usage, fmt::format("{} is a set of files, not one file", layout.id),
                fmt::format("name its files one by one; they are {}", joined(layout.members, ", ")));
  Blob bytes = file;
  if (layout.stream.kind != Compression::none) {
    BAYSWAP_TRY(const Compressed stream, stream_of(layout, file));
    bytes = stream.plain;
  }
  if (!std::ranges::binary_search(layout.file_sizes(), bytes.size())) return wrong_size(layout, bytes.size());
  Save save;
  save.platform = layout.platform;
  save.parts.reserve(layout.slots.size());
  const Slot* variable_slot = layout.variable_slot();
  for (const Slot& slot : layout.slots) {
    const auto place = layout.place(slot, bytes.size());
    Part part{slot.role, bytes.slice(place.at, place.size),
              slot.chip_sizes.size() == 1 || &slot == variable_slot};
    if (!slot.is_straight()) {
      Buffer chip(slot.part_size(place.size));
      read_slot(slot, part.bytes.view(), chip.bytes());
      part.bytes = std::move(chip).freeze();
    }
    save.parts.push_back(std::move(part));
  }
  return save;
}

Result<Blob> pack(const Layout& layout, const Save& save, const Blob* shell) {
  if (layout.is_set())
    return fail(ErrorCode::bad_usage, fmt::format("{} is a set of files, not one file", layout.id));
  if (layout.stream.kind == Compression::none) return pack_plain(layout, save, shell);
  if (shell == nullptr) {
    BAYSWAP_TRY(const Blob plain, pack_plain(layout, save, nullptr));
    const Blob stream = wrap(layout.stream.kind, plain);
    return around(filled_head(layout), stream.view(), layout.stream.tail);
  }
  BAYSWAP_TRY(const Compressed old, stream_of(layout, *shell));
  BAYSWAP_TRY(const Blob plain, pack_plain(layout, save, &old.plain));
  const Blob stream = wrap(old, plain);
  return around(shell->view().first(layout.stream.at), stream.view(),
                shell->view().subspan(layout.stream.at + old.stream.size()));
}

// ---- Where things are ---------------------------------------------------------------------------

std::size_t Field::size_bytes() const {
  if (!bytes.empty()) return bytes.size();
  if (unknown_bytes != 0) return unknown_bytes;
  if (checksum) return width_of(checksum->kind);
  return number_bytes != 0 ? number_bytes : by_size.front().second.size();
}

std::vector<Byte> Field::value(std::size_t part_bytes) const {
  if (!bytes.empty() || unknown_bytes != 0 || checksum) return bytes;
  std::vector<Byte> out(size_bytes());
  if (number_bytes != 0) {
    put_le(out, 0, number_bytes, part_bytes);
    return out;
  }
  for (const auto& [size, value] : by_size)
    if (size <= part_bytes) out = value;  // ascending: that of the largest size not over it
  return out;
}

std::vector<std::size_t> Layout::file_sizes() const {
  if (is_set()) return {};
  if (size != 0) return {size};
  std::size_t end = 0;
  for (const Slot& slot : slots) end = std::max(end, place(slot, 0).at + slot.file_sizes.front());
  for (const Field& field : fields) end = std::max(end, place(field, 0).at + field.size_bytes());
  const Slot* several = variable_slot();
  if (several == nullptr) return {end};
  std::vector<std::size_t> sizes;
  sizes.reserve(several->file_sizes.size());
  for (const std::size_t bytes : several->file_sizes)
    sizes.push_back(end + bytes - several->file_sizes.front());
  return sizes;
}

const Slot* Layout::slot(Role role) const {
  const auto found = std::ranges::find(slots, role, &Slot::role);
  return found == slots.end() ? nullptr : &*found;
}

const Slot* Layout::variable_slot() const {
  const auto found = std::ranges::find_if(slots, [](const Slot& slot) { return slot.file_sizes.size() > 1; });
  return found == slots.end() ? nullptr : &*found;
}

namespace {

// How much longer than the shortest one a file of this size is; 0 stands for the shortest.
std::size_t stretch_of(const Layout& layout, std::size_t file_size) {
  return file_size == 0 || layout.variable_slot() == nullptr ? 0 : file_size - layout.file_sizes().front();
}

}  // namespace

Layout::Place Layout::place(const Slot& slot, std::size_t file_size) const {
  const std::size_t stretch = stretch_of(*this, file_size);
  const Slot* several = variable_slot();
  if (slot.after_variable && several != nullptr)
    return {several->at + several->file_sizes.front() + slot.at + stretch, slot.file_sizes.front()};
  return {slot.at, slot.file_sizes.front() + (slot.file_sizes.size() > 1 ? stretch : 0)};
}

Layout::Place Layout::place(const Field& field, std::size_t file_size) const {
  const Slot* several = variable_slot();
  if (field.after_variable && several != nullptr)
    return {several->at + several->file_sizes.front() + field.at + stretch_of(*this, file_size),
            field.size_bytes()};
  return {field.at, field.size_bytes()};
}

}  // namespace bayswap
