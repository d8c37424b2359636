#include <bayswap/compression.hpp>

#include "fuzz.hpp"

// Arbitrary bytes as a compressed file, and as a stream of each kind: what comes out goes back in.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace bayswap;
  constexpr std::size_t limit = std::size_t{1} << 22;
  const Blob file = Blob::copy_of({data, size});
  if (const auto whole = unwrap(file)) {
    fuzz::require(wrap(*whole, whole->plain) == file);
  } else {
    fuzz::require(!whole.error().hint.empty());
  }
  for (const Compression kind : {Compression::gzip, Compression::zlib, Compression::chunks}) {
    const auto stream = read_stream(kind, file, limit);
    if (!stream || stream->plain.size() > 65536 || stream->plain.empty()) continue;
    Buffer other(stream->plain.size());
    for (std::size_t i = 0; i < other.bytes().size(); ++i)
      other.bytes()[i] = static_cast<Byte>(stream->plain.view()[i] ^ 1);
    const Blob changed = std::move(other).freeze();
    const auto again = read_stream(kind, wrap(*stream, changed), limit);
    fuzz::require(again.has_value() && again->plain == changed);
  }
  return 0;
}
