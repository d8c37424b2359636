// What a change to a save means, in the words of the sheet that fits it.
#pragma once

#include <bayswap/logbook.hpp>
#include <bayswap/save_place.hpp>

#include "cli/commands.hpp"

namespace bayswap::cli {

class SheetChanges {
 public:
  /// The sheets are read when first needed; without one, nothing is said.
  SheetChanges(const Globals& globals, const Catalog& catalog) : globals_(globals), catalog_(catalog) {}
  /// What an entry changed in one of its files, value by value; empty if no sheet fits, or the file was new
  /// or went. Files over 8 MiB are left out.
  [[nodiscard]] std::vector<SheetDifference> of(Logbook& book, const Entry& entry,
                                                const LoggedChange& change);

  /// The same between two contents of a game's save.
  [[nodiscard]] std::vector<SheetDifference> between(const std::optional<GameId>& game, const Content& before,
                                                     const Content& after);

 private:
  void load();
  [[nodiscard]] std::optional<SavePlace> open(const Entry& entry, const std::string& name, const Blob& bytes);

  const Globals& globals_;
  const Catalog& catalog_;
  std::optional<SheetShelf> shelf_;
  std::optional<StateMaps> maps_;
};

/// "coins 1250 -> 9999", at most `most` of them, then how many more.
[[nodiscard]] std::string in_words(const std::vector<SheetDifference>& differences, std::size_t most);

}  // namespace bayswap::cli
