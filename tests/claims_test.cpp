// Never more certainty than the bytes give: what is claimed of files that no form has marked.
#include <gtest/gtest.h>
#include <bayswap/inspect.hpp>
#include <bayswap/state.hpp>

#include <cmath>
#include <iostream>
#include <map>

#include "support/made_up_saves.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

#ifdef BAYSWAP_SANITIZED
constexpr int made_up_files = 300;
#else
constexpr int made_up_files = 10000;
#endif

TEST(Claims, NoMadeUpFileIsCalledACardAStateOrAnotherForm) {
  const Catalog catalog;
  const StateMaps maps;
  std::map<std::string, int> wrong;
  const auto base = static_cast<std::uint32_t>(rc::detail::configuration().testParams.seed) * 1000003;
  for (int i = 0; i < made_up_files; ++i) {
    const auto seed = base + static_cast<std::uint32_t>(i);
    std::mt19937 dice(seed);
    const std::size_t kind = dice() % made_up_kinds.size();
    // The large ones take their time: fewer of them.
    std::size_t size = usual_sizes.at(std::min(dice() % usual_sizes.size(), dice() % usual_sizes.size()));
    if (std::string_view(made_up_kinds.at(kind)) == "text" || dice() % 8 == 0) size += dice() % size;
    const Blob bytes = MadeUp(seed).file(kind, size);
    Hints hints;
    hints.states = &maps;
    hints.extension = std::array{".sav", ".srm", ".bin", ".dat", ""}.at(dice() % 5);
    const Finding found = inspect(catalog, bytes, hints);
    if (found.kind == FileKind::unknown || found.kind == FileKind::battery_save) continue;
    std::string evidence;
    for (const std::string& line : found.evidence) evidence += "; " + line;
    ++wrong[std::string(made_up_kinds.at(kind)) + " is a " + std::string(to_text(found.kind))];
    ADD_FAILURE() << made_up_kinds.at(kind) << " of " << size << " bytes (seed " << seed << ", "
                  << hints.extension << ") is a " << to_text(found.kind) << " with " << found.confidence
                  << evidence;
    if (wrong.size() > 20) break;
  }
  for (const auto& [what, count] : wrong) std::cout << what << ": " << count << "\n";
}

// How often a claim was made with so much confidence, and how often it was true.
struct Claimed {
  int count = 0;
  int right = 0;
  double sum = 0;  // of the confidences
};

// What reads a file as this layout reads it.
bool reads_the_same(const Layout& a, const Layout& b, const Blob& bytes) {
  if (a.id == b.id) return true;
  if (saves_as(a.platform) != saves_as(b.platform)) return false;
  const auto first = unpack(a, bytes);
  const auto second = unpack(b, bytes);
  if (!first || !second || first->parts.size() != second->parts.size()) return false;
  for (const Part& part : first->parts) {
    const Part* other = second->find(part.role);
    if (other == nullptr || !(other->bytes == part.bytes)) return false;
  }
  return true;
}

// Saves of every layout, with their own extension or one that says nothing, with and without their game: of
// all claims at confidence p, at least p are true.
TEST(Claims, ALayoutIsClaimedNoMoreOftenThanItIsTrue) {
  const Catalog catalog;
  std::vector<const Layout*> layouts;
  // What a console formats is told by its own marks, which random bytes do not have.
  const auto is_formatted = [](const Slot& slot) {
    return !slot.mark.empty() || slot.role.kind == PartKind::pak;
  };
  for (const Layout* layout : catalog.all())
    if (!layout->is_set() && std::none_of(layout->slots.begin(), layout->slots.end(), is_formatted))
      layouts.push_back(layout);
  constexpr std::array edges{0.3, 0.5, 0.7, 0.8, 0.9, 0.95, 0.98, 1.01};
  std::map<std::size_t, Claimed> table;
  std::map<std::string, int> wrong;
  const auto base = static_cast<std::uint32_t>(rc::detail::configuration().testParams.seed) * 7000003;
  for (int i = 0; i < made_up_files / 2; ++i) {
    const auto seed = base + static_cast<std::uint32_t>(i);
    std::mt19937 dice(seed);
    const Layout& truth = *layouts.at(dice() % layouts.size());
    Save save{truth.platform, {}};
    for (const Slot& slot : truth.slots) {
      const auto sizes = slot.part_sizes();
      const std::size_t size = sizes.at(std::min(dice() % sizes.size(), dice() % sizes.size()));
      if (size > (std::size_t{1} << 20)) continue;
      save.parts.push_back({slot.role, MadeUp(seed + 1).file(dice() % 10, size), true});
    }
    const auto file = pack(truth, save);
    if (!file || save.parts.empty() || save.is_blank()) continue;
    Hints hints;
    if (dice() % 2 == 0)
      hints.extension = truth.extension;
    else
      hints.extension = std::array{".sav", ".srm", ".bin", ""}.at(dice() % 4);
    if (dice() % 3 == 0) hints.platform = truth.platform;
    const Finding found = inspect(catalog, *file, hints);
    if (found.kind != FileKind::battery_save && found.kind != FileKind::controller_pak) continue;
    std::vector<const Layout*> claimed = found.either;
    if (claimed.empty() && found.layout != nullptr) claimed.push_back(found.layout);
    const bool right = std::any_of(claimed.begin(), claimed.end(),
                                   [&](const Layout* one) { return reads_the_same(*one, truth, *file); });
    const auto edge = static_cast<std::size_t>(
        std::upper_bound(edges.begin(), edges.end(), found.confidence) - edges.begin());
    Claimed& row = table[edge];
    ++row.count;
    row.right += right ? 1 : 0;
    row.sum += found.confidence;
    if (!right && found.confidence >= 0.5)
      ++wrong[truth.id + " taken for " + claimed.front()->id + " " + hints.extension];
  }
  std::cout << "confidence  claims  right\n";
  for (const auto& [edge, row] : table) {
    const double share = row.right / static_cast<double>(row.count);
    const double mean = row.sum / row.count;
    std::cout << mean << "  " << row.count << "  " << share << "\n";
    const double spread = 2.5 * std::sqrt(mean * (1 - mean) / row.count);
    EXPECT_GE(share + spread, mean) << "of " << row.count << " claims";
  }
  for (const auto& [what, count] : wrong) std::cout << what << ": " << count << "\n";
}

}  // namespace
}  // namespace bayswap::test
