// Looking into a card's image, and breaking it.
#pragma once

#include <bayswap/card.hpp>

#include <algorithm>

#include "support/builders.hpp"

namespace bayswap::test {

inline std::size_t number(const Blob& image, std::size_t at, std::size_t bytes, bool big) {
  std::size_t value = 0;
  for (std::size_t i = 0; i < bytes; ++i)
    value |= static_cast<std::size_t>(image.view()[at + i]) << (8 * (big ? bytes - 1 - i : i));
  return value;
}
inline Blob changed(const Blob& image, std::size_t at, Byte mask) {
  std::vector<Byte> bytes = bytes_of(image);
  bytes[at] ^= mask;
  return Blob::copy_of(bytes);
}
inline bool reports(const Card& card, std::string_view piece, bool repairable) {
  for (const CardProblem& problem : card.check())
    if (problem.text.find(piece) != std::string::npos && problem.repairable == repairable) return true;
  return false;
}

}  // namespace bayswap::test
