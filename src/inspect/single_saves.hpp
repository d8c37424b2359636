// Saves off memory cards in files of their own.
#pragma once

#include <bayswap/inspect.hpp>

namespace bayswap {

/// A parcel, the console's entry before the content, or (`anywhere`) either of them inside of something
/// else. False where there is none; `finding` is unchanged then.
[[nodiscard]] bool find_single(const Blob& bytes, bool anywhere, Finding& finding);

/// Whether the whole file is the content of one save (a ps1 title frame and its blocks, a dc header whose
/// checksum is right), without the name that it has on a card.
[[nodiscard]] bool find_bare_content(const Blob& bytes, Finding& finding);

}  // namespace bayswap
