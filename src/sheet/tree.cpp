#include "sheet/tree.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"

namespace bayswap::sheets {
namespace {

const Node& as_node(ExpressionNames::Place place) {
  return *static_cast<const Node*>(place);
}

// The element that copies stand for.
const Node* through_copies(const Node* node) {
  if (node != nullptr && node->is_array && node->field->is_copies() && !node->children.empty())
    return node->children[node->newest];
  return node;
}

ByteView view_of(const Node& node) {
  return ByteView(node.space->bytes).subspan(node.at, node.size);
}

}  // namespace

Node* Tree::child(const Node& node, std::string_view name) const {
  for (Node* one : node.children)
    if (one->field->name == name) return one;
  for (Node* one : node.children)
    if (one->field->flat)
      if (Node* found = child(*one, name)) return found;
  return nullptr;
}

ExpressionNames::Place Tree::find(ExpressionNames::Place from, const std::string& name) const {
  for (const Node* at = &as_node(from); at != nullptr; at = at->outer) {
    if (at->record == nullptr || at->is_array) continue;
    if (const Node* found = child(*at, name)) return found;
  }
  return nullptr;
}

ExpressionNames::Place Tree::member(ExpressionNames::Place record, const std::string& name) const {
  const Node* node = through_copies(&as_node(record));
  return node->record == nullptr || node->is_array ? nullptr : child(*node, name);
}

ExpressionNames::Place Tree::element(ExpressionNames::Place array, SheetNumber number) const {
  const Node& node = as_node(array);
  if (!node.is_array) return nullptr;
  const SheetNumber at = number - node.field->first;
  return at < 0 || at >= static_cast<SheetNumber>(node.children.size())
             ? nullptr
             : node.children[static_cast<std::size_t>(at)];
}

std::vector<ExpressionNames::Place> Tree::elements(ExpressionNames::Place array) const {
  std::vector<ExpressionNames::Place> out;
  const Node& node = as_node(array);
  if (!node.is_array) return out;
  // Unused elements are not there.
  for (const Node* one : node.children)
    if (!one->is_free) out.push_back(one);
  return out;
}

SheetType Tree::type(ExpressionNames::Place place) const {
  const Node& node = as_node(place);
  if (node.is_array) return node.field->is_copies() ? SheetType::record : SheetType::array;
  if (node.record != nullptr) return SheetType::record;
  switch (node.field->kind) {
    case FieldKind::number:
      return SheetType::number;
    case FieldKind::truth:
      return SheetType::truth;
    case FieldKind::text:
    case FieldKind::bytes:
      return SheetType::text;
    default:
      return SheetType::nothing;
  }
}

SheetValue Tree::value(ExpressionNames::Place place) const {
  const Node& node = as_node(place);
  if (node.is_array || node.record != nullptr || !node.problem.empty()) return {};
  switch (node.field->kind) {
    case FieldKind::number:
    case FieldKind::truth: {
      const auto number = read_number(node.field->number, view_of(node));
      if (!number) return {};
      if (node.field->kind == FieldKind::truth) return *number != 0;
      return *number;
    }
    case FieldKind::text:
      return read_text(sheet_.text_forms[node.field->text_form], *node.field, view_of(node));
    case FieldKind::bytes:
      return hex_text(view_of(node));
    case FieldKind::derived: {
      constexpr int max_depth = 16;
      if (derived_depth_ >= max_depth) return {};
      ++derived_depth_;
      SheetValue derived = ask(node.field->derived, *node.outer);
      --derived_depth_;
      return derived;
    }
    case FieldKind::record:
      break;
  }
  return {};
}

SheetValue Tree::lookup(const std::string& table, SheetNumber key, const std::string& column) const {
  const auto found = sheet_.tables.find(table);
  return found == sheet_.tables.end() ? SheetValue{} : found->second.cell(key, column);
}

bool Tree::has(const std::string& table, SheetNumber key) const {
  const auto found = sheet_.tables.find(table);
  return found != sheet_.tables.end() && found->second.by_key.contains(key);
}

SheetValue Tree::special(ExpressionNames::Place from, const std::string& name) const {
  for (const Node* at = &as_node(from); at != nullptr; at = at->outer) {
    if (name == "index" && at->is_element) return at->index;
    if (name == "size" && at->space != nullptr) return static_cast<SheetNumber>(at->space->bytes.size());
  }
  return {};
}

SheetValue Tree::ask(const Expression& expression, const Node& place) const {
  constexpr std::size_t steps_each = 20000;
  StepBudget budget{std::min(steps_each, total_.left)};
  const std::size_t before = budget.left;
  SheetValue value = evaluate(expression, *this, &place, budget);
  // What was asked within it has been taken off as well.
  total_.left -= std::min(total_.left, before - budget.left);
  return value;
}

std::string Tree::path_of(const Node& node) {
  if (node.outer == nullptr) return {};
  std::string outer = path_of(*node.outer);
  if (node.is_element) return outer + fmt::format("[{}]", node.index);
  if (node.field->flat) return outer;
  return outer.empty() ? node.field->name : outer + "." + node.field->name;
}

bool Tree::is_unused(const Node& node) {
  for (const Node* at = &node; at != nullptr; at = at->outer)
    if (at->is_free || at->is_blank) return true;
  return false;
}

Result<Tree::Found> Tree::find_path(std::string_view path) {
  Found found{root_, {}, {}};
  std::string_view left = path;
  const auto wrong = [&](const std::string& what, std::string hint = {}) {
    return fail(ErrorCode::not_found, fmt::format("'{}': {}", printable(path), what), std::move(hint));
  };
  while (!left.empty()) {
    if (found.flag) return wrong("a flag has nothing in it");
    if (left.front() == '[') {
      const std::size_t end = left.find(']');
      std::int64_t number = 0;
      const auto parsed = end == std::string_view::npos
                              ? std::from_chars_result{left.data(), std::errc::invalid_argument}
                              : std::from_chars(left.data() + 1, left.data() + end, number);
      if (parsed.ec != std::errc{} || parsed.ptr != left.data() + end)
        return wrong("expected a number in [ ]");
      if (!found.node->is_array) return wrong(fmt::format("{} is not an array", path_of(*found.node)));
      const auto* element = static_cast<const Node*>(this->element(found.node, number));
      if (element == nullptr)
        return wrong(fmt::format("{} has no element {}", path_of(*found.node), number),
                     found.node->children.empty()
                         ? "it is empty"
                         : fmt::format("elements are {} to {}", found.node->field->first,
                                       found.node->field->first +
                                           static_cast<SheetNumber>(found.node->children.size()) - 1));
      found.node = found.node->children[static_cast<std::size_t>(number - found.node->field->first)];
      left.remove_prefix(end + 1);
      continue;
    }
    if (left.front() == '.') left.remove_prefix(1);
    const std::size_t end = std::min(left.find_first_of(".["), left.size());
    const std::string_view name = left.substr(0, end);
    left.remove_prefix(end);
    if (found.node->is_array && found.node->field->is_copies() && !found.node->children.empty()) {
      found.by_newest.push_back(found.node);
      found.node = found.node->children[found.node->newest];
    }
    if (found.node->is_array)
      return wrong(fmt::format("{} is an array", path_of(*found.node)),
                   fmt::format("name an element: {}[{}]", path_of(*found.node), found.node->field->first));
    if (found.node->record == nullptr) {
      const auto& flags = found.node->field->number.flags;
      const auto flag = std::ranges::find(flags, name);
      if (name.empty() || flag == flags.end())
        return wrong(fmt::format("{} has no '{}' in it", path_of(*found.node), printable(name)),
                     did_you_mean(name, flags));
      found.flag = static_cast<unsigned>(flag - flags.begin());
      continue;
    }
    Node* next = child(*found.node, name);
    if (next == nullptr) {
      std::vector<std::string> names;
      const auto collect = [&](const auto& self, const Node& node) -> void {
        for (const Node* one : node.children) {
          names.push_back(one->field->name);
          if (one->field->flat) self(self, *one);
        }
      };
      collect(collect, *found.node);
      std::string hint = did_you_mean(name, names);
      if (hint.empty() && !names.empty()) hint = "there are " + joined(names, ", ");
      const std::string where = path_of(*found.node);
      return wrong(where.empty() ? fmt::format("the save has no '{}'", printable(name))
                                 : fmt::format("{} has no '{}'", where, printable(name)),
                   std::move(hint));
    }
    found.node = next;
  }
  return found;
}

}  // namespace bayswap::sheets
