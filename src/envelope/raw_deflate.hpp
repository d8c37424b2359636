// Streams of RFC 1951 without a head of their own.
#pragma once

#include <bayswap/base.hpp>

namespace bayswap {

/// `damaged` where it is broken or something comes after it, `does_not_fit` over `max_bytes`.
[[nodiscard]] Result<Blob> inflate_raw(ByteView stream, std::size_t max_bytes);
/// With the effort that gave `like`, if one does: then the same bytes give the same stream.
[[nodiscard]] Blob deflate_raw(ByteView plain, ByteView like);

}  // namespace bayswap
