// What the files of this room that change an open save share.
#pragma once

#include "sheet/tree.hpp"

namespace bayswap {

struct SheetSave::Impl {
  Impl(const Sheet& sheet, const std::vector<SheetFile>& files) : tree(sheet.content(), files) {}
  sheets::Tree tree;  // opened once; looking at it changes only what it remembers
};

namespace sheets {

/// A value as a change takes it, and for people.
[[nodiscard]] std::string text_of(const Tree& tree, const Node& node);
[[nodiscard]] std::string shown_of(const Tree& tree, const Node& node, std::string_view language);
/// "id at path", or "id" for the whole save.
[[nodiscard]] std::string checksum_name(const ChecksumAt& checksum);
[[nodiscard]] SheetSeverity severity_of(Severity severity);
/// The bytes that a record or a copy is: its own, where it has such.
[[nodiscard]] std::span<Byte> bytes_of(const Node& node);

/// Changes to a save, tree by tree: what one changes can move what the next is about.
class Editor {
 public:
  Editor(const sheets::Sheet& sheet, const std::vector<SheetFile>& files, std::set<std::string> accepted);

  /// Before any change: torn copies that are written alike get what the sound one holds.
  [[nodiscard]] Result<void> mend_mirrors();
  /// Sets one value. Fails as SheetSave::change.
  [[nodiscard]] Result<void> set(const std::string& path, const std::string& value);
  [[nodiscard]] Result<void> put(std::string_view path, const SheetRecord& record);
  /// Checksums what the changes are under, checks the rules, and says what became of it. `all`: every
  /// checksum.
  [[nodiscard]] Result<SheetEdit> finish(bool all = false);

 private:
  [[nodiscard]] Result<SheetNumber> begin_copy(Tree& tree, const Node& array);
  [[nodiscard]] Result<std::vector<std::string>> explicit_paths(std::string_view path);
  void note_newest(const Node& before, const Node& after);
  [[nodiscard]] Result<bool> is_so_already(const std::string& path, const std::string& value) const;
  [[nodiscard]] Result<void> set_at(const std::string& path, const std::string& value);
  [[nodiscard]] Result<void> write(Tree& tree, Node& node, std::optional<unsigned> flag,
                                   std::string_view value);
  [[nodiscard]] Result<void> keep_changes(Tree& tree);
  [[nodiscard]] Result<void> keep_outwards(Tree& tree, const Node& node);
  [[nodiscard]] Result<void> put_bytes(const std::string& path, const SheetRecord& record);
  [[nodiscard]] Result<void> put_values(const std::string& path, const SheetRecord& record);
  [[nodiscard]] Result<void> make_unique(const std::string& path);
  [[nodiscard]] Result<std::string> free_place(const Node& array) const;

  struct ChecksumState {
    bool holds = false;
    std::vector<Byte> should;
  };
  using ChecksumStates = std::map<std::string, ChecksumState>;
  [[nodiscard]] static ChecksumStates checksum_states(Tree& tree);

  const sheets::Sheet& sheet_;
  std::vector<SheetFile> before_;
  std::vector<SheetFile> files_;
  std::set<std::string> accepted_;
  ChecksumStates checksums_;  // before, by name; of a copy that was written over, those of the one it is now
  std::map<std::string, std::optional<bool>> rules_;  // the same of rules
  std::map<std::string, SheetNumber> moved_;          // copies: which one the change goes to
  std::map<std::string, std::string> set_;            // what each path is to be
  std::vector<std::string> notes_;
};

enum class ChecksumFields { shown, left_out };
/// What differs, of copies the newest ones.
[[nodiscard]] std::vector<SheetDifference> compare(const Tree& before, const Tree& after,
                                                   std::string_view language, ChecksumFields checksums);

}  // namespace sheets
}  // namespace bayswap
