// The small language in which sheets say where a field is, how many there are, and what must hold. Every
// expression is of bounded size, takes a bounded number of steps, and has a value for every save: a number, a
// text, a truth, or nothing.
#pragma once

#include <bayswap/base.hpp>

#include <functional>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace bayswap {

/// Holds every field of up to 64 bits, signed or not, and sums of many of them.
__extension__ using SheetNumber = __int128;

enum class SheetType { nothing, number, text, truth, record, array };
[[nodiscard]] std::string_view to_text(SheetType type);

/// Nothing, where a save has no value there: a division by zero, a row that a table does not have.
using SheetValue = std::variant<std::monostate, SheetNumber, std::string, bool>;
[[nodiscard]] std::string to_text(const SheetValue& value);

/// A parsed expression. Immutable; copies cost what its text costs.
struct Expression {
  enum class Op : std::uint8_t {
    number,
    text,
    truth,
    path,
    call,
    negate,
    invert,
    is_not,
    add,
    subtract,
    multiply,
    divide,
    remainder,
    bit_and,
    bit_or,
    bit_xor,
    shift_left,
    shift_right,
    equal,
    not_equal,
    less,
    less_or_equal,
    greater,
    greater_or_equal,
    both,
    either,
    choose
  };
  enum class Function : std::uint8_t {
    min,
    max,
    abs,
    sum,
    count,
    all,
    any,
    find,
    unique,
    lookup,
    has,
    length,
    bits,
    ones
  };
  struct Step {
    std::string name;              // of a field; empty: an element
    std::uint32_t index_node = 0;  // of an element: which node gives its number
  };
  struct Node {
    Op op{};
    Function function{};
    SheetNumber number = 0;  // of Op::truth: 0 or 1
    std::string text;
    std::vector<Step> path;
    std::vector<std::uint32_t> operands;
  };
  std::string source;
  std::vector<Node> nodes;
  std::uint32_t root = 0;

  /// The number, where it is nothing else.
  [[nodiscard]] std::optional<SheetNumber> constant() const;
};

/// Fails with `bad_usage` if the text is no expression, over 2,000 bytes, or more than 32 deep.
[[nodiscard]] Result<Expression> parse_expression(std::string_view text);
[[nodiscard]] Expression constant_expression(SheetNumber number);

/// What an expression may ask of the save it is evaluated in. A `Place` is a value of the save, or of the
/// sheet where types are checked: opaque here.
class ExpressionNames {
 public:
  using Place = const void*;
  virtual ~ExpressionNames() = default;
  /// The field of that name, in the record `from` or in one around it; `from` null: where the expression is.
  [[nodiscard]] virtual Place find(Place from, const std::string& name) const = 0;
  [[nodiscard]] virtual Place member(Place record, const std::string& name) const = 0;
  /// `number` counts as the sheet has it; null outside of the array.
  [[nodiscard]] virtual Place element(Place array, SheetNumber number) const = 0;
  [[nodiscard]] virtual std::vector<Place> elements(Place array) const = 0;
  [[nodiscard]] virtual SheetType type(Place place) const = 0;
  [[nodiscard]] virtual SheetValue value(Place place) const = 0;
  /// The cell of a table that ships with the sheet.
  [[nodiscard]] virtual SheetValue lookup(const std::string& table, SheetNumber key,
                                          const std::string& column) const = 0;
  [[nodiscard]] virtual bool has(const std::string& table, SheetNumber key) const = 0;
  /// Of the record `from`: its number in its array, its size in bytes.
  [[nodiscard]] virtual SheetValue special(Place from, const std::string& name) const = 0;
};

/// Steps that are left; evaluation gives nothing when they are used up.
struct StepBudget {
  std::size_t left = 0;
};
/// Evaluates at `place`. Never fails: what can't be told is nothing.
[[nodiscard]] SheetValue evaluate(const Expression& expression, const ExpressionNames& names,
                                  ExpressionNames::Place place, StepBudget& budget);
[[nodiscard]] std::optional<SheetNumber> number_of(const SheetValue& value);
[[nodiscard]] std::optional<bool> truth_of(const SheetValue& value);

/// What the types of an expression's names are, for the check when a sheet is read.
class ExpressionTypes {
 public:
  using Place = const void*;
  virtual ~ExpressionTypes() = default;
  [[nodiscard]] virtual Place find(Place from, const std::string& name) const = 0;
  [[nodiscard]] virtual Place member(Place record, const std::string& name) const = 0;
  [[nodiscard]] virtual Place element(Place array) const = 0;
  [[nodiscard]] virtual SheetType type(Place place) const = 0;
  /// The type of a table's column; nothing where there is no such table or column.
  [[nodiscard]] virtual std::optional<SheetType> column(const std::string& table,
                                                        const std::string& column) const = 0;
  [[nodiscard]] virtual bool has_table(const std::string& table) const = 0;
  /// Names that could be meant, for errors.
  [[nodiscard]] virtual std::vector<std::string> names(Place from) const = 0;
};
/// Returns the type of the expression. Fails with `bad_usage` if a name is unknown or a type does not fit.
[[nodiscard]] Result<SheetType> type_of(const Expression& expression, const ExpressionTypes& types,
                                        ExpressionTypes::Place place);

}  // namespace bayswap
