// One function a kind: where in a file may an image begin, and opening it there.
#pragma once

#include <bayswap/card.hpp>

#include <vector>

namespace bayswap {

struct CardFormat {
  CardKind kind{};
  std::string_view tag;
  std::size_t image_bytes = 0;
  /// How sure these bytes, image_bytes of them, are to be such a card: 0 to 1, and why.
  double (*weigh)(ByteView image, std::string& evidence) = nullptr;
  std::unique_ptr<Card> (*open)(std::vector<Byte> image) = nullptr;
  std::vector<Byte> (*fresh)() = nullptr;
  /// Directory entry of a single save in front of its payload: how long it is, 0 where there is no such form.
  std::size_t single_entry_bytes = 0;
  /// A save from its entry and payload; nothing where the entry is none.
  std::optional<CardSave> (*from_entry)(ByteView entry, const Blob& payload) = nullptr;
};

[[nodiscard]] const CardFormat& ps1_format();
[[nodiscard]] const CardFormat& n64_format();

}  // namespace bayswap
