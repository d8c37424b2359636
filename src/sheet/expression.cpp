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
      if (budget_.left == 0) return {};
      --budget_.left;
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
      if (node.function == Function::find) {
        if (holds) return names_.special(element, "index");
        continue;
      }
      if (node.function == Function::all && !holds) return false;
      if (node.function == Function::any && holds) return true;
      total += holds ? 1 : 0;
    }
    if (node.function == Function::sum || node.function == Function::count) return bounded(total);
    if (node.function == Function::find) return {};
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
      case Function::find:
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
    constexpr SheetNumber max_bits = 64;
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
        if (numbers[1] < 0 || numbers[1] >= max_bits || numbers[2] < 1 || numbers[2] >= max_bits) return {};
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

}  // namespace

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

}  // namespace bayswap
