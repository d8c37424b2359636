// What the card commands share: opening an image or a folder as a card, and changing one with the logbook's
// help.
#pragma once

#include <bayswap/card_folder.hpp>
#include <bayswap/conversion.hpp>

#include <functional>

#include "cli/commands.hpp"
#include "cli/output.hpp"

namespace bayswap::cli {

struct OpenCard {
  std::unique_ptr<LocalStore> store;  // the folder's, where it is one
  std::unique_ptr<Card> card;
  const CardFolder* folder = nullptr;  // where it is one
  Blob file;                           // where it is an image
  int slots = 1;
};

struct NewFile {
  std::string path;
  Blob bytes;
  std::optional<std::int64_t> modified = std::nullopt;  // seconds since 1970, UTC
};

struct CardJob {
  const Globals& globals;
  const CardOptions& options;
  LocalStore disk{};

  /// `kind` for a folder without saves.
  Result<OpenCard> open(const std::string& path, std::optional<CardKind> kind = std::nullopt);
  /// A change to the card: the old bytes into the logbook, the new ones whole in their place. Nothing is
  /// written where the change fails, or would leave the card with more problems than it had.
  Result<int> change(const std::string& path, const std::string& what,
                     const std::function<Result<void>(Card&)>& make_change,
                     std::optional<CardKind> kind = std::nullopt);
  /// Puts a save on; with --replace over one of its name. Warns of another region's save of the same game.
  Result<void> put(Card& card, const CardSave& save);
  /// Creates files that did not exist, all or none, through the logbook. Refuses all if one exists.
  /// `is_told`: prints what was written.
  Result<int> write_new(const std::string& what, const std::vector<NewFile>& files, bool is_told = true);
  Result<std::optional<Region>> wished_region() const;
};

/// The name of the save that the word means: its name, in any spelling, or its title. The word itself if
/// there is none. Fails with `bad_usage` if several have that title.
[[nodiscard]] Result<std::string> name_on(const Card& card, const std::string& word);
/// The name or names that were asked for, or with --all every good save's.
[[nodiscard]] Result<std::vector<std::string>> wanted_saves(const CardOptions& options, const Card& card);

[[nodiscard]] int finished(const Result<int>& code);

}  // namespace bayswap::cli
