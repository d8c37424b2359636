// What the bytes of a chip tell of its battery and of its contacts.
#pragma once

#include <bayswap/cart.hpp>

namespace bayswap {

/// What is wrong with the bytes of a chip, in sentences; `battery`: what they tell of it.
struct CartVerdict {
  std::vector<std::string> problems;
  std::vector<std::string> contacts;  // those among them that mean: it can't be read right
  std::string battery;
};
[[nodiscard]] CartVerdict verdict_of(const CartChip& chip, const CartDump& dump);

}  // namespace bayswap
