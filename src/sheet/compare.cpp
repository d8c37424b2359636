// Two saves of one sheet, value by value.
#include <algorithm>

#include "base/text.hpp"
#include "sheet/sheet_save.hpp"

namespace bayswap::sheets {
namespace {

class Comparison {
 public:
  Comparison(const Tree& before, const Tree& after, std::string_view language, ChecksumFields checksums)
      : before_(before), after_(after), language_(language), checksums_(checksums) {}

  void nodes(const Node* before, const Node* after) {
    constexpr std::size_t max_differences = 100'000;
    if (out_.size() >= max_differences) return;
    before = used(before);
    after = used(after);
    const Node* either = before != nullptr ? before : after;
    if (either == nullptr) return;
    if (either->is_array && either->field->is_copies()) {
      nodes(newest(before), newest(after));
      return;
    }
    const bool is_leaf = !either->is_array && either->record == nullptr;
    if (is_leaf) {
      leaf(before, after);
      return;
    }
    if (either->is_array) {
      const std::size_t count = std::max(before == nullptr ? 0 : before->children.size(),
                                         after == nullptr ? 0 : after->children.size());
      for (std::size_t i = 0; i < count; ++i) nodes(at(before, i), at(after, i));
      return;
    }
    // Fields in the order of the sheet; a condition can leave some out on one side.
    for (const FieldDef& field : either->record->fields) nodes(of(before, field), of(after, field));
  }

  std::vector<SheetDifference> take() { return std::move(out_); }

 private:
  // Unused elements and blank copies have no values.
  static const Node* used(const Node* node) {
    return node == nullptr || node->is_free || node->is_blank ? nullptr : node;
  }
  static const Node* newest(const Node* array) {
    return array == nullptr || array->children.empty() ? nullptr : array->children[array->newest];
  }
  static const Node* at(const Node* array, std::size_t i) {
    return array == nullptr || i >= array->children.size() ? nullptr : array->children[i];
  }
  static const Node* of(const Node* record, const FieldDef& field) {
    if (record == nullptr) return nullptr;
    const auto found = std::ranges::find(record->children, &field, &Node::field);
    return found == record->children.end() ? nullptr : *found;
  }

  // The field that holds a checksum's value.
  static bool is_checksum(const Tree& tree, const Node& node) {
    for (const Node* record = node.outer; record != nullptr; record = record->outer) {
      if (record->record == nullptr || record->is_array) continue;
      for (const ChecksumDef& checksum : record->record->checksums) {
        const auto at = checksum.at.constant();
        const std::size_t begin = record->own_space != nullptr ? 0 : record->at;
        const Space* space = record->own_space != nullptr ? record->own_space : record->space;
        if (at && space == node.space && begin + static_cast<std::size_t>(*at) == node.at) return true;
      }
    }
    (void)tree;
    return false;
  }

  void leaf(const Node* before, const Node* after) {
    const Node& node = after != nullptr ? *after : *before;
    if (node.field->kind == FieldKind::record) return;
    if (before != nullptr && after != nullptr && text_of(before_, *before) == text_of(after_, *after)) return;
    if (checksums_ == ChecksumFields::left_out && node.field->kind != FieldKind::derived &&
        is_checksum(after != nullptr ? after_ : before_, node))
      return;
    SheetDifference difference;
    difference.path = Tree::path_of(node);
    difference.label = node.field->label.in(language_);
    if (before != nullptr) difference.before = shown_of(before_, *before, language_);
    if (after != nullptr) difference.after = shown_of(after_, *after, language_);
    if (difference.before == difference.after) {
      if (before == nullptr || after == nullptr) return;
      difference.before = text_of(before_, *before);
      difference.after = text_of(after_, *after);
    }
    out_.push_back(std::move(difference));
  }

  const Tree& before_;
  const Tree& after_;
  std::string_view language_;
  ChecksumFields checksums_;
  std::vector<SheetDifference> out_;
};

}  // namespace

std::vector<SheetDifference> compare(const Tree& before, const Tree& after, std::string_view language,
                                     ChecksumFields checksums) {
  Comparison comparison(before, after, language, checksums);
  comparison.nodes(&before.root(), &after.root());
  return comparison.take();
}

}  // namespace bayswap::sheets

namespace bayswap {

std::vector<SheetDifference> differences(const SheetSave& before, const SheetSave& after,
                                         std::string_view language) {
  return sheets::compare(before.impl_->tree, after.impl_->tree, language, sheets::ChecksumFields::shown);
}

}  // namespace bayswap
