#include "layout/integrity.hpp"

#include <zlib.h>

#include <algorithm>
#include <array>

#include "base/checksum.hpp"

namespace bayswap {
namespace {

using Kind = IntegrityField::Kind;
constexpr std::array<std::pair<Kind, std::string_view>, 7> words{{{Kind::crc32, "crc32"},
                                                                  {Kind::crc16, "crc16"},
                                                                  {Kind::adler32, "adler32"},
                                                                  {Kind::sum32, "sum32"},
                                                                  {Kind::sum16, "sum16"},
                                                                  {Kind::md5, "md5"},
                                                                  {Kind::sha1, "sha1"}}};

std::vector<Byte> numbered(std::uint64_t value, std::size_t width, bool big_endian) {
  std::vector<Byte> bytes(width);
  for (std::size_t i = 0; i < width; ++i)
    bytes[big_endian ? width - 1 - i : i] = static_cast<Byte>(value >> (8 * i));
  return bytes;
}

}  // namespace

std::string_view to_text(IntegrityField::Kind kind) {
  return words.at(static_cast<std::size_t>(kind)).second;
}

std::optional<Kind> integrity_from_text(std::string_view word) {
  const auto found = std::ranges::find(words, word, &std::pair<Kind, std::string_view>::second);
  return found == words.end() ? std::nullopt : std::optional(found->first);
}

std::size_t width_of(Kind kind) {
  switch (kind) {
    case Kind::crc16:
    case Kind::sum16:
      return 2;
    case Kind::md5:
      return 16;
    case Kind::sha1:
      return 20;
    default:
      return 4;
  }
}

std::vector<Byte> value_of(const IntegrityField& field, ByteView layer) {
  const std::size_t width = width_of(field.kind);
  if (field.before_end > layer.size() || field.from > layer.size() - field.before_end ||
      field.at > layer.size() || layer.size() - field.at < width)
    return {};
  const std::size_t end = layer.size() - field.before_end;
  // Without the field itself, where it is within.
  std::vector<ByteView> pieces;
  if (field.at >= field.from && field.at + width <= end) {
    pieces.push_back(layer.subspan(field.from, field.at - field.from));
    pieces.push_back(layer.subspan(field.at + width, end - field.at - width));
  } else {
    pieces.push_back(layer.subspan(field.from, end - field.from));
  }
  if (field.kind == Kind::md5 || field.kind == Kind::sha1) {
    std::vector<Byte> all;
    for (const ByteView piece : pieces) all.insert(all.end(), piece.begin(), piece.end());
    if (field.kind == Kind::md5) {
      const auto digest = md5(all);
      return {digest.begin(), digest.end()};
    }
    const auto digest = sha1(all);
    return {digest.begin(), digest.end()};
  }
  std::uint64_t value = field.kind == Kind::adler32 ? 1 : 0;
  for (const ByteView piece : pieces) {
    switch (field.kind) {
      case Kind::crc32:
        value = crc32(piece, static_cast<std::uint32_t>(value));
        break;
      case Kind::adler32:
        value = ::adler32(static_cast<uLong>(value), piece.data(), static_cast<uInt>(piece.size()));
        break;
      case Kind::crc16:
        if (pieces.size() > 1) return {};  // begins anew with each piece
        value = crc16(piece);
        break;
      default:
        for (const Byte b : piece) value += b;
    }
  }
  return numbered(value, width, field.big_endian);
}

IntegrityField placed(const Layout& layout, const Field& field, std::size_t file_bytes) {
  IntegrityField checksum = *field.checksum;
  checksum.at = layout.place(field, file_bytes).at;
  return checksum;
}

bool is_right(const IntegrityField& field, ByteView layer) {
  const std::vector<Byte> wanted = value_of(field, layer);
  return !wanted.empty() &&
         std::equal(wanted.begin(), wanted.end(), layer.begin() + static_cast<std::ptrdiff_t>(field.at));
}

std::vector<IntegrityField> find_integrity(const std::vector<Blob>& layers,
                                           const std::vector<std::size_t>& covered) {
  constexpr std::size_t head = 64;
  std::vector<IntegrityField> found;
  if (layers.empty()) return found;
  const ByteView first = layers.front().view();
  const auto try_one = [&](const IntegrityField& field) {
    // Zeros are right for too many.
    const std::size_t width = width_of(field.kind);
    if (field.at + width > first.size() || is_uniform(first.subspan(field.at, width))) return;
    for (std::size_t i = 0; i < layers.size(); ++i) {
      if (field.from > covered[i]) return;
      if (!is_right(field, layers[i].view())) return;
    }
    found.push_back(field);
  };
  for (const auto& [kind, word] : words) {
    const std::size_t width = width_of(kind);
    for (const bool big : {false, true}) {
      if (big && width > 4) continue;
      // At the beginning, over all after it; at the end, over all before it, with or without a head.
      for (std::size_t at = 0; at + width <= std::min(head, first.size()); at += 2)
        try_one({kind, at, big, at + width, 0});
      if (first.size() < width) continue;
      for (std::size_t from = 0; from <= std::min<std::size_t>(head, first.size() - width); from += 4)
        if (std::all_of(layers.begin(), layers.end(),
                        [&](const Blob& layer) { return layer.size() == first.size(); }))
          try_one({kind, first.size() - width, big, from, width});
    }
  }
  return found;
}

}  // namespace bayswap
