// A save opened by its sheet: every field with its place, in the bytes it is stored in.
#pragma once

#include <bayswap/sheet.hpp>

#include <deque>

#include "sheet/model.hpp"

namespace bayswap::sheets {

/// A run of bytes that fields are in: a file, or what a scrambled field or a set of blocks stands for.
struct Space {
  std::vector<Byte> bytes;
  std::size_t file = 0;             // of a file's own: which
  Space* outer = nullptr;           // where its bytes are stored; null for a file
  std::size_t at = 0;               // there, of scrambled ones
  std::vector<std::size_t> pieces;  // there, of blocks: where the data of each begins, in their order
  std::size_t piece_bytes = 0;
};

struct Node {
  const FieldDef* field = nullptr;    // null for the whole save
  const RecordDef* record = nullptr;  // of a record
  Node* outer = nullptr;              // the record or array around it
  Space* space = nullptr;             // null for a save of several files
  Space* own_space = nullptr;         // of a field with bytes of its own
  std::size_t at = 0;                 // in `space`
  std::size_t size = 0;               // in bytes
  bool is_array = false;
  bool is_element = false;
  bool is_free = false;    // an element that is unused
  bool is_blank = false;   // a copy of nothing but one byte
  SheetNumber index = 0;   // of an element, as the sheet counts
  std::size_t newest = 0;  // of copies: which of `children`
  std::vector<Node*> children;
  std::string problem;  // why it, or what is in it, can't be read
};

/// One checksum of one record of the save.
struct ChecksumAt {
  const ChecksumDef* checksum = nullptr;
  Node* record = nullptr;
  std::size_t at = 0;  // in the record's space
  struct Range {
    Space* space;
    std::size_t from;
    std::size_t to;
  };
  std::vector<Range> ranges;
  std::string problem;  // its place is not within the save
};

class Tree final : public ExpressionNames {
 public:
  /// Opens the files. Never fails: what can't be read has a problem.
  Tree(const Sheet& sheet, const std::vector<SheetFile>& files);
  Tree(const Tree&) = delete;
  Tree& operator=(const Tree&) = delete;

  [[nodiscard]] const Sheet& sheet() const { return sheet_; }
  [[nodiscard]] Node& root() { return *root_; }
  [[nodiscard]] const Node& root() const { return *root_; }
  [[nodiscard]] const std::vector<SheetFile>& files() const { return files_; }
  [[nodiscard]] const std::string& file_name(const Space& space) const { return files_[space.file].name; }

  // ---- Values
  [[nodiscard]] SheetValue value(ExpressionNames::Place place) const override;
  [[nodiscard]] SheetValue value_of(const Node& node) const { return value(&node); }
  /// "save.party[2].level".
  [[nodiscard]] static std::string path_of(const Node& node);
  /// The field that a path names; copies without a number are the newest of them. Fails with `not_found`, and
  /// what is there instead.
  struct Found {
    Node* node = nullptr;
    std::optional<unsigned> flag;        // of a number: one bit of it
    std::vector<const Node*> by_newest;  // copies that were chosen for their counter
  };
  [[nodiscard]] Result<Found> find_path(std::string_view path);
  /// Whether the node is in an unused element, or in a copy that is blank.
  [[nodiscard]] static bool is_unused(const Node& node);

  // ---- Checksums and rules
  /// Every checksum that applies, inner records first, in an order that makes all right.
  [[nodiscard]] const std::vector<ChecksumAt>& checksums();
  /// Whether every checksum in that record holds.
  [[nodiscard]] bool all_checksums_hold(Node& node);
  [[nodiscard]] std::vector<Byte> checksum_value(const ChecksumAt& checksum) const;
  [[nodiscard]] bool checksum_holds(const ChecksumAt& checksum) const;
  struct RuleAt {
    const RuleDef* rule = nullptr;
    Node* record = nullptr;
    std::optional<bool> holds;  // nothing: the save does not tell
  };
  [[nodiscard]] std::vector<RuleAt> rules() const;

  // ---- Changes
  /// Stores what was changed in a record's bytes in those around it, up to the file. What is scrambled within
  /// it is encoded again, for keys can have changed. Fails with `damaged` if that can't be done.
  [[nodiscard]] Result<void> store(Node& record);
  /// Makes those checksums right that are wrong and wanted, until all are. Returns how many were changed.
  /// Fails as `is_wanted` does, and with `bad_usage` if they contradict each other.
  [[nodiscard]] Result<std::size_t> recompute(
      const std::function<Result<bool>(const ChecksumAt&)>& is_wanted);
  /// The files as the spaces have them.
  [[nodiscard]] std::vector<SheetFile> stored() const;
  /// Puts a node's own bytes back to where they are stored.
  [[nodiscard]] Result<void> encode(const Node& node);

  // ---- What expressions ask
  [[nodiscard]] ExpressionNames::Place find(ExpressionNames::Place from,
                                            const std::string& name) const override;
  [[nodiscard]] ExpressionNames::Place member(ExpressionNames::Place record,
                                              const std::string& name) const override;
  [[nodiscard]] ExpressionNames::Place element(ExpressionNames::Place array,
                                               SheetNumber number) const override;
  [[nodiscard]] std::vector<ExpressionNames::Place> elements(ExpressionNames::Place array) const override;
  [[nodiscard]] SheetType type(ExpressionNames::Place place) const override;
  [[nodiscard]] SheetValue lookup(const std::string& table, SheetNumber key,
                                  const std::string& column) const override;
  [[nodiscard]] bool has(const std::string& table, SheetNumber key) const override;
  [[nodiscard]] SheetValue special(ExpressionNames::Place from, const std::string& name) const override;

 private:
  struct Cursor;
  Node* add_node(Node* outer, const FieldDef* field);
  [[nodiscard]] SheetValue ask(const Expression& expression, const Node& place) const;
  [[nodiscard]] std::optional<std::size_t> size_asked(const Expression& expression, const Node& place) const;
  [[nodiscard]] std::size_t main_file() const;
  void build_files();
  void build_record(Node& node, std::size_t depth);
  std::size_t build_field(Node& record, const FieldDef& field, std::size_t at, std::size_t depth);
  void build_array(Node& record, const FieldDef& field, std::size_t at, std::size_t depth);
  void build_one(Node& node, std::size_t depth);
  void open_space(Node& node, std::size_t depth);
  [[nodiscard]] bool open_blocks(Node& node, Space& inner);
  [[nodiscard]] std::optional<std::vector<SheetNumber>> keys(const Node& node) const;
  void choose_newest(Node& array);
  void collect_checksums(Node& node, std::vector<ChecksumAt>& out, bool only_errors);
  void collect_rules(Node& node, std::vector<RuleAt>& out) const;
  [[nodiscard]] ChecksumAt place_checksum(const ChecksumDef& checksum, Node& record);
  [[nodiscard]] Node* child(const Node& node, std::string_view name) const;

  const Sheet& sheet_;
  std::vector<SheetFile> files_;
  std::deque<Space> spaces_;
  std::deque<Node> nodes_;
  Node* root_ = nullptr;
  std::optional<std::vector<ChecksumAt>> checksums_;
  std::size_t space_bytes_ = 0;
  std::size_t space_limit_ = 0;
  std::size_t covered_bytes_ = 0;  // that checksums are over, all together
  mutable int derived_depth_ = 0;
  mutable StepBudget total_;
};

}  // namespace bayswap::sheets
