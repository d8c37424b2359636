// Carrying a save from bay to bay: first a plan, which is pure data, then running it.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/logbook.hpp>

#include <array>
#include <set>

namespace bayswap {

/// One line of a plan.
struct Step {
  std::string action;  // "keep", "convert", "graft", "name", "place", "verify", "remove"
  std::string text;
  std::string why;
};

struct Danger {
  enum class Level { note, warning, refusal };
  Level level{};
  std::string code;  // a word for --accept and JSON, e.g. "wrong-region"
  std::string text;
  std::string hint;
};
[[nodiscard]] std::string_view to_text(Danger::Level level);

/// What would be done. Holds all bytes it is about, so that running it decides nothing.
struct Plan {
  EntryKind kind{};
  std::optional<GameId> game;
  std::string reason;  // for the logbook
  std::string from_bay;
  std::string to_bay;
  std::vector<std::string> from_files;  // as the user knows them
  std::optional<std::int64_t> undoes;
  std::vector<FileChange> changes;  // paths as the target's store knows them; empty: all is as it should be
  std::vector<Step> steps;
  std::vector<Danger> dangers;
  std::vector<ChipFact> learned;  // about the game's chips, worth keeping in the ChipBook once it has run

  /// The first danger that forbids running; nothing where the plan may run.
  [[nodiscard]] const Danger* refusal() const;
};

/// A bay, and the store its root is opened as.
struct OpenBay {
  const Bay* bay = nullptr;
  Store* store = nullptr;
};

struct CarryRequest {
  std::string what;             // path of a ROM, or a title, a ROM's stem or a product code
  std::string rom;              // path of the target's ROM below the target's root; empty: found by looking
  int slot = 0;                 // {slot} in path rules, and which controller pak; 0: not said
  std::vector<ChipFact> chips;  // what the user says of the game's chips
  const ChipBook* book = nullptr;                                  // what was learned before
  std::function<std::vector<ChipFact>(const GameId&)> ask_others;  // looks into further bays; asked last
  std::set<std::string> accept;  // codes of refusals that are meant; see acceptable_dangers
};
inline constexpr std::array<std::string_view, 5> acceptable_dangers{"wrong-region", "wrong-game",
                                                                    "odd-target", "unwritten", "short"};

/// Works out a carry without writing anything. `outside` is where request.what is looked up as a path. Fails
/// where there is nothing to plan (no such game, no save, an unreadable file); what could hurt is a Danger in
/// the plan.
[[nodiscard]] Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                                      const CarryRequest& request);

/// Takes entry `id` of the logbook back, the newest one where none is named. `files`: where the entry's paths
/// lead.
[[nodiscard]] Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files);

/// Runs a plan: old and new bytes into the logbook, then each file whole, each read back and compared, up to
/// three times. On failure the files already placed are put back. `unsafe` for a plan with a refusal; `busy`
/// where a file is no longer what it was when the plan was made. Gives the logbook's entry.
[[nodiscard]] Result<std::int64_t> run(const Plan& plan, Store& target, Logbook& logbook);

}  // namespace bayswap
