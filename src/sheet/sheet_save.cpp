#include "sheet/sheet_save.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"

namespace bayswap {
namespace sheets {

SheetSeverity severity_of(Severity severity) {
  switch (severity) {
    case Severity::error:
      return SheetSeverity::error;
    case Severity::warning:
      return SheetSeverity::warning;
    case Severity::note:
      break;
  }
  return SheetSeverity::note;
}

namespace {

std::string text_of_value(const Tree& tree, const Node& node, const SheetValue& value) {
  const auto number = number_of(value);
  return number               ? number_text(tree.sheet(), node.field->number, *number)
         : value.index() == 0 ? ""
                              : to_text(value);
}

// `text`: the value as a change takes it, which most are shown as.
std::string shown_of_value(const Tree& tree, const Node& node, const SheetValue& value,
                           const std::string& text, std::string_view language) {
  if (value.index() == 0) return {};
  const auto number = number_of(value);
  const NumberForm& form = node.field->number;
  const bool has_looks = !form.table.empty() || !form.flags.empty() || form.show != Show::plain;
  std::string shown = number && has_looks ? number_shown(tree.sheet(), form, *number, language) : text;
  const std::string& unit = node.field->unit.in(language);
  if (!unit.empty() && !shown.empty()) shown += " " + unit;
  return shown;
}

}  // namespace

std::string text_of(const Tree& tree, const Node& node) {
  return text_of_value(tree, node, tree.value_of(node));
}

std::string shown_of(const Tree& tree, const Node& node, std::string_view language) {
  const SheetValue value = tree.value_of(node);
  return shown_of_value(tree, node, value, text_of_value(tree, node, value), language);
}

std::string checksum_name(const ChecksumAt& checksum) {
  const std::string path = Tree::path_of(*checksum.record);
  return path.empty() ? checksum.checksum->id : fmt::format("{} at {}", checksum.checksum->id, path);
}

namespace {

void show_value(const Tree& tree, const Node& node, std::string_view language, SheetNode& out) {
  const FieldDef& field = *node.field;
  switch (field.kind) {
    case FieldKind::text:
      out.kind = SheetNode::Kind::text;
      break;
    case FieldKind::bytes:
      out.kind = SheetNode::Kind::bytes;
      break;
    case FieldKind::truth:
      out.kind = SheetNode::Kind::truth;
      break;
    default:
      out.kind = SheetNode::Kind::number;
      break;
  }
  const SheetValue value = tree.value_of(node);
  if (field.kind == FieldKind::derived) {
    out.is_derived = true;
    if (value.index() == 2) out.kind = SheetNode::Kind::text;
    if (value.index() == 3) out.kind = SheetNode::Kind::truth;
  }
  const auto number = number_of(value);
  constexpr SheetNumber most = SheetNumber{1} << 63;
  if (number && *number < most && *number >= -most) out.number = static_cast<std::int64_t>(*number);
  out.value = text_of_value(tree, node, value);
  out.shown = shown_of_value(tree, node, value, out.value, language);
  out.problem = node.problem;
  if (value.index() == 0 && out.problem.empty() && !out.is_derived)
    out.problem = "it is not a decimal number";
  if (node.space == nullptr || out.is_derived) return;
  out.offset = node.at;
  out.bit = field.number.bit;
  out.bits = field.kind == FieldKind::number || field.kind == FieldKind::truth
                 ? field.number.bits
                 : static_cast<unsigned>(8 * node.size);
}

}  // namespace

namespace {

struct Showing {
  const Tree& tree;
  std::string_view language;
  SheetDepth depth;
};

std::string path_below(const std::string& outer, const Node& node) {
  if (node.is_element) return outer + fmt::format("[{}]", node.index);
  if (node.field->flat) return outer;
  return outer.empty() ? node.field->name : outer + "." + node.field->name;
}

SheetNode show_node(const Showing& how, const Node& node, std::string path, bool is_in_list) {
  const Tree& tree = how.tree;
  const std::string_view language = how.language;
  SheetNode out;
  out.path = std::move(path);
  out.is_unused = node.is_free;
  out.is_blank = node.is_blank;
  if (node.field != nullptr) {
    out.is_hidden = node.field->is_hidden;
    out.name = node.is_element ? fmt::format("[{}]", node.index) : node.field->name;
    if (!node.is_element) {
      out.label = node.field->label.in(language);
    } else if (!node.field->labels.empty()) {
      const auto labels = tree.sheet().tables.find(node.field->labels);
      if (labels != tree.sheet().tables.end()) out.label = labels->second.name_of(node.index, language);
    }
    if (out.label.empty())
      out.label = node.is_element && !node.field->pattern.empty() ? tree.file_name(*node.space) : out.name;
  }
  if (node.space != nullptr) {
    out.file = tree.file_name(*node.space);
    out.is_stored_plainly = node.space->outer == nullptr;
  }
  const bool is_value = node.field != nullptr && !node.is_array && node.record == nullptr;
  if (is_value && node.field->kind != FieldKind::record) {
    show_value(tree, node, language, out);
    return out;
  }
  out.kind = node.is_array ? SheetNode::Kind::array : SheetNode::Kind::record;
  out.problem = node.problem;
  out.offset = node.at;
  out.bits = static_cast<unsigned>(8 * node.size);
  const bool is_copies = node.is_array && node.field->is_copies();
  out.children.reserve(node.children.size());
  for (const Node* one : node.children) {
    // Of what is in an element of a list, its own values are enough for a look.
    const bool is_inner = one->is_array || one->record != nullptr;
    if (how.depth == SheetDepth::look && is_in_list && is_inner && !one->field->flat && !node.is_array)
      continue;
    SheetNode inner =
        show_node(how, *one, path_below(out.path, *one), is_in_list || (node.is_array && !is_copies));
    if (one->field->flat && !one->is_element && one->problem.empty()) {
      for (SheetNode& flat : inner.children) out.children.push_back(std::move(flat));
      continue;
    }
    out.children.push_back(std::move(inner));
  }
  if (is_copies && node.newest < out.children.size() && !out.children[node.newest].is_blank)
    out.children[node.newest].is_newest = true;
  return out;
}

}  // namespace

}  // namespace sheets

std::string_view to_text(SheetSeverity severity) {
  switch (severity) {
    case SheetSeverity::error:
      return "error";
    case SheetSeverity::warning:
      return "warning";
    case SheetSeverity::note:
      return "note";
  }
  return "";
}

SheetSave::SheetSave(Sheet sheet, std::vector<SheetFile> files)
    : sheet_(std::move(sheet)),
      impl_(std::make_unique<Impl>(sheet_, std::vector<SheetFile>(std::move(files)))) {}
SheetSave::~SheetSave() = default;
SheetSave::SheetSave(SheetSave&&) noexcept = default;
SheetSave& SheetSave::operator=(SheetSave&&) noexcept = default;

const std::vector<SheetFile>& SheetSave::files() const {
  return impl_->tree.files();
}

Result<SheetNode> SheetSave::show(std::string_view path, std::string_view language, SheetDepth depth) const {
  BAYSWAP_TRY(const sheets::Tree::Found found, impl_->tree.find_path(path));
  SheetNode node = sheets::show_node({impl_->tree, language, depth}, *found.node,
                                     sheets::Tree::path_of(*found.node), false);
  if (found.flag) {
    node.path += "." + found.node->field->number.flags[*found.flag];
    node.name = node.label = found.node->field->number.flags[*found.flag];
    node.kind = SheetNode::Kind::truth;
    node.bit += *found.flag;
    node.bits = 1;
    node.number = node.number ? std::optional(*node.number >> *found.flag & 1) : std::nullopt;
    node.value = node.shown = node.number == 1 ? "yes" : "no";
  }
  return node;
}

std::vector<SheetFinding> SheetSave::findings(std::string_view language) const {
  return look(language, false).findings;
}

SheetVerdict SheetSave::verdict(std::string_view language) const {
  return look(language, true);
}

SheetVerdict SheetSave::look(std::string_view language, bool only_broken) const {
  SheetVerdict verdict;
  std::vector<SheetFinding>& out = verdict.findings;
  sheets::Tree& tree = impl_->tree;
  const auto unreadable = [&](const auto& self, const sheets::Node& node) -> void {
    if (node.is_free || node.is_blank) return;
    if (!node.problem.empty()) {
      SheetFinding finding;
      finding.kind = SheetFinding::Kind::unreadable;
      finding.path = sheets::Tree::path_of(node);
      finding.holds = false;
      finding.text = fmt::format("{}: {}", finding.path.empty() ? "the save" : finding.path, node.problem);
      out.push_back(std::move(finding));
    }
    for (const sheets::Node* one : node.children) self(self, *one);
  };
  unreadable(unreadable, tree.root());
  for (const sheets::ChecksumAt& checksum : tree.checksums()) {
    ++verdict.checked;
    const bool checksum_holds = tree.checksum_holds(checksum);
    if (only_broken && checksum_holds) continue;
    SheetFinding finding;
    finding.id = checksum.checksum->id;
    finding.path = sheets::Tree::path_of(*checksum.record);
    finding.severity = sheets::severity_of(checksum.checksum->severity);
    finding.holds = checksum_holds;
    const sheets::Space& space =
        checksum.record->own_space != nullptr ? *checksum.record->own_space : *checksum.record->space;
    finding.file = tree.file_name(space);
    finding.offset = checksum.at;
    finding.size_bytes = size_of(checksum.checksum->form);
    const std::string& said = checksum.checksum->text.in(language);
    const std::string what = said.empty() ? fmt::format("{}: {}", sheets::checksum_name(checksum),
                                                        to_text(checksum.checksum->form))
                                          : fmt::format("{}: {}", sheets::checksum_name(checksum), said);
    if (!checksum.problem.empty()) {
      finding.text = fmt::format("{}: {}", what, checksum.problem);
    } else {
      finding.is = sheets::hex_text(ByteView(space.bytes).subspan(checksum.at, finding.size_bytes));
      finding.should = sheets::hex_text(tree.checksum_value(checksum));
      finding.text =
          *finding.holds ? what : fmt::format("{}: is {}, should be {}", what, finding.is, finding.should);
    }
    out.push_back(std::move(finding));
  }
  for (const sheets::Tree::RuleAt& rule : tree.rules()) {
    ++verdict.checked;
    if (only_broken && rule.holds != false) continue;
    SheetFinding finding;
    finding.kind = SheetFinding::Kind::rule;
    finding.id = rule.rule->id;
    finding.path = sheets::Tree::path_of(*rule.record);
    finding.severity = sheets::severity_of(rule.rule->severity);
    finding.holds = rule.holds;
    finding.text = finding.path.empty() ? rule.rule->text.in(language)
                                        : fmt::format("{}: {}", finding.path, rule.rule->text.in(language));
    out.push_back(std::move(finding));
  }
  return verdict;
}

}  // namespace bayswap
