// What several commands need before they can start: the home folder, the catalog, the logbook under its lock.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/session.hpp>

#include <csignal>

#include "cli/commands.hpp"

namespace bayswap::cli {

[[nodiscard]] Result<Home> home_of(const Globals& globals);

/// The user's layouts too, where there is a home folder.
[[nodiscard]] Result<Catalog> catalog_of(const Globals& globals);

/// The layout of that id, or that of a layout file: anything with a '/' or ending in .toml. The file's is
/// added to the catalog.
[[nodiscard]] Result<const Layout*> layout_named(Catalog& catalog, const std::string& word);

/// The built-in state maps and those of the home folder; what could not be read is said.
[[nodiscard]] Result<StateMaps> state_maps_of(const Globals& globals);

/// The identity of the ROM in that file, its chips with what was learned of them.
[[nodiscard]] Result<RomFacts> rom_at(const Globals& globals, const std::string& path);
/// What is known of a save file before it is opened: from `rom`, or the ROM beside it; the user's word comes
/// first.
[[nodiscard]] Result<Hints> hints_for(const Globals& globals, const std::string& path, const std::string& rom,
                                      const std::vector<ChipFact>& said);
/// "eeprom=2048", as --chip has it.
[[nodiscard]] Result<std::vector<ChipFact>> chips_from_words(const std::vector<std::string>& words);
/// Keeps what was learned; says so where it was news. A failure is only a warning.
void remember(const Globals& globals, const GameId& game, const std::vector<ChipFact>& chips);
/// The same for several games, with one write.
void remember(const Globals& globals, const std::vector<std::pair<GameId, std::vector<ChipFact>>>& games);

/// Says of which games the chips were learned.
void say_learned(const Globals& globals, const std::vector<GameId>& games);

/// The time as the logbook sees it: BAYSWAP_NOW (seconds since 1970), for demos and tests, or the system's.
[[nodiscard]] Clock clock_of_process();

/// Shows on stderr, asks and waits for a yes or no. False where there is no terminal to ask on.
[[nodiscard]] bool has_terminal();
[[nodiscard]] bool ask(const std::string& question);

/// One line on a terminal of how far a long command is; the line goes when `done` is `all`.
void print_progress(const Globals& globals, std::size_t done, std::size_t all, const std::string& label);

/// A number from 1 to `most` from the terminal; 0 where none is given.
[[nodiscard]] std::size_t ask_number(std::size_t most);

/// Holds Ctrl-C and SIGTERM back as long as it lives: a change of many files is finished, or taken back,
/// first.
class InterruptsHeld {
 public:
  InterruptsHeld();
  ~InterruptsHeld();
  InterruptsHeld(const InterruptsHeld&) = delete;
  InterruptsHeld& operator=(const InterruptsHeld&) = delete;
  /// They stay held: what went wrong is to be said first.
  void keep() { is_kept_ = true; }

 private:
  sigset_t before_{};
  bool is_kept_ = false;
};

/// The absolute roots of all bays of the home folder.
[[nodiscard]] std::vector<std::string> bay_roots(const Globals& globals);

/// What the tool says while it waits for the home folder, and of what it settled there.
[[nodiscard]] SessionOptions session_options(const Globals& globals);
/// See LockedLogbook::open, open_to_read and look.
[[nodiscard]] Result<std::unique_ptr<LockedLogbook>> open_logbook(const Globals& globals);
[[nodiscard]] Result<std::unique_ptr<LockedLogbook>> read_logbook(const Globals& globals);
[[nodiscard]] Result<std::unique_ptr<LockedLogbook>> look_at_logbook(const Globals& globals);

/// Runs the plan (see bayswap::run) with interrupts held back.
[[nodiscard]] std::vector<Result<std::int64_t>> run_whole(std::span<const Plan* const> plans, Store& target,
                                                          LockedLogbook& logbook,
                                                          std::optional<std::int64_t> batch = std::nullopt);
[[nodiscard]] Result<std::int64_t> run_whole(const Plan& plan, Store& target, LockedLogbook& logbook,
                                             std::optional<std::int64_t> batch = std::nullopt);

/// Whether a file that was changed a second ago counts as one in use. It does where a game may be writing;
/// not where the user names the very file.
enum class Recent { counts, does_not_count };
/// Fails with `busy` if another program is using the files that the plan changes; with `wait`, waits until
/// none is.
[[nodiscard]] Result<void> wait_until_idle(const Globals& globals, const Plan& plan, Store& target,
                                           Logbook& logbook, bool wait, Recent recent = Recent::counts);

/// Runs a plan for files of the local disk that the user named himself, through the logbook. Returns its
/// entry; nothing if there is nothing to change.
[[nodiscard]] Result<std::optional<std::int64_t>> run_here(const Globals& globals, const Plan& plan,
                                                           Store& target);

struct ShowOptions {
  bool yes = false;       // don't ask
  bool must_ask = false;  // also without warnings
  bool explain = false;   // print every step with its reason
};
/// Prints the plan or its JSON, asks if need be, runs it.
int show_and_run(const Globals& globals, Plan plan, Store& target, LockedLogbook& logbook,
                 const ShowOptions& how);
/// Prints the plan or its JSON; 3 where it is refused.
int show_only(const Globals& globals, const Plan& plan, const ShowOptions& how = {});

}  // namespace bayswap::cli
