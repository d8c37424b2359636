// Ways in which a bay keeps saves. A new way is one file, keep_*.cpp, with one Keeper in it.
#pragma once

#include <bayswap/bay_view.hpp>

#include "bay/save_list.hpp"

namespace bayswap {

/// Where a save goes.
struct Spot {
  std::string path;                // of a file, a folder or a card's image, below the bay's root
  std::string entry;               // on a card: the save's name
  const Layout* layout = nullptr;  // of a file of chips
  Role role;                       // of a set's file
  bool of_set = false;             // it is one of several files, each with one part
};

/// A save on its way into a bay.
struct Arrival {
  const PlatformRule* rule = nullptr;   // of the bay it goes to
  const NameRule* path_rule = nullptr;  // the rule's own path, or that of a further place
  std::string place;                    // the name of the further place, or empty
  NameFacts facts;                      // as the bay has them
  std::string named_after;              // the ROM whose name it takes; may be empty
  Content content;
  std::string digest;  // hex of digest_of the source's content, before anything was restamped
  std::vector<ChipFact> chips;
  std::vector<ChipFact> learned;  // of them: what the user said, or what two places agree on
  std::string display_path;       // where it comes from, as the user knows it
  std::string origin;             // the bay it comes from, or empty
  std::optional<std::int64_t> modified;
  std::string bound;   // why the game may refuse it on another card; empty: nothing is known
  int pak = 0;         // the controller pak that is meant; 0: not said
  bool exact = false;  // files that only the target has go
  std::vector<Spot> spots;
  IssueList issues;

  std::vector<Step> steps;
  std::vector<FileChange> changes;  // none: the bay has the save already
  std::optional<Error> error;       // it can't go there; other saves of the same card can
  bool brought = false;             // something that is not blank goes there, or is there already
};

/// What the bay has in a save's place.
struct Present {
  std::string path;  // below the bay's root
  const Blob& bytes;
  std::int64_t modified = 0;
  std::string entry = {};    // on a card: its name
  std::string content = {};  // and its digest
  bool dated = true;         // `modified` is of this very save, not of the card it is on
};
/// Whether it is newer than the save that would take its place.
enum class Newer { no, yes, unknown };
using NewerJudge = std::function<Newer(const Arrival& arrival, const Present& present)>;
struct MergeContext {
  BayView& view;
  NewerJudge judge;
};

struct ScanContext {
  BayView& view;
  Store& store;
  SaveList& list;
  bool names_only = false;
};

/// The table of one way of keeping.
struct Keeper {
  /// Finds the saves that these rules describe; of all but files, one rule at a time.
  Result<void> (*scan)(ScanContext& scan, std::span<const PlatformRule* const> rules) = nullptr;
  Result<Content> (*load)(BayView& view, const HeldSave& save, const Hints& hints,
                          IssueList& issues) = nullptr;
  /// Returns nothing if it can't go there: an issue says why.
  Result<std::vector<Spot>> (*spots)(BayView& view, Arrival& arrival) = nullptr;
  /// Works out the changes for saves that go to one file, or one card. Those that are refused have none.
  Result<void> (*merge)(MergeContext& context, std::span<Arrival* const> arrivals) = nullptr;
  /// Whether --exact means anything.
  bool has_other_files = false;
  /// Whether a save's identifiers can be restamped for another region.
  bool has_region = false;
};
[[nodiscard]] const Keeper& keeper_of(Keeping keeping);

extern const Keeper file_keeper;
extern const Keeper folder_keeper;
extern const Keeper card_keeper;
extern const Keeper single_keeper;
extern const Keeper package_keeper;
extern const Keeper encrypted_keeper;

// ---- What several of them need --------------------------------------------------------------------------

/// The save of that game that the bay has in that very place; nullptr if it has none.
[[nodiscard]] Result<const HeldSave*> save_in_place(BayView& view, const Arrival& arrival);
/// The spot of a save that is one file or one folder: where the bay has it, or what the rule's path gives.
[[nodiscard]] Result<std::vector<Spot>> whole_spot(BayView& view, Arrival& arrival);
/// Lists a folder as one save. `what`: the further place it is, or empty.
void scan_folder(ScanContext& scan, const PlatformRule& rule, const Place& place, const std::string& what);
/// Scans the rule's further places. Returns their paths.
[[nodiscard]] Result<std::vector<std::string>> scan_extra_places(ScanContext& scan, const PlatformRule& rule);
/// A further place whose path has less than the whole id belongs to the save that it is beside.
void join_places(std::vector<HeldSave>& saves, std::size_t first);
[[nodiscard]] Result<void> merge_folder(MergeContext& context, Arrival& arrival);
/// Puts bytes in the place of one file.
[[nodiscard]] Result<void> place_file(MergeContext& context, Arrival& arrival, const std::string& path,
                                      const Blob& bytes, const std::string& how);
/// Adds IssueCode::newer if the judge says so: a refusal unless accepted, or a warning where it is unknown.
void check_newer(MergeContext& context, Arrival& arrival, const Present& present);
[[nodiscard]] tl::unexpected<Error> cannot_become(const BayView& view, const Arrival& arrival);
/// The save as a card keeps it.
[[nodiscard]] Result<CardSave> as_item(const BayView& view, const Arrival& arrival);

void add_keep_step(std::vector<Step>& steps, const Store& store, const std::string& path,
                   const Blob& old_bytes);
void add_place_step(std::vector<Step>& steps, const std::string& text, std::string why);

}  // namespace bayswap
