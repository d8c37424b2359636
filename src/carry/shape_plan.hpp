// Planning for bays that keep saves otherwise than as files of a layout.
#pragma once

#include "carry/content.hpp"

namespace bayswap {

/// What goes where: one save of the source and its content.
struct SourceSave {
  NameFacts facts;    // what the source's path told, its game among it
  std::string place;  // the name of the further place, or empty
  std::string shown;  // as the user knows it
  std::optional<std::int64_t> modified;
  Content content;
};

/// `from` is empty for an adoption.
[[nodiscard]] Result<Plan> plan_shapes(const Catalog& catalog, std::vector<SourceSave> cargo,
                                       std::optional<OpenBay> from, OpenBay to, const CarryRequest& request);

}  // namespace bayswap
