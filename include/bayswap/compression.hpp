// Files that are compressed as a whole: read through, and written back the same way.
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
  chunks,  // a head of 20 bytes, then zlib streams of equal plain size, each behind its length
           // (docs/formats/compressed.md)
};
/// "none", "gzip", "zlib", "chunks": as in layout files and JSON.
[[nodiscard]] std::string_view to_text(Compression kind);
[[nodiscard]] std::optional<Compression> compression_from_text(std::string_view text);

/// A compressed stream and what was in it.
struct Compressed {
  Compression kind = Compression::none;
  Blob stream;  // as it was found, from its first byte to its last
  Blob plain;
};

/// The stream of that kind at the beginning of `bytes`, which may go on behind it. `damaged` where it is
/// broken or ends early, `does_not_fit` where over `limit` bytes come out of it. Allocates as bytes come out.
[[nodiscard]] Result<Compressed> read_stream(Compression kind, const Blob& bytes,
                                             std::size_t limit = std::size_t{64} << 20);

/// A file that is compressed as a whole; one that is not comes back as it is, with Compression::none.
/// `damaged` where it begins like one, and can't be read to its end.
[[nodiscard]] Result<Compressed> unwrap(const Blob& file);

/// Compresses `plain` as `like` is: same kind, same head, same effort, same chunks. The same plain bytes give
/// the same stream, byte for byte.
[[nodiscard]] Blob wrap(const Compressed& like, const Blob& plain);
/// The same from nothing.
[[nodiscard]] Blob wrap(Compression kind, const Blob& plain);

}  // namespace bayswap
BAYSWAP_EXPORT_END
