// What is different in two states.
#include <bayswap/state.hpp>

#include <algorithm>

#include "base/order.hpp"

namespace bayswap {
namespace {

constexpr std::size_t largest_gap = 16;
constexpr std::size_t max_stretches = 64;

// Layers that no other one is the inside of.
std::vector<Layer> innermost(const Blob& state) {
  const auto all = find_layers(state);
  std::vector<Layer> found;
  for (const Layer& layer : all)
    if (std::none_of(all.begin(), all.end(), [&](const Layer& inner) {
          return inner.envelope.size() > layer.envelope.size() &&
                 std::equal(layer.envelope.begin(), layer.envelope.end(), inner.envelope.begin());
        }))
      found.push_back(layer);
  return found;
}

std::string place_of(const StateMap* map, const Envelope& envelope, std::size_t at) {
  if (map == nullptr || envelope != map->envelope) return {};
  for (const Slot& slot : map->batteries)
    if (!slot.after_variable && at >= slot.at && at - slot.at < slot.file_sizes.back())
      return to_text(slot.role);
  return {};
}

void compare(const Layer& a, const Layer& b, const StateMap* map, LayerChange& change) {
  const ByteView before = a.bytes.view();
  const ByteView after = b.bytes.view();
  const std::size_t both = std::min(before.size(), after.size());
  for (std::size_t at = 0; at < both; ++at) {
    if (before[at] == after[at]) continue;
    ++change.changed_bytes;
    auto& list = change.stretches;
    if (!list.empty() && at - (list.back().at + list.back().bytes) <= largest_gap)
      list.back().bytes = at + 1 - list.back().at;
    else
      list.push_back({at, 1, place_of(map, a.envelope, at)});
  }
  sort_by_descending(change.stretches, &LayerChange::Stretch::bytes);
  if (change.stretches.size() > max_stretches) change.stretches.resize(max_stretches);
}

}  // namespace

std::vector<LayerChange> compare_states(const Blob& before, const Blob& after, const StateMap* map) {
  std::vector<LayerChange> changes;
  const auto ours = innermost(before);
  auto theirs = innermost(after);
  for (const Layer& layer : ours) {
    LayerChange change;
    change.envelope = layer.envelope;
    change.before_bytes = layer.bytes.size();
    const auto other = std::find_if(theirs.begin(), theirs.end(),
                                    [&](const Layer& one) { return one.envelope == layer.envelope; });
    if (other != theirs.end()) {
      change.after_bytes = other->bytes.size();
      compare(layer, *other, map, change);
      theirs.erase(other);
      if (change.changed_bytes == 0 && change.before_bytes == change.after_bytes) continue;
    }
    changes.push_back(std::move(change));
  }
  for (const Layer& layer : theirs) {
    LayerChange change;
    change.envelope = layer.envelope;
    change.after_bytes = layer.bytes.size();
    changes.push_back(std::move(change));
  }
  return changes;
}

}  // namespace bayswap
