// The saves in a bay: found, distinguished and named. Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/content.hpp>
#include <bayswap/export.hpp>

#include <memory>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

class PairBook;

/// What is known of titles whose saves or ROMs do not show them: titles.toml in the home folder
/// (docs/titles.md). Users edit it, and Bay Swap adds to it.
class TitleBook {
 public:
  /// Reads the file. Returns an empty book if it does not exist. Fails with `bad_usage`, and the line, for
  /// mistakes in it.
  [[nodiscard]] static Result<TitleBook> load(const Home& home);
  [[nodiscard]] static Result<TitleBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] std::string to_toml() const;
  [[nodiscard]] Result<void> save(const Home& home) const;

  [[nodiscard]] const std::vector<GameId>& titles() const { return titles_; }
  /// Fills in what the book knows of the game and `game` lacks: title, code, region, title id, maker.
  void complete(GameId& game) const;
  /// Returns the same title as sold in that region; nothing if the book does not have it.
  [[nodiscard]] std::optional<GameId> in_region(const GameId& game, Region region) const;
  /// Returns true if the book changed. Ignores a game without a title, and one without an id or a code.
  bool learn(const GameId& game);

 private:
  std::vector<GameId> titles_;
};

/// Returns the path with each name in the letter case that the disk has, if exactly one name there differs in
/// case only.
[[nodiscard]] std::string in_case_of_disk(Store& store, const std::string& path);

/// Identifies a save of a game: two places contain the same save if their keys are equal. Keys are ordered by
/// their members.
struct SaveKey {
  Platform platform{};  // the one whose layouts the save has: gb for gbc
  std::string game;     // see game_key
  std::string account;  // in lower case; empty if the bay has no accounts
  std::string name;     // distinguishes several saves of the game; may be empty
  std::string place;    // the name of the further place (PlatformRule::extra_places); empty: the first
  int slot = 0;         // 0: the bay has no slots
  [[nodiscard]] auto operator<=>(const SaveKey&) const = default;  // NOLINT(modernize-use-nullptr)
};
/// Returns what identifies a game: its title id, or else its code, its header's title, or the normalised stem
/// of its ROM's or its save's file name. Equal keys mean the same game. Unlike compare(), this is transitive.
[[nodiscard]] std::string game_key(const GameId& game, std::string_view stem);

enum class SaveKind {
  battery,        // chips, in one file or several
  folder,         // the game's own files
  shared_folder,  // of a further place
  package,
  package_files,  // a package's files, as a folder
  card,           // a card that could not be read
  card_entry,
  single,  // a save off a card in a file of its own
  encrypted,
  state,  // this and the next only in bays that are kept in step
  config
};
[[nodiscard]] std::string_view to_text(SaveKind kind);

enum class Health { good, empty, suspicious, damaged, deleted, encrypted };
[[nodiscard]] std::string_view to_text(Health health);
[[nodiscard]] std::optional<Health> health_from_text(std::string_view text);

/// A file that contains a battery save, or a part of one.
struct HeldFile {
  std::string path;                // below the bay's root
  const Layout* layout = nullptr;  // what the bay says it is; nullptr: recognised by its bytes
  Role role;                       // of a set's file: its chip
  std::int64_t modified = 0;
  std::uint64_t size_bytes = 0;
};

/// One save in a bay, with all its files.
struct HeldSave {
  const PlatformRule* rule = nullptr;  // of the bay that was scanned
  NameFacts facts;                     // what its path shows, the game included
  std::string place;                   // name of the further place ("common", "extra"); empty: the first
  SaveKind kind{};
  std::string path;   // below the bay's root; of a card entry, the card's; of several files, the first
  std::string entry;  // its name on the card
  std::string label;  // the title to show, from whatever source has one
  std::vector<HeldFile> held;  // of SaveKind::battery: its files
  std::size_t files = 1;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970, UTC; of its newest file
  Health health = Health::good;
  std::string health_note;  // why, a sentence; may be empty
  std::string misplaced;  // why the bay's own programs do not read it (another name or form than the rule's);
                          // empty: they do
  bool has_rom = false;   // of SaveKind::battery: facts.rom_path is a ROM in the bay
  bool thumbnail = false;
  std::string resembles;  // the save of another bay that it is most like, if its own name identifies nothing

  /// Returns the last component of its path, or its name on the card.
  [[nodiscard]] std::string name() const;
  [[nodiscard]] SaveKey key() const;
};

/// What an earlier scan read of each save, so that the next one need not read it again; kept in a file
/// between runs. Not for several threads at once.
class ScanMemory {
 public:
  ScanMemory();
  ScanMemory(ScanMemory&& other) noexcept;
  ScanMemory& operator=(ScanMemory&& other) noexcept;
  ~ScanMemory();
  /// Returns what the file remembers; nothing if it does not exist or is damaged.
  [[nodiscard]] static ScanMemory load(Store& store, const std::string& path);
  /// Writes what the scans since load() met; the rest is forgotten.
  [[nodiscard]] Result<void> save(Store& store, const std::string& path) const;
  /// Returns whether a scan met something that the memory did not have.
  [[nodiscard]] bool changed() const;

  struct Rows;  // inside of the library
  [[nodiscard]] Rows& rows() { return *rows_; }

 private:
  std::unique_ptr<Rows> rows_;
};

struct ScanOptions {
  const TitleBook* titles = nullptr;
  ScanMemory* memory = nullptr;
  const PairBook* pairs = nullptr;
  std::function<void(const std::string& path, const Error& error)> on_error;  // folders that can't be read
};
/// Returns every save in the bay, by platform and path. Fails with `does_not_fit` if there are over 200,000
/// names.
[[nodiscard]] Result<std::vector<HeldSave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                                     const ScanOptions& options = {});
/// Returns the accounts in the saves' paths, each once, in order.
[[nodiscard]] std::vector<std::string> accounts_of(const std::vector<HeldSave>& saves);

}  // namespace bayswap
BAYSWAP_EXPORT_END
