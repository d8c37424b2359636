// Converting single files, outside of any bay. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

struct ConversionRequest {
  std::vector<std::string> inputs;  // paths; the parts of several are joined
  std::string to;                   // id of the layout to make; empty: the form that `base` has
  std::vector<std::string> from;    // ids of the inputs' layouts: none, one for all, or one for each
  std::string base;                 // path of the target's own file; may be empty
  std::string out;                  // path to write to; a folder for a layout of several files
  std::string named_after;          // path of a ROM that gives files in a folder their stem; may be empty
  Hints hints;                      // what is known of the game
  int slot = 0;                     // controller pak, 1 to 4; 0: not given
  bool replace = false;             // files that exist may be replaced
  bool may_cut = false;             // bytes that are not blank may be left out
};

struct Conversion {
  struct Output {
    std::string path;
    std::string layout;
    std::uint64_t size_bytes = 0;
  };
  Plan plan;                               // without changes if nothing needs to change
  std::vector<Output> outputs;             // all files, unchanged ones included
  std::vector<const Layout*> sources;      // of each input; the catalog owns them
  std::vector<std::string> read_notes;     // what it took to open the inputs, a sentence each
  std::vector<std::string> base_evidence;  // how the form of `base` was recognised
  std::vector<std::string> notes;          // what was done, a sentence each
  std::vector<std::string> warnings;
};

/// Plans a conversion; writes nothing. Fails with `unsafe` if a file exists already or bytes would be lost,
/// `not_recognised` if a layout can't be determined.
[[nodiscard]] Result<Conversion> plan_conversion(const Catalog& catalog, Store& disk,
                                                 const ConversionRequest& request);

/// Takes files out of a package, puts files into one, or changes the profile of one.
struct PackageRequest {
  std::vector<std::string> inputs;  // files, folders and packages to put in; or the package to extract
  std::string base;                 // path of the package to put them in; empty: the first input
  std::string out;
  std::optional<std::uint64_t> profile_id;  // to stamp
  std::int64_t now = 0;                     // seconds since 1970, for files that have no date
  bool replace = false;
};
struct PackageConversion {
  Plan plan;
  bool taken_out = false;             // files came out of a package; otherwise one was made
  std::vector<std::string> warnings;  // faults of the package before the change
};
/// Returns nothing if no package is involved.
[[nodiscard]] Result<std::optional<PackageConversion>> plan_package(Store& disk,
                                                                    const PackageRequest& request);

/// A change to a memory card's image, or to a folder of single saves used as one.
struct CardChange {
  Plan plan;
  std::unique_ptr<Store> folder;  // the store of the plan's paths; nullptr: the disk
  std::unique_ptr<Card> card;     // as it is after the change
  bool is_folder = false;
};
/// Opens the card at `path`, calls `change` on it, and plans to write the result. Fails with `damaged` if the
/// changed card has more faults than before. `kind`: for a folder without saves; `slot`: the controller pak.
[[nodiscard]] Result<CardChange> plan_card_change(Store& disk, const std::string& path, int slot,
                                                  std::optional<CardKind> kind, const std::string& reason,
                                                  const std::function<Result<void>(Card&)>& change);

}  // namespace bayswap
BAYSWAP_EXPORT_END
