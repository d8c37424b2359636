#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"
#include "sheet/sheet_save.hpp"

namespace bayswap::sheets {
namespace {

std::string rule_name(const Tree::RuleAt& rule) {
  const std::string path = Tree::path_of(*rule.record);
  return path.empty() ? rule.rule->id : fmt::format("{} at {}", rule.rule->id, path);
}

}  // namespace

std::span<Byte> bytes_of(const Node& copy) {
  if (copy.own_space != nullptr) return copy.own_space->bytes;
  return std::span(copy.space->bytes).subspan(copy.at, copy.size);
}

Editor::Editor(const Sheet& sheet, const std::vector<SheetFile>& files, std::set<std::string> accepted)
    : sheet_(sheet), before_(files), files_(files), accepted_(std::move(accepted)) {
  Tree tree(sheet_, before_);
  checksums_ = checksum_states(tree);
  for (const Tree::RuleAt& rule : tree.rules()) rules_[rule_name(rule)] = rule.holds;
}

Editor::ChecksumStates Editor::checksum_states(Tree& tree) {
  ChecksumStates states;
  for (const ChecksumAt& checksum : tree.checksums())
    states[checksum_name(checksum)] = {tree.checksum_holds(checksum), tree.checksum_value(checksum)};
  return states;
}

Result<void> Editor::keep_changes(Tree& tree) {
  BAYSWAP_CHECK(tree.store(tree.root()));
  files_ = tree.stored();
  return {};
}

// Of a node whose bytes were exchanged: what is scrambled within them is as it was stored.
Result<void> Editor::keep_outwards(Tree& tree, const Node& node) {
  for (const Node* at = &node; at != nullptr; at = at->outer)
    if (at->own_space != nullptr) BAYSWAP_CHECK(tree.encode(*at));
  files_ = tree.stored();
  return {};
}

// The newest copy's bytes go to the other one, counted up. Returns the number of that one.
Result<SheetNumber> Editor::begin_copy(Tree& tree, const Node& array) {
  const std::string path = Tree::path_of(array);
  const auto known = moved_.find(path);
  if (known != moved_.end()) return known->second;
  const Node& newest = *array.children[array.newest];
  const std::size_t next = (array.newest + 1) % array.children.size();
  Node& other = *array.children[next];
  const std::span<Byte> to = bytes_of(other);
  const std::span<Byte> from = bytes_of(newest);
  if (to.size() != from.size() || !newest.problem.empty())
    return fail(ErrorCode::damaged, fmt::format("{} can't be written: its copies differ in size", path), "");
  std::ranges::copy(from, to.begin());
  BAYSWAP_CHECK(keep_outwards(tree, other));
  const std::string old_path = Tree::path_of(newest);
  const std::string new_path = Tree::path_of(other);
  Tree again(sheet_, files_);
  const std::string counter_path = fmt::format("{}.{}", new_path, array.field->counter);
  BAYSWAP_TRY(const Tree::Found counter, again.find_path(counter_path));
  const NumberForm& form = counter.node->field->number;
  const auto count = number_of(again.value_of(*counter.node));
  if (!count) return fail(ErrorCode::damaged, fmt::format("{} can't be read", counter_path), "");
  const auto [low, high] = range_of(form);
  const SheetNumber up = *count + form.times > high ? low : *count + form.times;
  BAYSWAP_CHECK(write_number(
      form, up, std::span(counter.node->space->bytes).subspan(counter.node->at, counter.node->size)));
  BAYSWAP_CHECK(keep_changes(again));
  moved_.emplace(path, other.index);
  notes_.push_back(
      fmt::format("written to {}, as the game does; {} keeps what was there", new_path, old_path));
  // The copy is now what the newest one was: what held there, holds here.
  const auto take_over = [&](auto& states) {
    std::remove_reference_t<decltype(states)> moved;
    for (const auto& [name, state] : states) {
      const std::size_t at = name.find(old_path);
      if (at == std::string::npos) continue;
      std::string own = name;
      moved[own.replace(at, old_path.size(), new_path)] = state;
    }
    for (auto& [name, state] : moved) states[name] = state;
  };
  take_over(checksums_);
  take_over(rules_);
  return other.index;
}

// Copies that are all written alike: one that is torn gets what the sound one holds, checksums and all. Made
// right by itself it would be sound, and another save.
Result<void> Editor::mend_mirrors() {
  bool changed = true;
  // A copy of copies is mended from the outside in: the tree is built anew after each.
  while (changed) {
    changed = false;
    Tree tree(sheet_, files_);
    const auto each = [&](const auto& self, Node& node) -> Result<void> {
      for (Node* one : node.children) {
        BAYSWAP_CHECK(self(self, *one));
        if (changed) return {};
      }
      if (!node.is_array || node.field->write != CopyWrite::all || !node.problem.empty() ||
          node.newest >= node.children.size())
        return {};
      Node& sound = *node.children[node.newest];
      for (Node* copy : node.children) {
        if (copy == &sound || copy->is_blank || !copy->problem.empty() || tree.all_checksums_hold(*copy))
          continue;
        const std::span<Byte> to = bytes_of(*copy);
        const std::span<Byte> from = bytes_of(sound);
        if (to.size() != from.size() || std::ranges::equal(to, from)) continue;
        std::ranges::copy(from, to.begin());
        notes_.push_back(fmt::format("{} was torn: it holds what {} holds now", Tree::path_of(*copy),
                                     Tree::path_of(sound)));
        changed = true;
        return keep_outwards(tree, *copy);
      }
      return {};
    };
    BAYSWAP_CHECK(each(each, tree.root()));
  }
  Tree after(sheet_, files_);
  checksums_ = checksum_states(after);
  return {};
}

// The path with each choice of a copy made: the newest, or the one that a change goes to.
Result<std::vector<std::string>> Editor::explicit_paths(std::string_view path) {
  Tree tree(sheet_, files_);
  BAYSWAP_TRY(Tree::Found found, tree.find_path(path));
  if (found.node->is_array && found.node->field->is_copies() && !found.node->children.empty()) {
    found.by_newest.push_back(found.node);
    found.node = found.node->children[found.node->newest];
  }
  std::string full = Tree::path_of(*found.node);
  if (found.flag) full += "." + found.node->field->number.flags[*found.flag];
  std::vector<std::string> paths{full};
  for (const Node* array : found.by_newest) {
    const std::string prefix = Tree::path_of(*array);
    const std::string newest = Tree::path_of(*array->children[array->newest]);
    const auto with = [&](const std::string& one, SheetNumber index) {
      return one.starts_with(newest) ? fmt::format("{}[{}]{}", prefix, index, one.substr(newest.size()))
                                     : one;
    };
    if (array->field->write == CopyWrite::other) {
      BAYSWAP_TRY(const SheetNumber index, begin_copy(tree, *array));
      for (std::string& one : paths) one = with(one, index);
    } else if (array->field->write == CopyWrite::all) {
      std::vector<std::string> all;
      for (const std::string& one : paths)
        for (const Node* copy : array->children)
          if (!copy->is_blank && copy->problem.empty()) all.push_back(with(one, copy->index));
      if (!all.empty()) paths = std::move(all);
    }
  }
  return paths;
}

Result<void> Editor::write(Tree& tree, Node& node, std::optional<unsigned> flag, std::string_view value) {
  const FieldDef& field = *node.field;
  const std::string path = Tree::path_of(node);
  const auto refuse = [&](const Error& why) {
    return fail(why.code, fmt::format("{}: {}", path, why.message), why.hint);
  };
  if (node.is_array || node.record != nullptr || field.kind == FieldKind::record)
    return fail(ErrorCode::bad_usage,
                fmt::format("{} is {}: it has no value of its own", path.empty() ? "the save" : path,
                            node.is_array ? "an array" : "a record"),
                "name a value in it");
  if (field.kind == FieldKind::derived)
    return fail(ErrorCode::bad_usage, fmt::format("{} is worked out from other values", path),
                "change those");
  if (!node.problem.empty())
    return fail(ErrorCode::damaged, fmt::format("{} can't be changed: {}", path, node.problem), "");
  const std::span<Byte> place = std::span(node.space->bytes).subspan(node.at, node.size);
  switch (field.kind) {
    case FieldKind::truth: {
      const auto truth = truth_from_text(value);
      if (!truth)
        return fail(ErrorCode::bad_usage,
                    fmt::format("{}: '{}' is neither yes nor no", path, printable(value)), "write yes or no");
      return write_number(field.number, *truth ? 1 : 0, place);
    }
    case FieldKind::number: {
      SheetNumber number = 0;
      if (flag) {
        const auto truth = truth_from_text(value);
        if (!truth)
          return fail(ErrorCode::bad_usage,
                      fmt::format("{}: '{}' is neither yes nor no", path, printable(value)),
                      "write yes or no");
        const SheetNumber bit = SheetNumber{1} << static_cast<int>(*flag);
        number = number_of(tree.value_of(node)).value_or(0);
        number = *truth ? number | bit : number & ~bit;
      } else {
        const auto parsed = number_from_text(sheet_, field.number, value);
        if (!parsed) return refuse(parsed.error());
        number = *parsed;
      }
      const auto written = write_number(field.number, number, place);
      if (!written) return refuse(written.error());
      return {};
    }
    case FieldKind::text: {
      const auto bytes = write_text(sheet_.text_forms[field.text_form], field, value, node.size);
      if (!bytes) return refuse(bytes.error());
      std::ranges::copy(*bytes, place.begin());
      return {};
    }
    default:
      break;
  }
  const auto bytes = bytes_from_hex(value);
  if (!bytes || bytes->size() != node.size)
    return fail(ErrorCode::bad_usage,
                fmt::format("{} takes {} in hex, and '{}' is not that", path, counted(node.size, "byte"),
                            printable(value)),
                "write two digits a byte");
  std::ranges::copy(*bytes, place.begin());
  return {};
}

Result<void> Editor::set_at(const std::string& path, const std::string& value) {
  Tree tree(sheet_, files_);
  BAYSWAP_TRY(const Tree::Found found, tree.find_path(path));
  const bool is_leaf = !found.node->is_array && found.node->record == nullptr && found.node->field != nullptr;
  // What it is already stays as it is stored, to the last bit.
  if (!found.flag && is_leaf && found.node->field->kind != FieldKind::derived &&
      found.node->problem.empty() && tree.value_of(*found.node).index() != 0 &&
      text_of(tree, *found.node) == value) {
    set_[path] = value;
    return {};
  }
  if (found.node->field == nullptr)
    return fail(ErrorCode::bad_usage, "the save as a whole has no value", "name a value in it: PATH=VALUE");
  BAYSWAP_CHECK(write(tree, *found.node, found.flag, value));
  set_[found.flag ? path.substr(0, path.rfind('.')) : path] = text_of(tree, *found.node);
  return keep_changes(tree);
}

// Whether the newest copy, or the one that changes go to already, has that value: then no other is begun.
Result<bool> Editor::is_so_already(const std::string& path, const std::string& value) const {
  Tree tree(sheet_, files_);
  BAYSWAP_TRY(const Tree::Found found, tree.find_path(path));
  const bool is_begun = std::ranges::any_of(
      found.by_newest, [&](const Node* array) { return moved_.contains(Tree::path_of(*array)); });
  const Node& node = *found.node;
  const bool is_value =
      node.field != nullptr && !node.is_array && node.record == nullptr && node.problem.empty();
  if (is_begun || !is_value || node.field->kind == FieldKind::derived) return false;
  const SheetValue is = tree.value_of(node);
  if (!found.flag) return is.index() != 0 && text_of(tree, node) == value;
  const auto wanted = truth_from_text(value);
  return wanted && (number_of(is).value_or(0) >> static_cast<int>(*found.flag) & 1) == (*wanted ? 1 : 0);
}

Result<void> Editor::set(const std::string& path, const std::string& value) {
  BAYSWAP_TRY(const bool is_so, is_so_already(path, value));
  if (is_so) return {};
  BAYSWAP_TRY(const auto paths, explicit_paths(path));
  for (const std::string& one : paths) BAYSWAP_CHECK(set_at(one, value));
  return {};
}

// A copy that was torn, and is made right, can count again: the game goes on from there.
void Editor::note_newest(const Node& before, const Node& after) {
  if (after.is_array && after.field->is_copies() && before.newest != after.newest &&
      after.newest < after.children.size() && before.newest < before.children.size())
    notes_.push_back(fmt::format(
        "{} counts now, and no longer {}: it was damaged; look at it before you play on",
        Tree::path_of(*after.children[after.newest]), Tree::path_of(*before.children[before.newest])));
  for (std::size_t i = 0; i < std::min(before.children.size(), after.children.size()); ++i)
    note_newest(*before.children[i], *after.children[i]);
}

Result<SheetEdit> Editor::finish(bool all) {
  Tree tree(sheet_, files_);
  SheetEdit edit;
  std::set<std::string> left_broken;
  const auto wanted = [&](const ChecksumAt& checksum) -> Result<bool> {
    const std::string name = checksum_name(checksum);
    const auto before = checksums_.find(name);
    const bool held = before == checksums_.end() || before->second.holds;
    if (!all && !held) {
      if (before->second.should == tree.checksum_value(checksum)) {
        left_broken.insert(name);
        return false;
      }
      if (!accepted_.contains(checksum.checksum->id))
        return fail(
            ErrorCode::unsafe,
            fmt::format("the checksum {} was broken before this change: the save may be damaged", name),
            "look what is wrong; or make all checksums right first",
            {Remedy::Kind::accept, {checksum.checksum->id}});
    }
    if (std::ranges::find(edit.recomputed, name) == edit.recomputed.end()) edit.recomputed.push_back(name);
    return true;
  };
  BAYSWAP_CHECK(tree.recompute(wanted));
  edit.files = tree.stored();
  Tree after(sheet_, edit.files);
  for (const ChecksumAt& checksum : after.checksums())
    if (all && !after.checksum_holds(checksum)) {
      edit.not_recomputed.push_back(checksum_name(checksum) +
                                    (checksum.problem.empty() ? "" : ": " + checksum.problem));
    } else if (!after.checksum_holds(checksum) && !left_broken.contains(checksum_name(checksum))) {
      const auto before = checksums_.find(checksum_name(checksum));
      if (before != checksums_.end() && !before->second.holds) continue;
      return fail(ErrorCode::unsafe,
                  fmt::format("the checksum {} can't be made right{}", checksum_name(checksum),
                              checksum.problem.empty() ? "" : ": " + checksum.problem),
                  "correct the sheet");
    }
  for (const auto& [path, value] : set_) {
    const auto found = after.find_path(path);
    if (!found || text_of(after, *found->node) != value)
      return fail(
          ErrorCode::unsafe,
          fmt::format("{} would not be {} afterwards: it is a checksum's, or depends on another value", path,
                      value),
          "change what it depends on");
  }
  for (const Tree::RuleAt& rule : after.rules()) {
    const auto before = rules_.find(rule_name(rule));
    if (rule.holds != false || (before != rules_.end() && before->second == false)) continue;
    const std::string path = Tree::path_of(*rule.record);
    if (!all && rule.rule->severity != Severity::note && !accepted_.contains(rule.rule->id))
      return fail(ErrorCode::unsafe,
                  fmt::format("{}{}{} (rule {})", path, path.empty() ? "" : ": ", rule.rule->text.in({}),
                              rule.rule->id),
                  "choose values that keep the rule", {Remedy::Kind::accept, {rule.rule->id}});
    SheetFinding finding;
    finding.kind = SheetFinding::Kind::rule;
    finding.id = rule.rule->id;
    finding.path = path;
    finding.severity = severity_of(rule.rule->severity);
    finding.holds = false;
    finding.text = rule.rule->text.in({});
    edit.broken_rules.push_back(std::move(finding));
  }
  const Tree before(sheet_, before_);
  if (all) note_newest(before.root(), after.root());
  edit.changes = compare(before, after, {}, ChecksumFields::left_out);
  edit.notes = std::move(notes_);
  return edit;
}

}  // namespace bayswap::sheets

namespace bayswap {

Result<SheetEdit> SheetSave::change(const std::vector<SheetChange>& changes,
                                    const std::set<std::string>& accepted) const {
  sheets::Editor editor(sheet_.content(), files(), accepted);
  BAYSWAP_CHECK(editor.mend_mirrors());
  for (const auto& [path, value] : changes) BAYSWAP_CHECK(editor.set(path, value));
  return editor.finish();
}

Result<SheetEdit> SheetSave::recompute() const {
  sheets::Editor editor(sheet_.content(), files(), {});
  BAYSWAP_CHECK(editor.mend_mirrors());
  return editor.finish(true);
}

}  // namespace bayswap
