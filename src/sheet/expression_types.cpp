// The types of an expression, checked before any save is looked at.
#include <fmt/format.h>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/expression.hpp"

namespace bayswap {
namespace {

using Op = Expression::Op;
using Function = Expression::Function;
using Node = Expression::Node;

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
      return error(fmt::format("{} is not an array", path_text(array)));
    const ExpressionTypes::Place element = types_.element(at);
    const bool is_truth =
        node.function != Function::sum && node.function != Function::count && node.function != Function::find;
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
      case Function::find:
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

Result<SheetType> type_of(const Expression& expression, const ExpressionTypes& types,
                          ExpressionTypes::Place place) {
  if (expression.nodes.empty()) return SheetType::nothing;
  return Typer(expression, types).run(expression.root, place);
}

}  // namespace bayswap
