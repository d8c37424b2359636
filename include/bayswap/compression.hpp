// Compressed files: decompressed, and compressed again in the same way. Belongs to bayswap::core.
#pragma once

#include <bayswap/base.hpp>
#include <bayswap/export.hpp>

#include <optional>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

enum class Compression {
  none,
  gzip,    // RFC 1952, one member
  zlib,    // RFC 1950
  chunks,  // a header of 20 bytes, then zlib streams of equal plain size, each after its length
           // (docs/formats/compressed.md)
};
/// "none", "gzip", "zlib", "chunks": as in layout files and JSON.
[[nodiscard]] std::string_view to_text(Compression kind);
[[nodiscard]] std::optional<Compression> compression_from_text(std::string_view text);

/// A compressed stream and its plain bytes.
struct Compressed {
  Compression kind = Compression::none;
  Blob stream;  // the compressed bytes, from the first to the last
  Blob plain;
};

/// Decompresses the stream of that kind at the beginning of `bytes`, which may continue after it. Fails with
/// `damaged` if it is broken or ends early, `does_not_fit` if it has over `limit` plain bytes. Memory grows
/// with the bytes that are decompressed, not with the size that a header claims. `work`: is increased by the
/// number of plain bytes that came out, also where it fails; nullptr: not counted.
[[nodiscard]] Result<Compressed> read_stream(Compression kind, const Blob& bytes,
                                             std::size_t limit = std::size_t{64} << 20,
                                             std::size_t* work = nullptr);

/// Decompresses a file that is compressed as a whole; returns any other file as it is, with
/// Compression::none. Fails with `damaged` if it begins like a compressed file and can't be read to its end.
[[nodiscard]] Result<Compressed> unwrap(const Blob& file);

/// Compresses `plain` the way `like` is: same kind, header, effort and chunks. The same plain bytes give the
/// same stream, byte for byte.
[[nodiscard]] Blob wrap(const Compressed& like, const Blob& plain);
/// Compresses `plain` with the usual settings.
[[nodiscard]] Blob wrap(Compression kind, const Blob& plain);

}  // namespace bayswap
BAYSWAP_EXPORT_END
