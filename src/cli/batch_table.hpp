// What becomes of every save of a bay, as a table.
#pragma once

#include <bayswap/carry.hpp>

#include "cli/commands.hpp"

namespace bayswap::cli {

struct BatchTable {
  const Globals& globals;
  std::string from;
  std::string to;

  /// `as_plan`: before it has run.
  void print(const Batch& batch, bool as_plan) const;
  /// 1 where anything was refused or failed.
  [[nodiscard]] int exit_code(const Batch& batch) const;
};

}  // namespace bayswap::cli
