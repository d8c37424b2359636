// Sorting, compiled once: the order is found over numbers, and each place that sorts only moves its items.
#pragma once

#include <cstddef>
#include <functional>
#include <utility>
#include <vector>

namespace bayswap {

/// Returns 0 to count - 1 in the order that `before` says, a strict weak order. Equal ones keep their order.
[[nodiscard]] std::vector<std::size_t> stable_order(
    std::size_t count, const std::function<bool(std::size_t, std::size_t)>& before);

namespace order_detail {
template <class Item>
void rearrange(std::vector<Item>& items, const std::vector<std::size_t>& order) {
  std::vector<Item> sorted;
  sorted.reserve(items.size());
  for (const std::size_t i : order) sorted.push_back(std::move(items[i]));
  items.swap(sorted);
}
}  // namespace order_detail

/// Sorts by a key, smallest first. Equal ones keep their order.
template <class Item, class Key>
void sort_by(std::vector<Item>& items, Key key) {
  order_detail::rearrange(items, stable_order(items.size(), [&](std::size_t a, std::size_t b) {
                            return std::invoke(key, items[a]) < std::invoke(key, items[b]);
                          }));
}
/// The same, largest first.
template <class Item, class Key>
void sort_by_descending(std::vector<Item>& items, Key key) {
  order_detail::rearrange(items, stable_order(items.size(), [&](std::size_t a, std::size_t b) {
                            return std::invoke(key, items[b]) < std::invoke(key, items[a]);
                          }));
}

}  // namespace bayswap
