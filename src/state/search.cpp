// The battery save in a state of no known kind: every place where it could be, and what speaks for it.
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <map>
#include <set>

#include "base/order.hpp"
#include "base/text.hpp"
#include "layout/search.hpp"
#include "layout/transform.hpp"
#include "state/shapes.hpp"
#include "state/sightings.hpp"

namespace bayswap {
namespace {

constexpr double is_certain = 0.75;
constexpr double is_named = 0.85;
constexpr double stands_out = 0.15;  // from the next one of other content
constexpr double worth_saying = 0.4;
constexpr double labelled_points = 0.55;
constexpr std::size_t max_candidates = 16;
constexpr std::size_t least_bordered = 512;  // smaller stretches have borders by chance

bool is_filler(ByteView bytes) {
  Byte value = 0;
  return bytes.empty() || (is_uniform(bytes, &value) && (value == 0 || value == 0xff));
}

class Searcher {
 public:
  Searcher(const Catalog& catalog, const StateFile& state, const BatterySearch& what)
      : catalog_(catalog), state_(state), what_(what), shapes_(shapes_of(catalog, what)) {
    for (const Shape& shape : shapes_) sizes_.insert(shape.stored());
  }

  BatteryFinds run() {
    const auto& layers = state_.layers();
    for (const Layer& layer : layers) {
      look_for_known(layer);
      if (!shapes_.empty() && !is_divided(layers, layer)) look_into(layer, streams_in(layers, layer));
    }
    if (what_.maps != nullptr) ask_kin(layers);
    drop_misread();
    prefer_labelled();
    doubt_numbers();
    weigh_the_only_one();
    score_others();
    std::erase_if(finds_.candidates, [](const BatteryCandidate& one) { return one.score < worth_saying; });
    sort_by_descending(finds_.candidates, [](const BatteryCandidate& one) { return one.score; });
    if (finds_.candidates.size() > max_candidates) finds_.candidates.resize(max_candidates);
    for (std::size_t i = 0; i < finds_.candidates.size(); ++i) {
      BatteryCandidate& one = finds_.candidates[i];
      // Where the memory that is named after it is blank, what else is alive is other memory.
      one.certain = i == 0 && one.score >= (finds_.blank ? is_named : is_certain) &&
                    (finds_.candidates.size() == 1 || one.score - finds_.candidates[1].score >= stands_out);
      one.score = std::min(one.score, 1.0);
    }
    return std::move(finds_);
  }

 private:
  [[nodiscard]] bool work_memory_is_kept() const { return what_.platform == Platform::nes; }

  // The name of what a layer came out of: that of a chunk, an entry, ...; the nearest one.
  static std::string name_of(const Envelope& envelope) {
    for (auto step = envelope.rbegin(); step != envelope.rend(); ++step)
      if (!step->name.empty()) return step->name;
    return {};
  }

  // A stretch of a layer that is compressed: numbers and names in it are chance.
  struct Packed {
    std::size_t at = 0;
    std::size_t bytes = 0;
  };
  static std::vector<Packed> streams_in(const std::vector<Layer>& layers, const Layer& outer) {
    std::vector<Packed> streams;
    for (const Layer& inner : layers)
      if (inner.packed_bytes > 0 && is_within(inner, outer))
        streams.push_back({inner.envelope.back().at, inner.packed_bytes});
    return streams;
  }
  static bool is_within(const Layer& inner, const Layer& outer) {
    return inner.envelope.size() == outer.envelope.size() + 1 &&
           std::equal(outer.envelope.begin(), outer.envelope.end(), inner.envelope.begin());
  }

  void look_into(const Layer& layer, const std::vector<Packed>& packed) {
    const auto is_packed = [&](const Sighting& one) {
      return std::any_of(packed.begin(), packed.end(), [&](const Packed& stream) {
        return one.at < stream.at + stream.bytes && stream.at < one.at + one.bytes;
      });
    };
    const std::string name = name_of(layer.envelope);
    const int says = says_battery(name, work_memory_is_kept());
    if (says >= 0 && !layer.envelope.empty()) {
      Sighting whole{says > 0 ? Sighting::By::name : Sighting::By::label, 0, layer.bytes.size(),
                     says > 0 ? 0.85 : 0.5, "it is the whole content of the layer"};
      if (says > 0) whole.evidence = fmt::format("the name '{}' says so", printable(name));
      score_layer(layer, whole);
    }
    const Sightings sightings(layer.bytes.view());
    for (const Sighting& item : sightings.labelled(sizes_, work_memory_is_kept()))
      if (!is_packed(item)) score_layer(layer, item);
    if (says < 0) return;
    std::set<std::size_t> done;
    for (const Shape& shape : shapes_) {
      if (shape.stored() < least_bordered || !done.insert(shape.stored()).second) continue;
      for (const Sighting& place : sightings.bordered(shape.stored()))
        if (!is_packed(place)) score_layer(layer, place);
    }
  }

  // What is around chunks that are not compressed is looked at within them.
  static bool is_divided(const std::vector<Layer>& layers, const Layer& outer) {
    return std::any_of(layers.begin(), layers.end(), [&](const Layer& inner) {
      return is_within(inner, outer) && inner.envelope.back().kind != EnvelopeStep::Kind::stream;
    });
  }

  // The memory is the item, or its beginning where the rest is filler, or a clock.
  void score_layer(const Layer& layer, const Sighting& item) {
    const Shape* shorter = nullptr;
    bool exact = false;
    const bool has_clock = std::any_of(what_.chips.begin(), what_.chips.end(),
                                       [](const ChipFact& chip) { return chip.kind == PartKind::rtc; });
    for (const Shape& shape : shapes_) {
      if (shape.stored() == item.bytes) {
        const bool labelled = item.by != Sighting::By::table && item.by != Sighting::By::borders;
        offer(layer, item, shape, item.points + (shape.of_rom && labelled && item.points >= 0.5 ? 0.1 : 0));
        exact = true;
      } else if (shape.stored() + 1 == item.bytes && item.at == 0 && item.by == Sighting::By::name) {
        // A byte before it says how it is stored: as it is, where the length is right.
        Sighting flagged = item;
        flagged.at = 1;
        offer(layer, flagged, shape, item.points);
        exact = true;
      }
      if (shape.stored() >= item.bytes) continue;
      const std::size_t more = item.bytes - shape.stored();
      const ByteView rest = layer.bytes.view().subspan(item.at + shape.stored(), more);
      constexpr std::size_t largest_clock = 64;
      const bool fits = is_filler(rest) || (has_clock && more <= largest_clock) ||
                        (shape.of_rom && item.by != Sighting::By::label);
      if (!fits) continue;
      if (shorter == nullptr || (shape.of_rom && !shorter->of_rom) ||
          (shape.of_rom == shorter->of_rom && shape.stored() < shorter->stored()))
        shorter = &shape;
    }
    if (exact || shorter == nullptr || item.by == Sighting::By::length || item.by == Sighting::By::borders)
      return;
    // An item that is larger without a name may be any memory.
    const bool near = item.bytes - shorter->stored() <= 64;
    if (item.by == Sighting::By::label && !near) return;
    offer(layer, item, *shorter, item.points - 0.05);
  }

  void offer(const Layer& layer, const Sighting& item, const Shape& shape, double points) {
    const ByteView own = layer.bytes.view().subspan(item.at, shape.stored());
    if (is_filler(own)) {
      if (item.by == Sighting::By::name) finds_.blank = true;
      return;
    }
    if (shape.slot.interleave != Interleave::none && spread_of(shape.slot, own) != shape.slot.interleave)
      return;
    Slot slot = shape.slot;
    slot.at = item.at;
    if (slot.order != ByteOrder::chip) {
      const OrderVerdict verdict = judge_word_order(own, std::nullopt, slot.order);
      if (verdict.says != OrderVerdict::Says::reversed) points -= 0.2;
    }
    Buffer bytes(shape.part());
    read_slot(slot, own, bytes.bytes());
    Part part{slot.role, std::move(bytes).freeze(), true};
    if (is_blank(part)) return;
    add(layer.envelope, slot, std::move(part), layer.bytes.size(), points,
        fmt::format("in {} at {}: {}", to_text(layer.envelope), item.at, item.evidence), item.by);
  }

  void add(const Envelope& envelope, const Slot& slot, Part part, std::size_t layer_bytes, double points,
           std::string evidence, Sighting::By by = Sighting::By::name) {
    for (std::size_t i = 0; i < finds_.candidates.size(); ++i) {
      BatteryCandidate& known = finds_.candidates[i];
      if (!(known.save.parts.front().bytes == part.bytes) || !(known.save.parts.front().role == part.role))
        continue;
      known.evidence.push_back(std::move(evidence));
      by_[i] = std::min(by_[i], by);
      if (points > known.score) {
        known.score = points;
        place(known, envelope, slot, layer_bytes);
        std::rotate(known.evidence.begin(), known.evidence.end() - 1, known.evidence.end());
      }
      return;
    }
    BatteryCandidate made;
    made.save.platform = saves_as(what_.platform.value_or(Platform::gb));
    made.save.parts.push_back(std::move(part));
    made.score = points;
    made.evidence.push_back(std::move(evidence));
    place(made, envelope, slot, layer_bytes);
    finds_.candidates.push_back(std::move(made));
    by_.push_back(by);
  }
  void place(BatteryCandidate& candidate, const Envelope& envelope, const Slot& slot,
             std::size_t layer_bytes) const {
    candidate.map.platform = candidate.save.platform;
    candidate.map.id = fmt::format("{}.found", tag(candidate.save.platform));
    candidate.map.envelope = envelope;
    candidate.map.layer_bytes = {layer_bytes};
    candidate.map.batteries = {slot};
    candidate.map.origin = "found";
  }

  // ---- Known saves of the game -------------------------------------------------------------------

  void look_for_known(const Layer& layer) {
    for (const KnownBattery& known : what_.known)
      for (const Part& part : known.save.parts) {
        if (!is_battery_memory(part.role.kind) || is_blank(part)) continue;
        bool equal = false;
        for (const Slot& slot : find_part(part, layer.bytes.view())) {
          equal = true;
          add(layer.envelope, slot, part, layer.bytes.size(), 0.95,
              fmt::format("in {} at {}: it equals {}", to_text(layer.envelope), slot.at, known.display_path));
          break;
        }
        if (!equal) look_for_like(layer, part, known.display_path);
      }
  }

  // An earlier or later version of a known save: many of its stretches occur in the layer, at the same
  // distances.
  void look_for_like(const Layer& layer, const Part& part, const std::string& shown) {
    constexpr std::size_t stretch = 16;
    constexpr std::size_t tries = 64;
    const ByteView own = part.bytes.view();
    const ByteView bytes = layer.bytes.view();
    if (own.size() < stretch * 4 || bytes.size() < own.size()) return;
    std::map<std::size_t, std::size_t> votes;
    std::size_t asked = 0;
    const std::size_t step = std::max(stretch, own.size() / tries / stretch * stretch);
    for (std::size_t at = 0; at + stretch <= own.size(); at += step) {
      const ByteView piece = own.subspan(at, stretch);
      if (std::set<Byte>(piece.begin(), piece.end()).size() < 4) continue;
      ++asked;
      const void* hit = memmem(bytes.data(), bytes.size(), piece.data(), stretch);
      if (hit == nullptr) continue;
      const auto where = static_cast<std::size_t>(static_cast<const Byte*>(hit) - bytes.data());
      if (where >= at && where - at + own.size() <= bytes.size()) ++votes[where - at];
    }
    if (asked < 4) return;
    for (const auto& [at, count] : votes) {
      if (count * 4 < asked || count < 2) continue;
      const double share = static_cast<double>(count) / static_cast<double>(asked);
      Slot slot;
      slot.role = part.role;
      slot.at = at;
      slot.file_sizes = {own.size()};
      slot.chip_sizes = {own.size()};
      Part like{part.role, layer.bytes.slice(at, own.size()), true};
      if (is_blank(like)) continue;
      add(layer.envelope, slot, std::move(like), layer.bytes.size(), 0.55 + 0.35 * share,
          fmt::format("in {} at {}: {:.0f} % of {} match", to_text(layer.envelope), at, share * 100, shown));
    }
  }

  // ---- What else speaks for one
  // ------------------------------------------------------------------------------

  // A map whose marks are there, though it knows no such size or another envelope: another game on the same
  // program, or another program around the same core.
  void ask_kin(const std::vector<Layer>& layers) {
    for (const StateMap* map : what_.maps->all(what_.platform))
      for (const Layer& layer : layers) {
        if (!is_snapshot_of(*map, layer.bytes.view())) continue;
        for (const Slot& slot : map->batteries)
          for (const Shape& shape : shapes_) {
            if (!(shape.slot.role == slot.role) || shape.slot.encoding != slot.encoding ||
                slot.at > layer.bytes.size() || layer.bytes.size() - slot.at < shape.stored())
              continue;
            const double points = shape.of_rom ? 0.8 : 0.6;
            offer(layer,
                  {Sighting::By::name, slot.at, shape.stored(), points,
                   fmt::format("the map {} of such states has it there", map->id), 0, false},
                  shape, points);
          }
      }
  }

  // A number that is read a byte off leads to the same memory a byte off.
  void drop_misread() {
    std::vector<std::size_t> dropped;
    for (std::size_t i = 0; i < finds_.candidates.size(); ++i)
      for (const BatteryCandidate& better : finds_.candidates) {
        const BatteryCandidate& one = finds_.candidates[i];
        const Slot& own = one.map.batteries.front();
        const Slot& other = better.map.batteries.front();
        if (by_[i] != Sighting::By::length || better.score <= one.score ||
            one.map.envelope != better.map.envelope || own.at + own.file_sizes.front() <= other.at ||
            other.at + other.file_sizes.front() <= own.at)
          continue;
        dropped.push_back(i);
        break;
      }
    for (auto i = dropped.rbegin(); i != dropped.rend(); ++i) {
      finds_.candidates.erase(finds_.candidates.begin() + static_cast<std::ptrdiff_t>(*i));
      by_.erase(by_.begin() + static_cast<std::ptrdiff_t>(*i));
    }
  }

  // Where memory is named or listed with the right size, borders alone say little.
  void prefer_labelled() {
    bool any = finds_.blank;
    for (std::size_t i = 0; i < finds_.candidates.size(); ++i)
      any = any || (by_[i] != Sighting::By::borders && finds_.candidates[i].score >= labelled_points);
    for (std::size_t i = 0; i < finds_.candidates.size(); ++i)
      if (any && by_[i] == Sighting::By::borders) finds_.candidates[i].score -= 0.3;
  }

  // If the right number precedes many places, most of them are chance.
  void doubt_numbers() {
    constexpr std::ptrdiff_t few = 2;
    constexpr double doubt = 0.15;
    if (std::count(by_.begin(), by_.end(), Sighting::By::length) <= few) return;
    for (std::size_t i = 0; i < by_.size(); ++i)
      if (by_[i] == Sighting::By::length) finds_.candidates[i].score -= doubt;
  }

  // Of all that has a label or is alone there is one only.
  void weigh_the_only_one() {
    BatteryCandidate* only = nullptr;
    for (BatteryCandidate& one : finds_.candidates) {
      if (one.score < 0.44) continue;
      if (only != nullptr) return;
      only = &one;
    }
    if (only == nullptr || only->score >= is_certain || what_.chips.empty()) return;
    only->score += 0.3;
    only->evidence.emplace_back("nothing else in the state is as large as the game's chip and set apart");
  }

  void score_others() {
    if (what_.others.empty()) return;
    BatterySearch alone = what_;
    alone.others.clear();
    for (const Blob& other : what_.others) {
      const BatteryFinds theirs = find_batteries(catalog_, other, alone);
      for (BatteryCandidate& one : finds_.candidates)
        for (const BatteryCandidate& their : theirs.candidates)
          if (their.map.envelope == one.map.envelope &&
              their.map.batteries.front().at == one.map.batteries.front().at &&
              same_shape(their.map.batteries.front(), one.map.batteries.front())) {
            one.score += 0.1;
            one.evidence.emplace_back("another state has such memory in the same place");
          }
    }
  }

  const Catalog& catalog_;
  const StateFile& state_;
  const BatterySearch& what_;
  std::vector<Shape> shapes_;
  std::set<std::size_t> sizes_;
  BatteryFinds finds_;
  std::vector<Sighting::By> by_;  // of each candidate the best that speaks for it
};

}  // namespace

BatteryFinds find_batteries(const Catalog& catalog, const StateFile& state, const BatterySearch& what) {
  return Searcher(catalog, state, what).run();
}

}  // namespace bayswap
