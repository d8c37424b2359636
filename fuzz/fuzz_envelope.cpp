// Containers and streams of arbitrary bytes, and sound ones with the input laid over them: whatever layer is
// found can be opened again, and closed without a change gives the very file.
#include <bayswap/envelope.hpp>

#include <vector>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  static const std::vector<Blob> sound = [] {
    Buffer inside(400);
    for (std::size_t i = 0; i < inside.bytes().size(); ++i) inside.bytes()[i] = static_cast<Byte>(i * i >> 3);
    const Blob plain = std::move(inside).freeze();
    std::vector<Byte> png{0x89, 'P', 'N', 'G', 13, 10, 26, 10, 0, 0, 1, 0x90, 's', 't', 'A', 't'};
    png.insert(png.end(), plain.view().begin(), plain.view().end());
    png.insert(png.end(), {1, 2, 3, 4, 0, 0, 0, 0, 'I', 'E', 'N', 'D', 0xae, 0x42, 0x60, 0x82});
    std::vector<Byte> chunks{'C', 'P', 'U', 0, 4, 0, 0, 0, 1, 2, 3, 4, 'R', 'A', 'M', 0, 0x90, 1, 0, 0};
    chunks.insert(chunks.end(), plain.view().begin(), plain.view().end());
    return std::vector<Blob>{wrap(Compression::gzip, plain), wrap(Compression::zlib, plain),
                             wrap(Compression::chunks, plain), Blob::copy_of(png), Blob::copy_of(chunks)};
  }();
  if (size == 0) return 0;
  std::vector<Byte> bytes(data + 1, data + size);
  if (data[0] % 2 == 0) {
    const ByteView own = sound[data[0] / 2U % sound.size()].view();
    bytes.assign(own.begin(), own.end());
    for (std::size_t i = 1; i + 3 <= size; i += 3)
      bytes[(data[i] * std::size_t{256} + data[i + 1]) % bytes.size()] = data[i + 2];
  }
  const Blob file = Blob::copy_of(bytes);
  EnvelopeLimits limits;
  limits.max_bytes = std::size_t{1} << 20;
  limits.max_layers = 24;
  for (const Layer& layer : find_layers(file, limits)) {
    const auto opened = open_envelope(file, layer.envelope);
    fuzz::require(opened.has_value() && *opened == layer.bytes && !to_text(layer.envelope).empty());
    const auto closed = close_envelope(file, layer.envelope, layer.bytes);
    fuzz::require(closed.has_value() && *closed == file);
    const Blob other = Blob::filled(layer.bytes.size(), 0x3c);
    if (const auto changed = close_envelope(file, layer.envelope, other); changed && !layer.envelope.empty())
      fuzz::require(!changed->empty());
  }
  return 0;
}
