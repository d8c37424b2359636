// Names and types of a sheet's expressions, checked in every place where a record is used.
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <set>

#include "base/try.hpp"
#include "sheet/model.hpp"

namespace bayswap::sheets {
namespace {

constexpr std::size_t max_sheet_depth = 12;
constexpr std::size_t max_places = 20000;

// A record or a field in its context: what is around it.
struct Place {
  const Place* outer = nullptr;  // the record around it
  const RecordDef* record = nullptr;
  const FieldDef* field = nullptr;
  bool is_element = false;  // of the array `field`
};

class Types final : public ExpressionTypes {
 public:
  explicit Types(const Sheet& sheet) : sheet_(sheet) {}

  ExpressionTypes::Place find(ExpressionTypes::Place from, const std::string& name) const override {
    for (const auto* at = record_at(from); at != nullptr; at = record_at(at->outer))
      if (const auto* found = member(at, name)) return found;
    return nullptr;
  }

  ExpressionTypes::Place member(ExpressionTypes::Place place, const std::string& name) const override {
    const auto* record = inside(place);
    if (record == nullptr) return nullptr;
    const FoundField found = find_field(sheet_, *record->record, name);
    if (found.field == nullptr) return nullptr;
    const bayswap::sheets::Place* outer = record;
    for (const FieldDef* through : found.through) outer = add({outer, record_of(*through), through, false});
    return add({outer, nullptr, found.field, false});
  }

  ExpressionTypes::Place element(ExpressionTypes::Place array) const override {
    const auto& at = *static_cast<const bayswap::sheets::Place*>(array);
    return add(
        {at.outer, at.field->kind == FieldKind::record ? record_of(*at.field) : nullptr, at.field, true});
  }

  SheetType type(ExpressionTypes::Place place) const override {
    const auto& at = *static_cast<const bayswap::sheets::Place*>(place);
    if (at.field == nullptr) return SheetType::record;
    // Copies stand for the newest of them.
    if (at.field->is_array && !at.is_element)
      return at.field->is_copies() ? SheetType::record : SheetType::array;
    switch (at.field->kind) {
      case FieldKind::number:
        return SheetType::number;
      case FieldKind::truth:
        return SheetType::truth;
      case FieldKind::text:
      case FieldKind::bytes:
        return SheetType::text;
      case FieldKind::record:
        return SheetType::record;
      case FieldKind::derived:
        break;
    }
    // A derived value that names others twice each, which name others twice each, doubles with every level.
    constexpr std::size_t max_derived_asked = 100000;
    if (derived_depth_ > max_sheet_depth || ++derived_asked_ > max_derived_asked) return SheetType::nothing;
    ++derived_depth_;
    const auto type = type_of(at.field->derived, *this, at.outer);
    --derived_depth_;
    return type ? *type : SheetType::nothing;
  }

  std::optional<SheetType> column(const std::string& table, const std::string& column) const override {
    const auto found = sheet_.tables.find(table);
    if (found == sheet_.tables.end()) return std::nullopt;
    const auto at = found->second.column(column);
    if (!at) return std::nullopt;
    return found->second.is_text[*at] ? SheetType::text : SheetType::number;
  }

  bool has_table(const std::string& table) const override { return sheet_.tables.contains(table); }

  std::vector<std::string> names(ExpressionTypes::Place from) const override {
    std::vector<std::string> names;
    for (const auto* at = record_at(from); at != nullptr; at = record_at(at->outer))
      for (const FieldDef& field : at->record->fields) names.push_back(field.name);
    return names;
  }

  const bayswap::sheets::Place* add(const bayswap::sheets::Place& place) const {
    return &places_.emplace_back(place);
  }
  [[nodiscard]] bool is_full() const { return places_.size() > max_places * 8; }
  [[nodiscard]] const RecordDef* record_of(const FieldDef& field) const {
    return &sheet_.records[field.record];
  }

 private:
  // The place itself as a record, or the record around a value.
  static const bayswap::sheets::Place* record_at(ExpressionTypes::Place place) {
    const auto* at = static_cast<const bayswap::sheets::Place*>(place);
    while (at != nullptr && at->record == nullptr) at = at->outer;
    return at;
  }
  // The record that a place is.
  const bayswap::sheets::Place* inside(ExpressionTypes::Place place) const {
    const auto* at = static_cast<const bayswap::sheets::Place*>(place);
    if (at->record != nullptr) return at;
    if (at->field == nullptr || at->field->kind != FieldKind::record) return nullptr;
    if (at->field->is_array && !at->is_element && !at->field->is_copies()) return nullptr;
    return add({at->outer, record_of(*at->field), at->field, true});
  }

  const Sheet& sheet_;
  mutable std::deque<bayswap::sheets::Place> places_;  // which stay where they are
  mutable std::size_t derived_depth_ = 0;
  mutable std::size_t derived_asked_ = 0;
};

class Checker {
 public:
  explicit Checker(const Sheet& sheet) : sheet_(sheet), types_(sheet) {}

  Result<void> run() { return record(*types_.add({nullptr, &sheet_.records.front(), nullptr, false}), 0); }

 private:
  tl::unexpected<Error> error(const std::string& where, const Error& error) const {
    return fail(ErrorCode::bad_usage, fmt::format("{}: {}: {}", sheet_.origin, where, error.message),
                error.hint);
  }
  tl::unexpected<Error> error(const std::string& where, const std::string& what,
                              std::string hint = {}) const {
    return fail(ErrorCode::bad_usage, fmt::format("{}: {}: {}", sheet_.origin, where, what), std::move(hint));
  }

  Result<void> need(const Expression& expression, SheetType wanted, const Place& place,
                    const std::string& where) {
    if (expression.nodes.empty()) return {};
    const auto type = type_of(expression, types_, &place);
    if (!type) return error(where, type.error());
    if (*type != wanted)
      return error(where, fmt::format("\"{}\" is {} and should be {}", expression.source, to_text(*type),
                                      to_text(wanted)));
    return {};
  }

  Result<void> field(const Place& outer, const FieldDef& field, std::size_t depth) {
    const std::string where =
        outer.record->name.empty() ? "field " + field.name : "field " + outer.record->name + "." + field.name;
    const auto number = [&](const Expression& one) { return need(one, SheetType::number, outer, where); };
    if (field.at) BAYSWAP_CHECK(number(*field.at));
    if (field.count) BAYSWAP_CHECK(number(*field.count));
    for (const Expression& place : field.places) BAYSWAP_CHECK(number(place));
    if (field.condition) BAYSWAP_CHECK(need(*field.condition, SheetType::truth, outer, where));
    BAYSWAP_CHECK(number(field.size));
    for (const Scramble& scramble : field.scrambles) BAYSWAP_CHECK(number(scramble.key));
    if (field.blocks) BAYSWAP_CHECK(number(field.blocks->at));
    if (field.kind == FieldKind::derived) {
      const auto type = type_of(field.derived, types_, &outer);
      if (!type) return error(where, type.error());
      if (*type == SheetType::nothing)
        return error(where, "values that are worked out refer to each other, more than 12 deep");
    }
    if (field.kind != FieldKind::record) return {};
    const Place& inner = *types_.add({&outer, types_.record_of(field), &field, true});
    if (field.free) BAYSWAP_CHECK(need(*field.free, SheetType::truth, inner, where));
    if (!field.counter.empty()) {
      const FoundField counter = find_field(sheet_, *inner.record, field.counter);
      if (counter.field == nullptr || counter.field->kind != FieldKind::number || counter.field->is_array)
        return error(where, fmt::format("its counter {} is not a number field of its record", field.counter));
    }
    return record(inner, depth + 1);
  }

  Result<void> unambiguous(const RecordDef& record, std::set<std::string>& names, const std::string& where,
                           std::size_t depth) {
    if (depth > max_sheet_depth) return error(where, "records within themselves");
    for (const FieldDef& field : record.fields) {
      if (!names.insert(field.name).second)
        return error(where,
                     fmt::format("two fields are called {}, one of them in a flat record", field.name));
      if (field.flat) BAYSWAP_CHECK(unambiguous(sheet_.records[field.record], names, where, depth + 1));
    }
    return {};
  }

  Result<void> record(const Place& place, std::size_t depth) {
    const RecordDef& record = *place.record;
    const std::string where = record.name.empty() ? "the sheet" : "record " + record.name;
    if (depth > max_sheet_depth)
      return error(where, fmt::format("records more than {} deep, or within themselves", max_sheet_depth));
    if (++records_ > max_places || types_.is_full())
      return error(where, "records are used in too many places");
    std::set<std::string> names;
    BAYSWAP_CHECK(unambiguous(record, names, where, depth));
    for (const FieldDef& one : record.fields) BAYSWAP_CHECK(field(place, one, depth));
    for (const ChecksumDef& checksum : record.checksums) {
      const std::string its = "checksum " + checksum.id;
      BAYSWAP_CHECK(need(checksum.at, SheetType::number, place, its));
      for (const auto& [from, to] : checksum.ranges) {
        BAYSWAP_CHECK(need(from, SheetType::number, place, its));
        BAYSWAP_CHECK(need(to, SheetType::number, place, its));
      }
      for (const std::string& name : checksum.fields)
        if (find_field(sheet_, record, name).field == nullptr)
          return error(its, fmt::format("{} has no field {}", where, name));
      if (checksum.condition) BAYSWAP_CHECK(need(*checksum.condition, SheetType::truth, place, its));
    }
    for (const RuleDef& rule : record.rules) {
      BAYSWAP_CHECK(need(rule.require, SheetType::truth, place, "rule " + rule.id));
      if (rule.condition) BAYSWAP_CHECK(need(*rule.condition, SheetType::truth, place, "rule " + rule.id));
    }
    return {};
  }

  const Sheet& sheet_;
  Types types_;
  std::size_t records_ = 0;
};

}  // namespace

Result<void> check_sheet(const Sheet& sheet) {
  return Checker(sheet).run();
}

}  // namespace bayswap::sheets
