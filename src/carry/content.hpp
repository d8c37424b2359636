// A save taken out of the way its bay keeps it, so that it can be put into another.
#pragma once

#include <bayswap/carry.hpp>

namespace bayswap {

struct Content {
  GameId game;
  std::vector<TreeFile> tree;    // of a folder, or of a package
  std::optional<CardSave> card;  // of a card's entry, or of a single save
  std::optional<Blob> whole;     // a sealed file; of a package its image, as a shell
  [[nodiscard]] bool is_blank() const;
};

/// Reads what a scan found.
[[nodiscard]] Result<Content> read_content(Store& store, const BaySave& save);
/// Files from elsewhere as the content that a rule of that platform and keeping would have given.
[[nodiscard]] Result<Content> content_of_files(const std::vector<TreeFile>& files, const PlatformRule& rule,
                                               const std::string& name);

/// The content with its identifiers stamped for `game`, which is the same one of another region. What was
/// stamped goes to `notes`, what still names the old one to `doubts`.
[[nodiscard]] Result<Content> restamped(const Content& content, const GameId& game,
                                        const std::string& folder_name, std::vector<std::string>& notes,
                                        std::vector<std::string>& doubts);

/// A save and what its files look like; those that are no folder and no package are left out.
struct KnownTree {
  const BaySave* save = nullptr;
  TreeSketch sketch;
};
[[nodiscard]] std::vector<KnownTree> known_trees(const std::vector<BaySave>& saves, Store& store);
/// The target's saves by likeness to `tree`, the best first: for adoptions, and folders only found by
/// looking.
struct Ranked {
  const BaySave* save = nullptr;
  Likeness likeness;
};
[[nodiscard]] std::vector<Ranked> rank_by_likeness(const std::vector<TreeFile>& tree,
                                                   const std::vector<KnownTree>& known);

}  // namespace bayswap
