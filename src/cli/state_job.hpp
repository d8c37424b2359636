// What the state commands share: the state, what is known of its game, and where its battery save is.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/content.hpp>

#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"

namespace bayswap::cli {

/// The battery save of a state, and the map that leads to it: a known one, or one made for this state alone.
struct FoundBattery {
  StateMap map;
  Save save;
  std::vector<std::string> evidence;
};

class StateJob {
 public:
  StateJob(const Globals& globals, const StateOptions& options) : globals_(globals), options_(options) {}

  [[nodiscard]] Result<StateFile> read_state(const std::string& path);
  /// The maps that the file is a state of, whatever is around its snapshot; only the one that was named,
  /// where one was.
  [[nodiscard]] Result<std::vector<StateMap>> kinds_of(const StateMaps& maps, const StateFile& file) const;
  /// By a map, or by search. Where nothing is certain all candidates are printed, and it fails with
  /// `not_recognised`.
  [[nodiscard]] Result<FoundBattery> battery(const Catalog& catalog, const StateMaps& maps,
                                             const StateFile& file) const;
  /// A battery save from a file in any form.
  [[nodiscard]] Result<Save> save_in(const Catalog& catalog, const std::string& path,
                                     Platform platform) const;
  /// The game's chips, as far as they are known.
  [[nodiscard]] const std::vector<ChipFact>& chips() const { return what_.chips; }
  /// Reads what is known of the game: its ROM, what was said, what lies beside the state.
  [[nodiscard]] Result<void> learn_about_the_game(const Catalog& catalog, const std::string& state);
  [[nodiscard]] std::vector<std::string> files_called(const std::vector<std::string>& names,
                                                      const std::string& state);

 private:
  [[nodiscard]] Result<FoundBattery> by_search(const Catalog& catalog, const StateMaps& maps,
                                               const StateFile& file, BatterySearch what, bool print) const;
  void print_candidates(const BatteryFinds& finds) const;

  const Globals& globals_;
  const StateOptions& options_;
  mutable LocalStore disk_;
  BatterySearch what_;
};

[[nodiscard]] Json to_json(const Save& save);

}  // namespace bayswap::cli
