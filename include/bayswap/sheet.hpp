// Sheets: what is inside one game's save, as data. A save opened by its sheet is read, checked, compared,
// changed and sealed again, value by value.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save.hpp>
#include <bayswap/seal.hpp>

#include <map>
#include <memory>
#include <set>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

namespace sheets {
struct Sheet;
}  // namespace sheets

/// A file of a save: of chips its role ("sram", "eeprom", "pak1"), of a folder its path below that, of a
/// card's entry its name there.
struct SheetFile {
  std::string name;
  Blob bytes;
};

/// Returns whether a sheet's pattern ('*', '?', any case of letters) means that path, or the last name of it.
[[nodiscard]] bool file_fits(std::string_view pattern, std::string_view path);

/// Why a sheet fits a save.
struct SheetFit {
  double score = 0;  // above 0, up to 1
  std::vector<std::string> reasons;
};

/// A sheet, parsed and checked (docs/sheets.md). Immutable; copies share it; safe for several threads.
class Sheet {
 public:
  /// Fails with `bad_usage`, and file and line, if the text is no sheet: a word, a name or a type is wrong.
  [[nodiscard]] static Result<Sheet> parse(std::string_view toml, const std::string& origin);

  [[nodiscard]] const std::string& id() const;
  [[nodiscard]] const std::string& name(std::string_view language = {}) const;
  [[nodiscard]] std::int64_t revision() const;
  [[nodiscard]] Platform platform() const;
  [[nodiscard]] const std::vector<std::string>& codes() const;
  /// Returns whether it tells games by their ROMs' digests.
  [[nodiscard]] bool wants_rom_digest() const;
  /// Returns how well it fits a save of that game, which may be unknown; nothing where it is of another one.
  /// `rom_digest`: hex of the ROM's SHA-256, or empty.
  [[nodiscard]] std::optional<SheetFit> fit(const std::optional<GameId>& game,
                                            const std::vector<SheetFile>& files,
                                            std::string_view rom_digest = {}) const;
  /// Returns why it can't be of that save: another platform, code or size, a mark or a file that is missing.
  /// Nothing if nothing speaks against it.
  [[nodiscard]] std::optional<std::string> misfit(const std::optional<GameId>& game,
                                                  const std::vector<SheetFile>& files) const;
  [[nodiscard]] const sheets::Sheet& content() const { return *content_; }

 private:
  std::shared_ptr<const sheets::Sheet> content_;
};

/// The sheets that are at hand: the built-in ones, and the user's.
class SheetShelf {
 public:
  /// The built-in ones.
  SheetShelf();
  /// Adds one. Fails as Sheet::parse. Replaces one with the same id.
  [[nodiscard]] Result<void> add(std::string_view toml, const std::string& origin);
  [[nodiscard]] const std::vector<Sheet>& all() const { return sheets_; }
  [[nodiscard]] const Sheet* find(std::string_view id) const;
  /// The one that fits best; null where none does.
  [[nodiscard]] const Sheet* best(const std::optional<GameId>& game, const std::vector<SheetFile>& files,
                                  std::string_view rom_digest = {}) const;

 private:
  std::vector<Sheet> sheets_;
};

/// A value of a save, or a record or array of them.
struct SheetNode {
  enum class Kind { record, array, number, truth, text, bytes };
  std::string path;   // what changes it: "party[2].level"; empty for the whole save
  std::string name;   // its last part, "level" or "[2]"
  std::string label;  // what people call it; the name, where the sheet has no other
  Kind kind{};
  std::string value;                   // as a change takes it; empty for records and arrays
  std::string shown;                   // for people: with the unit, the names of numbers
  std::optional<std::int64_t> number;  // of numbers that fit, as the sheet counts
  std::string file;                    // where it is
  std::size_t offset = 0;              // there, in bytes
  unsigned bit = 0;                    // the lowest of them, in its bytes
  unsigned bits = 0;
  bool is_stored_plainly = true;  // false: the offset is within bytes that are scrambled or in blocks
  bool is_derived = false;        // worked out, not stored
  bool is_hidden = false;         // the sheet says that nobody wants to see it
  bool is_unused = false;         // of an element: the sheet says so
  bool is_newest = false;         // of copies: the one that counts
  bool is_blank = false;          // of copies: nothing was ever written there
  std::string problem;            // why it can't be read; then it has no value
  std::vector<SheetNode> children;
};

enum class SheetSeverity { error, warning, note };
[[nodiscard]] std::string_view to_text(SheetSeverity severity);

/// A seal or a rule, and whether it holds.
struct SheetFinding {
  enum class Kind { seal, rule, unreadable };
  Kind kind{};
  std::string id;    // of the sheet
  std::string path;  // of the record it is about; empty for the whole save
  SheetSeverity severity{};
  std::optional<bool> holds;  // nothing: the save does not tell
  std::string text;           // a sentence
  std::string file;           // of seals: where
  std::size_t offset = 0;
  std::size_t size_bytes = 0;
  std::string is;      // of seals: hex
  std::string should;  // of seals: hex
};

struct SheetVerdict {
  std::vector<SheetFinding> findings;
  std::size_t checked = 0;  // seals and rules
};

/// How much of a save is shown: everything, or of the elements of lists only the values that they have
/// themselves.
enum class SheetDepth { whole, look };

/// What differs between two saves of one sheet.
struct SheetDifference {
  std::string path;
  std::string label;
  std::string before;  // empty where only the other save has it
  std::string after;
};

/// A change to one value: a path and what it is to be.
using SheetChange = std::pair<std::string, std::string>;

/// What a change did.
struct SheetEdit {
  std::vector<SheetFile> files;            // as they are now
  std::vector<SheetDifference> changes;    // values, seals left out
  std::vector<std::string> resealed;       // "id at path", or "id"
  std::vector<std::string> unsealed;       // of reseal(): what can't be made right, and why
  std::vector<SheetFinding> broken_rules;  // accepted ones, and those that are no errors
  std::vector<std::string> notes;          // a sentence each
};

/// A record taken out of a save.
struct SheetRecord {
  std::string sheet;
  std::int64_t revision = 1;                                // of the sheet
  std::string record;                                       // its name in the sheet
  std::int64_t version = 1;                                 // of the record
  std::vector<std::pair<std::string, std::string>> values;  // path below the record, and value
  /// Its bytes and those of what is scrambled in it, plain, by the path below the record.
  std::vector<std::pair<std::string, std::vector<Byte>>> bytes;
  bool own_file = false;  // the console keeps such a record in a file of its own: the first of `bytes` alone
};

/// A save opened by a sheet. Not for several threads at once.
class SheetSave {
 public:
  SheetSave(Sheet sheet, std::vector<SheetFile> files);
  ~SheetSave();
  SheetSave(SheetSave&&) noexcept;
  SheetSave& operator=(SheetSave&&) noexcept;

  [[nodiscard]] const Sheet& sheet() const { return sheet_; }
  [[nodiscard]] const std::vector<SheetFile>& files() const;

  /// Returns what a path names, the whole save if it is empty. Fails with `not_found`, and what there is
  /// instead. `language`: two letters, for labels.
  [[nodiscard]] Result<SheetNode> show(std::string_view path = {}, std::string_view language = {},
                                       SheetDepth depth = SheetDepth::whole) const;
  /// Every seal and rule, and what can't be read. Unused elements and blank copies have none.
  [[nodiscard]] std::vector<SheetFinding> findings(std::string_view language = {}) const;

  /// Only those that do not hold, and how many were checked.
  [[nodiscard]] SheetVerdict verdict(std::string_view language = {}) const;

  /// Changes values, in their order, and makes right again every seal that held and covers one of them. The
  /// save itself stays as it is. Fails with `not_found` if a path names nothing, `bad_usage` or
  /// `does_not_fit` if a value is not one of the field's, `unsafe` if a rule that held would break, or a seal
  /// that is broken covers the change: then the remedy has its id, for `accepted`.
  [[nodiscard]] Result<SheetEdit> change(const std::vector<SheetChange>& changes,
                                         const std::set<std::string>& accepted = {}) const;
  /// Makes every seal right, those that can be. Notes say which copy counts now, where it is another one.
  [[nodiscard]] Result<SheetEdit> reseal() const;

  /// Takes a record out. Fails with `bad_usage` if the path names something else.
  [[nodiscard]] Result<SheetRecord> take(std::string_view path) const;
  /// Returns a record that came in a file of the console's own form, for the place at `path`. Fails with
  /// `not_recognised` if there is no such form, or the file has another size.
  [[nodiscard]] Result<SheetRecord> record_of_file(std::string_view path, ByteView file) const;
  /// Puts one in the place of the record at `path`; of an array, in its first unused element. Numbers that
  /// must be unique are made so. Fails as change(), and with `does_not_fit` if the array is full, the record
  /// is another one, or has values that this sheet does not know: then they are named.
  [[nodiscard]] Result<SheetEdit> put(std::string_view path, const SheetRecord& record,
                                      const std::set<std::string>& accepted = {}) const;

 private:
  friend std::vector<SheetDifference> differences(const SheetSave& before, const SheetSave& after,
                                                  std::string_view language);
  struct Impl;
  [[nodiscard]] SheetVerdict look(std::string_view language, bool only_broken) const;
  Sheet sheet_;
  std::unique_ptr<Impl> impl_;
};

/// Compares value by value, of copies the newest ones. Both have one sheet.
[[nodiscard]] std::vector<SheetDifference> differences(const SheetSave& before, const SheetSave& after,
                                                       std::string_view language = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
