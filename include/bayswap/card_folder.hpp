// A folder in which each save is a file or a folder of its own, as a card. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/card.hpp>
#include <bayswap/export.hpp>
#include <bayswap/logbook.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// Returns a file name for a save: characters that file systems refuse become '_'.
[[nodiscard]] std::string file_name_for(std::string_view save_name);
/// Returns a ps2 save made from a folder and its files; their times become its dates.
[[nodiscard]] Result<CardSave> save_from_folder(Store& store, const std::string& folder);

/// A folder in which each save is a file (a parcel, or a directory entry followed by its save) or, for ps2, a
/// folder. It has no size. Changes are made in memory; changes() returns what to write. Not for several
/// threads at once.
class CardFolder final : public Card {
 public:
  /// Reads the folder that is the store's root. The kind is that of most saves in it, or `kind` for an empty
  /// folder. Fails with `not_recognised` if it contains no saves and `kind` is not given. Ignores links.
  [[nodiscard]] static Result<std::unique_ptr<CardFolder>> open(Store& store,
                                                                std::optional<CardKind> kind = std::nullopt);

  CardKind kind() const override { return kind_; }
  std::string_view form() const override { return "folder"; }
  std::size_t block_bytes() const override;
  std::size_t capacity_blocks() const override { return 0; }
  std::size_t free_blocks() const override { return 0; }
  std::size_t blocks_for(const CardSave& save) const override;
  std::vector<CardEntry> entries() const override;
  Result<CardSave> read(const std::string& name) const override;
  Result<void> put(const CardSave& save) override;
  Result<void> drop(const std::string& name) override;
  std::vector<CardProblem> check() const override { return {}; }
  std::size_t repair() override { return 0; }
  std::vector<FoundSave> carve(std::size_t /*present_bytes*/) const override { return {}; }
  std::vector<CardBlock> map() const override { return {}; }
  Blob image() const override { return {}; }

  /// Returns the files to write and to remove after put() and drop().
  [[nodiscard]] Result<std::vector<FileChange>> changes(Store& store) const;

 private:
  struct Held {
    CardSave save;
    std::string path;
    bool on_disk = false;
    bool folder = false;
  };
  CardFolder() = default;
  [[nodiscard]] std::vector<Held>::const_iterator find(const std::string& name) const;
  [[nodiscard]] tl::unexpected<Error> not_there(const std::string& name) const;
  [[nodiscard]] CardEntry entry_of(const CardSave& save) const;

  CardKind kind_{};
  std::vector<Held> saves_;
  std::vector<Held> before_;
  std::string extension_;
  mutable std::unique_ptr<Card> measure_;  // an empty card, to count blocks with
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
