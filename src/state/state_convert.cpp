// One snapshot in another program's form.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "state/sections.hpp"

namespace bayswap {
namespace {

tl::unexpected<Error> other_core(std::string_view a, std::string_view b) {
  return fail(ErrorCode::unsupported,
              fmt::format("{} and {} are states of different cores: one can't read the other's", a, b),
              "take the battery save out of it and carry that: the game goes on from its own save",
              {Remedy::Kind::from_state, {}});
}

}  // namespace

std::optional<StateMap> map_for(const StateMap& map, const StateFile& file) {
  if (is_state_of(map, file)) return map;
  for (const Layer& layer : file.layers()) {
    if (!is_snapshot_of(map, layer.bytes.view())) continue;
    if (!map.layer_bytes.empty() &&
        !std::binary_search(map.layer_bytes.begin(), map.layer_bytes.end(), layer.bytes.size()))
      continue;
    StateMap own = map;
    own.envelope = layer.envelope;
    if (map.body == map.envelope) own.body = layer.envelope;
    std::erase_if(own.marks, [](const StateMark& mark) { return mark.in_file; });
    return own;
  }
  return std::nullopt;
}

Result<ConvertedState> converted_state(const StateMap& from, const Blob& state, const StateMap& to,
                                       const Blob* base) {
  const bool one_family = !from.family.empty() && from.family == to.family;
  if (!one_family && from.id != to.id) return other_core(from.id, to.id);
  BAYSWAP_TRY(StateSections sections, read_sections(from, state));
  ConvertedState out;
  const bool to_picture = !to.body.empty() && to.body.front().kind == EnvelopeStep::Kind::png_chunk;
  const bool has_picture = !sections.picture.empty();
  if (to_picture && !has_picture && base != nullptr && to.picture_size.first > 0) {
    // The other state's picture shows another moment.
    BAYSWAP_TRY(const Blob fresh, new_state(to, sections));
    sections.picture = fresh;
  }
  if (to_picture && !has_picture)
    out.notes.emplace_back("the state has no picture of the moment: the new file shows an empty one");
  if (!to_picture && has_picture) out.notes.emplace_back("the picture is left out: the other form has none");
  if (to.items == StateMap::Items::none && !sections.items.empty() && to.id != from.id)
    return fail(ErrorCode::unsupported, fmt::format("{} has no place for what is beside the snapshot", to.id),
                "choose a form that has");
  BAYSWAP_TRY(out.file, base != nullptr ? write_sections(to, *base, sections) : new_state(to, sections));
  out.notes.push_back(
      fmt::format("the snapshot of {} bytes and {} beside it went over", sections.body.size(),
                  sections.items.size() == 1 ? "one item" : fmt::format("{} items", sections.items.size())));
  return out;
}

Result<ConvertedState> rewrapped_state(const Blob& state, const Blob& base) {
  constexpr std::size_t head = 8;
  constexpr std::size_t least = 1024;
  const auto ours = find_layers(state);
  const auto theirs = find_layers(base);
  const Layer* best = nullptr;
  const Layer* place = nullptr;
  // A layer that contains another layer is a wrapper, not a snapshot.
  const auto is_wrapper = [](const std::vector<Layer>& layers, const Layer& outer) {
    return std::any_of(layers.begin(), layers.end(), [&](const Layer& inner) {
      return inner.envelope.size() > outer.envelope.size() &&
             std::equal(outer.envelope.begin(), outer.envelope.end(), inner.envelope.begin());
    });
  };
  for (const Layer& mine : ours)
    for (const Layer& other : theirs) {
      if (is_wrapper(ours, mine) || is_wrapper(theirs, other)) continue;
      const ByteView a = mine.bytes.view();
      const ByteView b = other.bytes.view();
      if (a.size() != b.size() || a.size() < least || is_uniform(a.first(head)) ||
          !std::equal(a.begin(), a.begin() + head, b.begin()))
        continue;
      // The innermost of both: what is around it is the other program's.
      if (best == nullptr ||
          mine.envelope.size() + other.envelope.size() > best->envelope.size() + place->envelope.size()) {
        best = &mine;
        place = &other;
      }
    }
  if (best == nullptr)
    return fail(ErrorCode::unsupported, "the two states hold no snapshot of one and the same kind",
                "take the battery save out of it and carry that: the game goes on from its own save",
                {Remedy::Kind::from_state, {}});
  ConvertedState out;
  BAYSWAP_TRY(out.file, close_envelope(base, place->envelope, best->bytes));
  out.notes.push_back(fmt::format("{} of {} bytes went into {}", to_text(best->envelope), best->bytes.size(),
                                  to_text(place->envelope)));
  return out;
}

}  // namespace bayswap
