// An open bay: its store, and what is in it, read once.
#pragma once

#include <bayswap/bay_saves.hpp>
#include <bayswap/export.hpp>

#include <map>
#include <memory>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A save and the ROM it belongs to, as a user said, where their names do not tell.
struct RomPair {
  std::string bay;      // the save's
  std::string save;     // path of the save below that bay's root
  std::string rom_bay;  // the ROM's
  std::string rom;      // path of the ROM below that bay's root
};
/// pairs.toml in the home folder: the pairs that were said (docs/bays.md).
class PairBook {
 public:
  /// A file that does not exist is an empty book. Mistakes in it are `bad_usage` and name the line.
  [[nodiscard]] static Result<PairBook> load(const Home& home);
  [[nodiscard]] static Result<PairBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] std::string to_toml() const;
  [[nodiscard]] Result<void> save(const Home& home) const;

  [[nodiscard]] const std::vector<RomPair>& pairs() const { return pairs_; }
  /// Returns true if the book changed. Replaces the pair of the same save and bays.
  bool learn(const RomPair& pair);
  /// Removes the pairs whose save or ROM is `path`. Returns how many there were.
  std::size_t forget(std::string_view path);

 private:
  std::vector<RomPair> pairs_;
};

/// Opens the place that a bay names: a folder; a zip, 7z, rar or tar file, which is only read; or the
/// cartridge in a reader, "cart:" and its line. Fails with `not_found` if it does not exist.
[[nodiscard]] Result<std::unique_ptr<Store>> open_place(const Bay& bay);
/// Whether a bay's root is on a disk of this machine, and not on a cartridge or a server: looked at unasked.
[[nodiscard]] bool is_on_disk(std::string_view root);

struct ViewOptions {
  const TitleBook* titles = nullptr;
  const PairBook* pairs = nullptr;
  ScanMemory* memory = nullptr;
  std::function<void(const std::string& path, const Error& error)> on_error;  // folders that can't be read
};

/// What is in a bay. ROMs and saves are listed when first asked for, and kept: whoever changes the bay needs
/// a new view. Not for several threads at once. What it is made of must outlive it.
class BayView {
 public:
  BayView(const Catalog& catalog, const Bay& bay, Store& store, ViewOptions options = {});
  ~BayView();
  BayView(const BayView&) = delete;
  BayView& operator=(const BayView&) = delete;

  [[nodiscard]] const Catalog& catalog() const { return catalog_; }
  [[nodiscard]] const Bay& bay() const { return bay_; }
  [[nodiscard]] const ViewOptions& options() const { return options_; }
  /// The bay's store; notes read errors, see check().
  [[nodiscard]] Store& store() const;
  /// Fails with `not_found` if the bay's root does not exist, and with the first read error there was: what
  /// was worked out from a bay that could only be read in part counts for nothing.
  [[nodiscard]] Result<void> check() const;

  /// The ROMs of one platform; none if their folder does not exist.
  [[nodiscard]] Result<const std::vector<RomFile>*> roms(const PlatformRule& rule);
  /// The ROM that the path names; nullptr if it is none of the rule's.
  [[nodiscard]] const RomFile* rom(const PlatformRule& rule, const std::string& path);
  /// What the ROM tells of its chips, its tags among it.
  [[nodiscard]] const RomFacts& facts_of(const RomFile& rom);

  enum class Depth {
    names,  // what paths and cards tell: no labels, sizes and health of what would have to be read
    whole
  };
  /// Every save in the bay, by platform and path. Fails with `does_not_fit` over 200,000 names.
  [[nodiscard]] Result<const std::vector<HeldSave>*> saves(Depth depth = Depth::whole);
  /// The path with each name in the letter case that the disk has, where exactly one name differs in that
  /// alone.
  [[nodiscard]] std::string path_on_disk(const std::string& path);
  /// The layouts that the bay's own saves of that rule have, by their bytes, the most frequent first. A
  /// few saves are looked at.
  [[nodiscard]] const std::vector<const Layout*>& layouts_in_use(const PlatformRule& rule);
  /// What the files of a folder or package save look like.
  [[nodiscard]] const TreeSketch& sketch(const HeldSave& save);

 private:
  struct Impl;
  const Catalog& catalog_;
  const Bay& bay_;
  ViewOptions options_;
  std::unique_ptr<Impl> impl_;
};

/// Returns whether nothing says what the save is: a folder without a title.
[[nodiscard]] bool is_nameless(const HeldSave& save);
/// Sets HeldSave::resembles of those among `saves` that are nameless, where a save of another bay is alike
/// enough. Other bays that can't be read are left out.
void find_resemblances(BayView& view, std::vector<HeldSave>& saves, std::span<BayView* const> others);

/// Returns the chips that the saves a bay has of that game tell of: those in files that are as long as the
/// chip. A save with the very bytes of `not_this` tells nothing: it is a copy.
[[nodiscard]] std::vector<ChipFact> chips_seen(BayView& view, const GameId& game,
                                               const Save* not_this = nullptr);

/// Reads what a scan found. Adds to `issues` what is doubtful. `hints`: what is known of the game's chips.
[[nodiscard]] Result<Content> load_save(BayView& view, const HeldSave& save, const Hints& hints,
                                        IssueList& issues);

}  // namespace bayswap
BAYSWAP_EXPORT_END
