// What is known from before, and bays opened with it.
#pragma once

#include <bayswap/address.hpp>

#include "cli/cart_progress.hpp"
#include "cli/session.hpp"
#include "session/books.hpp"

namespace bayswap::cli {

/// The books of the home folder, and the layouts, for one command.
struct Books : KnownBooks {
  const Globals* globals = nullptr;
  [[nodiscard]] static Result<std::unique_ptr<Books>> load(const Globals& globals);
};

/// The bay of that name, of that file or with that root; else the place at that path, as it was found, for
/// this once (`is_place`): a folder, an archive, a card image, a save, a URL, a cartridge.
[[nodiscard]] Result<Bay> bay_or_place(const Books& books, const std::string& name, bool& is_place);
/// What the words mean; see address_from_text.
[[nodiscard]] Address address_of(const Books& books, const std::string& text);
/// The files of the save that the words mean: a path as it is, and those of PLACE:GAME.
[[nodiscard]] Result<std::vector<std::string>> files_of(const Books& books, const std::string& text);

/// A bay, its store and its view, which point at each other: not to be moved.
struct OpenedBay {
  Bay bay;
  bool is_place = false;  // no bay of the home folder: a place that was looked at, for this once
  std::unique_ptr<CartProgressView> progress;  // where the store is slow
  std::unique_ptr<Store> store;
  std::unique_ptr<BayView> view;
  /// By a bay's name, the path of its file, or the path of a place: a folder, an archive, a card image, a
  /// save.
  [[nodiscard]] static Result<std::unique_ptr<OpenedBay>> open(const Books& books, const std::string& name);
  /// Opens the bay, or the place, that has this save: a path, or what a carry takes. `not_this`: the origin
  /// of a bay that does not count.
  [[nodiscard]] static Result<std::unique_ptr<OpenedBay>> that_has(const Books& books,
                                                                   const std::string& what,
                                                                   const std::string& not_this);
};

/// The options that a carry, a carry of a file and a restore have in common.
[[nodiscard]] Result<std::set<IssueCode>> accepted_from_words(const std::vector<std::string>& words);
[[nodiscard]] Result<std::optional<Region>> region_from_word(const std::string& word);
/// Asks which of the choices is meant; nothing where there is nobody to ask.
[[nodiscard]] std::optional<std::string> choose(const Globals& globals, const std::string& question,
                                                const std::vector<std::string>& choices);
/// Keeps what a plan that has run taught: chips and pairs.
void remember(const Globals& globals, Books& books, const Plan& plan);
/// The same for several plans, with one write of each book.
void remember(const Globals& globals, Books& books, const std::vector<const Plan*>& plans);

}  // namespace bayswap::cli
