#include "sheet/expression.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <set>

#include "base/text.hpp"
#include "base/try.hpp"

namespace bayswap {
namespace {

using Op = Expression::Op;
using Function = Expression::Function;
using Node = Expression::Node;

// Everything stays below 2^96, so that no product of two operands (each checked) can overflow unnoticed.
constexpr SheetNumber limit = SheetNumber{1} << 96;
constexpr SheetNumber factor_limit = SheetNumber{1} << 62;

SheetValue bounded(SheetNumber number) {
  if (number >= limit || number <= -limit) return {};
  return number;
}

std::uint64_t low_bits(SheetNumber number) {
  return static_cast<std::uint64_t>(number);
}

class Evaluator {
 public:
  Evaluator(const Expression& expression, const ExpressionNames& names, StepBudget& budget)
      : expression_(expression), names_(names), budget_(budget) {}

  SheetValue run(std::uint32_t id, ExpressionNames::Place place) {
    if (budget_.left == 0) return {};
    --budget_.left;
    const Node& node = expression_.nodes[id];
    switch (node.op) {
      case Op::number:
        return node.number;
      case Op::text:
        return node.text;
      case Op::truth:
        return node.number != 0;
      case Op::path:
        return path(node, place);
      case Op::call:
        return call(node, place);
      case Op::choose: {
        const auto which = truth_of(run(node.operands[0], place));
        return which ? run(node.operands[*which ? 1 : 2], place) : SheetValue{};
      }
      case Op::both:
      case Op::either: {
        // What one side decides needs no other.
        const auto left = truth_of(run(node.operands[0], place));
        const bool deciding = node.op == Op::either;
        if (left == deciding) return deciding;
        const auto right = truth_of(run(node.operands[1], place));
        if (right == deciding) return deciding;
        return left && right ? SheetValue(!deciding) : SheetValue{};
      }
      case Op::is_not: {
        const auto operand = truth_of(run(node.operands[0], place));
        return operand ? SheetValue(!*operand) : SheetValue{};
      }
      case Op::negate:
      case Op::invert: {
        const auto operand = number_of(run(node.operands[0], place));
        if (!operand) return {};
        return bounded(node.op == Op::negate ? -*operand : ~*operand);
      }
      default:
        return binary(node, run(node.operands[0], place), run(node.operands[1], place));
    }
  }

 private:
  static SheetValue binary(const Node& node, const SheetValue& left, const SheetValue& right) {
    if (left.index() == 0 || right.index() == 0) return {};
    if (node.op == Op::equal) return left == right;
    if (node.op == Op::not_equal) return left != right;
    const auto a = number_of(left);
    const auto b = number_of(right);
    if (!a || !b) return {};
    switch (node.op) {
      case Op::less:
        return *a < *b;
      case Op::less_or_equal:
        return *a <= *b;
      case Op::greater:
        return *a > *b;
      case Op::greater_or_equal:
        return *a >= *b;
      default:
        return arithmetic(node.op, *a, *b);
    }
  }

  static SheetValue arithmetic(Op op, SheetNumber a, SheetNumber b) {
    constexpr SheetNumber max_shift = 64;
    switch (op) {
      case Op::add:
        return bounded(a + b);
      case Op::subtract:
        return bounded(a - b);
      case Op::multiply:
        if (a >= factor_limit || a <= -factor_limit || b >= factor_limit || b <= -factor_limit) return {};
        return bounded(a * b);
      case Op::divide:
        return b == 0 ? SheetValue{} : SheetValue(a / b);
      case Op::remainder:
        return b == 0 ? SheetValue{} : SheetValue(a % b);
      case Op::bit_and:
        return a & b;
      case Op::bit_or:
        return a | b;
      case Op::bit_xor:
        return a ^ b;
      case Op::shift_left:
        if (b < 0 || b > max_shift || a < 0 || a >= factor_limit) return {};
        return bounded(a << static_cast<int>(b));
      case Op::shift_right:
        if (b < 0 || b > max_shift) return {};
        return a >> static_cast<int>(b);
      default:
        return {};
    }
  }

  ExpressionNames::Place find(const Node& node, ExpressionNames::Place place) {
    ExpressionNames::Place at = names_.find(place, node.path.front().name);
    for (std::size_t i = 1; at != nullptr && i < node.path.size(); ++i) {
      if (!node.path[i].name.empty()) {
        at = names_.member(at, node.path[i].name);
        continue;
      }
      const auto number = number_of(run(node.path[i].index_node, place));
      at = number ? names_.element(at, *number) : nullptr;
    }
    return at;
  }

  SheetValue path(const Node& node, ExpressionNames::Place place) {
    const ExpressionNames::Place at = find(node, place);
    if (at != nullptr) return names_.value(at);
    return node.path.size() == 1 ? names_.special(place, node.path.front().name) : SheetValue{};
  }

  // The elements of the first operand, which is the path of an array.
  std::vector<ExpressionNames::Place> elements(const Node& node, ExpressionNames::Place place) {
    const Node& array = expression_.nodes[node.operands[0]];
    if (array.op != Op::path) return {};
    const ExpressionNames::Place at = find(array, place);
    return at == nullptr ? std::vector<ExpressionNames::Place>{} : names_.elements(at);
  }

  SheetValue over_elements(const Node& node, ExpressionNames::Place place) {
    const std::vector<ExpressionNames::Place> all = elements(node, place);
    if (node.function == Function::count && node.operands.size() == 1)
      return static_cast<SheetNumber>(all.size());
    SheetNumber total = 0;
    std::set<SheetValue> seen;
    for (const ExpressionNames::Place element : all) {
      const SheetValue value =
          node.operands.size() > 1 ? run(node.operands[1], element) : names_.value(element);
      if (value.index() == 0) return {};
      if (node.function == Function::unique) {
        if (!seen.insert(value).second) return false;
        continue;
      }
      if (node.function == Function::sum) {
        total += number_of(value).value_or(0);
        continue;
      }
      const bool holds = truth_of(value).value_or(false);
      if (node.function == Function::all && !holds) return false;
      if (node.function == Function::any && holds) return true;
      total += holds ? 1 : 0;
    }
    if (node.function == Function::sum || node.function == Function::count) return bounded(total);
    return node.function != Function::any;
  }

  SheetValue length(const Node& node, ExpressionNames::Place place) {
    const Node& operand = expression_.nodes[node.operands[0]];
    if (operand.op == Op::path) {
      const ExpressionNames::Place at = find(operand, place);
      if (at != nullptr && names_.type(at) == SheetType::array)
        return static_cast<SheetNumber>(names_.elements(at).size());
    }
    const SheetValue value = run(node.operands[0], place);
    const auto* text = std::get_if<std::string>(&value);
    if (text == nullptr) return {};
    SheetNumber characters = 0;
    for (std::string_view left = *text; !left.empty(); ++characters)
      left.remove_prefix(std::max<std::size_t>(utf8_length(left), 1));
    return characters;
  }

  SheetValue call(const Node& node, ExpressionNames::Place place) {
    switch (node.function) {
      case Function::sum:
      case Function::count:
      case Function::all:
      case Function::any:
      case Function::unique:
        return over_elements(node, place);
      case Function::length:
        return length(node, place);
      case Function::lookup:
      case Function::has: {
        const auto key = number_of(run(node.operands[1], place));
        if (!key) return {};
        const std::string& table = expression_.nodes[node.operands[0]].text;
        if (node.function == Function::has) return names_.has(table, *key);
        return names_.lookup(table, *key, expression_.nodes[node.operands[2]].text);
      }
      default:
        break;
    }
    std::vector<SheetNumber> numbers;
    for (const std::uint32_t operand : node.operands) {
      const auto number = number_of(run(operand, place));
      if (!number) return {};
      numbers.push_back(*number);
    }
    constexpr SheetNumber most_bits = 64;
    switch (node.function) {
      case Function::min:
        return *std::ranges::min_element(numbers);
      case Function::max:
        return *std::ranges::max_element(numbers);
      case Function::abs:
        return numbers[0] < 0 ? -numbers[0] : numbers[0];
      case Function::ones:
        return static_cast<SheetNumber>(std::popcount(low_bits(numbers[0])));
      case Function::bits:
        if (numbers[1] < 0 || numbers[1] >= most_bits || numbers[2] < 1 || numbers[2] >= most_bits) return {};
        return (numbers[0] >> static_cast<int>(numbers[1])) &
               ((SheetNumber{1} << static_cast<int>(numbers[2])) - 1);
      default:
        return {};
    }
  }

  const Expression& expression_;
  const ExpressionNames& names_;
  StepBudget& budget_;
};

class Typer {
 public:
  Typer(const Expression& expression, const ExpressionTypes& types)
      : expression_(expression), types_(types) {}

  Result<SheetType> run(std::uint32_t id, ExpressionTypes::Place place) {
    const Node& node = expression_.nodes[id];
    switch (node.op) {
      case Op::number:
        return SheetType::number;
      case Op::text:
        return SheetType::text;
      case Op::truth:
        return SheetType::truth;
      case Op::path: {
        BAYSWAP_TRY(const SheetType type, path_type(node, place));
        if (type == SheetType::record || type == SheetType::array)
          return error(fmt::format("{} is {}, and has no value of its own", path_text(node), to_text(type)));
        return type;
      }
      case Op::call:
        return call(node, place);
      case Op::choose: {
        BAYSWAP_CHECK(need(node.operands[0], place, SheetType::truth, "if"));
        BAYSWAP_TRY(const SheetType first, run(node.operands[1], place));
        BAYSWAP_CHECK(need(node.operands[2], place, first, "else"));
        return first;
      }
      case Op::both:
      case Op::either:
      case Op::is_not:
        for (const std::uint32_t operand : node.operands)
          BAYSWAP_CHECK(need(operand, place, SheetType::truth, "and, or, not"));
        return SheetType::truth;
      case Op::equal:
      case Op::not_equal: {
        BAYSWAP_TRY(const SheetType first, run(node.operands[0], place));
        BAYSWAP_CHECK(need(node.operands[1], place, first, "=="));
        return SheetType::truth;
      }
      default:
        break;
    }
    for (const std::uint32_t operand : node.operands)
      BAYSWAP_CHECK(need(operand, place, SheetType::number, "arithmetic"));
    const bool compares = node.op == Op::less || node.op == Op::less_or_equal || node.op == Op::greater ||
                          node.op == Op::greater_or_equal;
    return compares ? SheetType::truth : SheetType::number;
  }

 private:
  tl::unexpected<Error> error(const std::string& what, std::string hint = {}) const {
    return fail(ErrorCode::bad_usage, fmt::format("\"{}\": {}", printable(expression_.source), what),
                std::move(hint));
  }

  Result<void> need(std::uint32_t id, ExpressionTypes::Place place, SheetType wanted,
                    std::string_view where) {
    BAYSWAP_TRY(const SheetType type, run(id, place));
    if (type != wanted)
      return error(fmt::format("{} needs {} and not {}", where, to_text(wanted), to_text(type)));
    return {};
  }

  static std::string path_text(const Node& node) {
    std::string out;
    for (const Expression::Step& step : node.path)
      out += step.name.empty() ? "[]" : out.empty() ? step.name : "." + step.name;
    return out;
  }

  // Null, where it is a special name.
  Result<ExpressionTypes::Place> find(const Node& node, ExpressionTypes::Place place) {
    ExpressionTypes::Place at = types_.find(place, node.path.front().name);
    if (at == nullptr) {
      if (node.path.size() == 1 && (node.path.front().name == "index" || node.path.front().name == "size"))
        return at;
      return error(fmt::format("unknown name '{}'", node.path.front().name),
                   did_you_mean(node.path.front().name, types_.names(place)));
    }
    for (std::size_t i = 1; i < node.path.size(); ++i) {
      const Expression::Step& step = node.path[i];
      if (step.name.empty()) {
        BAYSWAP_CHECK(need(step.index_node, place, SheetType::number, "[ ]"));
        if (types_.type(at) != SheetType::array) return error("[ ] needs an array");
        at = types_.element(at);
        continue;
      }
      const ExpressionTypes::Place record = at;
      at = types_.member(record, step.name);
      if (at == nullptr)
        return error(fmt::format("unknown name '{}' in {}", step.name, path_text(node)),
                     did_you_mean(step.name, types_.names(record)));
    }
    return at;
  }

  Result<SheetType> path_type(const Node& node, ExpressionTypes::Place place) {
    BAYSWAP_TRY(const ExpressionTypes::Place at, find(node, place));
    return at == nullptr ? SheetType::number : types_.type(at);
  }

  Result<SheetType> over_elements(const Node& node, ExpressionTypes::Place place) {
    const Node& array = expression_.nodes[node.operands[0]];
    if (array.op != Op::path) return error("expected the name of an array");
    BAYSWAP_TRY(const ExpressionTypes::Place at, find(array, place));
    if (at == nullptr || types_.type(at) != SheetType::array)
      return error(fmt::format("{} is no array", path_text(array)));
    const ExpressionTypes::Place element = types_.element(at);
    const bool is_truth = node.function != Function::sum && node.function != Function::count;
    if (node.operands.size() == 1) {
      if (node.function == Function::sum && types_.type(element) != SheetType::number)
        return error("sum() needs numbers");
    } else if (node.function == Function::unique) {
      BAYSWAP_CHECK(run(node.operands[1], element));
    } else {
      BAYSWAP_CHECK(need(node.operands[1], element,
                         node.function == Function::sum ? SheetType::number : SheetType::truth,
                         "the second value"));
    }
    return is_truth ? SheetType::truth : SheetType::number;
  }

  Result<SheetType> call(const Node& node, ExpressionTypes::Place place) {
    switch (node.function) {
      case Function::sum:
      case Function::count:
      case Function::all:
      case Function::any:
      case Function::unique:
        return over_elements(node, place);
      case Function::length: {
        const Node& operand = expression_.nodes[node.operands[0]];
        if (operand.op == Op::path) {
          BAYSWAP_TRY(const SheetType type, path_type(operand, place));
          if (type == SheetType::array) return SheetType::number;
        }
        BAYSWAP_CHECK(need(node.operands[0], place, SheetType::text, "length()"));
        return SheetType::number;
      }
      case Function::lookup:
      case Function::has: {
        const Node& table = expression_.nodes[node.operands[0]];
        if (table.op != Op::text || !types_.has_table(table.text))
          return error(fmt::format("unknown table '{}'", table.text),
                       "name it in quotes: lookup('table', ...)");
        BAYSWAP_CHECK(need(node.operands[1], place, SheetType::number, "a look-up"));
        if (node.function == Function::has) return SheetType::truth;
        const Node& column = expression_.nodes[node.operands[2]];
        const auto type = types_.column(table.text, column.text);
        if (column.op != Op::text || !type)
          return error(fmt::format("unknown column '{}' of table {}", column.text, table.text));
        return *type;
      }
      default:
        for (const std::uint32_t operand : node.operands)
          BAYSWAP_CHECK(need(operand, place, SheetType::number, "a function"));
        return SheetType::number;
    }
  }

  const Expression& expression_;
  const ExpressionTypes& types_;
};

}  // namespace

std::string_view to_text(SheetType type) {
  switch (type) {
    case SheetType::nothing:
      return "nothing";
    case SheetType::number:
      return "a number";
    case SheetType::text:
      return "a text";
    case SheetType::truth:
      return "a truth";
    case SheetType::record:
      return "a record";
    case SheetType::array:
      return "an array";
  }
  return "";
}

std::string to_text(const SheetValue& value) {
  if (const auto* number = std::get_if<SheetNumber>(&value)) return fmt::format("{}", *number);
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  if (const auto* truth = std::get_if<bool>(&value)) return *truth ? "yes" : "no";
  return "nothing";
}

std::optional<SheetNumber> number_of(const SheetValue& value) {
  const auto* number = std::get_if<SheetNumber>(&value);
  return number == nullptr ? std::nullopt : std::optional(*number);
}

std::optional<bool> truth_of(const SheetValue& value) {
  const auto* truth = std::get_if<bool>(&value);
  return truth == nullptr ? std::nullopt : std::optional(*truth);
}

SheetValue evaluate(const Expression& expression, const ExpressionNames& names, ExpressionNames::Place place,
                    StepBudget& budget) {
  if (expression.nodes.empty()) return {};
  return Evaluator(expression, names, budget).run(expression.root, place);
}

Result<SheetType> type_of(const Expression& expression, const ExpressionTypes& types,
                          ExpressionTypes::Place place) {
  if (expression.nodes.empty()) return SheetType::nothing;
  return Typer(expression, types).run(expression.root, place);
}

}  // namespace bayswap
