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

}  // namespace
}  // namespace bayswap::test
