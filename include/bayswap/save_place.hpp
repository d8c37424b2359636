// Opens a save in its container, down to the bytes that the game wrote, and changes it in place. Belongs to
// bayswap::bayswap.
#pragma once

#include <bayswap/bay_view.hpp>
#include <bayswap/export.hpp>
#include <bayswap/logbook.hpp>
#include <bayswap/sheet.hpp>
#include <bayswap/state.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// An opened save with its files: chips in a file of some layout or in a save state, an entry of a memory
/// card, a single save, a package, a folder, or a plain file. The catalog must outlive it.
struct SavePlace {
  enum class Kind { chips, state, card_entry, single, package, folder, plain };
  Kind kind{};
  std::string path;          // as the store knows it
  std::string entry;         // of Kind::card_entry: its name
  std::string display_path;  // as the user knows it
  std::optional<GameId> game;
  std::vector<SheetFile> files;  // of chips: blank ones, clocks and controller paks are last
  std::vector<std::string> notes;

  /// Of Kind::chips: a file as it is stored.
  struct ChipFile {
    std::string path;
    Blob bytes;
    const Layout* layout = nullptr;
    Save save;
  };
  std::vector<ChipFile> chips;
  Blob bytes;                    // of states, singles, packages and plain files: as stored
  std::optional<StateMap> map;   // of states: leads to the battery save
  Save battery;                  // of states
  std::optional<CardSave> item;  // of card entries and singles
};
[[nodiscard]] std::string_view to_text(SavePlace::Kind kind);

/// Opens the save at a path: a file, a folder, or "CARD: ENTRY". `hints`: what is known of the game. Fails
/// with `not_found` if it does not exist, `not_recognised` if the file is empty, `bad_usage` for a card
/// without an entry: the error's remedy has the names.
[[nodiscard]] Result<SavePlace> open_save_place(const Catalog& catalog, const StateMaps& maps, Store& store,
                                                const std::string& path, const Hints& hints);
/// Opens a save of a bay. Fails with `unsupported` if only the console can read it.
[[nodiscard]] Result<SavePlace> open_save_place(BayView& view, const HeldSave& save, const Hints& hints);

/// Returns the files of a save's content for a sheet; none for an encrypted one.
[[nodiscard]] std::vector<SheetFile> sheet_files_of(const Content& content);

/// Returns what to warn of where a save of a memory card goes onto another card, as its sheet says; empty if
/// no sheet fits, or it says nothing.
[[nodiscard]] std::string on_another_card(const SheetShelf& sheets, const CardSave& save);

/// Returns the changes to the stored files that replace the save's own files by `now`, which has the same
/// names and sizes. The rest of each container stays. Fails with `unsupported` if the container can't be
/// written.
[[nodiscard]] Result<std::vector<FileChange>> changes_at(const Catalog& catalog, Store& store,
                                                         const SavePlace& place,
                                                         const std::vector<SheetFile>& now);

}  // namespace bayswap
BAYSWAP_EXPORT_END
