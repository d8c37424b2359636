// Drawing: a contact sheet of a card, and PNG files.
#pragma once

#include <bayswap/card.hpp>

namespace bayswap {

/// 1280 pixels wide: a tile for each save with its icon (all its frames side by side) or banner, title, size
/// and date, and below them what each block of the card is used for. `caption` stands in the head.
[[nodiscard]] Picture contact_sheet(const Card& card, std::string_view caption);

/// As a PNG file (ISO/IEC 15948), 8 bits a channel with opacity. `bad_usage` for a picture without pixels.
[[nodiscard]] Result<Blob> to_png(const Picture& picture);

}  // namespace bayswap
