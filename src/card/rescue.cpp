// Saves off a card in whatever state: where in the file is it, what can be carved, and all that is good onto
// a fresh one.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/order.hpp"
#include "base/try.hpp"
#include "card/kinds.hpp"
#include "save/pak.hpp"

namespace bayswap {
namespace {

struct Place {
  const CardFormat* format = nullptr;
  std::size_t at = 0;
  std::size_t image_bytes = 0;
  double confidence = 0;
};

// The image as long as it should be; FF stands in for what is missing.
Blob padded(const Blob& file, std::size_t at, std::size_t size) {
  Blob there = file.slice(at, size);
  if (there.size() == size) return there;
  Buffer image(size);
  if (!there.empty()) std::memcpy(image.bytes().data(), there.data(), there.size());
  std::memset(image.bytes().data() + there.size(), 0xff, size - there.size());
  return std::move(image).freeze();
}

bool is_filler(ByteView bytes) {
  Byte value = 1;
  return bytes.empty() || (is_uniform(bytes, &value) && (value == 0x00 || value == 0xff));
}

// Where the file could hold a card, the likeliest place first. A damaged one may weigh next to nothing.
// `is_whole`: it is surely a card of its size.
std::vector<Place> places_for(const Blob& file, std::optional<CardKind> kind, bool is_whole) {
  std::vector<Place> places;
  for (const CardFormat* format : card_formats()) {
    if (kind && format->save.kind != *kind) continue;
    for (const std::size_t size : format->image_sizes) {
      std::size_t room = file.size() > size ? file.size() - size : 0;
      if (room > max_wrapper_bytes) {
        if (!is_filler(file.view().subspan(size))) continue;
        room = 0;  // padded
      }
      Place best{format, 0, size, -1};
      const auto score = [&](std::size_t at) {
        std::string evidence;
        const double weight = format->score(padded(file, at, size).view(), evidence);
        if (weight > best.confidence) best = {format, at, size, weight};
      };
      if (file.size() >= size) {
        for (std::size_t at = 0; at <= room; at = at == room ? room + 1 : std::min(room, at + 16)) score(at);
      } else {
        // Cut short: it may have had a header as well, of a round size.
        // The next size, or the same with spare bytes; or twice as much: half a card.
        const bool smaller =
            std::any_of(format->image_sizes.begin(), format->image_sizes.end(),
                        [&](std::size_t other) { return other >= file.size() && other + other / 32 < size; });
        if (smaller && (is_whole || size != 2 * file.size())) continue;
        if (is_whole && std::find(format->image_sizes.begin(), format->image_sizes.end(), file.size()) !=
                            format->image_sizes.end())
          continue;
        score(0);
        for (std::size_t at = 64; at <= 4096 && at < file.size() && best.confidence < 0.3; at *= 2) score(at);
      }
      // Without any sign of it, only a file of the right size is worth a look.
      if (best.confidence > 0.02 || file.size() == size || kind) places.push_back(best);
    }
  }
  sort_by_descending(places, &Place::confidence);
  return places;
}

}  // namespace

Result<Rescue> rescue_card(const Blob& given, std::optional<CardKind> kind, int slot, bool also_doubtful) {
  const auto guess = guess_card(given.view());
  const Blob whole =
      guess && guess->reversed_in > 1 ? reversed_in_units(given.view(), guess->reversed_in) : given;
  // Of several cards one; where no pak has a sound ID sector, the size has to do.
  const auto slots = card_slots_of(whole.view(), slot > 0);
  if (slot > static_cast<int>(slots.size()))
    return fail(ErrorCode::bad_usage, fmt::format("no slot {} in it", slot),
                slots.empty() ? "it holds one card" : fmt::format("slots are 1 to {}", slots.size()));
  const std::size_t chosen = static_cast<std::size_t>(std::max(0, slot - 1));
  const Blob file = slots.empty() ? whole : whole.slice(slots.at(chosen).at, slots.at(chosen).bytes);
  std::optional<Rescue> best;
  std::size_t best_count = 0;
  NewCardOptions options;
  std::size_t best_size = 0;
  std::string best_form;
  double best_confidence = 0;
  for (const Place& place : places_for(file, kind, guess && guess->confidence > 0.6)) {
    if (best && best_count > 0 && place.confidence < best_confidence / 2) break;
    const Blob image = padded(file, place.at, place.image_bytes);
    const std::size_t present = std::min(place.image_bytes, file.size() - std::min(file.size(), place.at));
    const auto card = place.format->open(image);
    Rescue rescue;
    rescue.kind = place.format->save.kind;
    rescue.at = place.at;
    rescue.missing_bytes = place.image_bytes - present;
    rescue.saves = card->carve(present);
    std::size_t count = place.confidence > 0.2 ? 1 : 0;
    for (const FoundSave& found : rescue.saves)
      count += found.confidence == FoundSave::Confidence::doubtful ? 0 : 2;
    if (count == 0 && !kind) continue;  // no sign of a card, and nothing on it that is sure
    if (best && count <= best_count) continue;
    best = std::move(rescue);
    best_count = count;
    best_size = card->capacity_blocks();
    best_form = card->form();
    best_confidence = place.confidence;
  }
  if (!best)
    return fail(ErrorCode::not_recognised,
                fmt::format("nothing in these {} bytes looks like a save of a card", file.size()),
                "name the console if you know which one it is from", {Remedy::Kind::kind, {}});
  options.form = best_form;
  for (const CardSize& size : card_sizes(best->kind))
    if (size.blocks == best_size && (options.blocks == 0 || size.image_bytes <= file.size())) {
      options.blocks = best_size;
      options.image_bytes = size.image_bytes;
    }
  BAYSWAP_TRY(best->card, make_card(best->kind, options));
  best->on_card.assign(best->saves.size(), false);
  // The living before the deleted, the sure before the likely.
  for (const bool deleted : {false, true})
    for (const auto confidence :
         {FoundSave::Confidence::certain, FoundSave::Confidence::likely, FoundSave::Confidence::doubtful})
      for (std::size_t i = 0; i < best->saves.size(); ++i) {
        const FoundSave& one = best->saves[i];
        if (one.deleted != deleted || one.confidence != confidence || one.save.entry.empty() ||
            (confidence == FoundSave::Confidence::doubtful && !also_doubtful))
          continue;
        best->on_card[i] = best->card->put(one.save).has_value();
      }
  return *std::move(best);
}

}  // namespace bayswap
