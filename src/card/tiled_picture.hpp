// Pictures of gc and wii saves: tiles of 8 by 4 (256 colours) or 4 by 4 (16 bits) pixels.
#pragma once

#include <bayswap/card.hpp>

namespace bayswap {

/// `palette` is empty for pictures of 16 bits. `pixels` has as many as width and height ask for, which are
/// whole tiles.
[[nodiscard]] Picture untile(ByteView pixels, ByteView palette, std::size_t width, std::size_t height);

}  // namespace bayswap
