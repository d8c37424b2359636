// Records taken out of a save, and put into another.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/codec.hpp"
#include "sheet/sheet_save.hpp"

namespace bayswap::sheets {
namespace {

// Nodes of one field, wherever it is used.
void collect_like(const Node& node, const FieldDef& field, std::vector<const Node*>& out) {
  if (node.is_free || node.is_blank) return;
  if (node.field == &field && !node.is_array && node.problem.empty()) out.push_back(&node);
  for (const Node* one : node.children) collect_like(*one, field, out);
}

}  // namespace

Result<std::string> Editor::free_place(const Node& array) const {
  if (!array.field->free)
    return fail(ErrorCode::bad_usage,
                fmt::format("the sheet has no rule for unused elements of {}", Tree::path_of(array)),
                fmt::format("name the place: {}[{}]", Tree::path_of(array), array.field->first));
  for (const Node* one : array.children)
    if (one->is_free && one->problem.empty()) return Tree::path_of(*one);
  return fail(ErrorCode::does_not_fit, fmt::format("{} has no unused place", Tree::path_of(array)),
              "name one to replace what is there");
}

// Plain bytes first, then those that are scrambled with this save's own keys.
Result<void> Editor::put_bytes(const std::string& path, const SheetRecord& record) {
  for (const auto& [below, bytes] : record.bytes) {
    Tree tree(sheet_, files_);
    const std::string full = below.empty() ? path : fmt::format("{}.{}", path, below);
    BAYSWAP_TRY(const Tree::Found found, tree.find_path(full));
    const std::span<Byte> place = bytes_of(*found.node);
    if (place.size() != bytes.size())
      return fail(ErrorCode::does_not_fit,
                  fmt::format("{} has {} here and {} in the record", full, counted(place.size(), "byte"),
                              bytes.size()),
                  "was it exported from a save of this game?");
    std::ranges::copy(bytes, place.begin());
    BAYSWAP_CHECK(keep_outwards(tree, *found.node));
  }
  return {};
}

// By the names of fields, old ones too.
Result<void> Editor::put_values(const std::string& path, const SheetRecord& record) {
  std::vector<std::string> unknown;
  for (const auto& [below, value] : record.values) {
    Tree tree(sheet_, files_);
    std::string full = fmt::format("{}.{}", path, below);
    if (!tree.find_path(full)) {
      // The last name may have been another one.
      BAYSWAP_TRY(const Tree::Found found, tree.find_path(path));
      const FieldDef* now = nullptr;
      for (const FieldDef& field : found.node->record->fields)
        if (std::ranges::find(field.was, below.substr(0, below.find_first_of(".["))) != field.was.end())
          now = &field;
      full = now == nullptr ? full
                            : fmt::format("{}.{}{}", path, now->name,
                                          below.substr(std::min(below.find_first_of(".["), below.size())));
      if (now == nullptr || !tree.find_path(full)) {
        unknown.push_back(below);
        continue;
      }
    }
    BAYSWAP_CHECK(set_at(full, value));
  }
  if (unknown.empty()) return {};
  return fail(
      ErrorCode::does_not_fit,
      fmt::format("this sheet's {} (version {}) does not know {} of the record's version {}", record.record,
                  sheet_.records.front().version, joined(unknown, ", "), record.version),
      "leave them out of the record's file, or add their new names to the sheet: was = [...]");
}

Result<void> Editor::make_unique(const std::string& path) {
  Tree tree(sheet_, files_);
  BAYSWAP_TRY(const Tree::Found found, tree.find_path(path));
  const auto each = [&](const auto& self, const Node& node) -> Result<void> {
    for (const Node* one : node.children) BAYSWAP_CHECK(self(self, *one));
    if (node.field == nullptr || !node.field->is_unique || !node.problem.empty()) return {};
    const auto own = number_of(tree.value_of(node));
    std::vector<const Node*> like;
    collect_like(tree.root(), *node.field, like);
    std::set<SheetNumber> taken;
    for (const Node* other : like)
      if (other != &node)
        if (const auto number = number_of(tree.value_of(*other))) taken.insert(*number);
    if (!own || !taken.contains(*own)) return {};
    const auto [low, high] = range_of(node.field->number);
    SheetNumber fresh = *taken.rbegin() + node.field->number.times;
    if (fresh > high)
      for (fresh = std::max<SheetNumber>(low, 1); taken.contains(fresh); ++fresh) {
      }
    const std::string where = Tree::path_of(node);
    if (fresh > high)
      return fail(ErrorCode::does_not_fit, fmt::format("every number of {} is taken", where), "");
    notes_.push_back(fmt::format("{} is {} now: {} is taken", where, to_text(SheetValue(fresh)),
                                 to_text(SheetValue(*own))));
    return set_at(where, number_text(sheet_, node.field->number, fresh));
  };
  return each(each, *found.node);
}

Result<void> Editor::put(std::string_view path, const SheetRecord& record) {
  std::string place(path);
  {
    Tree tree(sheet_, files_);
    BAYSWAP_TRY(const Tree::Found found, tree.find_path(path));
    if (found.node->is_array && !found.node->field->is_copies()) {
      BAYSWAP_TRY(place, free_place(*found.node));
      // Copies that the path left open stay open, so that the write goes to the right one.
      for (const Node* array : found.by_newest) {
        const std::string newest = Tree::path_of(*array->children[array->newest]);
        if (place.starts_with(newest)) place = Tree::path_of(*array) + place.substr(newest.size());
      }
    }
  }
  BAYSWAP_TRY(const auto paths, explicit_paths(place));
  for (const std::string& one : paths) {
    Tree tree(sheet_, files_);
    BAYSWAP_TRY(const Tree::Found found, tree.find_path(one));
    const Node& node = *found.node;
    if (node.record == nullptr || node.is_array || node.outer == nullptr)
      return fail(ErrorCode::bad_usage, fmt::format("{} is not a record", one.empty() ? "the save" : one),
                  "name a record");
    if (record.sheet != sheet_.id || record.record != node.record->name)
      return fail(ErrorCode::does_not_fit,
                  fmt::format("the record is a {} of sheet {}, and {} is a {} of {}", record.record,
                              record.sheet, one, node.record->name, sheet_.id),
                  "name a place for it");
    const bool is_same_form = record.version == node.record->version && !record.bytes.empty();
    if (is_same_form) {
      BAYSWAP_CHECK(put_bytes(one, record));
    } else {
      BAYSWAP_CHECK(put_values(one, record));
    }
    BAYSWAP_CHECK(make_unique(one));
    notes_.push_back(fmt::format("put at {}", one));
  }
  return {};
}

}  // namespace bayswap::sheets

namespace bayswap {

Result<SheetEdit> SheetSave::put(std::string_view path, const SheetRecord& record,
                                 const std::set<std::string>& accepted) const {
  sheets::Editor editor(sheet_.content(), files(), accepted);
  BAYSWAP_CHECK(editor.mend_mirrors());
  BAYSWAP_CHECK(editor.put(path, record));
  return editor.finish();
}

Result<SheetRecord> SheetSave::take(std::string_view path) const {
  sheets::Tree& tree = impl_->tree;
  BAYSWAP_TRY(const sheets::Tree::Found found, tree.find_path(path));
  const bool is_copies =
      found.node->is_array && found.node->field->is_copies() && !found.node->children.empty();
  const sheets::Node& node = is_copies ? *found.node->children[found.node->newest] : *found.node;
  if (found.flag || node.is_array || node.record == nullptr || node.outer == nullptr)
    return fail(ErrorCode::bad_usage,
                fmt::format("{} is not a record", path.empty() ? "the save" : printable(path)),
                "name one: an element of an array, in most cases");
  if (!node.problem.empty())
    return fail(ErrorCode::damaged, fmt::format("{} can't be read: {}", printable(path), node.problem), "");
  if (node.is_free)
    return fail(ErrorCode::bad_usage, fmt::format("{} is unused", printable(path)), "name one that is used");
  SheetRecord record;
  record.sheet = sheet_.id();
  record.revision = sheet_.revision();
  record.record = node.record->name;
  record.version = node.record->version;
  record.own_file = node.record->own_file;
  const std::string prefix = sheets::Tree::path_of(node) + ".";
  const auto below = [&](const sheets::Node& one) {
    const std::string full = sheets::Tree::path_of(one);
    return full.size() < prefix.size() ? std::string{} : full.substr(prefix.size());
  };
  const auto collect = [&](const auto& self, const sheets::Node& one) -> void {
    const bool has_own = one.own_space != nullptr && !one.own_space->bytes.empty();
    if (&one == &node || (has_own && !one.field->flat)) {
      const ByteView bytes =
          has_own ? ByteView(one.own_space->bytes) : ByteView(one.space->bytes).subspan(one.at, one.size);
      record.bytes.emplace_back(below(one), std::vector<Byte>(bytes.begin(), bytes.end()));
    }
    if (one.record == nullptr && !one.is_array && one.field->kind != sheets::FieldKind::derived &&
        one.problem.empty())
      record.values.emplace_back(below(one), sheets::text_of(tree, one));
    for (const sheets::Node* inner : one.children) self(self, *inner);
  };
  collect(collect, node);
  return record;
}

Result<SheetRecord> SheetSave::record_of_file(std::string_view path, ByteView file) const {
  BAYSWAP_TRY(const sheets::Tree::Found found, impl_->tree.find_path(path));
  const sheets::FieldDef* field = found.node->field;
  const sheets::RecordDef* form = field != nullptr && field->kind == sheets::FieldKind::record
                                      ? &sheet_.content().records[field->record]
                                      : nullptr;
  if (form == nullptr || !form->own_file)
    return fail(ErrorCode::not_recognised,
                fmt::format("{} has no file form of its own", path.empty() ? "the save" : printable(path)),
                "use a file that was exported by this tool");
  if (file.size() != *form->size_bytes)
    return fail(ErrorCode::not_recognised,
                fmt::format("the file has {}, and a {} has {}", counted(file.size(), "byte"), form->name,
                            *form->size_bytes),
                "is it the right file?");
  SheetRecord record;
  record.sheet = sheet_.id();
  record.revision = sheet_.revision();
  record.record = form->name;
  record.version = form->version;
  record.own_file = true;
  record.bytes.emplace_back(std::string{}, std::vector<Byte>(file.begin(), file.end()));
  return record;
}

}  // namespace bayswap
