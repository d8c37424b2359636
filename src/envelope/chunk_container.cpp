// Sequences of chunks, as programs write their snapshots: a name, a length, data; the widths and orders
// differ. A form counts if it leads from near the beginning to the very end.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "base/endian.hpp"
#include "envelope/containers.hpp"

namespace bayswap {
namespace {

constexpr std::size_t decimal_digits = 6;
constexpr std::size_t chunk_max_items = 4096;
constexpr std::size_t max_from = 64;
constexpr std::size_t least_items = 2;

bool is_name_byte(Byte b) {
  return (b >= 'A' && b <= 'Z') || (b >= 'a' && b <= 'z') || (b >= '0' && b <= '9') || b == '_' || b == '-' ||
         b == '.' || b == '#' || b == '/' || b == '+';
}

// Plain characters, and after them nothing but 00 or spaces. Empty where it is none.
std::string name_of(ByteView field) {
  std::string name;
  for (const Byte b : field) {
    if (b == 0 || (b == ' ' && !name.empty())) break;
    if (!is_name_byte(b)) return {};
    name += static_cast<char>(b);
  }
  for (const Byte b : field.subspan(name.size()))
    if (b != 0 && b != ' ') return {};
  return name;
}

struct Head {
  std::string name;
  std::size_t bytes = 0;   // of the head
  std::size_t length = 0;  // of the data
};

std::size_t head_size(const ChunkForm& form) {
  return form.decimal ? form.name_bytes + decimal_digits + 2 : form.name_bytes + form.length_bytes;
}

std::optional<Head> head_at(ByteView bytes, std::size_t at, const ChunkForm& form) {
  const std::size_t size = head_size(form);
  if (bytes.size() - at < size) return std::nullopt;
  const ByteView head = bytes.subspan(at, size);
  Head found;
  found.bytes = size;
  if (form.decimal) {
    if (head[form.name_bytes] != ':' || head.back() != ':') return std::nullopt;
    const char* digits = reinterpret_cast<const char*>(head.data()) + form.name_bytes + 1;
    const auto [end, problem] = std::from_chars(digits, digits + decimal_digits, found.length);
    if (problem != std::errc{} || end != digits + decimal_digits) return std::nullopt;
    found.name = name_of(head.first(form.name_bytes));
  } else {
    const std::size_t length_at = form.length_first ? 0 : form.name_bytes;
    std::uint64_t length = 0;
    for (std::size_t i = 0; i < form.length_bytes; ++i) {
      const std::size_t place = form.big_endian ? i : form.length_bytes - 1 - i;
      length = (length << 8) | head[length_at + place];
    }
    if (form.counts_head) {
      if (length < size) return std::nullopt;
      length -= size;
    }
    if (length > bytes.size()) return std::nullopt;
    found.length = static_cast<std::size_t>(length);
    found.name = name_of(head.subspan(form.length_first ? form.length_bytes : 0, form.name_bytes));
  }
  if (found.name.empty() || found.length > bytes.size() - at - size) return std::nullopt;
  return found;
}

std::vector<ContainerItem> items_chunk(const Blob& file) {
  const ByteView bytes = file.view();
  if (bytes.size() < 24) return {};
  // Of several that fit the one with the widest fields: what fits with narrower ones has zeros in its data.
  std::vector<ContainerItem> best;
  const auto consider = [&](const ChunkForm& form) {
    auto found = chunks_in_form(bytes, form);
    if (found.size() > best.size()) best = std::move(found);
  };
  // Most forms have no name where the first one should be: those are passed by at once.
  constexpr std::array<std::size_t, 4> widths{16, 8, 4, 3};
  constexpr std::array<std::size_t, 3> lengths{8, 4, 2};
  constexpr std::size_t places = max_from + lengths.front() + 1;
  std::array<std::array<bool, widths.size()>, places> named{};
  for (std::size_t at = 0; at < places; ++at)
    for (std::size_t w = 0; w < widths.size(); ++w)
      named.at(at).at(w) =
          at + widths.at(w) <= bytes.size() && !name_of(bytes.subspan(at, widths.at(w))).empty();
  for (std::size_t from = 0; from <= std::min(max_from, bytes.size() - 16); ++from)
    for (std::size_t w = 0; w < widths.size(); ++w) {
      const std::size_t name = widths.at(w);
      if (named.at(from).at(w)) consider({from, name, decimal_digits, false, false, false, true, 1});
      for (const std::size_t length : lengths)
        for (const bool first : {false, true}) {
          if (!named.at(first ? from + length : from).at(w)) continue;
          for (const bool big : {false, true})
            for (const bool counts : {false, true}) {
              if (!head_at(bytes, from, {from, name, length, big, first, counts, false, 1})) continue;
              for (const std::size_t alignment :
                   {std::size_t{1}, std::size_t{2}, std::size_t{4}, std::size_t{8}, std::size_t{16}})
                consider({from, name, length, big, first, counts, false, alignment});
            }
        }
    }
  return best;
}

Result<Blob> read_chunk(const Blob& file, const ContainerItem& item, std::size_t /*max_bytes*/) {
  return file.slice(item.at, item.bytes);
}

Result<Blob> replace_chunk(const Blob& file, const ContainerItem& item, const Blob& inside) {
  const ChunkForm& form = item.step.form;
  const std::size_t head_at = item.at - head_size(form);
  std::vector<Byte> out(file.view().begin() + static_cast<std::ptrdiff_t>(head_at),
                        file.view().begin() + static_cast<std::ptrdiff_t>(item.at));
  std::uint64_t length = inside.size() + (form.counts_head ? head_size(form) : 0);
  const auto too_large = [&] {
    return fail(ErrorCode::does_not_fit,
                fmt::format("{} bytes can't be said in the length of chunk {}", length, item.step.name),
                "put fewer bytes into it");
  };
  if (form.decimal) {
    const std::string digits = fmt::format("{:0{}}", length, decimal_digits);
    if (digits.size() > decimal_digits) return too_large();
    std::copy(digits.begin(), digits.end(), out.begin() + static_cast<std::ptrdiff_t>(form.name_bytes + 1));
  } else {
    if (form.length_bytes < 8 && length >> (8 * form.length_bytes) != 0) return too_large();
    const std::size_t length_at = form.length_first ? 0 : form.name_bytes;
    for (std::size_t i = 0; i < form.length_bytes; ++i) {
      const std::size_t place = form.big_endian ? form.length_bytes - 1 - i : i;
      out[length_at + place] = static_cast<Byte>(length >> (8 * i));
    }
  }
  const auto padded = [&](std::size_t size) {
    return (size + form.alignment - 1) / form.alignment * form.alignment;
  };
  out.insert(out.end(), inside.view().begin(), inside.view().end());
  // What fills it up stays as it is while it can.
  const std::size_t old_end = std::min(padded(item.bytes), file.size() - item.at);
  if (padded(inside.size()) - inside.size() == old_end - item.bytes) {
    const ByteView filler = file.view().subspan(item.at + item.bytes, old_end - item.bytes);
    out.insert(out.end(), filler.begin(), filler.end());
  } else {
    out.resize(out.size() + padded(inside.size()) - inside.size());
  }
  return spliced(file.view(), head_at, item.at - head_at + old_end, out);
}

}  // namespace

std::vector<ContainerItem> chunks_in_form(ByteView bytes, const ChunkForm& form) {
  std::vector<ContainerItem> found;
  std::size_t at = form.from;
  while (at < bytes.size()) {
    const auto head = head_at(bytes, at, form);
    if (!head || found.size() == chunk_max_items) return {};
    ContainerItem item;
    item.step.kind = EnvelopeStep::Kind::chunk;
    item.step.name = head->name;
    item.step.form = form;
    item.step.index =
        static_cast<std::size_t>(std::count_if(found.begin(), found.end(), [&](const ContainerItem& other) {
          return other.step.name == head->name;
        }));
    item.at = at + head->bytes;
    item.bytes = head->length;
    const std::size_t end = item.at + (head->length + form.alignment - 1) / form.alignment * form.alignment;
    at = std::min(end, bytes.size());
    found.push_back(std::move(item));
  }
  if (found.size() < least_items) return {};
  return found;
}

const Container chunk_container{EnvelopeStep::Kind::chunk, items_chunk, read_chunk, replace_chunk};

}  // namespace bayswap
