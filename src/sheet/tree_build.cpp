// How a save is taken apart: a node for each field, bytes for each field that is scrambled or in blocks.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "sheet/codec.hpp"
#include "sheet/tree.hpp"

namespace bayswap::sheets {
namespace {

constexpr std::size_t max_nodes = 400'000;
constexpr std::size_t max_tree_depth = 24;
constexpr std::size_t max_steps = 20'000'000;
constexpr std::size_t spare_space = std::size_t{16} << 20;

}  // namespace

Tree::Tree(const Sheet& sheet, const std::vector<SheetFile>& files) : sheet_(sheet), files_(files) {
  total_.left = max_steps;
  for (const SheetFile& file : files_) space_limit_ += 4 * file.bytes.size();
  space_limit_ += spare_space;
  root_ = add_node(nullptr, nullptr);
  root_->record = &sheet_.records.front();
  const bool has_files =
      std::ranges::any_of(root_->record->fields, [](const FieldDef& one) { return !one.pattern.empty(); });
  if (has_files) {
    build_files();
    return;
  }
  if (files_.empty()) {
    root_->problem = "the save has no files";
    return;
  }
  Space& space = spaces_.emplace_back();
  space.file = main_file();
  const ByteView stored = files_[space.file].bytes.view();
  space.bytes.assign(stored.begin(), stored.end());
  root_->space = &space;
  build_record(*root_, 0);
}

// The file that the sheet is about: one of its sizes, with its marks; or else the first.
std::size_t Tree::main_file() const {
  const auto is_meant = [&](const SheetFile& file) {
    const ByteView bytes = file.bytes.view();
    if (!sheet_.sizes.empty() && std::ranges::find(sheet_.sizes, bytes.size()) == sheet_.sizes.end())
      return false;
    return std::ranges::all_of(sheet_.magics, [&](const Magic& magic) { return is_marked(magic, bytes); });
  };
  const auto found = std::ranges::find_if(files_, is_meant);
  return found == files_.end() ? 0 : static_cast<std::size_t>(found - files_.begin());
}

Node* Tree::add_node(Node* outer, const FieldDef* field) {
  Node& node = nodes_.emplace_back();
  node.outer = outer;
  node.field = field;
  if (outer != nullptr) {
    node.space = outer->space;
    outer->children.push_back(&node);
  }
  return &node;
}

std::optional<std::size_t> Tree::size_asked(const Expression& expression, const Node& place) const {
  if (const auto constant = expression.constant())
    return *constant < 0 ? std::nullopt : std::optional(static_cast<std::size_t>(*constant));
  const auto number = number_of(ask(expression, place));
  constexpr SheetNumber most = SheetNumber{1} << 31;
  if (!number || *number < 0 || *number > most) return std::nullopt;
  return static_cast<std::size_t>(*number);
}

void Tree::build_files() {
  for (const FieldDef& field : root_->record->fields) {
    if (field.kind == FieldKind::derived) {
      add_node(root_, &field);
      continue;
    }
    Node* array = nullptr;
    if (field.is_array) {
      array = add_node(root_, &field);
      array->is_array = true;
    }
    SheetNumber index = 1;
    bool found = false;
    for (std::size_t i = 0; i < files_.size(); ++i) {
      if (!file_fits(field.pattern, files_[i].name)) continue;
      if (found && array == nullptr) break;
      found = true;
      Node* node = add_node(array != nullptr ? array : root_, &field);
      node->is_element = array != nullptr;
      node->index = index++;
      node->record = &sheet_.records[field.record];
      Space& space = spaces_.emplace_back();
      space.bytes.assign(files_[i].bytes.view().begin(), files_[i].bytes.view().end());
      space.file = i;
      node->space = &space;
      build_record(*node, 1);
      if (field.free) node->is_free = truth_of(ask(*field.free, *node)).value_or(false);
    }
    if (!found && array == nullptr && !field.is_optional) {
      Node* node = add_node(root_, &field);
      node->record = &sheet_.records[field.record];
      node->problem = fmt::format("the file {} is missing", printable(field.pattern));
    }
  }
}

void Tree::build_record(Node& node, std::size_t depth) {
  const std::size_t begin = node.at;
  if (depth > max_tree_depth) {
    node.problem = "records too deep";
    return;
  }
  std::size_t cursor = begin;
  std::size_t end = begin;
  std::size_t bits_at = begin;  // where the bits before began
  for (const FieldDef& field : node.record->fields) {
    if (nodes_.size() > max_nodes) {
      node.problem = "too many fields";
      break;
    }
    if (field.condition) {
      const auto holds = truth_of(ask(*field.condition, node));
      if (holds == false) continue;
      if (!holds) {
        add_node(&node, &field)->problem = "whether it exists is unknown";
        continue;
      }
    }
    std::size_t at = field.number.has_bit && !field.at ? bits_at : cursor;
    if (field.at) {
      const auto offset = size_asked(*field.at, node);
      if (!offset) {
        add_node(&node, &field)->problem = "where it is is unknown";
        continue;
      }
      at = *offset + (field.from_start ? 0 : begin);
    }
    const bool starts_bits = field.kind == FieldKind::number || field.kind == FieldKind::truth;
    if (starts_bits) bits_at = at;
    if (field.kind == FieldKind::derived) {
      add_node(&node, &field);
      continue;
    }
    cursor = std::max(at, build_field(node, field, at, depth));
    if (!field.from_start) end = std::max(end, cursor);
  }
  node.size = node.record->size_bytes.value_or(end - begin);
  if (node.outer == nullptr || !node.field->pattern.empty()) node.size = node.space->bytes.size();
  if (begin + node.size > node.space->bytes.size()) {
    if (node.problem.empty()) node.problem = "it is not within the save";
    node.size = node.space->bytes.size() - std::min(begin, node.space->bytes.size());
  }
}

// Returns where it ends.
std::size_t Tree::build_field(Node& record, const FieldDef& field, std::size_t at, std::size_t depth) {
  if (field.is_array) {
    build_array(record, field, at, depth);
    const Node& array = *record.children.back();
    return array.children.empty() || !field.places.empty() ? at : array.at + array.size;
  }
  Node& node = *add_node(&record, &field);
  node.at = at;
  build_one(node, depth);
  return node.at + node.size;
}

void Tree::build_array(Node& record, const FieldDef& field, std::size_t at, std::size_t depth) {
  Node& array = *add_node(&record, &field);
  array.is_array = true;
  array.at = at;
  std::size_t count = field.places.size();
  if (field.count) {
    const auto asked = size_asked(*field.count, record);
    if (!asked || *asked > max_nodes) {
      array.problem = "how many there are is unknown";
      return;
    }
    count = *asked;
  }
  std::size_t next = at;
  std::size_t end = at;
  for (std::size_t i = 0; i < count; ++i) {
    if (nodes_.size() > max_nodes) {
      array.problem = "too many fields";
      break;
    }
    Node& node = *add_node(&array, &field);
    node.is_element = true;
    node.index = field.first + static_cast<SheetNumber>(i);
    node.at = field.stride > 0 ? at + i * field.stride : next;
    if (i < field.places.size()) {
      const auto place = size_asked(field.places[i], record);
      if (!place) {
        node.problem = "where it is is unknown";
        continue;
      }
      node.at = *place + (field.from_start ? 0 : record.at);
    }
    build_one(node, depth);
    next = node.at + node.size;
    end = std::max(end, field.stride > 0 ? node.at + field.stride : next);
    if (field.free) node.is_free = truth_of(ask(*field.free, node)).value_or(false);
    // The sheet says more than there are bytes: the rest would be problems too.
    if (node.at > node.space->bytes.size() && i > 0) {
      array.problem = fmt::format("only {} of {} are within the save", i, count);
      array.children.pop_back();
      break;
    }
  }
  array.size = end - at;
  if (field.is_copies()) choose_newest(array);
}

// A value, or a record, at its place.
void Tree::build_one(Node& node, std::size_t depth) {
  const FieldDef& field = *node.field;
  const std::size_t limit = node.space->bytes.size();
  const auto outside = [&] {
    node.problem = "it is not within the save";
    node.size = 0;
  };
  if (node.at > limit) {
    outside();
    return;
  }
  switch (field.kind) {
    case FieldKind::number:
    case FieldKind::truth:
      node.size = field.number.size_bytes();
      break;
    case FieldKind::text:
    case FieldKind::bytes: {
      const Node* scope = node.is_element ? node.outer->outer : node.outer;
      const auto size = size_asked(field.size, *scope);
      if (!size) {
        node.problem = "its length is unknown";
        return;
      }
      node.size = *size;
      break;
    }
    case FieldKind::record:
      node.record = &sheet_.records[field.record];
      if (field.has_space())
        open_space(node, depth + 1);
      else
        build_record(node, depth + 1);
      return;
    case FieldKind::derived:
      return;
  }
  if (node.size > limit - node.at) outside();
}

std::optional<std::vector<SheetNumber>> Tree::keys(const Node& node) const {
  const Node* scope = node.is_element ? node.outer->outer : node.outer;
  std::vector<SheetNumber> keys;
  for (const Scramble& scramble : node.field->scrambles) {
    if (scramble.kind == Scramble::Kind::substitute) {
      keys.push_back(0);
      continue;
    }
    const auto key = number_of(ask(scramble.key, *scope));
    if (!key) return std::nullopt;
    keys.push_back(*key);
  }
  return keys;
}

// The node's fields are in a space of their own; the node itself stays where it is stored.
void Tree::open_space(Node& node, std::size_t depth) {
  const FieldDef& field = *node.field;
  Space& inner = spaces_.emplace_back();
  inner.outer = node.space;
  inner.file = node.space->file;
  inner.at = node.at;
  if (field.blocks) {
    if (!open_blocks(node, inner)) return;
  } else {
    const Node* scope = node.is_element ? node.outer->outer : node.outer;
    const auto size = size_asked(field.size, *scope);
    const auto scramble_keys = keys(node);
    if (!size || *size > node.space->bytes.size() - node.at) {
      node.problem = "it is not within the save";
      return;
    }
    node.size = *size;
    if (!scramble_keys) {
      node.problem = "its key is unknown";
      return;
    }
    const ByteView stored = ByteView(node.space->bytes).subspan(node.at, *size);
    inner.bytes.assign(stored.begin(), stored.end());
    const auto read = unscramble(field.scrambles, *scramble_keys, inner.bytes);
    if (!read) {
      node.problem = read.error().message;
      return;
    }
  }
  space_bytes_ += inner.bytes.size();
  if (space_bytes_ > space_limit_) {
    node.problem = "too much is scrambled";
    return;
  }
  const std::size_t at = node.at;
  const std::size_t size = node.size;
  Space* stored_in = node.space;
  node.own_space = &inner;
  node.space = &inner;
  node.at = 0;
  build_record(node, depth);
  node.space = stored_in;
  node.at = at;
  node.size = size;
}

}  // namespace bayswap::sheets
