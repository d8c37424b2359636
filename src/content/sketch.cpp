#include "content/sketch.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/order.hpp"
#include "base/text.hpp"

namespace bayswap {
namespace {

double ratio(double a, double b) {
  return std::max(a, b) == 0 ? 1 : std::min(a, b) / std::max(a, b);
}

}  // namespace

TreeSketch sketch_of(const std::vector<TreeFile>& files) {
  TreeSketch sketch;
  sketch.files.reserve(files.size());
  for (const TreeFile& file : files) {
    TreeSketch::File one{lower(file.path), file.bytes.size(), {}};
    std::ranges::copy(file.bytes.view().first(std::min(file.bytes.size(), one.head.size())),
                      one.head.begin());
    sketch.files.push_back(std::move(one));
  }
  sort_by(sketch.files, &TreeSketch::File::name);
  return sketch;
}

namespace {

struct Shared {
  std::size_t names = 0;
  double sizes = 0;
  double heads = 0;
};
Shared shared(const TreeSketch& a, const TreeSketch& b) {
  Shared found;
  auto left = a.files.begin();
  auto right = b.files.begin();
  while (left != a.files.end() && right != b.files.end()) {
    if (left->name != right->name) {
      (left->name < right->name ? left : right)++;
      continue;
    }
    ++found.names;
    found.sizes += ratio(static_cast<double>(left->size_bytes), static_cast<double>(right->size_bytes));
    const auto head = static_cast<std::size_t>(
        std::min({left->size_bytes, right->size_bytes, std::uint64_t{left->head.size()}}));
    const auto differ = std::mismatch(
        left->head.begin(), left->head.begin() + static_cast<std::ptrdiff_t>(head), right->head.begin());
    found.heads +=
        head == 0 ? 1 : static_cast<double>(differ.first - left->head.begin()) / static_cast<double>(head);
    ++left;
    ++right;
  }
  return found;
}

// Text, numbers, flags: not a filler, not a ramp of small numbers that any table has.
bool holds_something(const Byte* bytes, std::size_t count) {
  std::array<Byte, 8> sorted{};
  std::copy_n(bytes, count, sorted.begin());
  std::sort(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(count));
  const auto distinct =
      std::unique(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(count)) - sorted.begin();
  return distinct >= 4;
}

std::vector<std::uint64_t> sizes_of(const TreeSketch& tree) {
  std::vector<std::uint64_t> sizes;
  std::ranges::transform(tree.files, std::back_inserter(sizes), &TreeSketch::File::size_bytes);
  sort_by(sizes, std::identity{});
  return sizes;
}

}  // namespace

double equal_share(ByteView a, ByteView b) {
  constexpr std::size_t piece = 8;
  constexpr std::size_t few = 8;
  std::size_t asked = 0;
  std::size_t same = 0;
  for (std::size_t at = 0; at + piece <= std::min(a.size(), b.size()); at += piece) {
    if (!holds_something(a.data() + at, piece) || !holds_something(b.data() + at, piece)) continue;
    ++asked;
    same += std::memcmp(a.data() + at, b.data() + at, piece) == 0 ? 1 : 0;
  }
  return asked < few ? 0 : static_cast<double>(same) / static_cast<double>(asked);
}

Likeness likeness(const TreeSketch& a, const TreeSketch& b) {
  Likeness found;
  const std::size_t count = std::max(a.files.size(), b.files.size());
  if (count == 0) return found;
  const auto all = static_cast<double>(count);
  const auto [names, sizes, heads] = shared(a, b);
  const auto same_names = static_cast<double>(names);
  found.score = 0.5 * same_names / all + 0.3 * sizes / all + 0.2 * heads / all;
  if (names > 0) found.reasons.push_back(fmt::format("{} of {} files have the same name", names, count));
  if (names > 0 && std::abs(sizes - same_names) < 1e-9) found.reasons.emplace_back("and the same size");
  if (names > 0 && heads > 0.5 * same_names) found.reasons.emplace_back("their first bytes agree");
  // As many files under other names: what their sizes say decides.
  if (names == 0 && a.files.size() == b.files.size()) {
    const auto left = sizes_of(a);
    const auto right = sizes_of(b);
    std::size_t same = 0;
    for (std::size_t i = 0; i < left.size(); ++i) same += left[i] == right[i] ? 1 : 0;
    found.score = 0.4 * static_cast<double>(same) / all;
    if (same > 0)
      found.reasons.push_back(same == 1 ? "1 file has the same size"
                                        : fmt::format("{} files have the same size", same));
  }
  return found;
}

}  // namespace bayswap
