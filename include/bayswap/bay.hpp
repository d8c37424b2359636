// Bays: places where saves live, each described by a small TOML file (docs/bays.md).
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/fs.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/sheet.hpp>
#include <bayswap/state.hpp>
#include <bayswap/title.hpp>

#include <map>
#include <utility>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// What a naming rule can draw on.
struct NameFacts {
  std::optional<std::string> rom_path;  // the ROM in that bay; its name gives {rom.stem} and {rom.name}
  GameId game;
  int slot = 1;
  std::string extension = {};  // {ext}: the usual one of the layout, or of a set's part
  std::string account = {};    // {account}: whose folder it is
  std::string save_name =
      {};                   // {save.name}: what the game calls the save; of a card entry, the save's own part
  std::string suffix = {};  // {suffix}: what stands behind the code in a folder's name
  std::string rom_md5 = {};  // {rom.md5}: lower-case hex
  std::string folder = {};   // {folder}: a name that can't be worked out, only found by looking
  std::uint32_t unique = 0;  // {title.unique}, where a path has only that; 0: none
};

/// A path with words in braces, e.g. "saves/{rom.stem}{ext}". docs/bays.md has every word.
class NameRule {
 public:
  /// `bad_usage` for unknown words, open braces, and paths that lead out of the bay.
  [[nodiscard]] static Result<NameRule> parse(std::string_view text);
  /// The path relative to the bay's root. Characters that no file name can have become '_'. `not_found` where
  /// a fact is missing that the rule needs.
  [[nodiscard]] Result<std::string> expand(const NameFacts& facts) const;
  [[nodiscard]] bool uses(std::string_view word) const;
  /// One of the words for a slot's number.
  [[nodiscard]] bool uses_slot() const {
    return uses("slot") || uses("slot.bare") || uses("slot.8") || uses("slot.letter");
  }
  [[nodiscard]] bool uses_rom() const { return uses("rom.stem") || uses("rom.name") || uses("rom.md5"); }
  [[nodiscard]] const std::string& text() const { return text_; }

  /// The other direction: what the words of the `component`-th name of a path stand for. Words without a form
  /// of their own take as little as they can. Letters count in either case. Nothing where the name does not
  /// fit.
  using Words = std::map<std::string, std::string>;
  [[nodiscard]] std::size_t components() const { return components_.size(); }
  [[nodiscard]] std::optional<Words> match(std::size_t component, std::string_view name,
                                           Platform platform) const;
  /// The component's text, where it has no words in it.
  [[nodiscard]] std::optional<std::string> literal(std::size_t component) const;

 private:
  struct Piece {
    bool is_word = false;
    std::string text;
  };
  std::string text_;
  std::vector<Piece> pieces_;
  std::vector<std::vector<Piece>> components_;
};

/// What the words of a path tell of the save there.
[[nodiscard]] NameFacts facts_of_words(const NameRule::Words& words, Platform platform);

/// How a bay stores a save.
enum class Keeping {
  file,       // in a file of a layout, or a set of them
  folder,     // as a folder of the game's own files
  card,       // as entries of a memory card's image
  single,     // as a file with one save off a card in it
  package,    // as a package, or as the folder of a package's files
  encrypted,  // as a file that only the console can read: carried whole
};
[[nodiscard]] std::string_view to_text(Keeping keeping);
[[nodiscard]] std::optional<Keeping> keeping_from_text(std::string_view text);

/// What a bay says about one platform, or about one of several places of a platform's saves.
struct PlatformRule {
  Platform platform{};
  NameRule path;
  std::string layout;                      // id; of Keeping::file only
  std::vector<std::string> other_layouts;  // ids for games with another chip than the first has
  /// What {ext} can be, with its dot, the one of new files first; empty: what the layouts usually have. Of
  /// Keeping::file, and not of sets.
  std::vector<std::string> extensions;
  std::string roms;  // folder of the ROMs below the root, "." for the root; empty: no ROMs here
  Keeping keeping = Keeping::file;
  /// Further places of the same save: what they hold, and where. "also" in bay files.
  std::vector<std::pair<std::string, NameRule>> extra_places;
  /// Names of the games' save states; one without a slot's word is the autosave's.
  std::vector<NameRule> states;
};

/// What of a bay is kept in step with other bays; [sync] in bay files.
struct BaySync {
  bool takes_part = true;
  std::vector<std::string> kinds{"battery", "card", "folder"};  // of saves; also "states" and "config"
  std::vector<std::string> config;  // patterns of paths below the root that are configuration: "config/*.cfg"
  std::string form;                 // of the programs whose configuration it is: bays of one form exchange it
  std::vector<std::string> leave;   // patterns of paths below the root that stay out: "saves/test*"
  std::uint64_t max_bytes = std::uint64_t{64} << 20;  // larger saves stay out
  std::vector<std::string> programs;  // while one of these runs, nothing is written into the bay
};

struct Bay {
  std::string name;
  std::string about;
  std::string root;                   // where the files are, as the bay file has it, made absolute
  std::string origin;                 // path of the bay file
  std::vector<std::string> formerly;  // names it had: the logbook may know it by them
  std::vector<PlatformRule> rules;
  BaySync sync;

  /// Returns the first rule of the platform: new saves go there. nullptr if it has none.
  [[nodiscard]] const PlatformRule* rule(Platform platform) const;
  /// Returns all rules of the platform, in the order of the bay file.
  [[nodiscard]] std::vector<const PlatformRule*> rules_of(Platform platform) const;
};

/// Reads a bay file. A relative root counts from `folder`. Unknown words are `bad_usage` and name the line.
[[nodiscard]] Result<Bay> parse_bay(std::string_view toml, const std::string& name, const std::string& origin,
                                    const std::string& folder);
[[nodiscard]] std::string to_toml(const Bay& bay);
/// What ships for `bay add --like`: ids in order, each with its line about itself.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> bay_templates();
/// A new bay of that form. `bad_usage` with the nearest id where there is none such.
[[nodiscard]] Result<Bay> bay_like(const std::string& template_id, const std::string& name,
                                   const std::string& root);
/// Lower-case letters, digits, dashes and underscores, at most 64.
[[nodiscard]] bool is_bay_name(std::string_view name);

/// Returns the bay of that name in the home folder, or the one that had that name before, or the bay file at
/// that path (anything with a '/' or ending in .toml).
[[nodiscard]] Result<Bay> find_bay(const Home& home, const std::string& name_or_path);
/// Every bay file of the home folder by name, those that can't be read with their error.
[[nodiscard]] Result<std::vector<std::pair<std::string, Result<Bay>>>> list_bays(const Home& home);
/// The layouts built in and those of the home folder.
/// A file that can't be read, is no layout, or has an id that is taken hurts no other: it is left out, and
/// why goes to `skipped`.
[[nodiscard]] Result<Catalog> load_catalog(const Home& home, std::vector<Error>* skipped = nullptr);
/// Adds the state maps of the home folder; the rest as for load_catalog.
[[nodiscard]] Result<void> load_state_maps(const Home& home, StateMaps& maps,
                                           std::vector<Error>* skipped = nullptr);
/// Adds the sheets of the home folder; the rest as for load_catalog.
[[nodiscard]] Result<void> load_sheets(const Home& home, SheetShelf& sheets,
                                       std::vector<Error>* skipped = nullptr);

struct RomFile {
  std::string path;  // below the bay's root
  RomFacts facts;
};
/// Returns the ROMs of one platform, recognised by their headers. Folders are searched eight deep.
[[nodiscard]] Result<std::vector<RomFile>> list_roms(Store& store, const PlatformRule& rule);

/// One file in which a save is kept or would be kept.
struct SaveFile {
  std::string path;                // below the bay's root
  const Layout* layout = nullptr;  // of a set: the member
  Role role;                       // of a set: whose file it is
};
/// Returns those of the rule's layouts that have places for most of the chips, in the rule's order. Never
/// empty.
[[nodiscard]] Result<std::vector<const Layout*>> layouts_for(const Catalog& catalog, const PlatformRule& rule,
                                                             const std::vector<ChipFact>& chips);
/// Where the bay keeps that game's save: one file, or for a set one for each part there may be. Of
/// Keeping::file. In `form`, or the first of layouts_for.
[[nodiscard]] Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule,
                                                   NameFacts facts, const Layout& form);
[[nodiscard]] Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule,
                                                   NameFacts facts, const std::vector<ChipFact>& chips = {});

/// What was learned about the chips of games whose ROMs don't tell: chips.toml in the home folder
/// (docs/chips.md), which users may edit.
class ChipBook {
 public:
  /// A file that is not there is an empty book. Mistakes in it are `bad_usage` and name the line.
  [[nodiscard]] static Result<ChipBook> load(const Home& home);
  [[nodiscard]] static Result<ChipBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] std::string to_toml() const;
  [[nodiscard]] Result<void> save(const Home& home) const;

  [[nodiscard]] std::vector<ChipFact> chips_of(const GameId& game) const;
  /// Returns true if the book changed. Replaces an entry of the same chip kind.
  bool learn(const GameId& game, const ChipFact& chip);
  struct Row {
    Platform platform{};
    std::string code;
    std::string title;
    std::vector<ChipFact> chips;
  };
  [[nodiscard]] const std::vector<Row>& rows() const { return rows_; }
  /// Removes what is known of games with this code or title, in any letter case. Returns how many there were.
  std::size_t forget(std::string_view code_or_title);

 private:
  [[nodiscard]] static bool is_about(const Row& row, const GameId& game);

  std::vector<Row> rows_;
};

/// Facts of `more` for kinds that `chips` says nothing about, or no size.
void add_chips(std::vector<ChipFact>& chips, const std::vector<ChipFact>& more);

struct BayProblem {
  bool is_error = false;  // a carry would fail; otherwise only worth knowing
  std::string text;
  std::string hint;
};
/// What is wrong with a bay: folders that are not there, layouts nobody knows, two ROMs with one save.
[[nodiscard]] std::vector<BayProblem> check_bay(const Bay& bay, const Catalog& catalog, Store& store);

/// Fails with `not_found` if the bay's root does not exist: a stick that is not plugged in. Nothing is read
/// from such a bay, and nothing is ever made there.
[[nodiscard]] Result<void> check_root(const Bay& bay, Store& store);

}  // namespace bayswap
BAYSWAP_EXPORT_END
