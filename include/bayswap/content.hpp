// The content of a save, independent of its container: chips, a tree of files, an item of a memory card, or
// bytes that only the console can read. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/card.hpp>
#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/issue.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/package.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A file of a folder.
struct TreeFile {
  std::string path;  // below the folder
  Blob bytes;
  std::int64_t modified = 0;  // seconds since 1970, UTC
};
/// Returns every file below a folder, in the order of their paths; leaves links out. Fails with
/// `does_not_fit` over 50,000 files or 256 MiB, `unsupported` over 16 folders deep.
[[nodiscard]] Result<std::vector<TreeFile>> read_tree(Store& store, const std::string& folder);

/// The content of a save. Which members have a value follows from `kind`.
struct Content {
  enum class Kind { chips, tree, item, encrypted };
  Kind kind{};
  GameId game;                         // as far as the bytes, or the place they were found in, show it
  Save chips;                          // of Kind::chips
  std::vector<TreeFile> tree;          // of Kind::tree: a folder's files, or a package's
  std::optional<CardSave> item;        // of Kind::item
  std::optional<Blob> whole;           // of Kind::encrypted; of a package its image, as a shell
  std::vector<const Layout*> layouts;  // of Kind::chips: of the files they came from
  bool recognised = false;             // of Kind::chips: a field of the file says how large the chip is

  /// Returns whether nothing is lost if the save is dropped: no bytes, or only 00 or FF.
  [[nodiscard]] bool is_blank() const;
};

/// Returns a digest of the save that is the same in every container: in a file of one chip, a combined file,
/// a card's entry, a single save, a folder or a package. Digests chips without their blank tails (a slot can
/// be larger than its chip), but no blank chips and no clocks; trees by names in lower case and bytes; items
/// by name, payload and files.
[[nodiscard]] Digest digest_of(const Content& content);

/// Returns the content with its identifiers changed to those of `game`, which is the same game of another
/// region. Adds what was changed to `notes`, and what still names the old region to `doubts`. Fails with
/// `wrong_region` if the kind of card cannot express that region.
[[nodiscard]] Result<Content> restamped(const Content& content, const GameId& game,
                                        const std::string& folder_name, std::vector<std::string>& notes,
                                        std::vector<std::string>& doubts);

/// How the files of a layout are opened.
struct OpenOptions {
  const Layout* said = nullptr;        // what the bay says they are; nullptr: recognised by their bytes alone
  std::vector<const Layout*> or_else;  // other layouts that the bay says they can have
  Hints hints;
  Role role;                 // of a set's file
  std::string display_path;  // the file as the user knows it
  std::string origin;        // the bay file that says so; may be empty
};
/// The chips of a file.
struct OpenedChips {
  Save save;
  const Layout* layout = nullptr;
  bool recognised = false;  // a field of the file says how large the chip is
};
/// Opens a file of chips. The layout that the bay names is preferred; if the bytes clearly have another one,
/// that is used, with a note. Adds what is doubtful to `issues`. Fails with `damaged` if the file ends early
/// and IssueCode::short_file is not accepted, or if no layout fits.
[[nodiscard]] Result<OpenedChips> open_chips(const Catalog& catalog, const Blob& bytes,
                                             const OpenOptions& options, IssueList& issues);

/// Returns the files of a package. Fails with `unsafe` if one has a name that cannot be written.
[[nodiscard]] Result<std::vector<TreeFile>> files_of(const BlockPackage& package);

}  // namespace bayswap
BAYSWAP_EXPORT_END
