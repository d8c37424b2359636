#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <map>

#include "save/pak.hpp"

namespace bayswap {
namespace {

using Says = OrderVerdict::Says;

// Same parts in the same places; at most their byte orders differ.
bool are_twins(const Layout& a, const Layout& b) {
  return a.platform == b.platform && a.size == b.size &&
         std::ranges::equal(a.slots, b.slots, [](const Slot& x, const Slot& y) {
           return x.role == y.role && x.at == y.at && x.file_sizes == y.file_sizes;
         });
}

class Recogniser {
 public:
  Recogniser(const Blob& file, const Hints& hints) : file_(file), hints_(hints) {}

  // How much likelier this layout became by looking at the content.
  double weigh(const Layout& layout, std::vector<std::string>& evidence) {
    double weight = 1;
    for (const Slot& slot : layout.slots) {
      const ByteView bytes = file_.slice(slot.at, slot.file_sizes.back()).view();
      if (slot.role.kind == PartKind::pak)
        weight *= weigh_pak(slot, bytes, layout.slots.size() == 1, evidence);
      if (slot.role.kind == PartKind::sram || slot.role.kind == PartKind::flash)
        weight *= weigh_order(slot, bytes, evidence);
    }
    return weight;
  }

 private:
  static double weigh_pak(const Slot& slot, ByteView bytes, bool alone, std::vector<std::string>& evidence) {
    const int sound = sound_pak_ids(bytes);
    if (sound > 0) {
      evidence.push_back(
          fmt::format("{} of 4 controller pak ID sectors are sound in {}", sound, to_text(slot.role)));
      return 50;
    }
    if (is_uniform(bytes)) return alone ? 0.3 : 1;
    evidence.push_back(fmt::format("{} holds no sound controller pak ID sector", to_text(slot.role)));
    return 0.03;
  }

  double weigh_order(const Slot& slot, ByteView bytes, std::vector<std::string>& evidence) {
    auto [at, is_new] = verdicts_.try_emplace(slot.at);
    if (is_new) at->second = judge_word_order(bytes, hints_.game);
    const OrderVerdict& verdict = at->second;
    evidence.push_back(fmt::format("{}: {}", to_text(slot.role), verdict.evidence));
    if (verdict.says == Says::nothing) return 1;
    const bool agrees = (verdict.says == Says::swap32) == (slot.order == ByteOrder::swap32);
    return agrees ? verdict.confidence * 2 : (1 - verdict.confidence) * 2;
  }

  const Blob& file_;
  const Hints& hints_;
  std::map<std::size_t, OrderVerdict> verdicts_;
};

}  // namespace

Recognition recognise(const Catalog& catalog, const Blob& file, const Hints& hints) {
  Recognition result;
  Recogniser recogniser(file, hints);
  std::string same_size;
  std::optional<Platform> platform = hints.platform;
  if (!platform && hints.game) platform = hints.game->platform;
  for (const Layout* layout : catalog.all()) {
    if (platform && layout->platform != *platform) continue;
    if (!std::ranges::binary_search(layout->file_sizes(), file.size())) continue;
    same_size += (same_size.empty() ? "" : ", ") + layout->id;
    result.matches.push_back({layout, 0, {}});
  }
  double sum = 0;
  for (LayoutMatch& match : result.matches) {
    match.evidence.push_back(fmt::format("{} bytes is the size of {}", file.size(), same_size));
    match.confidence = recogniser.weigh(*match.layout, match.evidence);
    sum += match.confidence;
  }
  // What is not in the catalog could have that size too: likely for round sizes, hardly for odd ones.
  const double unknown = platform ? 0.1 : (std::has_single_bit(file.size()) ? 0.8 : 0.05);
  for (LayoutMatch& match : result.matches) match.confidence /= sum + unknown;
  std::ranges::stable_sort(result.matches, std::greater<>{}, &LayoutMatch::confidence);
  if (result.matches.size() > 1) {
    const LayoutMatch& first = result.matches[0];
    const LayoutMatch& second = result.matches[1];
    result.either = are_twins(*first.layout, *second.layout) && second.confidence > 0.67 * first.confidence;
  }
  return result;
}

}  // namespace bayswap
