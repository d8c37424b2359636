// An open bay: its store, and what is in it, read once. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/bay_saves.hpp>
#include <bayswap/export.hpp>

#include <map>
#include <memory>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// A save and its ROM, as a user paired them because their names differ.
struct RomPair {
  std::string bay;      // the save's
  std::string save;     // path of the save below that bay's root
  std::string rom_bay;  // the ROM's
  std::string rom;      // path of the ROM below that bay's root
};
/// pairs.toml in the home folder: the pairs that users made (docs/bays.md).
class PairBook {
 public:
  /// Reads the file. Returns an empty book if it does not exist. Fails with `bad_usage`, and the line, for
  /// mistakes in it.
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

/// Returns whether a pair's `bay` or `rom_bay` means this bay: by its name, an earlier one, or its root,
/// which is what a place without a bay file is called.
[[nodiscard]] bool is_pair_of(const std::string& name, const Bay& bay);

/// Opens the place that a bay names: a folder; a zip, 7z, rar or tar file, which is only read; or the
/// cartridge in a reader, "cart:" and its line. Fails with `not_found` if it does not exist.
[[nodiscard]] Result<std::unique_ptr<Store>> open_place(const Bay& bay);
/// Returns whether a bay's root is on a disk of this machine, and not on a cartridge or a server: such bays
/// are read unasked.
[[nodiscard]] bool is_on_disk(std::string_view root);

struct ViewOptions {
  const TitleBook* titles = nullptr;
  const PairBook* pairs = nullptr;
  ScanMemory* memory = nullptr;
  std::function<void(const std::string& path, const Error& error)> on_error;  // folders that can't be read
};

struct TreeSketch;  // inside of the library

/// The contents of a bay. ROMs and saves are listed on first use and cached: after a change to the bay, make
/// a new view. Not for several threads at once. The catalog, the bay and the store must outlive the view.
class BayView {
 public:
  BayView(const Catalog& catalog, const Bay& bay, Store& store, ViewOptions options = {});
  ~BayView();
  BayView(const BayView&) = delete;
  BayView& operator=(const BayView&) = delete;

  [[nodiscard]] const Catalog& catalog() const { return catalog_; }
  [[nodiscard]] const Bay& bay() const { return bay_; }
  [[nodiscard]] const ViewOptions& options() const { return options_; }
  /// Returns the bay's store; it records read errors, see check().
  [[nodiscard]] Store& store() const;
  /// Fails with `not_found` if the bay's root does not exist, otherwise with the first read error there was:
  /// results from a bay that was read only in part are not to be used.
  [[nodiscard]] Result<void> check() const;

  /// Returns the ROMs of one platform; none if their folder does not exist.
  [[nodiscard]] Result<const std::vector<RomFile>*> roms(const PlatformRule& rule);
  /// Returns the ROM at the path; nullptr if it is not one of the rule's.
  [[nodiscard]] const RomFile* rom(const PlatformRule& rule, const std::string& path);
  /// Returns the facts that the ROM gives, those of its chip tags included.
  [[nodiscard]] const RomFacts& facts_of(const RomFile& rom);

  enum class Depth {
    names,  // what paths and cards show: without labels, sizes and health that need a read
    whole
  };
  /// Returns every save in the bay, by platform and path. Fails with `does_not_fit` over 200,000 names.
  [[nodiscard]] Result<const std::vector<HeldSave>*> saves(Depth depth = Depth::whole);
  /// Returns the path with each name in the letter case that the disk has, if exactly one name there differs
  /// in case only.
  [[nodiscard]] std::string path_on_disk(const std::string& path);
  /// Returns the paths in the folder of `path`, which has the case of the disk, whose names differ from its
  /// own in the extension alone. Lists each folder once.
  [[nodiscard]] std::vector<std::string> beside(const std::string& path);
  /// Returns the layouts that the rule's saves in the bay have by their bytes, the most frequent first. Reads
  /// a few saves.
  [[nodiscard]] const std::vector<const Layout*>& layouts_in_use(const PlatformRule& rule);
  /// Returns the one of rule.extensions that most of the rule's saves in that folder have; empty if there are
  /// none.
  [[nodiscard]] std::string extension_in_use(const PlatformRule& rule, const std::string& folder);

 private:
  friend const TreeSketch& sketch_in(BayView& view, const HeldSave& save);
  struct Impl;
  const Catalog& catalog_;
  const Bay& bay_;
  ViewOptions options_;
  std::unique_ptr<Impl> impl_;
};

/// Returns whether nothing identifies the save, as with a folder without a title.
[[nodiscard]] bool is_nameless(const HeldSave& save);
/// Sets HeldSave::resembles of the nameless ones among `saves` if a save of another bay is similar enough.
/// Leaves out bays that can't be read.
void find_resemblances(BayView& view, std::vector<HeldSave>& saves, std::span<BayView* const> others);

/// Returns the chips that the bay's saves of that game show: those in files as long as the chip. Ignores
/// saves with exactly the bytes of `not_this`, which are copies of it.
[[nodiscard]] std::vector<ChipFact> chips_seen(BayView& view, const GameId& game,
                                               const Save* not_this = nullptr);

/// Reads a save that a scan found. Adds what is doubtful to `issues`. `hints`: what is known of the game's
/// chips.
[[nodiscard]] Result<Content> load_save(BayView& view, const HeldSave& save, const Hints& hints,
                                        IssueList& issues);

}  // namespace bayswap
BAYSWAP_EXPORT_END
