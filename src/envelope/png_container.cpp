// PNG pictures: a signature, then chunks of length, name, data and CRC-32 of name and data. Source: the open
// standard (ISO/IEC 15948).
#include <algorithm>
#include <array>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "envelope/containers.hpp"

namespace bayswap {
namespace {

constexpr std::array<Byte, 8> signature{0x89, 'P', 'N', 'G', 0x0d, 0x0a, 0x1a, 0x0a};
constexpr std::size_t head_bytes = 8;  // length and name
constexpr std::size_t crc_bytes = 4;
constexpr std::size_t png_max_items = 4096;

std::vector<ContainerItem> items_png(const Blob& file) {
  const ByteView bytes = file.view();
  std::vector<ContainerItem> found;
  if (bytes.size() < signature.size() || !std::equal(signature.begin(), signature.end(), bytes.begin()))
    return found;
  std::size_t at = signature.size();
  while (bytes.size() - at >= head_bytes + crc_bytes && found.size() < png_max_items) {
    const std::size_t length = be32(bytes, at);
    if (length > bytes.size() - at - head_bytes - crc_bytes) break;
    ContainerItem item;
    item.step.kind = EnvelopeStep::Kind::png_chunk;
    for (const Byte b : bytes.subspan(at + 4, 4)) {
      const bool letter = (b >= 'A' && b <= 'Z') || (b >= 'a' && b <= 'z');
      if (!letter) return found;
      item.step.name += static_cast<char>(b);
    }
    item.step.index =
        static_cast<std::size_t>(std::count_if(found.begin(), found.end(), [&](const ContainerItem& other) {
          return other.step.name == item.step.name;
        }));
    item.at = at + head_bytes;
    item.bytes = length;
    at += head_bytes + length + crc_bytes;
    const bool last = item.step.name == "IEND";
    found.push_back(std::move(item));
    if (last) break;
  }
  return found;
}

Result<Blob> read_png(const Blob& file, const ContainerItem& item, std::size_t /*max_bytes*/) {
  return file.slice(item.at, item.bytes);
}

Result<Blob> replace_png(const Blob& file, const ContainerItem& item, const Blob& inside) {
  if (inside.size() > 0x7fffffff)
    return fail(ErrorCode::does_not_fit, "no chunk of a picture can be that large", "take fewer bytes");
  const Blob chunk = png_chunk(item.step.name, inside.view());
  return spliced(file.view(), item.at - head_bytes, head_bytes + item.bytes + crc_bytes, chunk.view());
}

}  // namespace

Blob png_chunk(std::string_view name, ByteView data) {
  Buffer chunk(head_bytes + data.size() + crc_bytes);
  const std::span<Byte> out = chunk.bytes();
  put_be32(out, 0, static_cast<std::uint32_t>(data.size()));
  std::copy(name.begin(), name.end(), out.begin() + 4);
  std::copy(data.begin(), data.end(), out.begin() + head_bytes);
  put_be32(out, head_bytes + data.size(), crc32(ByteView(out).subspan(4, 4 + data.size())));
  return std::move(chunk).freeze();
}

const Container png_container{EnvelopeStep::Kind::png_chunk, items_png, read_png, replace_png};

}  // namespace bayswap
