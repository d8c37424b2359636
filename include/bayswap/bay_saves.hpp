// The saves a bay holds: found by looking, told apart, and given names that people know.
#pragma once

#include <bayswap/bay.hpp>
#include <bayswap/card.hpp>
#include <bayswap/package.hpp>

#include <unordered_map>

namespace bayswap {

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

/// A file of a folder.
struct TreeFile {
  std::string path;  // below the folder
  Blob bytes;
  std::int64_t modified = 0;  // seconds since 1970, UTC
};
/// Every file in a folder and those below it, in the order of their paths; links are passed over.
/// `does_not_fit` over 50,000 files or 256 MiB, `unsupported` over 16 deep: no save is so large.
[[nodiscard]] Result<std::vector<TreeFile>> read_tree(Store& store, const std::string& folder);
/// The path with each name in the letter case that the disk has, where exactly one name differs in that
/// alone.
[[nodiscard]] std::string in_case_of_disk(Store& store, const std::string& path);

/// One save in a bay.
struct BaySave {
  const PlatformRule* rule = nullptr;  // of the bay that was scanned
  NameFacts facts;                     // what its path tells, its game among it
  std::string place;                   // empty, or the name of the further place it is ("common", "extra")
  std::string kind;                    // "battery save", "folder", "memory card entry", ...
  std::string path;                    // below the bay's root; of a card entry, the card's
  std::string entry;                   // its name on the card
  std::string label;                   // what people call it: a title, from wherever there is one
  std::size_t files = 1;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified;  // seconds since 1970, UTC; of its newest file
  std::string health = "good";           // "good", "empty", "suspicious", "damaged", "deleted", "sealed"
  std::string health_note;               // why, a sentence; may be empty
  bool thumbnail = false;
  std::string resembles;  // the save of another bay it is most like, where its own name says nothing

  /// The last name of its path, or its name on the card.
  [[nodiscard]] std::string name() const;
};

/// What has been read of a save before, so that a second look need not read it again.
class ScanMemory {
 public:
  struct Row {
    std::string label;
    std::string health;
    std::string health_note;
    std::string code;
    std::string platform;  // tag, of a file that several rules fit
    bool thumbnail = false;
  };
  [[nodiscard]] static ScanMemory load(Store& store, const std::string& path);
  [[nodiscard]] Result<void> save(Store& store, const std::string& path) const;
  [[nodiscard]] const Row* find(const std::string& key) const;
  void add(const std::string& key, Row row);
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
  std::string display_path(const std::string& path) const override { return below_.display_path(path); }
  std::string absolute_path(const std::string& path) const override { return below_.absolute_path(path); }

  [[nodiscard]] const std::string& trace() const { return trace_; }
  /// Whether every question of `trace` gets the same answer now. `store` is asked by several threads at once.
  [[nodiscard]] static bool is_as_then(Store& store, std::string_view trace);

 private:
  void note(char what, const std::string& path, std::uint64_t hash);

  Store& below_;
  std::string trace_;
};

struct ScanOptions {
  const TitleBook* titles = nullptr;
  ScanMemory* memory = nullptr;
  std::optional<Platform> only;
  bool names_only =
      false;  // what paths and cards tell: no labels, sizes and health of what would have to be read
  std::function<void(const std::string& path, const Error& error)> on_error;  // folders that can't be read
};
/// Every save in the bay, by platform and path. `does_not_fit` over 200,000 names.
[[nodiscard]] Result<std::vector<BaySave>> scan_bay(const Catalog& catalog, const Bay& bay, Store& store,
                                                    const ScanOptions& wish = {});
/// Whose saves there are: the accounts in the paths, each once, in order.
[[nodiscard]] std::vector<std::string> accounts_of(const std::vector<BaySave>& saves);

/// A save's files as far as others are compared with them: names in lower case and in their order, sizes,
/// first bytes. Small, so that those of a whole bay can be kept.
struct TreeSketch {
  struct File {
    std::string name;
    std::uint64_t size_bytes = 0;
    std::array<Byte, 16> head{};  // 00 behind the end
  };
  std::vector<File> files;
};
[[nodiscard]] TreeSketch sketch_of(const std::vector<TreeFile>& files);

/// How alike two saves' files are: names, sizes, structure, first bytes. 0 to 1, with the reasons.
struct Likeness {
  double score = 0;
  std::vector<std::string> reasons;
};
[[nodiscard]] Likeness likeness(const TreeSketch& a, const TreeSketch& b);

}  // namespace bayswap
