// The saves a bay holds: found by looking, told apart, and given names that people know.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/content.hpp>
#include <bayswap/export.hpp>

#include <unordered_map>
#include <unordered_set>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

class PairBook;

/// What is known of titles whose saves or ROMs don't tell: titles.toml in the home folder (docs/titles.md),
/// which users fill and Bay Swap adds to.
class TitleBook {
 public:
  /// A file that is not there is an empty book. Mistakes in it are `bad_usage` and name the line.
  [[nodiscard]] static Result<TitleBook> load(const Home& home);
  [[nodiscard]] static Result<TitleBook> parse(std::string_view toml, const std::string& origin);
  [[nodiscard]] std::string to_toml() const;
  [[nodiscard]] Result<void> save(const Home& home) const;

  [[nodiscard]] const std::vector<GameId>& titles() const { return titles_; }
  /// Adds what the book knows of the game to what is known already: title, code, region, title id, maker.
  void complete(GameId& game) const;
  /// The same title as sold in that region; nothing where the book does not know it.
  [[nodiscard]] std::optional<GameId> in_region(const GameId& game, Region region) const;
  /// True where that was news. A game without a title and without id or code is none.
  bool learn(const GameId& game);

 private:
  std::vector<GameId> titles_;
};

/// The path with each name in the letter case that the disk has, where exactly one name differs in that
/// alone.
[[nodiscard]] std::string in_case_of_disk(Store& store, const std::string& path);

/// Which save of which game: what two places have in common where they hold the same one. Ordered, and equal
/// only where everything is.
struct SaveKey {
  Platform platform{};  // whose layouts the save has: gb for gbc
  std::string game;     // see game_key
  std::string account;  // in lower case; empty if the bay has no accounts
  std::string name;     // which of several saves of the game; may be empty
  std::string place;    // the further place it is, or empty
  int slot = 0;         // 0: the bay has no slots
  [[nodiscard]] auto operator<=>(const SaveKey&) const = default;  // NOLINT(modernize-use-nullptr)
};
/// Returns what identifies a game: its title id, else its code, else its header's title, else the normalised
/// stem of its ROM's or its save's file name. Equal keys are one game: this is transitive, as compare() is
/// not.
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
  state,  // these two only where bays are kept in step
  config
};
[[nodiscard]] std::string_view to_text(SaveKind kind);

enum class Health { good, empty, suspicious, damaged, deleted, encrypted };
[[nodiscard]] std::string_view to_text(Health health);
[[nodiscard]] std::optional<Health> health_from_text(std::string_view text);

/// A file that a battery save is in.
struct HeldFile {
  std::string path;                // below the bay's root
  const Layout* layout = nullptr;  // what the bay says it is; nullptr where only its bytes tell
  Role role;                       // of a set's file: whose it is
  std::int64_t modified = 0;
  std::uint64_t size_bytes = 0;
};

/// One save in a bay, with all its files.
struct HeldSave {
  const PlatformRule* rule = nullptr;  // of the bay that was scanned
  NameFacts facts;                     // what its path tells, its game among it
  std::string place;                   // empty, or the name of the further place it is ("common", "extra")
  SaveKind kind{};
  std::string path;   // below the bay's root; of a card entry, the card's; of several files, the first
  std::string entry;  // its name on the card
  std::string label;  // what people call it: a title, from wherever there is one
  std::vector<HeldFile> held;  // of SaveKind::battery: its files
  std::size_t files = 1;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970, UTC; of its newest file
  Health health = Health::good;
  std::string health_note;  // why, a sentence; may be empty
  std::string misplaced;    // why the bay's own programs do not read it: another name or form than the rule's
  bool has_rom = false;     // of SaveKind::battery: facts.rom_path is a ROM in the bay
  bool thumbnail = false;
  std::string resembles;  // the save of another bay it is most like, where its own name says nothing

  /// The last name of its path, or its name on the card.
  [[nodiscard]] std::string name() const;
  [[nodiscard]] SaveKey key() const;
};

/// What has been read of a save before, so that a second look need not read it again.
class ScanMemory {
 public:
  struct Row {
    std::string label;
    Health health = Health::good;
    std::string health_note;
    std::string code;
    std::string platform;  // tag, of a file that several rules fit
    bool thumbnail = false;
  };
  [[nodiscard]] static ScanMemory load(Store& store, const std::string& path);
  [[nodiscard]] Result<void> save(Store& store, const std::string& path) const;
  [[nodiscard]] const Row* find(const std::string& key) const;
  void add(const std::string& key, Row row);
  /// What the saves were called, each once, in order.
  [[nodiscard]] std::vector<std::string> labels() const;
  [[nodiscard]] bool changed() const { return changed_; }

 private:
  std::unordered_map<std::string, Row> rows_;
  std::unordered_map<std::string, Row> seen_;
  bool changed_ = false;
};

/// A store that notes what it was asked about, so that one can tell later whether all of that is still the
/// same: names, sizes and times of what was listed and looked at. What was read is not noted; its size and
/// time stand in its folder's list.
class TracingStore final : public Store {
 public:
  explicit TracingStore(Store& below) : below_(below) {}
  Result<std::optional<FileInfo>> stat(const std::string& path) override;
  Result<std::vector<FileInfo>> list(const std::string& folder) override;
  Result<Blob> read_range(const std::string& path, std::uint64_t at, std::size_t count) override {
    return below_.read_range(path, at, count);
  }
  Result<void> replace(const std::string& path, ByteView bytes) override {
    return below_.replace(path, bytes);
  }
  Result<void> create(const std::string& path, ByteView bytes) override { return below_.create(path, bytes); }
  Result<void> remove(const std::string& path) override { return below_.remove(path); }
  bool may_write(const std::string& folder) override { return below_.may_write(folder); }
  StoreTraits traits() const override { return below_.traits(); }
  FileTraits file_traits(const std::string& path) const override { return below_.file_traits(path); }
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }
  std::string absolute_path(const std::string& path) const override { return below_.absolute_path(path); }
  std::string root() const override { return below_.root(); }

  [[nodiscard]] const std::string& trace() const { return trace_; }
  /// Whether every question of `trace` gets the same answer now. `store` is asked by several threads at once.
  [[nodiscard]] static bool is_as_then(Store& store, std::string_view trace);

 private:
  void note(char what, const std::string& path, std::uint64_t hash);

  Store& below_;
  std::string trace_;
  std::unordered_set<std::string> noted_;
};

struct ScanOptions {
  const TitleBook* titles = nullptr;
  ScanMemory* memory = nullptr;
  const PairBook* pairs = nullptr;
  std::function<void(const std::string& path, const Error& error)> on_error;  // folders that can't be read
};
/// Every save in the bay, by platform and path. `does_not_fit` over 200,000 names.
[[nodiscard]] Result<std::vector<HeldSave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                                     const ScanOptions& options = {});
/// Whose saves there are: the accounts in the paths, each once, in order.
[[nodiscard]] std::vector<std::string> accounts_of(const std::vector<HeldSave>& saves);

}  // namespace bayswap
BAYSWAP_EXPORT_END
