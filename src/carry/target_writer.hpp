// Works out what a bay's files become when a save is put there, in the way that the bay keeps saves.
#pragma once

#include "carry/content.hpp"

namespace bayswap {

struct Placement {
  const PlatformRule* rule = nullptr;
  std::string path;      // below the target's root
  std::string named_by;  // the path rule it came from
  NameFacts facts;       // of the target
  std::vector<ChipFact> chips;
  std::string shown;  // the source, as the user knows it
  std::optional<std::int64_t> modified;
  Content content;
};

class TargetWriter {
 public:
  TargetWriter(const Catalog& catalog, OpenBay to, const CarryRequest& request)
      : catalog_(catalog), to_(to), request_(request) {}

  /// Adds what the placement comes to. Cards that several saves go to are written once, by `finish`.
  [[nodiscard]] Result<void> add(const Placement& placement, const std::vector<BaySave>& there, Plan& plan);
  [[nodiscard]] Result<void> finish(Plan& plan);

 private:
  struct OpenImage {
    std::string path;
    std::optional<Blob> before;
    std::unique_ptr<Card> card;
    std::size_t problems = 0;
  };
  [[nodiscard]] Result<void> add_folder(const Placement& placement, Plan& plan);
  [[nodiscard]] Result<void> add_package(const Placement& placement, const std::vector<BaySave>& there,
                                         Plan& plan);
  [[nodiscard]] Result<void> add_card(const Placement& placement, Plan& plan);
  [[nodiscard]] Result<void> add_single(const Placement& placement, Plan& plan);
  [[nodiscard]] Result<void> add_file(const Placement& placement, Plan& plan);
  [[nodiscard]] Result<void> add_whole(const Placement& placement, const Blob& bytes, const std::string& how,
                                       Plan& plan);
  [[nodiscard]] Result<std::optional<Blob>> old_bytes(const std::string& path);
  [[nodiscard]] Result<CardSave> card_save(const Placement& placement) const;
  [[nodiscard]] tl::unexpected<Error> cannot_become(const Placement& placement) const;
  void warn_if_newer(const std::string& path, const Placement& placement, Plan& plan);

  const Catalog& catalog_;
  OpenBay to_;
  const CarryRequest& request_;
  std::vector<OpenImage> images_;
};

}  // namespace bayswap
