// The battery save inside a state: taken out, and another one put in.
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/try.hpp"
#include "layout/transform.hpp"
#include "state/integrity.hpp"

namespace bayswap {
namespace {

// A part of this state: where it is in the layer, and how many bytes it has there.
struct Placed {
  const Slot* slot = nullptr;
  std::size_t file_bytes = 0;
};

tl::unexpected<Error> no_such_state(const StateMap& map, std::string_view why) {
  return fail(ErrorCode::not_recognised, fmt::format("it is no state of the kind {}: {}", map.id, why),
              "name another map, or none: then all are tried");
}

Result<Blob> layer_of(const StateMap& map, const Blob& file) {
  auto layer = open_envelope(file, map.envelope);
  if (!layer) return no_such_state(map, layer.error().message);
  return layer;
}

// For each kind of part the slot and size that are meant.
Result<std::vector<Placed>> placed_parts(const StateMap& map, const Blob& layer,
                                         const std::vector<ChipFact>& chips) {
  std::vector<Placed> chosen;
  std::vector<Role> roles;
  for (const Slot& slot : map.batteries)
    if (std::find(roles.begin(), roles.end(), slot.role) == roles.end()) roles.push_back(slot.role);
  for (const Role& role : roles) {
    const auto fact = std::find_if(chips.begin(), chips.end(), [&](const ChipFact& chip) {
      return chip.kind == role.kind && chip.size_bytes != 0;
    });
    std::vector<Placed> fitting;
    std::vector<Placed> to_the_end;  // a layer that is nothing but the memory
    for (const Slot& slot : map.batteries) {
      if (!(slot.role == role)) continue;
      for (const std::size_t bytes : slot.file_sizes) {
        if (slot.at > layer.size() || layer.size() - slot.at < bytes) continue;
        if (fact != chips.end() && slot.part_size(bytes) != fact->size_bytes) continue;
        fitting.push_back({&slot, bytes});
        if (slot.at + bytes == layer.size()) to_the_end.push_back({&slot, bytes});
      }
    }
    if (fitting.size() > 1 && to_the_end.size() == 1) fitting = to_the_end;
    if (fitting.empty()) continue;
    if (fitting.size() > 1)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("the {} in such a state can have several sizes", to_text(role)),
                  "the game's ROM tells its chip", {Remedy::Kind::chip, {}});
    chosen.push_back(fitting.front());
  }
  if (chosen.empty())
    return fail(ErrorCode::does_not_fit, fmt::format("no part of {} fits the game's chips", map.id),
                "it may be another program's state; learn a map from a state and its battery save");
  return chosen;
}

bool is_there(const StateMark& mark, ByteView bytes) {
  return mark.at <= bytes.size() && bytes.size() - mark.at >= mark.bytes.size() &&
         std::equal(mark.bytes.begin(), mark.bytes.end(),
                    bytes.begin() + static_cast<std::ptrdiff_t>(mark.at));
}

}  // namespace

bool is_snapshot_of(const StateMap& map, ByteView layer) {
  bool any = false;
  for (const StateMark& mark : map.marks) {
    if (mark.in_file) continue;
    if (!is_there(mark, layer)) return false;
    any = true;
  }
  return any;
}

std::optional<std::vector<std::string>> is_state_of(const StateMap& map, const Blob& file) {
  for (const StateMark& mark : map.marks)
    if (mark.in_file && !is_there(mark, file.view())) return std::nullopt;
  const auto layer = open_envelope(file, map.envelope);
  if (!layer) return std::nullopt;
  std::vector<std::string> why;
  if (!map.envelope.empty())
    why.push_back(fmt::format("{} leads to {} bytes", to_text(map.envelope), layer->size()));
  if (!map.layer_bytes.empty()) {
    if (!std::binary_search(map.layer_bytes.begin(), map.layer_bytes.end(), layer->size()))
      return std::nullopt;
    why.push_back(fmt::format("{} bytes is the size of such a snapshot", layer->size()));
  }
  std::size_t marked = 0;
  for (const StateMark& mark : map.marks) {
    if (mark.in_file) continue;
    if (!is_there(mark, layer->view())) return std::nullopt;
    marked += mark.bytes.size();
  }
  if (marked > 0) why.push_back(fmt::format("{} bytes that all of them have are there", marked));
  if (map.envelope.empty() && map.marks.empty() && map.layer_bytes.empty()) return std::nullopt;
  for (const IntegrityField& field : map.integrity)
    if (is_right(field, layer->view()))
      why.push_back(fmt::format("its {} at {} is right", to_text(field.kind), field.at));
  return why;
}

Result<Save> battery_in_state(const StateMap& map, const Blob& file, const std::vector<ChipFact>& chips) {
  if (!is_state_of(map, file)) return no_such_state(map, "sizes or marks do not agree");
  BAYSWAP_TRY(const Blob layer, layer_of(map, file));
  BAYSWAP_TRY(const auto parts, placed_parts(map, layer, chips));
  Save save{saves_as(map.platform), {}};
  for (const Placed& one : parts) {
    Buffer bytes(one.slot->part_size(one.file_bytes));
    read_slot(*one.slot, layer.view().subspan(one.slot->at, one.file_bytes), bytes.bytes());
    save.parts.push_back({one.slot->role, std::move(bytes).freeze(), true});
  }
  return save;
}

Result<Blob> grafted_state(const StateMap& map, const Blob& file, const Save& battery) {
  if (!is_state_of(map, file)) return no_such_state(map, "sizes or marks do not agree");
  BAYSWAP_TRY(const Blob layer, layer_of(map, file));
  std::vector<ChipFact> chips;
  for (const Part& part : battery.parts) chips.push_back({part.role.kind, part.bytes.size(), ""});
  BAYSWAP_TRY(const auto places, placed_parts(map, layer, chips));
  std::vector<Byte> out(layer.view().begin(), layer.view().end());
  for (const Part& part : battery.parts) {
    const auto place = std::find_if(places.begin(), places.end(),
                                    [&](const Placed& one) { return one.slot->role == part.role; });
    if (place == places.end()) {
      if (is_blank(part)) continue;
      return fail(ErrorCode::does_not_fit,
                  fmt::format("a state of the kind {} has no place for {} of {} bytes", map.id,
                              to_text(part.role), part.bytes.size()),
                  "is it the battery save of the same game?");
    }
    const ByteView own = layer.view().subspan(place->slot->at, place->file_bytes);
    write_slot(*place->slot, part.bytes.view(), std::span(out).subspan(place->slot->at, place->file_bytes),
               own);
  }
  // Only what was right before is made right: the others mean something else in this state.
  for (const IntegrityField& field : map.integrity) {
    if (!is_right(field, layer.view())) continue;
    const std::vector<Byte> value = value_of(field, out);
    std::copy(value.begin(), value.end(), out.begin() + static_cast<std::ptrdiff_t>(field.at));
  }
  return close_envelope(file, map.envelope, Blob::copy_of(out));
}

}  // namespace bayswap
