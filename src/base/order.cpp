#include "base/order.hpp"

#include <algorithm>

namespace bayswap {

std::vector<std::size_t> stable_order(std::size_t count,
                                      const std::function<bool(std::size_t, std::size_t)>& before) {
  std::vector<std::size_t> order(count);
  for (std::size_t i = 0; i < count; ++i) order[i] = i;
  std::stable_sort(order.begin(), order.end(), before);
  return order;
}

}  // namespace bayswap
