// A map learned from states and the battery saves that were in the machine when they were made.
#include <bayswap/state.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/order.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "layout/integrity.hpp"
#include "layout/search.hpp"

namespace bayswap {
namespace {

// One place of a part in one state.
struct LearnedPlace {
  std::size_t layer = 0;
  Slot slot;
};

bool same_way(const Slot& a, const Slot& b) {
  return a.role == b.role && a.at == b.at && a.order == b.order && a.interleave == b.interleave &&
         a.parity == b.parity && a.encoding == b.encoding;
}

class Learner {
 public:
  Learner(const std::vector<StatePair>& pairs, const std::string& id) : pairs_(pairs) {
    learned_.map.id = id;
  }

  Result<LearnedState> run() {
    if (pairs_.empty())
      return fail(ErrorCode::bad_usage, "nothing to learn from", "name a state and its battery save");
    learned_.map.platform = pairs_.front().battery.platform;
    learned_.map.origin = "learned";
    const std::string prefix = fmt::format("{}.", tag(learned_.map.platform));
    if (!learned_.map.id.starts_with(prefix))
      return fail(ErrorCode::bad_usage,
                  fmt::format("'{}' is no id for a map of {}", printable(learned_.map.id),
                              tag(learned_.map.platform)),
                  fmt::format("e.g. {}mine", prefix));
    for (const StatePair& pair : pairs_) layers_.push_back(find_layers(pair.state));
    BAYSWAP_CHECK(find_places());
    settle_sizes_and_marks();
    settle_integrity();
    BAYSWAP_CHECK(prove());
    say_what_is_open();
    return std::move(learned_);
  }

 private:
  // Places of all of a pair's parts in one layer, by the layer's envelope and the offset of the first part.
  using Place = std::pair<std::string, std::size_t>;

  Result<void> find_places() {
    std::map<Place, std::vector<std::vector<Slot>>> shared;  // per pair its slots
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
      std::map<Place, std::vector<Slot>> own;
      const auto* part = first_part(pairs_[i].battery);
      if (part == nullptr)
        return fail(ErrorCode::not_recognised,
                    fmt::format("battery save {} is blank, and is found nowhere", i + 1),
                    "save in the game, then make the state");
      for (const Layer& layer : layers_[i])
        for (const Slot& slot : find_part(*part, layer.bytes.view()))
          own.try_emplace({to_text(layer.envelope), slot.at}, std::vector<Slot>{slot});
      if (own.empty())
        return fail(ErrorCode::not_recognised,
                    fmt::format("the battery save of pair {} is nowhere in its state", i + 1),
                    "make the state right after the game has saved, and take the battery save after leaving "
                    "the game");
      if (i == 0)
        for (auto& [place, slots] : own) shared[place].push_back(std::move(slots));
      else
        for (auto& [place, lists] : shared) {
          const auto found = own.find(place);
          lists.push_back(found == own.end() ? std::vector<Slot>{} : found->second);
        }
    }
    std::erase_if(shared, [](const auto& one) {
      return std::any_of(one.second.begin(), one.second.end(),
                         [](const auto& slots) { return slots.empty(); });
    });
    if (shared.empty())
      return fail(ErrorCode::not_recognised, "the pairs' battery saves are not in one and the same place",
                  "are all states of one program? Learn each kind by itself");
    choose(shared);
    return {};
  }

  static const Part* first_part(const Save& save) {
    for (const Part& part : save.parts)
      if (!is_blank(part) && part.role.kind != PartKind::rtc) return &part;
    return nullptr;
  }

  // Of several places that which is the memory alone, in a layer of its own; then the smallest layer, the
  // first.
  void choose(const std::map<Place, std::vector<std::vector<Slot>>>& shared) {
    const auto rank = [&](const Place& place) {
      std::size_t bytes = 0;
      for (const Layer& layer : layers_.front())
        if (to_text(layer.envelope) == place.first) bytes = layer.bytes.size();
      return std::pair(bytes, place.second);
    };
    const auto best = std::min_element(shared.begin(), shared.end(), [&](const auto& a, const auto& b) {
      return rank(a.first) < rank(b.first);
    });
    for (const Layer& layer : layers_.front())
      if (to_text(layer.envelope) == best->first.first) learned_.map.envelope = layer.envelope;
    for (const auto& slots : best->second)
      for (const Slot& slot : slots) add_slot(slot);
    for (const auto& [place, slots] : shared)
      if (place != best->first && !is_around(place.first))
        learned_.open.push_back(
            fmt::format("the same bytes are also in {} at {}: one of the two is a copy in work memory",
                        place.first, place.second));
    for (const Slot& slot : learned_.map.batteries)
      learned_.certain.push_back(fmt::format("{} of {} bytes is in {} at {}, {}", to_text(slot.role),
                                             joined(slot.part_sizes(), " or "),
                                             to_text(learned_.map.envelope), slot.at, in_words(slot.order)));
  }

  // What is around the chosen layer holds its bytes as well, where nothing is compressed in between.
  [[nodiscard]] bool is_around(const std::string& envelope) const {
    Envelope outer;
    for (const EnvelopeStep& step : learned_.map.envelope) {
      if (to_text(outer) == envelope) return true;
      outer.push_back(step);
    }
    return false;
  }

  void add_slot(const Slot& slot) {
    for (Slot& known : learned_.map.batteries)
      if (same_way(known, slot)) {
        known.file_sizes.insert(known.file_sizes.end(), slot.file_sizes.begin(), slot.file_sizes.end());
        std::set<std::size_t> sizes(known.file_sizes.begin(), known.file_sizes.end());
        known.file_sizes.assign(sizes.begin(), sizes.end());
        known.chip_sizes = known.part_sizes();
        return;
      }
    learned_.map.batteries.push_back(slot);
  }

  [[nodiscard]] std::vector<Blob> own_layers() const {
    std::vector<Blob> own;
    for (const StatePair& pair : pairs_)
      if (auto layer = open_envelope(pair.state, learned_.map.envelope)) own.push_back(*std::move(layer));
    return own;
  }

  // Few bytes: a snapshot soon goes on with the game's title, or with registers.
  void settle_sizes_and_marks() {
    constexpr std::size_t of_layer = 4;
    constexpr std::size_t of_file = 8;
    const std::vector<Blob> own = own_layers();
    std::set<std::size_t> sizes;
    std::size_t end_of_parts = 0;
    std::size_t begin_of_parts = ~std::size_t{0};
    for (const Slot& slot : learned_.map.batteries) {
      end_of_parts = std::max(end_of_parts, slot.at + slot.file_sizes.back());
      begin_of_parts = std::min(begin_of_parts, slot.at);
    }
    for (const Blob& layer : own) sizes.insert(layer.size());
    learned_.map.layer_bytes.assign(sizes.begin(), sizes.end());
    std::vector<Blob> files;
    for (const StatePair& pair : pairs_) files.push_back(pair.state);
    // What all begin with: of the layer up to the memory, of the file where that is something else.
    if (auto mark = common_head(own, std::min(of_layer, begin_of_parts)))
      learned_.map.marks.push_back(*std::move(mark));
    const Envelope& envelope = learned_.map.envelope;
    const bool told =
        !envelope.empty() && (envelope.front().kind != EnvelopeStep::Kind::stream || envelope.front().at > 0);
    if (told)
      if (auto mark = common_head(files, of_file)) {
        mark->in_file = true;
        learned_.map.marks.push_back(*std::move(mark));
      }
  }

  static std::optional<StateMark> common_head(const std::vector<Blob>& blobs, std::size_t most) {
    StateMark mark;
    for (std::size_t i = 0; i < most; ++i) {
      for (const Blob& blob : blobs)
        if (i >= blob.size() || blob.view()[i] != blobs.front().view()[i]) most = i;
      if (i < most) mark.bytes.push_back(blobs.front().view()[i]);
    }
    constexpr std::size_t least = 4;
    if (mark.bytes.size() < least || is_uniform(mark.bytes)) return std::nullopt;
    return mark;
  }

  void settle_integrity() {
    std::size_t first = ~std::size_t{0};
    for (const Slot& slot : learned_.map.batteries) first = std::min(first, slot.at);
    const std::vector<Blob> own = own_layers();
    learned_.map.integrity = find_integrity(own, std::vector<std::size_t>(own.size(), first));
    for (const IntegrityField& field : learned_.map.integrity)
      learned_.certain.push_back(fmt::format("a {} is at {} and covers the bytes from {} on",
                                             to_text(field.kind), field.at, field.from));
  }

  // Each battery comes out of its state, and goes back into the very file.
  Result<void> prove() {
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
      const Part& part = *first_part(pairs_[i].battery);
      const auto save =
          battery_in_state(learned_.map, pairs_[i].state, {{part.role.kind, part.bytes.size(), ""}});
      const Part* own = save ? save->find(part.role) : nullptr;
      const auto again =
          save ? grafted_state(learned_.map, pairs_[i].state, *save) : tl::unexpected(save.error());
      if (own == nullptr || !(own->bytes == part.bytes) || !again || !(*again == pairs_[i].state))
        return fail(
            ErrorCode::not_recognised,
            fmt::format("what was learned does not bring back the battery save of pair {}", i + 1),
            "the pairs may be of different programs, or one battery save is not of the state's moment");
    }
    learned_.certain.push_back(
        fmt::format("{}: the battery save comes out, and goes back into the very file, bit for bit",
                    pairs_.size() == 1 ? "the state" : fmt::format("all {} states", pairs_.size())));
    return {};
  }

  void say_what_is_open() {
    if (pairs_.size() == 1)
      learned_.open.emplace_back(
          "one pair can't tell what is the same in all such states from what is this game's: a "
          "second pair, of another save or game, would settle it");
  }

  const std::vector<StatePair>& pairs_;
  std::vector<std::vector<Layer>> layers_;
  LearnedState learned_;
};

}  // namespace

Result<LearnedState> learn_state(const std::vector<StatePair>& pairs, const std::string& id) {
  return Learner(pairs, id).run();
}

}  // namespace bayswap
