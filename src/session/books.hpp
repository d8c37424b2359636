// What the home folder knows: layouts, titles, accounts, chips, pairs; and places opened with it.
#pragma once

#include <bayswap/detect.hpp>
#include <bayswap/session.hpp>

namespace bayswap {

struct KnownBooks {
  Home home;
  Catalog catalog;
  TitleBook titles;
  AccountBook accounts;
  ChipBook chips;
  PairBook pairs;

  /// `left_out`: layout files that can't be read.
  [[nodiscard]] Result<void> read(const Home& from, const std::function<void(const Error&)>& left_out);
  [[nodiscard]] ViewOptions view_options() const;
};

/// The bay of that name, of that file or with that root; else the place at that path, as it was found, for
/// this once (`is_place`): a folder, an archive, a card image, a save, a URL, a cartridge.
[[nodiscard]] Result<Bay> bay_or_place(const KnownBooks& books, const std::string& name, bool& is_place,
                                       const DetectOptions& options);
/// The request with what the books know. `books` and `logbook` must outlive it; logbook may be nullptr.
[[nodiscard]] CarryRequest request_of(const KnownBooks& books, Logbook* logbook);
/// The absolute roots of all bays of the home folder.
[[nodiscard]] std::vector<std::string> bay_roots(const Home& home);

/// What plans that have run taught, kept: the games whose chips are news, and whether a pair is.
struct Taught {
  std::vector<GameId> games;
  bool has_pair = false;
};
[[nodiscard]] Result<Taught> keep_lessons(KnownBooks& books, std::span<const Plan* const> plans);

}  // namespace bayswap
