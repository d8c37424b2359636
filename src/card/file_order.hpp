// The order of the files in a save that is a folder.
#pragma once

#include <bayswap/card.hpp>

#include <algorithm>

#include "base/order.hpp"

namespace bayswap {

/// Puts the files into the order that they have in `like`, new ones after them: a disk keeps none, and the
/// console lists them as they are.
inline void keep_file_order(CardSave& save, const CardSave& like) {
  sort_by(save.files, [&](const CardFile& file) {
    return std::find_if(like.files.begin(), like.files.end(),
                        [&](const CardFile& other) { return other.name == file.name; }) -
           like.files.begin();
  });
}

}  // namespace bayswap
