// What a save is made of, whatever holds it: chips, a tree of files, an item of a memory card, or bytes that
// only the console can read.
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
/// Returns every file in a folder and those below it, in the order of their paths; links are left out.
/// Fails with `does_not_fit` over 50,000 files or 256 MiB, `unsupported` over 16 folders deep.
[[nodiscard]] Result<std::vector<TreeFile>> read_tree(Store& store, const std::string& folder);

/// A save's files as far as others are compared with them: names in lower case and in their order, sizes,
/// first bytes. Small, so that those of a whole bay can be kept.
struct TreeSketch {
  struct File {
    std::string name;
    std::uint64_t size_bytes = 0;
    std::array<Byte, 16> head{};  // 00 after the end
  };
  std::vector<File> files;
};
[[nodiscard]] TreeSketch sketch_of(const std::vector<TreeFile>& files);

/// How alike two saves' files are: names, sizes, structure, first bytes. 0 to 1, with the reasons.
struct Likeness {
  double score = 0;
  std::vector<std::string> reasons;
};
[[nodiscard]] Likeness likeness(const TreeSketch& a, const TreeSketch& b);

struct Content {
  enum class Kind { chips, tree, item, encrypted };
  Kind kind{};
  GameId game;                         // as far as the bytes, or the place they were found in, tell
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
/// a card's entry, a single save, a folder or a package. Chips without their blank tails (a slot can be
/// larger than its chip), blank chips and clocks not at all; trees by names in lower case and bytes; items by
/// name, payload and files.
[[nodiscard]] Digest digest_of(const Content& content);

/// Returns the content with its identifiers stamped for `game`, which is the same one of another region. What
/// was stamped goes to `notes`, what still names the old one to `doubts`. Fails with `wrong_region` if the
/// kind of card has no sign for that region.
[[nodiscard]] Result<Content> restamped(const Content& content, const GameId& game,
                                        const std::string& folder_name, std::vector<std::string>& notes,
                                        std::vector<std::string>& doubts);

/// How the files of a layout are opened.
struct OpenOptions {
  const Layout* said = nullptr;        // what the bay says they are; nullptr: told by the bytes alone
  std::vector<const Layout*> or_else;  // other layouts that the bay says they can have
  Hints hints;
  Role role;                 // of a set's file
  std::string display_path;  // the file as the user knows it
  std::string origin;        // the bay file that says so; may be empty
};
/// Takes a file of chips apart. What the bay says of its layout is a prior: where the bytes clearly have
/// another one, they are read so, with a note. Adds what is doubtful to `issues`. Fails with `damaged` if the
/// file ends early and IssueCode::short_file is not accepted, or if no layout takes it.
struct OpenedChips {
  Save save;
  const Layout* layout = nullptr;
  bool recognised = false;  // a field of the file says how large the chip is
};
[[nodiscard]] Result<OpenedChips> open_chips(const Catalog& catalog, const Blob& bytes,
                                             const OpenOptions& options, IssueList& issues);

/// Returns the files of a package. Fails with `unsafe` if one has a name that cannot be written.
[[nodiscard]] Result<std::vector<TreeFile>> files_of(const BlockPackage& package);

}  // namespace bayswap
BAYSWAP_EXPORT_END
