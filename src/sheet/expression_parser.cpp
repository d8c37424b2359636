#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/expression.hpp"

namespace bayswap {
namespace {

using Op = Expression::Op;
using Function = Expression::Function;

constexpr std::size_t max_text = 2000;
constexpr std::size_t max_expression_depth = 32;

struct FunctionShape {
  std::string_view name;
  Function function;
  std::size_t min_operands;
  std::size_t max_operands;
};
constexpr std::array<FunctionShape, 14> functions{{{"min", Function::min, 1, 8},
                                                   {"max", Function::max, 1, 8},
                                                   {"abs", Function::abs, 1, 1},
                                                   {"sum", Function::sum, 1, 2},
                                                   {"count", Function::count, 1, 2},
                                                   {"all", Function::all, 2, 2},
                                                   {"any", Function::any, 2, 2},
                                                   {"find", Function::find, 2, 2},
                                                   {"unique", Function::unique, 2, 2},
                                                   {"lookup", Function::lookup, 3, 3},
                                                   {"has", Function::has, 2, 2},
                                                   {"length", Function::length, 1, 1},
                                                   {"bits", Function::bits, 3, 3},
                                                   {"ones", Function::ones, 1, 1}}};

// Binary operators, loosest first; within a level from left to right.
struct Operator {
  std::string_view sign;
  Op op;
};
using Level = std::array<Operator, 6>;
constexpr std::array<Level, 8> levels{{
    {{{"or", Op::either}}},
    {{{"and", Op::both}}},
    {{{"==", Op::equal},
      {"!=", Op::not_equal},
      {"<=", Op::less_or_equal},
      {">=", Op::greater_or_equal},
      {"<", Op::less},
      {">", Op::greater}}},
    {{{"|", Op::bit_or}}},
    {{{"^", Op::bit_xor}}},
    {{{"&", Op::bit_and}, {"<<", Op::shift_left}, {">>", Op::shift_right}}},
    {{{"+", Op::add}, {"-", Op::subtract}}},
    {{{"*", Op::multiply}, {"/", Op::divide}, {"%", Op::remainder}}},
}};
constexpr std::size_t level_of_not = 2;  // "not" binds closer than "and", looser than comparisons

bool is_name_start(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
// Names have hyphens within: "level-met". A minus sign has a space before it.
bool is_name_part(char c) {
  return is_name_start(c) || is_digit(c);
}

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text) { out_.source = text; }

  Result<Expression> parse() {
    if (text_.size() > max_text)
      return fail(ErrorCode::bad_usage,
                  fmt::format("an expression of {} bytes, over {}", text_.size(), max_text));
    BAYSWAP_TRY(out_.root, expression());
    skip_spaces();
    if (at_ != text_.size()) return error("nothing more is expected");
    return std::move(out_);
  }

 private:
  using NodeId = std::uint32_t;

  tl::unexpected<Error> error(const std::string& what) const {
    return fail(ErrorCode::bad_usage,
                fmt::format("\"{}\", at character {}: {}", printable(text_), at_ + 1, what));
  }

  void skip_spaces() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\n' || text_[at_] == '\t')) ++at_;
  }
  [[nodiscard]] std::string_view rest() const { return text_.substr(at_); }

  // A word counts only as a whole, and "<" not as the first half of "<<" or "<=".
  bool take(std::string_view sign) {
    skip_spaces();
    if (!rest().starts_with(sign)) return false;
    const char next = at_ + sign.size() < text_.size() ? text_[at_ + sign.size()] : ' ';
    if (is_name_start(sign.front()) && (is_name_part(next) || next == '-')) return false;
    if ((sign == "<" || sign == ">") && (next == sign.front() || next == '=')) return false;
    at_ += sign.size();
    return true;
  }

  NodeId add(Expression::Node node) {
    out_.nodes.push_back(std::move(node));
    return static_cast<NodeId>(out_.nodes.size() - 1);
  }

  Result<NodeId> expression() {
    if (++depth_ > max_expression_depth) return error(fmt::format("more than {} deep", max_expression_depth));
    NodeId node = 0;
    if (take("if")) {
      BAYSWAP_TRY(const NodeId condition, expression());
      if (!take("then")) return error("expected 'then'");
      BAYSWAP_TRY(const NodeId first, expression());
      if (!take("else")) return error("expected 'else'");
      BAYSWAP_TRY(const NodeId second, expression());
      node = add({Op::choose, {}, 0, {}, {}, {condition, first, second}});
    } else {
      BAYSWAP_TRY(node, level(0));
    }
    --depth_;
    return node;
  }

  Result<NodeId> level(std::size_t number) {
    if (number == levels.size()) return unary();
    if (number == level_of_not && take("not")) {
      if (++depth_ > max_expression_depth)
        return error(fmt::format("more than {} deep", max_expression_depth));
      BAYSWAP_TRY(const NodeId operand, level(number));
      --depth_;
      return add({Op::is_not, {}, 0, {}, {}, {operand}});
    }
    BAYSWAP_TRY(NodeId left, level(number + 1));
    for (;;) {
      const Operator* found = nullptr;
      for (const Operator& one : levels.at(number))
        if (found == nullptr && !one.sign.empty() && take(one.sign)) found = &one;
      if (found == nullptr) return left;
      BAYSWAP_TRY(const NodeId right, level(number + 1));
      left = add({found->op, {}, 0, {}, {}, {left, right}});
      if (number == level_of_not) return left;  // a < b < c means nothing
    }
  }

  Result<NodeId> unary() {
    if (++depth_ > max_expression_depth) return error(fmt::format("more than {} deep", max_expression_depth));
    NodeId node = 0;
    if (take("-")) {
      BAYSWAP_TRY(const NodeId operand, unary());
      node = add({Op::negate, {}, 0, {}, {}, {operand}});
    } else if (take("~")) {
      BAYSWAP_TRY(const NodeId operand, unary());
      node = add({Op::invert, {}, 0, {}, {}, {operand}});
    } else {
      BAYSWAP_TRY(node, primary());
    }
    --depth_;
    return node;
  }

  Result<NodeId> primary() {
    skip_spaces();
    if (at_ == text_.size()) return error("something is missing at the end");
    const char c = text_[at_];
    if (c == '(') {
      ++at_;
      BAYSWAP_TRY(const NodeId inner, expression());
      if (!take(")")) return error("expected ')'");
      return inner;
    }
    if (is_digit(c)) return number();
    if (c == '\'') return quoted();
    if (is_name_start(c)) {
      if (take("true")) return add({Op::truth, {}, 1, {}, {}, {}});
      if (take("false")) return add({Op::truth, {}, 0, {}, {}, {}});
      return path_or_call();
    }
    return error("expected a number, a name, a 'text' or '('");
  }

  Result<NodeId> number() {
    const bool is_hex = rest().starts_with("0x") || rest().starts_with("0X");
    if (is_hex) at_ += 2;
    constexpr std::size_t max_digits = 18;
    SheetNumber value = 0;
    std::size_t digits = 0;
    for (; at_ < text_.size(); ++at_) {
      const char c = text_[at_];
      if (c == '_') continue;
      int digit = -1;
      if (is_digit(c)) digit = c - '0';
      if (is_hex && c >= 'a' && c <= 'f') digit = c - 'a' + 10;
      if (is_hex && c >= 'A' && c <= 'F') digit = c - 'A' + 10;
      if (digit < 0) break;
      value = value * (is_hex ? 16 : 10) + digit;
      if (++digits > max_digits) return error("a number of more than 18 digits");
    }
    if (digits == 0 || (at_ < text_.size() && is_name_part(text_[at_]))) return error("not a number");
    return add({Op::number, {}, value, {}, {}, {}});
  }

  Result<NodeId> quoted() {
    const std::size_t end = text_.find('\'', at_ + 1);
    if (end == std::string_view::npos) return error("the text has no end");
    std::string text(text_.substr(at_ + 1, end - at_ - 1));
    at_ = end + 1;
    return add({Op::text, {}, 0, std::move(text), {}, {}});
  }

  std::string name() {
    const std::size_t from = at_;
    while (at_ < text_.size() &&
           (is_name_part(text_[at_]) ||
            (text_[at_] == '-' && at_ > from && at_ + 1 < text_.size() && is_name_part(text_[at_ + 1]))))
      ++at_;
    return std::string(text_.substr(from, at_ - from));
  }

  Result<NodeId> path_or_call() {
    const std::size_t from = at_;
    std::string first = name();
    if (at_ < text_.size() && text_[at_] == '(') return call(first, from);
    Expression::Node node{Op::path, {}, 0, {}, {}, {}};
    node.path.push_back({std::move(first), 0});
    for (;;) {
      if (at_ < text_.size() && text_[at_] == '.') {
        ++at_;
        if (at_ == text_.size() || !is_name_start(text_[at_])) return error("expected a name");
        node.path.push_back({name(), 0});
      } else if (at_ < text_.size() && text_[at_] == '[') {
        ++at_;
        BAYSWAP_TRY(const NodeId index, expression());
        if (!take("]")) return error("expected ']'");
        node.path.push_back({{}, index});
      } else {
        return add(std::move(node));
      }
    }
  }

  Result<NodeId> call(const std::string& name, std::size_t from) {
    const auto* shape = std::find_if(functions.begin(), functions.end(),
                                     [&](const FunctionShape& one) { return one.name == name; });
    if (shape == functions.end()) {
      at_ = from;
      std::vector<std::string> known;
      known.reserve(functions.size());
      for (const FunctionShape& one : functions) known.emplace_back(one.name);
      return error(fmt::format("unknown function {}; {}", name,
                               did_you_mean(name, known).empty() ? "known are " + joined(known, ", ")
                                                                 : did_you_mean(name, known)));
    }
    ++at_;
    Expression::Node node{Op::call, shape->function, 0, {}, {}, {}};
    do {
      BAYSWAP_TRY(const NodeId operand, expression());
      node.operands.push_back(operand);
    } while (take(","));
    if (!take(")")) return error("expected ')'");
    if (node.operands.size() < shape->min_operands || node.operands.size() > shape->max_operands)
      return error(fmt::format("{}() takes {} values, not {}", name,
                               shape->min_operands == shape->max_operands
                                   ? fmt::format("{}", shape->min_operands)
                                   : fmt::format("{} to {}", shape->min_operands, shape->max_operands),
                               node.operands.size()));
    return add(std::move(node));
  }

  std::string_view text_;
  std::size_t at_ = 0;
  std::size_t depth_ = 0;
  Expression out_;
};

}  // namespace

std::optional<SheetNumber> Expression::constant() const {
  if (nodes.empty()) return std::nullopt;
  const Node& node = nodes[root];
  if (node.op == Op::number) return node.number;
  if (node.op == Op::negate && nodes[node.operands[0]].op == Op::number)
    return -nodes[node.operands[0]].number;
  return std::nullopt;
}

Expression constant_expression(SheetNumber number) {
  Expression out;
  out.nodes.push_back({Op::number, {}, number, {}, {}, {}});
  return out;
}

Result<Expression> parse_expression(std::string_view text) {
  return Parser(text).parse();
}

}  // namespace bayswap
