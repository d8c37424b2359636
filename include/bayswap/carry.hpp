// Carrying a save from bay to bay: first a plan, which is pure data, then running it.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/logbook.hpp>

#include <set>
#include <span>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Where a bay has several accounts, and nothing says which is meant.
struct AccountQuestion {
  bool at_source = false;            // whose save it is; otherwise whose it becomes at the target
  std::string own;                   // the source's account that asks for the target's; may be empty
  std::vector<std::string> choices;  // at least two
};

/// What would be done. Holds all bytes it is about, so that running it decides nothing.
struct Plan {
  EntryKind kind{};
  std::optional<GameId> game;
  std::string reason;  // for the logbook
  std::string from_bay;
  std::string to_bay;
  std::vector<std::string> from_files;  // as the user knows them
  std::optional<std::int64_t> undoes;
  std::string root;  // absolute path of the folder the changes stay in; empty: the target store's root
  std::vector<FileChange> changes;  // paths as the target's store knows them; empty: all is as it should be
  std::vector<std::string>
      folders_to_remove;  // after the changes, those that are empty then; the deepest first
  std::vector<Step> steps;
  std::vector<PlanIssue> issues;
  std::vector<ChipFact> learned;  // about the game's chips, worth keeping in the ChipBook once it has run
  std::vector<RomPair> pairs;     // that were said, worth keeping in the PairBook once it has run
  std::string account;            // whose save it is at the target; empty if the bay has no accounts
  std::string place;              // which of several saves in one file or tree: a card's entry; may be empty
  int slot = 0;                   // 0: none
  std::string content;            // hex of digest_of; empty if it is of several saves
  std::optional<AccountQuestion> account_question;  // then the plan is refused until it is answered

  /// Adds an issue, unless the plan has it already.
  void add(PlanIssue issue);
  /// The first issue that forbids running; nullptr if the plan may run.
  [[nodiscard]] const PlanIssue* refusal() const;
};

/// A bay, and the store its root is opened as.
struct OpenBay {
  const Bay* bay = nullptr;
  Store* store = nullptr;
};

/// Which account at the source is which at the target. Without the second: only that the first one is meant.
/// Without the first: whatever account the save is of.
using AccountMap = std::vector<std::pair<std::string, std::string>>;

/// accounts.toml in the home folder: what was said of two bays' accounts, in both directions.
class AccountBook {
 public:
  /// A file that is not there is an empty book. Mistakes in it are `bad_usage` and name the line.
  [[nodiscard]] static Result<AccountBook> load(const Home& home);
  [[nodiscard]] static Result<AccountBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] Result<void> save(const Home& home) const;
  [[nodiscard]] AccountMap between(const std::string& from_bay, const std::string& to_bay) const;
  /// True where that was news.
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
  int slot = 0;      // {slot} in path rules, and which controller pak; 0: not said
  std::vector<ChipFact> chips;                                     // what the user says of the game's chips
  const ChipBook* book = nullptr;                                  // what was learned before
  std::function<std::vector<ChipFact>(const GameId&)> ask_others;  // looks into further bays; asked last
  std::set<IssueCode> accept;  // refusals that are meant; see is_acceptable
  const TitleBook* titles = nullptr;
  const PairBook* pairs = nullptr;
  AccountMap accounts;              // said or remembered; the first that fits counts
  std::size_t accounts_said = 0;    // how many of them, from the front, were said
  std::optional<Region> region;     // restamp identifiers for it
  bool exact = false;               // files that only the target has go
  bool replace_companions = false;  // also where the target has its own
  /// What the logbook has of a file (an absolute path), as Logbook::writes() has it. With it a copy of the
  /// source's own save does not count as newer progress, and a save that was played on since does.
  std::function<std::span<const FileWrite>(const std::string& path)> writes_of;
};

/// Returns the saves of a bay that WHAT names: by path, ROM, game, code, title id or label; deleted ones
/// never. Empty if there is none. Fails with `bad_usage` if several games, or two saves of one game, are
/// meant: then the error's remedy has what to say for each.
[[nodiscard]] Result<std::vector<const HeldSave*>> find_saves(BayView& view, Store& outside,
                                                              const std::string& what);

/// Works out a carry without writing anything. `outside` is where request.what is looked up as a path. Fails
/// where there is nothing to plan (no such game, no save, an unreadable file, several saves: then the error's
/// remedy has the choices); what could hurt is an issue of the plan.
[[nodiscard]] Result<Plan> plan_carry(const Catalog& catalog, OpenBay from, OpenBay to, Store& outside,
                                      const CarryRequest& request);
[[nodiscard]] Result<Plan> plan_carry(BayView& from, BayView& to, Store& outside,
                                      const CarryRequest& request);

/// What is to become of one save of a batch.
struct BatchRow {
  enum class Outcome {
    carried,  // or will be
    same,     // the target has it already
    refused,  // it needs the user's word
    failed,   // it could not be read, or does not fit
    left      // it has no place at the target, or another save goes before it
  };
  std::string save;  // a title, or what else people call it
  std::string path;  // what to type to mean this one: see CarryRequest::what
  Platform platform{};
  Outcome outcome{};
  std::optional<IssueCode> issue;               // of a refusal
  std::string why;                              // a sentence; of carried ones, where it goes
  std::optional<std::size_t> plan;              // index of the plan that carries it
  std::optional<std::int64_t> modified;         // of the source's save
  std::optional<std::int64_t> target_modified;  // of what it replaces
  std::optional<std::int64_t> entry;            // of the logbook, once it has run
};
[[nodiscard]] std::string_view to_text(BatchRow::Outcome outcome);

/// Every save of the source, one row each, and the plans of those that are to be carried. Saves that go onto
/// one card share a plan.
struct Batch {
  std::vector<BatchRow> rows;
  std::vector<Plan> plans;
  std::vector<PlanIssue> issues;  // about the whole: options that have an effect on none of the saves
  std::optional<AccountQuestion> account_question;
  [[nodiscard]] std::size_t count(BatchRow::Outcome outcome) const;
};
/// Plans the carry of everything that differs. request.what and request.rom do not count.
[[nodiscard]] Result<Batch> plan_all(BayView& from, BayView& to, const CarryRequest& request);

/// A save found in something that came from outside.
struct Candidate {
  const PlatformRule* rule = nullptr;  // of the target bay: how it would be kept
  std::string where;                   // as the user knows it
  NameFacts facts;                     // whose it is, and what its path tells
  std::vector<TreeFile> files;
  std::string entry;                 // its name on a card that came along
  double score = 0;                  // 0 to 1
  std::vector<std::string> reasons;  // one sentence each
};
/// What a file, an archive (zip, 7z, rar, tar, one within another) or a folder of the local disk has for the
/// bay, the likeliest first; ranked by what their content says and by likeness to the saves in place. `game`:
/// the user's word for it, empty where not said. `unsafe` for archives with links, devices, paths that lead
/// out, and bombs; `not_recognised` where nothing in it is a save for this bay.
[[nodiscard]] Result<std::vector<Candidate>> find_adoptable(BayView& to, const std::string& path,
                                                            const std::string& game);
/// Plans the adoption of one of them. The same issues are raised as for a carry of the same content.
[[nodiscard]] Result<Plan> plan_adopt(BayView& to, const Candidate& candidate, const CarryRequest& request);

/// What saves of a platform lean on (data/companions.toml).
struct CompanionRule {
  Platform platform{};
  std::vector<std::string> codes;  // of the games it is about; empty: all
  std::string what;                // "the console's avatar database"
  NameRule path;                   // below the bay's root
  std::string check;               // "avatar-database", or empty
  std::string without;             // what happens without it
};
/// The built-in rules, and those of the text where there is one.
[[nodiscard]] Result<std::vector<CompanionRule>> companion_rules(std::string_view more_toml = {},
                                                                 const std::string& origin = {});

/// Returns why the files can't be written now: another program has one open, a lock is beside one, or one was
/// changed in the last seconds and not by us. Nothing if no program is using them. `now` is in seconds since
/// 1970; without it the time of the last change does not count.
[[nodiscard]] std::optional<std::string> in_use(const std::vector<std::string>& paths,
                                                std::optional<std::int64_t> now, Logbook& logbook);

/// Returns why nothing may be written into the bay now: a program of its [sync] table runs, or one has a file
/// below its root open, be it a ROM. Nothing if none does.
[[nodiscard]] std::optional<std::string> bay_in_use(const Bay& bay);

/// Adds a note for each file of the plan that has several names: only the one that is replaced will have the
/// new bytes.
void note_hard_links(Plan& plan, Store& target);

/// Takes entry `id` of the logbook back, the newest one of this machine if none is named, and with it every
/// other entry of its batch; if `id` is named, only with `whole_batch`. `last`: without `id`, so many of the
/// newest entries, a batch counting as one. Folders that were made for what is removed go too, if they are
/// empty. `files` is where
/// the entry's paths lead. `bay_roots` are the absolute roots of this device's bays: the plan is refused if a
/// foreign entry (see is_foreign) names a file outside them. Fails with `not_found` if the entry's medium is
/// away, `damaged` if one of its paths is not absolute.
[[nodiscard]] Result<Plan> plan_undo(Logbook& logbook, std::optional<std::int64_t> id, Store& files,
                                     const std::vector<std::string>& bay_roots = {}, bool whole_batch = false,
                                     std::size_t last = 1);

/// Puts the files of entry `version` back as it left them, or as they were before it. The rest as for
/// plan_undo.
[[nodiscard]] Result<Plan> plan_restore(Logbook& logbook, std::int64_t version, bool before, Store& files,
                                        const std::vector<std::string>& bay_roots = {});
/// The bay that the entry wrote to, as it was then: to be carried from. `below` must outlive it.
[[nodiscard]] Result<std::unique_ptr<Store>> store_of_version(Logbook& logbook, std::int64_t version,
                                                              bool before, const Bay& bay, Store& below);

/// What became of one save that was to be kept.
struct KeptSave {
  enum class Outcome { kept, same, empty, failed };
  std::string what;  // title, label or name
  std::string path;  // as the user knows it
  Outcome outcome = Outcome::kept;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> entry;  // of the logbook, if it was kept now
  std::string why;                    // for failed: a sentence
};
/// Puts the saves of a bay into the logbook as they are, one entry each, one batch all together; those that
/// `what` names (see find_saves), or all if it is empty. A save that is there already as it is costs nothing.
/// Of a memory card the whole image is kept, once. One that can't be read is a row of its own and stops
/// nothing.
[[nodiscard]] Result<std::vector<KeptSave>> keep_saves(BayView& bay, Store& outside, const std::string& what,
                                                       Logbook& logbook);
/// Puts the files of every entry of the batch that entry `version` belongs to back as the entries left them.
[[nodiscard]] Result<Plan> plan_restore_batch(Logbook& logbook, std::int64_t version, Store& files,
                                              const std::vector<std::string>& bay_roots = {});

/// Runs the plans of a batch, one entry each, all of one batch, and notes in its rows what became of them. A
/// plan that fails is a row of its own and stops nothing. `run_one` runs a plan as an entry of the batch that
/// begins with the entry it is given; by default it is run().
using PlanRunner = std::function<Result<std::int64_t>(const Plan&, std::optional<std::int64_t> batch)>;
void run_batch(Batch& batch, Store& target, Logbook& logbook, const PlanRunner& run_one = {});

/// Runs a plan: old and new bytes into the logbook, then Store::apply. On failure the files already placed
/// are put back. Fails with `unsafe` for a plan with a refusal, `busy` if a file is no longer what it was
/// when the plan was made. Returns the logbook's entry.
/// `batch`: the first entry of the batch it belongs to.
[[nodiscard]] Result<std::int64_t> run(const Plan& plan, Store& target, Logbook& logbook,
                                       std::optional<std::int64_t> batch = std::nullopt);

}  // namespace bayswap
BAYSWAP_EXPORT_END
