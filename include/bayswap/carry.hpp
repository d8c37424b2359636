// Carrying a save from bay to bay: a plan, which is pure data, is made first and run afterwards. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/logbook.hpp>

#include <set>
#include <span>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Asks which of several accounts of a bay is meant.
struct AccountQuestion {
  bool at_source = false;  // asks for the save's account; otherwise for the one it gets at the target
  std::string own;         // the account at the source; may be empty
  std::vector<std::string> choices;  // at least two
};

/// A planned change. Contains all bytes to write, so that running it decides nothing.
struct Plan {
  EntryKind kind{};
  std::optional<GameId> game;
  std::string reason;  // for the logbook
  std::string from_bay;
  std::string to_bay;
  std::vector<std::string> from_files;  // as the user knows them
  std::optional<std::int64_t> undoes;
  std::string root;  // absolute path of the folder the changes stay in; empty: the target store's root
  std::vector<FileChange> changes;             // paths of the target's store; empty: nothing needs to change
  std::vector<std::string> folders_to_remove;  // after the changes, if they are empty; the deepest first
  std::vector<Step> steps;
  std::vector<PlanIssue> issues;
  std::vector<ChipFact> learned;  // about the game's chips, for the ChipBook once the plan has run
  std::vector<RomPair> pairs;     // that the user made, for the PairBook once the plan has run
  std::string account;            // the save's account at the target; empty if the bay has no accounts
  std::string place;    // distinguishes several saves in one file or tree: a card's entry; may be empty
  int slot = 0;         // 0: none
  std::string content;  // hex of digest_of; empty if it is of several saves
  std::optional<AccountQuestion> account_question;  // if set, the plan is refused until it is answered

  /// Adds an issue, unless the plan has it already.
  void add(PlanIssue issue);
  /// Returns the first issue that forbids running; nullptr if the plan may run.
  [[nodiscard]] const PlanIssue* refusal() const;
};

/// A bay and the store of its root. Both must outlive it.
struct OpenBay {
  const Bay* bay = nullptr;
  Store* store = nullptr;
};

/// Pairs of an account at the source and one at the target. With an empty second one the pair only selects
/// the first; with an empty first one it applies to any account.
using AccountMap = std::vector<std::pair<std::string, std::string>>;

/// accounts.toml in the home folder: which accounts of two bays correspond, in both directions.
class AccountBook {
 public:
  /// Reads the file. Returns an empty book if it does not exist. Fails with `bad_usage`, and the line, for
  /// mistakes in it.
  [[nodiscard]] static Result<AccountBook> load(const Home& home);
  [[nodiscard]] static Result<AccountBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] Result<void> save(const Home& home) const;
  [[nodiscard]] AccountMap between(const std::string& from_bay, const std::string& to_bay) const;
  /// Returns true if the book changed.
  bool learn(const std::string& from_bay, const std::string& to_bay, const std::string& from,
             const std::string& to);

 private:
  struct Row {
    std::string from_bay;
    std::string to_bay;
    std::string from;
    std::string to;
  };
  std::vector<Row> rows_;
};

struct CarryRequest {
  std::string what;  // path of a ROM or of a save in the source bay ("CARD: ENTRY" for one on a card), or a
                     // title, a ROM's stem, a product code, a title id
  std::string rom;   // the ROM the save belongs to: a path below the target's or the source's root, or any
                     // path; empty: found by looking
  int slot = 0;      // {slot} in path rules, and the controller pak; 0: not given
  std::vector<ChipFact> chips;                                     // the game's chips, from the user
  const ChipBook* book = nullptr;                                  // what was learned before
  std::function<std::vector<ChipFact>(const GameId&)> ask_others;  // searches further bays; called last
  std::set<IssueCode> accept;  // refusals that the user accepts; see is_acceptable
  const TitleBook* titles = nullptr;
  const PairBook* pairs = nullptr;
  AccountMap accounts;            // given or remembered; the first that fits is used
  std::size_t accounts_said = 0;  // how many of them, from the front, were given
  std::optional<Region> region;   // restamp identifiers for it
  /// Returns what to warn of where a save goes onto another memory card; empty: nothing. See
  /// on_another_card() in save_place.hpp.
  std::function<std::string(const CardSave&)> on_another_card;
  bool exact = false;               // remove files that only the target has
  bool replace_companions = false;  // replace companions that the target has
  /// Returns what the logbook knows of a file (an absolute path), as in Logbook::writes(). With it, a copy of
  /// the source's own save does not count as newer progress, and a save that was played since does.
  std::function<std::span<const FileWrite>(const std::string& path)> writes_of;
};

/// Returns the saves of a bay that `what` names: by path, ROM, game, code, title id or label; never deleted
/// ones. Returns none if nothing matches. Fails with `bad_usage` if several games, or two saves of one game,
/// match: the error's remedy then has what to pass for each.
[[nodiscard]] Result<std::vector<const HeldSave*>> find_saves(BayView& view, Store& outside,
                                                              const std::string& what);

/// Plans a carry; writes nothing. `outside` is the store in which request.what is looked up as a path. Fails
/// if there is nothing to plan: no such game, no save, an unreadable file, or several saves (the error's
/// remedy then has the choices). Risks are issues of the plan.
[[nodiscard]] Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                                      const CarryRequest& request);
[[nodiscard]] Result<Plan> plan_carry(BayView& from, BayView& to, Store& outside,
                                      const CarryRequest& request);

/// The outcome for one save of a batch.
struct BatchRow {
  enum class Outcome {
    carried,  // or to be carried
    same,     // the target has it already
    refused,  // it needs the user's decision
    failed,   // it could not be read, or does not fit
    left      // it has no place at the target, or another save takes precedence
  };
  std::string save;  // a title, or another name to show
  std::string path;  // what to pass to select this one: see CarryRequest::what
  Platform platform{};
  Outcome outcome{};
  std::optional<IssueCode> issue;               // of a refusal
  std::string why;                              // a sentence; of carried ones, the place at the target
  std::optional<std::size_t> plan;              // index of the plan that carries it
  std::optional<std::int64_t> modified;         // of the source's save
  std::optional<std::int64_t> target_modified;  // of what it replaces
  std::optional<std::int64_t> entry;            // of the logbook, once it has run
};
[[nodiscard]] std::string_view to_text(BatchRow::Outcome outcome);

/// Every save of the source, one row each, and the plans of those to be carried. Saves that go onto the same
/// card share a plan.
struct Batch {
  std::vector<BatchRow> rows;
  std::vector<Plan> plans;
  std::vector<PlanIssue> issues;  // about all of it: options that affect none of the saves
  std::optional<AccountQuestion> account_question;
  [[nodiscard]] std::size_t count(BatchRow::Outcome outcome) const;
};
/// Plans the carry of every save that differs. Ignores request.what and request.rom.
[[nodiscard]] Result<Batch> plan_all(BayView& from, BayView& to, const CarryRequest& request);

/// A save found in a download.
struct Candidate {
  const PlatformRule* rule = nullptr;  // of the target bay: how it would be stored
  std::string where;                   // as the user knows it
  NameFacts facts;                     // the game, the account and what its path shows
  std::vector<TreeFile> files;
  std::string entry;                 // its name on a card in the download
  double score = 0;                  // 0 to 1
  std::vector<std::string> reasons;  // one sentence each
  /// Whether more than its size names the game: its file name, its content, ids in it, or the user.
  bool told = false;
};
/// Returns the saves for the bay in a file, an archive (zip, 7z, rar, tar, also nested) or a folder of the
/// local disk, the likeliest first, ranked by their content and their likeness to the saves in place. `game`:
/// what the user calls it; may be empty. Fails with `unsafe` for archives with links, devices or paths that
/// lead out, and for archive bombs, `not_recognised` if nothing in it is a save for this bay.
[[nodiscard]] Result<std::vector<Candidate>> find_candidates(BayView& to, const std::string& path,
                                                             const std::string& game);
/// Returns the index of the one that is clearly the likeliest; nothing if a user has to choose.
[[nodiscard]] std::optional<std::size_t> clearly_likeliest(std::span<const Candidate> found);
/// Plans to carry one of them. Raises the same issues as a carry of the same content, and `wrong_game` if
/// nothing but its size names the game.
[[nodiscard]] Result<Plan> plan_file_carry(BayView& to, const Candidate& candidate,
                                           const CarryRequest& request);

/// Data elsewhere that saves of a platform need (data/companions.toml).
struct CompanionRule {
  Platform platform{};
  std::vector<std::string> codes;  // of the games that need it; empty: all
  std::string what;                // "the console's avatar database"
  NameRule path;                   // below the bay's root
  std::string check;               // "avatar-database", or empty
  std::string without;             // the consequence if it is missing
};
/// Returns the built-in rules and those of the text.
[[nodiscard]] Result<std::vector<CompanionRule>> companion_rules(std::string_view more_toml = {},
                                                                 const std::string& origin = {});

/// Returns why the files can't be written now: another program has one open, a lock file exists beside one,
/// or another program changed one in the last seconds. Returns nothing if no program is using them. `now` is
/// in seconds since 1970; without it the time of the last change is ignored.
[[nodiscard]] std::optional<std::string> in_use(const std::vector<std::string>& paths,
                                                std::optional<std::int64_t> now, Logbook& logbook);

/// Returns why nothing may be written into the bay now: a program of its [sync] table is running, or a
/// program has a file below its root open, ROMs included. Returns nothing if neither is the case.
[[nodiscard]] std::optional<std::string> bay_in_use(const Bay& bay);

/// Adds a note for each file of the plan that has several hard links: only the replaced name will have the
/// new bytes.
void note_hard_links(Plan& plan, Store& target);

/// Plans to undo entry `id` of the logbook, with `whole_batch` its whole batch. Without `id`: the newest
/// entry of this machine that was not undone yet, with its batch, or the `last` newest ones, a batch counting
/// as one. Undos are skipped, so that the next one goes a step further back; to redo, pass the id of the
/// undo's own entry. Also removes the folders that were made for removed files, if they are empty. `files` is
/// the store of the entries' paths. `bay_roots` are the absolute roots of this device's bays: the plan is
/// refused if a foreign entry (see is_foreign) names a file outside them. Fails with `not_found` if the
/// entry's medium is missing, `damaged` if one of its paths is not absolute.
[[nodiscard]] Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files,
                                     const std::vector<std::string>& bay_roots = {}, bool whole_batch = false,
                                     std::size_t last = 1);

/// Plans to restore the files of entry `version` as it left them, or with `before` as they were before it.
/// Otherwise like plan_undo.
[[nodiscard]] Result<Plan> plan_restore(Logbook& logbook, std::int64_t version, bool before, Store& files,
                                        const std::vector<std::string>& bay_roots = {});
/// Returns the bay that the entry wrote to as it was then, to carry from. `below` must outlive it.
[[nodiscard]] Result<std::unique_ptr<Store>> store_of_version(Logbook& logbook, std::int64_t version,
                                                              bool before, const Bay& bay, Store& below);

/// The outcome of backup_saves for one save.
struct BackedUpSave {
  enum class Outcome { kept, same, empty, failed };
  std::string what;  // title, label or name
  std::string path;  // as the user knows it
  Outcome outcome = Outcome::kept;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> entry;  // of the logbook, if it was kept now
  std::string why;                    // if it failed: a sentence
};
/// Stores the saves and states of a bay in the logbook as they are, one entry each, all in one batch: those
/// that `what` names (see find_saves, find_states), or all if it is empty. Makes no entry for a save whose
/// bytes the logbook has already. Stores the image of a memory card once, as a whole. A save that can't be
/// read gets a row and stops nothing.
[[nodiscard]] Result<std::vector<BackedUpSave>> backup_saves(BayView& bay, Store& outside,
                                                             const std::string& what, Logbook& logbook);
/// Plans to restore the files of the batch of entry `version` as its entries left them.
[[nodiscard]] Result<Plan> plan_restore_batch(Logbook& logbook, std::int64_t version, Store& files,
                                              const std::vector<std::string>& bay_roots = {});

/// Makes refusals with these codes warnings: the user has seen them.
void accept_issues(Plan& plan, const std::set<IssueCode>& codes);

/// Runs several plans, as run_together(): as entries of the batch that begins with the given entry. Returns
/// an entry's id or an error for each of them.
using PlansRunner = std::function<std::vector<Result<std::int64_t>>(std::span<const Plan* const> plans,
                                                                    std::optional<std::int64_t> batch)>;
/// Runs plans one after another in groups that share their syncs: at most `Logbook::max_together` that change
/// different files. All entries are of one batch. Calls `done` with each plan's number and what became of it.
void run_in_groups(std::span<const Plan* const> plans, Logbook& logbook, const PlansRunner& run_some,
                   const std::function<void(std::size_t, const Result<std::int64_t>&)>& done);
/// Runs the plans of a batch, one entry each, all of one logbook batch, and sets the outcomes in its rows. A
/// plan that fails stops no other. As run_in_groups(); `run_some` is run_together() by default.
void run_batch(Batch& batch, Store& target, Logbook& logbook, const PlansRunner& run_some = {});
/// Runs plans that change different files as run() does each of them, with the syncs of one: the old and new
/// bytes of all are in the logbook, synced, before the first file is changed. At most
/// `Logbook::max_together`. Returns an entry's id or an error for each of them; a plan that fails stops no
/// other.
[[nodiscard]] std::vector<Result<std::int64_t>> run_together(
    std::span<const Plan* const> plans, Store& target, Logbook& logbook,
    std::optional<std::int64_t> batch = std::nullopt);

/// Runs a plan: stores old and new bytes in the logbook, then calls Store::apply. On failure it restores the
/// files that were changed. Returns the id of the logbook's entry. `batch`: the first entry of its batch.
/// Fails with `unsafe` for a plan with a refusal, `busy` if a file has changed since the plan was made.
[[nodiscard]] Result<std::int64_t> run(const Plan& plan, Store& target, Logbook& logbook,
                                       std::optional<std::int64_t> batch = std::nullopt);

}  // namespace bayswap
BAYSWAP_EXPORT_END
