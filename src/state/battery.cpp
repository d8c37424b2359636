// The battery save inside a state: taken out, and another one put in.
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "layout/integrity.hpp"
#include "layout/transform.hpp"
#include "state/sections.hpp"

namespace bayswap {
namespace {

// A part of this state: where it is in the layer, and how many bytes it has there.
struct Placed {
  const Slot* slot = nullptr;
  std::size_t at = 0;
  std::size_t file_bytes = 0;
};

tl::unexpected<Error> no_such_state(const StateMap& map, std::string_view why) {
  return fail(ErrorCode::not_recognised, fmt::format("it is not a state of the kind {}: {}", map.id, why),
              "name another map, or none: then all are tried");
}

Result<Blob> layer_of(const StateMap& map, const StateFile& file) {
  auto layer = file.layer(map.envelope);
  if (!layer) return no_such_state(map, layer.error().message);
  return layer;
}

// The places and sizes that one kind of part can have in this layer.
struct Choice {
  Role role;
  std::vector<Placed> fitting;
  std::vector<Placed> to_the_end;  // a layer that is nothing but the memory
};

// Bytes after the memory that are there in some layers: a clock.
std::size_t bytes_behind(const StateMap& map) {
  std::size_t bytes = 0;
  for (const Slot& slot : map.batteries)
    if (slot.after_variable) bytes = std::max(bytes, slot.at + slot.file_sizes.back());
  return bytes;
}

// Where the memory that begins at `at` ends in this layer; nothing where that is not said: an item as large
// as the largest chip holds every smaller one as well.
std::optional<std::size_t> end_of_memory(const StateMap& map, const Blob& layer, std::size_t at) {
  if (map.items != StateMap::Items::table || map.body != map.envelope) return layer.size();
  std::size_t largest = 0;
  for (const Slot& slot : map.batteries)
    if (!slot.after_variable) largest = std::max(largest, slot.file_sizes.back());
  const auto items = items_of_table(map, layer);
  for (const StateItem& item : items ? *items : std::vector<StateItem>{})
    if (item.bytes.size() > 0 && item.bytes.data() == layer.data() + at)
      return item.bytes.size() == largest ? std::nullopt : std::optional(at + item.bytes.size());
  return std::nullopt;
}

std::vector<Choice> choices_of(const StateMap& map, const Blob& layer, const std::vector<ChipFact>& chips) {
  std::vector<Choice> choices;
  const std::size_t after_variable = bytes_behind(map);
  for (const Slot& slot : map.batteries) {
    if (slot.after_variable) continue;
    auto choice = std::find_if(choices.begin(), choices.end(),
                               [&](const Choice& one) { return one.role == slot.role; });
    if (choice == choices.end()) choice = choices.insert(choices.end(), Choice{slot.role, {}, {}});
    const auto fact = std::find_if(chips.begin(), chips.end(), [&](const ChipFact& chip) {
      return chip.kind == slot.role.kind && chip.size_bytes != 0;
    });
    const auto memory_end = end_of_memory(map, layer, slot.at);
    for (const std::size_t bytes : slot.file_sizes) {
      const std::size_t end = slot.at + bytes;
      if (end > layer.size()) continue;
      if (fact != chips.end() && slot.part_size(bytes) != fact->size_bytes) continue;
      choice->fitting.push_back({&slot, slot.at, bytes});
      if (end == memory_end || (after_variable > 0 && end + after_variable == memory_end))
        choice->to_the_end.push_back(choice->fitting.back());
    }
  }
  std::erase_if(choices, [](const Choice& one) { return one.fitting.empty(); });
  return choices;
}

// Where several kinds of chips would be in one place, only one of them is there.
Result<void> keep_one_of_a_place(std::vector<Choice>& choices, const std::vector<ChipFact>& chips) {
  const bool one_place =
      choices.size() > 1 && std::all_of(choices.begin(), choices.end(), [&](const Choice& one) {
        return one.fitting.front().at == choices.front().fitting.front().at;
      });
  if (!one_place) return {};
  const auto is_known = [&](const Choice& one) {
    return std::any_of(chips.begin(), chips.end(),
                       [&](const ChipFact& chip) { return chip.kind == one.role.kind; });
  };
  if (std::any_of(choices.begin(), choices.end(), is_known))
    std::erase_if(choices, [&](const Choice& one) { return !is_known(one); });
  else if (std::any_of(choices.begin(), choices.end(),
                       [](const Choice& one) { return !one.to_the_end.empty(); }))
    std::erase_if(choices, [](const Choice& one) { return one.to_the_end.empty(); });
  if (choices.size() == 1) return {};
  std::vector<std::string> kinds;
  kinds.reserve(choices.size());
  for (const Choice& one : choices) kinds.push_back(to_text(one.role));
  return fail(
      ErrorCode::does_not_fit,
      fmt::format("the battery save in such a state can be of several chips: {}", joined(kinds, ", ")),
      "the game's ROM has the kind of its chip", {Remedy::Kind::chip, {}});
}

// For each kind of part the slot and size that are meant.
Result<std::vector<Placed>> placed_parts(const StateMap& map, const Blob& layer,
                                         const std::vector<ChipFact>& chips) {
  std::vector<Choice> choices = choices_of(map, layer, chips);
  BAYSWAP_CHECK(keep_one_of_a_place(choices, chips));
  if (choices.empty())
    return fail(ErrorCode::does_not_fit, fmt::format("no part of {} fits the game's chips", map.id),
                "it may be another program's state; learn a map from a state and its battery save");
  std::vector<Placed> chosen;
  for (const Choice& one : choices) {
    const auto& fitting = one.fitting.size() > 1 && one.to_the_end.size() == 1 ? one.to_the_end : one.fitting;
    if (fitting.size() > 1)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("the {} in such a state can have several sizes", to_text(one.role)),
                  "the game's ROM has the kind of its chip", {Remedy::Kind::chip, {}});
    chosen.push_back(fitting.front());
  }
  // If the layer is longer than the memory by the size of a clock, the clock follows the memory.
  const std::size_t after_variable = bytes_behind(map);
  if (const std::size_t end = chosen.front().at + chosen.front().file_bytes;
      chosen.size() == 1 && after_variable > 0 &&
      end_of_memory(map, layer, chosen.front().at) == end + after_variable)
    for (const Slot& slot : map.batteries)
      if (slot.after_variable) chosen.push_back({&slot, end + slot.at, slot.file_sizes.back()});
  return chosen;
}

bool is_there(const StateMark& mark, ByteView bytes) {
  return mark.at <= bytes.size() && bytes.size() - mark.at >= mark.bytes.size() &&
         std::equal(mark.bytes.begin(), mark.bytes.end(),
                    bytes.begin() + static_cast<std::ptrdiff_t>(mark.at));
}

}  // namespace

Result<Blob> StateFile::layer(const Envelope& envelope, std::size_t max_bytes) const {
  // What was too large for a smaller limit may be none for a larger one.
  for (const Opened& one : opened_)
    if (one.envelope == envelope && (one.bytes || one.max_bytes >= max_bytes)) return one.bytes;
  // The limit is that of the layer; what leads to it may be larger.
  auto outer = envelope.size() < 2 ? Result<Blob>(bytes_) : layer({envelope.begin(), envelope.end() - 1});
  auto bytes =
      outer && !envelope.empty() ? open_envelope(*outer, {envelope.back()}, max_bytes) : std::move(outer);
  opened_.push_back({envelope, max_bytes, std::move(bytes)});
  return opened_.back().bytes;
}

const std::vector<Layer>& StateFile::layers() const {
  if (!layers_) layers_ = find_layers(bytes_);
  return *layers_;
}

bool is_snapshot_of(const StateMap& map, ByteView layer) {
  bool any = false;
  for (const StateMark& mark : map.marks) {
    if (mark.in_file) continue;
    if (!is_there(mark, layer)) return false;
    any = true;
  }
  return any;
}

std::optional<std::vector<std::string>> is_state_of(const StateMap& map, const StateFile& file) {
  for (const StateMark& mark : map.marks)
    if (mark.in_file && !is_there(mark, file.bytes().view())) return std::nullopt;
  // No more than such a state can have: a file may unfold to anything.
  const auto layer =
      file.layer(map.envelope, map.layer_bytes.empty() ? max_state_bytes : map.layer_bytes.back());
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
  if (map.body_bytes > 0 && map.body != map.envelope) {
    const auto body =
        file.layer(map.body, map.items == StateMap::Items::table ? max_state_bytes : map.body_bytes);
    if (!body || body->size() < map.body_bytes ||
        (map.items != StateMap::Items::table && body->size() != map.body_bytes))
      return std::nullopt;
    why.push_back(fmt::format("its snapshot has {} bytes", map.body_bytes));
  }
  // A mark of four bytes is there by chance; a table whose items are all within the file is not.
  if (map.items == StateMap::Items::table && map.body == map.envelope && !items_of_table(map, *layer))
    return std::nullopt;
  for (const IntegrityField& field : map.integrity)
    if (is_right(field, layer->view()))
      why.push_back(fmt::format("its {} at {} is right", to_text(field.kind), field.at));
  return why;
}

Result<Save> battery_in_state(const StateMap& map, const StateFile& file,
                              const std::vector<ChipFact>& chips) {
  if (!is_state_of(map, file)) return no_such_state(map, "sizes or marks do not agree");
  BAYSWAP_TRY(const Blob layer, layer_of(map, file));
  BAYSWAP_TRY(const auto parts, placed_parts(map, layer, chips));
  Save save{saves_as(map.platform), {}};
  for (const Placed& one : parts) {
    Buffer bytes(one.slot->part_size(one.file_bytes));
    read_slot(*one.slot, layer.view().subspan(one.at, one.file_bytes), bytes.bytes());
    save.parts.push_back({one.slot->role, std::move(bytes).freeze(), true});
  }
  return save;
}

Result<Blob> grafted_state(const StateMap& map, const StateFile& file, const Save& battery) {
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
      if (is_blank(part) || part.role.kind == PartKind::rtc) continue;
      return fail(ErrorCode::does_not_fit,
                  fmt::format("a state of the kind {} has no place for {} of {} bytes", map.id,
                              to_text(part.role), part.bytes.size()),
                  "is it the battery save of the same game?");
    }
    const ByteView own = layer.view().subspan(place->at, place->file_bytes);
    write_slot(*place->slot, part.bytes.view(), std::span(out).subspan(place->at, place->file_bytes), own);
  }
  // Only what was right before is made right: the others mean something else in this state.
  for (const IntegrityField& field : map.integrity) {
    if (!is_right(field, layer.view())) continue;
    const std::vector<Byte> value = value_of(field, out);
    std::copy(value.begin(), value.end(), out.begin() + static_cast<std::ptrdiff_t>(field.at));
  }
  return close_envelope(file.bytes(), map.envelope, Blob::copy_of(out));
}

}  // namespace bayswap
