// Copies and counters.
#include <algorithm>
#include <map>
#include <unordered_map>

#include "sheet/search_inside.hpp"

namespace bayswap::checksums {
namespace {

constexpr std::size_t context_bytes = 8;

std::uint64_t context(ByteView bytes, std::size_t at) {
  return value_at(bytes, at, context_bytes, false);
}

}  // namespace

// Around changed bytes, the same eight bytes are looked for elsewhere in the same version; what is the same
// in all versions, as far as it goes, are copies.
std::vector<CopyFind> search_copies(const Versions& v) {
  std::vector<CopyFind> found;
  if (v.size < 2 * context_bytes) return found;
  constexpr std::size_t max_samples = 256;
  constexpr std::size_t min_copy = 16;
  const ByteView last = v.bytes.back();
  std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> wanted;
  const std::size_t step = std::max<std::size_t>(1, v.changed.size() / max_samples);
  for (std::size_t i = 0; i < v.changed.size(); i += step) {
    const std::size_t at = std::min<std::size_t>(v.changed[i], v.size - context_bytes);
    wanted[context(last, at)].push_back(static_cast<std::uint32_t>(at));
  }
  std::map<std::size_t, std::size_t> votes;  // by the distance
  for (std::size_t at = 0; at + context_bytes <= v.size; ++at) {
    const auto samples = wanted.find(context(last, at));
    if (samples == wanted.end()) continue;
    for (const std::uint32_t other : samples->second)
      if (other != at) ++votes[at > other ? at - other : other - at];
  }
  std::vector<std::pair<std::size_t, std::size_t>> best;
  best.reserve(votes.size());
  for (const auto& [distance, count] : votes) best.emplace_back(count, distance);
  std::ranges::sort(best, std::greater<>{});
  constexpr std::size_t max_distances = 8;
  if (best.size() > max_distances) best.resize(max_distances);
  for (const auto& vote : best) {
    const std::size_t distance = vote.second;
    const auto same = [&](std::size_t at) {
      return std::ranges::all_of(v.bytes, [&](ByteView one) { return one[at] == one[at + distance]; });
    };
    for (std::size_t at = 0; at + distance < v.size;) {
      if (!same(at)) {
        ++at;
        continue;
      }
      std::size_t end = at;
      std::size_t changed = 0;
      for (; end + distance < v.size && same(end); ++end) changed += v.is_changed[end] ? 1 : 0;
      // Copies that lie over each other are a pattern; those that never change are fillers.
      const bool overlaps = std::ranges::any_of(found, [&](const CopyFind& other) {
        return at < other.first + other.size_bytes && other.first < end;
      });
      // A run that is longer than the distance is three copies, or more, in a row: each is one of the one
      // before.
      constexpr std::size_t least_apart = 64;
      const bool in_a_row = end - at > distance && distance >= least_apart;
      if (end - at >= min_copy && changed >= 4 && (end - at <= distance || in_a_row) && !overlaps)
        for (std::size_t from = at; from < end; from += distance) {
          const std::size_t size = std::min(distance, end - from);
          found.push_back({from, from + distance, size, changed * size / (end - at)});
        }
      at = end;
    }
  }
  std::ranges::sort(found, {}, &CopyFind::first);
  return found;
}

// Numbers that go up by the same small step each time, and are the same otherwise.
std::vector<CounterFind> search_counters(const Versions& v) {
  std::vector<CounterFind> found;
  constexpr std::size_t max_found = 20;
  constexpr std::int64_t max_step = 2;
  if (v.count() < 3) return found;
  std::size_t tried = 0;
  for (const std::uint32_t low : v.changed)
    for (const unsigned bytes : {4U, 2U})
      for (const bool big : {false, true}) {
        if (big && low + 1 < bytes) continue;
        const std::size_t at = big ? low + 1 - bytes : low;
        if (at + bytes > v.size) continue;
        ++tried;
        const auto value = [&](std::size_t version) {
          return static_cast<std::int64_t>(value_at(v.bytes[version], at, bytes, big));
        };
        const std::int64_t step = value(1) - value(0);
        if (step < 1 || step > max_step) continue;
        bool goes_up = true;
        for (std::size_t i = 2; goes_up && i < v.count(); ++i) goes_up = value(i) - value(i - 1) == step;
        const bool overlaps = std::ranges::any_of(found, [&](const CounterFind& other) {
          return at < other.at + other.bits / 8 && other.at < at + bytes;
        });
        if (!goes_up || overlaps) continue;
        CounterFind find;
        find.at = at;
        find.bits = 8 * bytes;
        find.big_endian = big;
        find.step = step;
        // A byte that changes does so by such a step once in some hundred times.
        const double chance =
            static_cast<double>(v.changed.size()) * 16 / std::pow(128.0, static_cast<double>(v.count() - 1));
        find.confidence = 1 / (1 + chance);
        found.push_back(find);
        if (found.size() == max_found) return found;
      }
  (void)tried;
  return found;
}

}  // namespace bayswap::checksums
