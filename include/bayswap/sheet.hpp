// Sheets: the structure of one game's save, as data. With its sheet a save is read, checked, compared,
// changed and with their checksums recomputed, value by value. Belongs to bayswap::core.
#pragma once

#include <bayswap/export.hpp>
#include <bayswap/save.hpp>
#include <bayswap/save_checksum.hpp>

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

/// Returns whether a sheet's pattern ('*', '?', any letter case) matches a path or its last component.
[[nodiscard]] bool file_fits(std::string_view pattern, std::string_view path);

/// Why a sheet fits a save.
struct SheetFit {
  double score = 0;  // above 0, up to 1
  std::vector<std::string> reasons;
};

/// A sheet, parsed and checked (docs/sheets.md). Immutable; copies share it; safe for several threads.
class Sheet {
 public:
  /// Parses a sheet. Fails with `bad_usage`, and the file and line, if a word, a name or a type is wrong.
  [[nodiscard]] static Result<Sheet> parse(std::string_view toml, const std::string& origin);

  [[nodiscard]] const std::string& id() const;
  [[nodiscard]] const std::string& name(std::string_view language = {}) const;
  /// Returns the sentence that says what of the save is made with its memory card's serial number, so that
  /// the game may refuse it on another card; empty if the sheet says nothing of that.
  [[nodiscard]] const std::string& bound_to_card(std::string_view language = {}) const;
  [[nodiscard]] std::int64_t revision() const;
  [[nodiscard]] Platform platform() const;
  [[nodiscard]] const std::vector<std::string>& codes() const;
  /// Returns whether the sheet identifies games by digests of their ROMs.
  [[nodiscard]] bool wants_rom_digest() const;
  /// Returns how well the sheet fits a save of that game, which may be unknown; nothing if it is for another
  /// game. `rom_digest`: hex of the ROM's SHA-256, or empty.
  [[nodiscard]] std::optional<SheetFit> fit(const std::optional<GameId>& game,
                                            const std::vector<SheetFile>& files,
                                            std::string_view rom_digest = {}) const;
  /// Returns why the sheet can't be for that save: another platform, code or size, a missing mark or file.
  /// Returns nothing if it can.
  [[nodiscard]] std::optional<std::string> misfit(const std::optional<GameId>& game,
                                                  const std::vector<SheetFile>& files) const;
  /// Returns whether its console keeps saves on chips, and not in folders.
  [[nodiscard]] bool is_for_chips() const;
  [[nodiscard]] const sheets::Sheet& content() const { return *content_; }

 private:
  std::shared_ptr<const sheets::Sheet> content_;
};

/// The built-in sheets and those that were added. Several threads may use one at once as long as none adds to
/// it.
class SheetShelf {
 public:
  /// Makes a shelf with the built-in sheets.
  SheetShelf();
  /// Adds a sheet, replacing one with the same id. Fails as Sheet::parse.
  [[nodiscard]] Result<void> add(std::string_view toml, const std::string& origin);
  [[nodiscard]] const std::vector<Sheet>& all() const { return sheets_; }
  [[nodiscard]] const Sheet* find(std::string_view id) const;
  /// Returns the sheet that fits best; nullptr if none does.
  [[nodiscard]] const Sheet* best(const std::optional<GameId>& game, const std::vector<SheetFile>& files,
                                  std::string_view rom_digest = {}) const;

 private:
  std::vector<Sheet> sheets_;
};

/// A value of a save, or a record or an array of values.
struct SheetNode {
  enum class Kind { record, array, number, truth, text, bytes };
  std::string path;   // to address it: "party[2].level"; empty for the whole save
  std::string name;   // its last part, "level" or "[2]"
  std::string label;  // the label to show; the name if the sheet has no label
  Kind kind{};
  std::string value;                   // as change() expects it; empty for records and arrays
  std::string shown;                   // for people: with the unit, the names of numbers
  std::optional<std::int64_t> number;  // of numbers that fit, in the sheet's unit
  std::string file;                    // name of its file
  std::size_t offset = 0;              // in that file, in bytes
  unsigned bit = 0;                    // the lowest of them, in its bytes
  unsigned bits = 0;
  bool is_stored_plainly = true;  // false: the offset is in bytes that are scrambled or in blocks
  bool is_derived = false;        // computed, not stored
  bool is_hidden = false;         // the sheet marks it as uninteresting
  bool is_unused = false;         // of an element: the sheet's rule says that it is not in use
  bool is_newest = false;         // of copies: the valid one
  bool is_blank = false;          // of copies: never written
  std::string problem;            // why it can't be read; it has no value then
  std::vector<SheetNode> children;
};

enum class SheetSeverity { error, warning, note };
[[nodiscard]] std::string_view to_text(SheetSeverity severity);

/// A checksum or a rule, and whether it holds.
struct SheetFinding {
  enum class Kind { checksum, rule, unreadable };
  Kind kind{};
  std::string id;    // of the sheet
  std::string path;  // of the record it applies to; empty for the whole save
  SheetSeverity severity{};
  std::optional<bool> holds;  // nothing: can't be determined
  std::string text;           // a sentence
  std::string file;           // of checksums: where
  std::size_t offset = 0;
  std::size_t size_bytes = 0;
  std::string is;      // of checksums: hex
  std::string should;  // of checksums: hex
};

struct SheetVerdict {
  std::vector<SheetFinding> findings;
  std::size_t checked = 0;  // checksums and rules
};

/// How much of a save is shown: everything, or of list elements only their direct values.
enum class SheetDepth { whole, look };

/// A difference between two saves of the same sheet.
struct SheetDifference {
  std::string path;
  std::string label;
  std::string before;  // empty where only the other save has it
  std::string after;
};

/// A change to one value: its path and the new value.
using SheetChange = std::pair<std::string, std::string>;

/// The result of a change.
struct SheetEdit {
  std::vector<SheetFile> files;             // after the change
  std::vector<SheetDifference> changes;     // of values, without checksums
  std::vector<std::string> recomputed;      // "id at path", or "id"
  std::vector<std::string> not_recomputed;  // of recompute(): what can't be corrected, and why
  std::vector<SheetFinding> broken_rules;   // accepted ones, and those that are not errors
  std::vector<std::string> notes;           // a sentence each
};

/// A record taken out of a save.
struct SheetRecord {
  std::string sheet;
  std::int64_t revision = 1;                                // of the sheet
  std::string record;                                       // its name in the sheet
  std::int64_t version = 1;                                 // of the record
  std::vector<std::pair<std::string, std::string>> values;  // path below the record, and value
  /// Its bytes, and the descrambled bytes of scrambled parts of it, by the path below the record.
  std::vector<std::pair<std::string, std::vector<Byte>>> bytes;
  bool own_file =
      false;  // the record came from a file of the console's own: it has only the first of `bytes`
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

  /// Returns the value at a path; the whole save if it is empty. Fails with `not_found`, and the paths that
  /// exist instead. `language`: two letters, for labels.
  [[nodiscard]] Result<SheetNode> show(std::string_view path = {}, std::string_view language = {},
                                       SheetDepth depth = SheetDepth::whole) const;
  /// Returns every checksum and rule, and everything that can't be read. Leaves out unused elements and blank
  /// copies.
  [[nodiscard]] std::vector<SheetFinding> findings(std::string_view language = {}) const;

  /// Returns the findings that do not hold, and how many were checked.
  [[nodiscard]] SheetVerdict verdict(std::string_view language = {}) const;

  /// Returns the save with changed values, applied in order, and with corrected checksums, if they held and
  /// cover a change. This object stays unchanged. Fails with `not_found` if a path does not exist,
  /// `bad_usage` or `does_not_fit` if a field can't have the value, `unsafe` if a rule that held would break,
  /// or a broken checksum covers the change: the remedy then has its id, for `accepted`.
  [[nodiscard]] Result<SheetEdit> change(const std::vector<SheetChange>& changes,
                                         const std::set<std::string>& accepted = {}) const;
  /// Returns the save with every checksum corrected that can be. Its notes say which copy is valid now, if
  /// that changed.
  [[nodiscard]] Result<SheetEdit> recompute() const;

  /// Returns the record at a path. Fails with `bad_usage` if the path names something else.
  [[nodiscard]] Result<SheetRecord> take(std::string_view path) const;
  /// Reads a record from a file of the console's own format, for the place at `path`. Fails with
  /// `not_recognised` if there is no such format, or the file has another size.
  [[nodiscard]] Result<SheetRecord> record_of_file(std::string_view path, ByteView file) const;
  /// Returns the save with the record at `path` replaced; for an array, its first unused element. Gives
  /// numbers that must be unique new values. Fails as change(), and with `does_not_fit` if the array is full,
  /// the record is of another kind, or it has values that this sheet does not know, which the error names.
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

/// Compares two saves of the same sheet value by value; of copies, the newest ones.
[[nodiscard]] std::vector<SheetDifference> differences(const SheetSave& before, const SheetSave& after,
                                                       std::string_view language = {});

}  // namespace bayswap
BAYSWAP_EXPORT_END
