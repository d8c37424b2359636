// From the saves that are meant to a plan: load, resolve, spots, group by spot, merge, companions.
#pragma once

#include "carry/resolve.hpp"

namespace bayswap {

/// One save on its way, and what became of it.
struct Passage {
  const HeldSave* held = nullptr;  // nullptr for what comes from outside
  NameFacts source_facts;
  std::optional<Arrival> arrival;
  std::optional<Error> error;  // it can't be read, or can't go there
  std::string display_path;
  Digest content{};
  std::vector<std::string> files;
};

class Planner {
 public:
  /// `from` is nullptr for what comes from outside.
  Planner(BayView* from, BayView& to, Store* outside, const CarryRequest& request);

  /// Reads a save of the source.
  [[nodiscard]] Result<SourceSave> load(const HeldSave& save);
  /// Load and resolve; a failure is in the passage.
  [[nodiscard]] Passage resolve(const HeldSave& save);
  [[nodiscard]] Passage resolve(SourceSave source);
  /// Finds saves that would meet in one place, and works out what the files at the target become. Saves that
  /// are refused, or failed, change nothing; `together`: those that share a card go on although one is
  /// refused.
  [[nodiscard]] Result<void> merge(std::vector<Passage>& passages, bool together);
  /// One plan of several passages: their issues, steps and changes, with companions.
  [[nodiscard]] Plan plan_of(std::span<Passage* const> passages);
  /// An issue for each option that was given and can have no effect.
  void check_options(Plan& plan) const;

  [[nodiscard]] Resolver& resolver() { return resolver_; }

 private:
  [[nodiscard]] Newer judge(const Arrival& arrival, const Present& present) const;

  BayView* from_;
  BayView& to_;
  const CarryRequest& request_;
  Resolver resolver_;
};

}  // namespace bayswap
