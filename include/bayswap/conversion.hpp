// Converting loose files, outside of any bay.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct ConversionRequest {
  std::vector<std::string> inputs;  // paths; several are joined
  std::string to;                   // id of the layout to make; empty: the form that `base` has
  std::vector<std::string> from;    // ids of the inputs' layouts: none, one for all, or one for each
  std::string base;                 // path of the target's own file; may be empty
  std::string out;                  // path to write to; a folder for a layout of several files
  std::string named_after;          // path of a ROM that gives files in a folder their stem; may be empty
  Hints hints;                      // what is known of the game
  int slot = 0;                     // which controller pak, 1 to 4; 0: not said
  bool replace = false;             // files that exist may be replaced
  bool may_cut = false;             // bytes that are not blank may be left out
};

struct Conversion {
  struct Output {
    std::string path;
    std::string layout;
    std::uint64_t size_bytes = 0;
  };
  Plan plan;                               // no changes if all files are as they should be
  std::vector<Output> outputs;             // all files, those that stay as they are among them
  std::vector<const Layout*> sources;      // of each input; the catalog owns them
  std::vector<std::string> read_notes;     // what had to be done to open the inputs, a sentence each
  std::vector<std::string> base_evidence;  // how the form of `base` was told
  std::vector<std::string> notes;          // what was done, a sentence each
  std::vector<std::string> warnings;
};

/// Works out a conversion without writing anything. Fails with `unsafe` if a file is in the way or something
/// would be cut, `not_recognised` if a layout can't be told.
[[nodiscard]] Result<Conversion> plan_conversion(const Catalog& catalog, Store& disk,
                                                 const ConversionRequest& request);

/// Files out of a package, into one, or a package made for another profile.
struct PackageRequest {
  std::vector<std::string> inputs;  // files, folders and packages that go in; or the package to take apart
  std::string base;                 // path of the package they go into; empty: the first input itself
  std::string out;
  std::optional<std::uint64_t> profile_id;  // to stamp
  std::int64_t now = 0;                     // seconds since 1970, for files that have no date
  bool replace = false;
};
struct PackageConversion {
  Plan plan;
  bool taken_out = false;             // files came out of a package; otherwise one was made
  std::vector<std::string> warnings;  // what was wrong with the package before
};
/// Returns nothing if no package is involved.
[[nodiscard]] Result<std::optional<PackageConversion>> plan_package(Store& disk,
                                                                    const PackageRequest& request);

/// A change to a memory card's image, or to a folder of single saves that stands for one.
struct CardChange {
  Plan plan;
  std::unique_ptr<Store> folder;  // the store that the plan's paths are of; nullptr: the disk
  std::unique_ptr<Card> card;     // as it is afterwards
  bool is_folder = false;
};
/// Opens the card at `path`, has it changed, and plans to write what it became. Fails with `damaged`, and
/// plans nothing, if the card would be worse than it was. `kind`: of a folder without saves; `slot`: which
/// controller pak.
[[nodiscard]] Result<CardChange> plan_card_change(Store& disk, const std::string& path, int slot,
                                                  std::optional<CardKind> kind, const std::string& reason,
                                                  const std::function<Result<void>(Card&)>& change);

}  // namespace bayswap
BAYSWAP_EXPORT_END
