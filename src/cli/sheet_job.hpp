// What the sheet commands share: a save found wherever it is, the sheet that fits it, and the way back.
#pragma once

#include <bayswap/save_place.hpp>

#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {

/// A save as the user named it, open. Not to be moved: its parts point at each other.
struct FoundSavePlace {
  std::unique_ptr<OpenedBay> bay;  // of BAY:GAME and of a cartridge
  std::unique_ptr<Store> disk;     // of a path; of a version its files, in memory
  Store* store = nullptr;
  bool can_write = true;  // false for what was once
  std::string bay_name;
  std::string rom;  // path of its ROM on the disk; empty where unknown
  SavePlace place;
};

class SheetJob {
 public:
  SheetJob(const Globals& globals, const SheetOptions& options) : globals_(globals), options_(options) {}

  /// Reads books and maps. Comes first.
  [[nodiscard]] Result<void> start();
  /// Finds what the user named: a path, "CARD: ENTRY", BAY:GAME, GAME@VERSION, "cart:".
  [[nodiscard]] Result<std::unique_ptr<FoundSavePlace>> find(const std::string& said);
  /// The sheet that the user named, or the one that fits.
  [[nodiscard]] Result<Sheet> sheet_for(const FoundSavePlace& found);
  /// Fails with `unsafe` if the sheet can't be of this save, unless that is accepted: "sheet".
  [[nodiscard]] Result<void> check_fit(const Sheet& sheet, const FoundSavePlace& found) const;
  /// Whether there is one, without a word about it.
  [[nodiscard]] std::optional<Sheet> sheet_if_any(const FoundSavePlace& found);
  [[nodiscard]] const std::string& language() const { return language_; }
  [[nodiscard]] const SheetShelf& shelf() const { return shelf_; }

  /// Writes the files of a changed save: in its place with --replace, or to --out. Says what was done.
  [[nodiscard]] Result<std::optional<std::int64_t>> write(const FoundSavePlace& found,
                                                          const std::vector<SheetFile>& now,
                                                          const std::string& reason);

 private:
  [[nodiscard]] Result<std::unique_ptr<FoundSavePlace>> find_in_bay(const std::string& bay,
                                                                    const std::string& game);
  [[nodiscard]] Result<std::unique_ptr<FoundSavePlace>> find_version(const std::string& game,
                                                                     std::int64_t version);
  [[nodiscard]] Result<std::unique_ptr<FoundSavePlace>> find_synced(const std::string& game,
                                                                    const std::string& id);
  [[nodiscard]] Result<std::unique_ptr<FoundSavePlace>> find_cartridge(const std::string& said);
  [[nodiscard]] Result<void> open_held(FoundSavePlace& found, BayView& view, const std::string& what);

  const Globals& globals_;
  const SheetOptions& options_;
  std::unique_ptr<Books> books_;
  std::optional<StateMaps> maps_;
  [[nodiscard]] Result<Sheet> sheet_said() const;

  SheetShelf shelf_;
  std::optional<Sheet> said_;  // that the user named
  std::string language_;
};

/// {"id", "name", "revision"}.
[[nodiscard]] Json to_json(const Sheet& sheet);
[[nodiscard]] Json to_json(const SheetFinding& finding);
[[nodiscard]] Json to_json(const SheetDifference& difference);
void print_differences(const std::vector<SheetDifference>& differences, const std::string& before,
                       const std::string& after);
/// The failure's exit code, said on stderr; or the code itself.
[[nodiscard]] int finished_sheet(const Result<int>& code);

}  // namespace bayswap::cli
