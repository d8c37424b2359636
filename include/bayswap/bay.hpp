// Bays: places that contain saves, each described by a TOML file (docs/bays.md). Belongs to bayswap::bayswap.
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

/// The facts that a naming rule can use.
struct NameFacts {
  std::optional<std::string> rom_path;  // the ROM in that bay; its name gives {rom.stem} and {rom.name}
  GameId game;
  int slot = 1;
  std::string extension = {};  // {ext}: the usual one of the layout, or of a set's part
  std::string account = {};    // {account}: the account's folder
  std::string save_name =
      {};                   // {save.name}: the game's name for the save; of a card entry, the save's own part
  std::string suffix = {};  // {suffix}: what follows the code in a folder's name
  std::string rom_md5 = {};  // {rom.md5}: lower-case hex
  std::string rom_crc = {};  // {rom.crc}: lower-case hex
  std::string folder = {};   // {folder}: a name that can only be found by listing
  std::uint32_t unique = 0;  // {title.unique}, if the path has only that; 0: none
};

/// A path with words in braces, e.g. "saves/{rom.stem}{ext}". docs/bays.md has every word.
class NameRule {
 public:
  /// Parses a rule. Fails with `bad_usage` for an unknown word, an open brace, or a path that leads out of
  /// the bay.
  [[nodiscard]] static Result<NameRule> parse(std::string_view text);
  /// Returns the path relative to the bay's root. Characters that file names cannot have become '_'. Fails
  /// with `not_found` if a fact that the rule needs is missing.
  [[nodiscard]] Result<std::string> expand(const NameFacts& facts) const;
  [[nodiscard]] bool uses(std::string_view word) const;
  /// Returns whether the rule has one of the words for a slot's number.
  [[nodiscard]] bool uses_slot() const {
    return uses("slot") || uses("slot.2") || uses("slot.bare") || uses("slot.8") || uses("slot.letter") ||
           uses("slot.letter0");
  }
  [[nodiscard]] bool uses_rom() const { return uses("rom.stem") || uses("rom.name") || uses_digest(); }
  [[nodiscard]] bool uses_digest() const { return uses("rom.md5") || uses("rom.crc"); }
  [[nodiscard]] const std::string& text() const { return text_; }

  /// Returns what the words of the `component`-th name of a path stand for: the opposite of expand(). A word
  /// without a format of its own matches as few characters as possible. Letter case is ignored. Returns
  /// nothing if the name does not fit.
  using Words = std::map<std::string, std::string>;
  [[nodiscard]] std::size_t components() const { return components_.size(); }
  [[nodiscard]] std::optional<Words> match(std::size_t component, std::string_view name,
                                           Platform platform) const;
  /// Returns the component's text if it has no words in it.
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

/// Returns the facts that the words of a path give about the save.
[[nodiscard]] NameFacts facts_of_words(const NameRule::Words& words, Platform platform);

/// How a bay stores a save.
enum class Keeping {
  file,       // in a file of a layout, or a set of them
  folder,     // as a folder with the game's own files
  card,       // as entries of a memory card's image
  single,     // as a file with one save off a card in it
  package,    // as a package, or as the folder of a package's files
  encrypted,  // as a file that only the console can read; carried whole
};
[[nodiscard]] std::string_view to_text(Keeping keeping);
[[nodiscard]] std::optional<Keeping> keeping_from_text(std::string_view text);

/// The rule of a bay for one platform, or for one of several places of a platform's saves.
struct PlatformRule {
  Platform platform{};
  NameRule path;
  std::string layout;                      // id; of Keeping::file only
  std::vector<std::string> other_layouts;  // ids, for games with other chips than `layout` has
  /// Extensions that {ext} can be, each with its dot; new files get the first. Empty: the usual ones of the
  /// layouts. Only for Keeping::file. Clocks and controller paks in files of their own keep their layout's.
  std::vector<std::string> extensions;
  std::string roms;  // folder of the ROMs below the root, "." for the root; empty: no ROMs here
  Keeping keeping = Keeping::file;
  /// Further places of the same save: their names and paths. "also" in bay files.
  std::vector<std::pair<std::string, NameRule>> extra_places;
  /// Paths of the games' save states. A rule without a slot's word is the autosave's.
  std::vector<NameRule> states;
  /// Set by detection if no save of the platform is in the place yet: the platform whose saves the rule
  /// follows. Not in bay files.
  std::optional<Platform> like;
};

/// Which of a bay's files are kept in step with other bays; [sync] in bay files.
struct BaySync {
  bool takes_part = true;
  std::vector<std::string> kinds{"battery", "card", "folder"};  // of saves; also "states" and "config"
  std::vector<std::string> config;  // patterns of paths below the root that are configuration: "config/*.cfg"
  std::string form;       // of the programs that the configuration is for: bays of one form exchange it
  std::string states_of;  // what writes the states: bays of one name exchange states that no map describes
  std::vector<std::string> leave;  // patterns of paths below the root that are left out: "saves/test*"
  std::uint64_t max_bytes = std::uint64_t{64} << 20;  // larger saves are left out
  std::vector<std::string> programs;  // nothing is written into the bay while one of these runs
  friend bool operator==(const BaySync&, const BaySync&) = default;
};

/// Kinds of files that `kinds` can name.
[[nodiscard]] std::vector<std::string> sync_kinds();

/// A place that contains saves, as its bay file describes it.
struct Bay {
  std::string name;
  std::string about;
  std::string root;                   // the folder of the files, absolute
  std::string origin;                 // path of the bay file
  std::vector<std::string> formerly;  // earlier names, which the logbook may use
  std::vector<PlatformRule> rules;
  BaySync sync;

  /// Returns the first rule of the platform: new saves go there. nullptr if it has none.
  [[nodiscard]] const PlatformRule* rule(Platform platform) const;
  /// Returns all rules of the platform, in the order of the bay file.
  [[nodiscard]] std::vector<const PlatformRule*> rules_of(Platform platform) const;
};

/// Reads a bay file. A relative root counts from `folder`. Fails with `bad_usage` for an unknown word, and
/// names the line.
[[nodiscard]] Result<Bay> parse_bay(std::string_view toml, const std::string& name, const std::string& origin,
                                    const std::string& folder);
[[nodiscard]] std::string to_toml(const Bay& bay);
/// Returns a bay file with this `[sync]` table instead of its own; all else stays, comments included. To be
/// parsed before it is written.
[[nodiscard]] std::string with_sync(const std::string& toml, const BaySync& sync);
/// Returns the built-in templates in the order of their ids, each with a line that describes it.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> bay_templates();
/// Returns a new bay made from a template. Fails with `bad_usage`, and the nearest id, if the template does
/// not exist.
[[nodiscard]] Result<Bay> bay_like(const std::string& template_id, const std::string& name,
                                   const std::string& root);
/// Returns whether the text can be a bay's name: 1 to 64 lower-case letters, digits, dashes and underscores.
[[nodiscard]] bool is_bay_name(std::string_view name);

/// Returns the bay of that name in the home folder, or the one that had that name before, or the bay file at
/// that path (anything with a '/' or ending in .toml).
[[nodiscard]] Result<Bay> find_bay(const Home& home, const std::string& name_or_path);
/// Returns whether the home folder has a bay file of that name, readable or not.
[[nodiscard]] bool has_bay_file(const Home& home, const std::string& name);
/// Returns every bay of the home folder, by name; a file that can't be read has its error.
[[nodiscard]] Result<std::vector<std::pair<std::string, Result<Bay>>>> list_bays(const Home& home);
/// Returns the built-in layouts and those of the home folder. A file that can't be read, is not a layout, or
/// has an id that exists already is left out, and its error is added to `skipped`.
[[nodiscard]] Result<Catalog> load_catalog(const Home& home, std::vector<Error>* skipped = nullptr);
/// Adds the state maps of the home folder; otherwise like load_catalog.
[[nodiscard]] Result<void> load_state_maps(const Home& home, StateMaps& maps,
                                           std::vector<Error>* skipped = nullptr);
/// Adds the sheets of the home folder; otherwise like load_catalog.
[[nodiscard]] Result<void> load_sheets(const Home& home, SheetShelf& sheets,
                                       std::vector<Error>* skipped = nullptr);

struct RomFile {
  std::string path;  // below the bay's root
  RomFacts facts;
};
/// Returns the ROMs of one platform, recognised by their headers. Folders are searched eight deep.
[[nodiscard]] Result<std::vector<RomFile>> list_roms(Store& store, const PlatformRule& rule);

/// A file that a save is stored in, or would be.
struct SaveFile {
  std::string path;                // below the bay's root
  const Layout* layout = nullptr;  // of a set: the member
  Role role;                       // of a set: whose file it is
};
/// Returns those of the rule's layouts that have slots for the most of the chips, in the rule's order; never
/// empty.
[[nodiscard]] Result<std::vector<const Layout*>> layouts_for(const Catalog& catalog, const PlatformRule& rule,
                                                             const std::vector<ChipFact>& chips);
/// Returns the files in which the bay stores that game's save: one, or for a set one for each part that the
/// game can have. Only for Keeping::file. The layout is `form`, or the first of layouts_for.
[[nodiscard]] Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule,
                                                   NameFacts facts, const Layout& form);
[[nodiscard]] Result<std::vector<SaveFile>> places(const Catalog& catalog, const PlatformRule& rule,
                                                   NameFacts facts, const std::vector<ChipFact>& chips = {});

/// What is known about the chips of games whose ROMs do not show them: chips.toml in the home folder
/// (docs/chips.md), which users may edit.
class ChipBook {
 public:
  /// Reads the file. Returns an empty book if it does not exist. Fails with `bad_usage`, and the line, for
  /// mistakes in it.
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
  /// Removes the entries of games with this code or title, ignoring letter case. Returns how many there were.
  std::size_t forget(std::string_view code_or_title);

 private:
  [[nodiscard]] static bool is_about(const Row& row, const GameId& game);

  std::vector<Row> rows_;
};

/// Adds the facts of `more` about kinds that `chips` does not have, or has without a size.
void add_chips(std::vector<ChipFact>& chips, const std::vector<ChipFact>& more);

struct BayProblem {
  bool is_error = false;  // a carry would fail; otherwise a note
  std::string text;
  std::string hint;
};
/// Returns what is wrong with a bay: missing folders, unknown layouts, two ROMs with one save.
[[nodiscard]] std::vector<BayProblem> check_bay(const Bay& bay, const Catalog& catalog, Store& store);

/// Fails with `not_found` if the bay's root does not exist, as with a stick that is not plugged in. Nothing
/// is read from such a bay, and the root is never created.
[[nodiscard]] Result<void> check_root(const Bay& bay, Store& store);

}  // namespace bayswap
BAYSWAP_EXPORT_END
