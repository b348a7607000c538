// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>

#include "base/names.h"
#include "base/text.h"
#include "expression/integers.h"
#include "expression/object.h"
#include "expression/parser.h"
#include "expression/type_name.h"
#include "lucid/time.h"

namespace lucid::expression {

struct Binary {
  std::string_view text;
  char op;
  int precedence;
};

namespace {

// Longer operators first, so that `<<` is not read as `<`.
constexpr std::array<Binary, 18> kBinaries{{{"||", 'o', 1},
                                            {"&&", 'a', 2},
                                            {"==", kEqual, 6},
                                            {"!=", kNotEqual, 6},
                                            {"<=", kLessEqual, 7},
                                            {">=", kGreaterEqual, 7},
                                            {"<<", kShiftLeft, 8},
                                            {">>", kShiftRight, 8},
                                            {"|", '|', 3},
                                            {"^", '^', 4},
                                            {"&", '&', 5},
                                            {"<", '<', 7},
                                            {">", '>', 7},
                                            {"+", '+', 9},
                                            {"-", '-', 9},
                                            {"*", '*', 10},
                                            {"/", '/', 10},
                                            {"%", '%', 10}}};

}  // namespace

Result<std::unique_ptr<Node>> Parser::parse() {
  auto root = choice();
  if (failed_) return fail(error_);
  skip_blanks();
  if (at_ < text_.size()) {
    if (text_[at_] == '=')
      return fail(problem("'=' assigns, and only `let` does that", "to compare, write =="));
    if (text_[at_] == '(') return fail(problem("functions of the program cannot be called here"));
    return fail(problem(fmt::format("'{}' is not expected here", text_.substr(at_))));
  }
  return root;
}

Error Parser::problem(std::string what, std::string hint, ErrorCode code) const {
  return {code, std::move(what), fmt::format("column {}", at_ + 1), std::move(hint)};
}

Tree Parser::give_up(Error error) {
  if (!failed_) error_ = std::move(error);
  failed_ = true;
  return nullptr;
}

void Parser::skip_blanks() {
  while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
}

bool Parser::take(std::string_view token) {
  skip_blanks();
  if (text_.compare(at_, token.size(), token) != 0) return false;
  at_ += token.size();
  return true;
}

bool Parser::word_char(char c) {
  return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
}

std::string Parser::word() {
  skip_blanks();
  const std::size_t begin = at_;
  while (at_ < text_.size() && word_char(text_[at_])) ++at_;
  return text_.substr(begin, at_ - begin);
}

std::string Parser::peek_word() {
  const std::size_t before = at_;
  std::string out = word();
  at_ = before;
  return out;
}

Tree Parser::make(NodeKind kind, Tree a, Tree b) {
  if (++nodes_ > kMostNodes)
    give_up(problem(fmt::format("an expression has at most {} parts", kMostNodes)));
  auto node = std::make_unique<Node>();
  node->kind = kind;
  node->column = at_ + 1;
  node->a = std::move(a);
  node->b = std::move(b);
  return node;
}

Tree Parser::choice() {
  if (++depth_ > kMostDepth) return give_up(problem("the expression is nested too deeply"));
  Tree condition = binary(1);
  if (!failed_ && take("?")) {
    Tree yes = choice();
    if (!failed_ && !take(":")) return give_up(problem("':' is missing"));
    Tree no = choice();
    condition = make(NodeKind::kChoice, std::move(condition), std::move(yes));
    condition->c = std::move(no);
  }
  --depth_;
  return failed_ ? nullptr : std::move(condition);
}

const Binary* Parser::peek_binary() {
  skip_blanks();
  if (text_.compare(at_, 2, "..") == 0) return nullptr;
  for (const Binary& b : kBinaries)
    if (text_.compare(at_, b.text.size(), b.text) == 0) return &b;
  return nullptr;
}

Tree Parser::binary(int least) {
  Tree left = unary();
  while (!failed_) {
    constexpr int kRelational = 7;
    if (least <= kRelational && is_range_next()) {
      left = within(std::move(left));
      continue;
    }
    const Binary* b = peek_binary();
    if (b == nullptr || b->precedence < least) break;
    const std::size_t column = at_ + 1;
    at_ += b->text.size();
    Tree right = binary(b->precedence + 1);
    if (failed_) return nullptr;
    const NodeKind kind = b->op == 'o'   ? NodeKind::kOr
                          : b->op == 'a' ? NodeKind::kAnd
                                         : NodeKind::kBinary;
    left = make(kind, std::move(left), std::move(right));
    left->op = b->op;
    left->column = column;
  }
  return failed_ ? nullptr : std::move(left);
}

bool Parser::is_range_next() {
  const std::size_t before = at_;
  bool range = word() == "in";
  unsigned deep = 0;
  std::size_t end = at_;
  for (; end < text_.size() && text_.compare(end, 2, "..") != 0; ++end) {
    const char c = text_[end];
    if (c == '(' || c == '[') ++deep;
    if ((c == ')' || c == ']') && deep-- == 0) break;
    if (deep == 0 && std::string_view("?:,&|=<>").find(c) != std::string_view::npos) break;
  }
  range = range && text_.compare(std::min(end, text_.size()), 2, "..") == 0;
  at_ = before;
  return range;
}

Tree Parser::within(Tree value) {
  const std::size_t column = at_ + 1;
  word();
  constexpr int kAdditive = 9;
  Tree node = make(NodeKind::kWithin, std::move(value), binary(kAdditive));
  node->column = column;
  if (!failed_ && !take("..")) return give_up(problem("'..' is missing: in 2..5"));
  node->c = binary(kAdditive);
  return finished(std::move(node));
}

Tree Parser::measure(const std::string& function) {
  Tree node = make(NodeKind::kMeasure);
  node->name = function;
  take("(");
  std::size_t begin = at_;
  for (unsigned deep = 0; at_ < text_.size(); ++at_) {
    const char c = text_[at_];
    if (c == '(' || c == '[') ++deep;
    if ((c == ')' || c == ']') && deep != 0) {
      --deep;
    } else if (deep == 0 && (c == ',' || c == ')')) {
      node->of += (node->of.empty() ? "" : "\n") +
                  std::string(base::trim(std::string_view(text_).substr(begin, at_ - begin)));
      begin = at_ + 1;
      if (c == ')') break;
    }
  }
  if (!take(")")) return give_up(problem("')' is missing"));
  return node;
}

Tree Parser::unary() {
  if (++depth_ > kMostDepth) return give_up(problem("the expression is nested too deeply"));
  Tree out = unary_inside();
  --depth_;
  return out;
}

Tree Parser::unary_inside() {
  skip_blanks();
  for (const char op : {'-', '!', '~', '+'}) {
    if (at_ >= text_.size() || text_[at_] != op) continue;
    ++at_;
    Tree node = make(NodeKind::kUnary, unary());
    node->op = op;
    if (failed_) return nullptr;
    return node;
  }
  if (take("*")) return led(NodeKind::kDereference, unary());
  if (take("&")) return led(NodeKind::kAddressOf, unary());
  if (peek_word() == "sizeof") {
    word();
    return size_of();
  }
  const std::size_t before = at_;
  if (take("(")) {
    if (Tree cast = type_name(); cast != nullptr && take(")")) {
      cast->a = unary();
      return finished(std::move(cast));
    }
    failed_ = false;
    at_ = before;
  }
  return postfix();
}

template <class Make>
Tree Parser::on_its_chip(Tree operand, bool may, Make make_of) {
  if (failed_) return nullptr;
  if (!may || operand->kind != NodeKind::kElsewhere) return finished(make_of(std::move(operand)));
  operand->a = make_of(std::move(operand->a));
  return finished(std::move(operand));
}

Tree Parser::led(NodeKind kind, Tree operand) {
  return on_its_chip(std::move(operand), true, [&](Tree of) { return make(kind, std::move(of)); });
}

Tree Parser::type_name() {
  auto type = read_type(text_, at_, scope_.program, scope_.machine.target().convention());
  if (!type) return nullptr;
  Tree node = make(NodeKind::kCast);
  node->operand = std::move(*type);
  return node;
}

Tree Parser::size_of() {
  const std::size_t before = at_;
  std::optional<std::uint32_t> bytes;
  if (take("(")) {
    if (Tree type = type_name(); type != nullptr && take(")"))
      bytes = type->operand.type != 0 ? scope_.program.types()[type->operand.type].bytes
                                      : type->operand.value.bits / 8U;
  }
  if (!bytes) {
    at_ = before;
    Tree operand = unary();
    if (failed_) return nullptr;
    auto value = Expression::parse(text_.substr(before, at_ - before), scope_);
    if (!value) return give_up(value.error());
    auto evaluated = value->evaluate(scope_);
    if (!evaluated) return give_up(evaluated.error());
    bytes = size_in(evaluated->elsewhere != nullptr ? evaluated->elsewhere->operand : *evaluated,
                    evaluated->elsewhere != nullptr
                        ? scope_on(evaluated->elsewhere->chip, scope_.machine, scope_)
                        : scope_);
  }
  return integer(static_cast<std::int64_t>(*bytes), 16, false);
}

std::uint32_t Parser::size_in(const Operand& operand, const Scope& scope) {
  return operand.type != 0 ? scope.program.types()[operand.type].bytes : operand.value.bits / 8U;
}

Tree Parser::postfix() {
  Tree node = primary();
  while (!failed_) {
    skip_blanks();
    if (take("[")) {
      Tree index = choice();
      // `(panel.readings)[1]`: what the index names would be looked up there.
      const bool there = !failed_ && index->kind == NodeKind::kConstant;
      node = on_its_chip(std::move(node), there, [&](Tree array) {
        return make(NodeKind::kIndex, std::move(array), std::move(index));
      });
      if (!failed_ && !take("]")) return give_up(problem("']' is missing"));
    } else if (take("->")) {
      node = member(std::move(node), '>');
    } else if (at_ < text_.size() && text_[at_] == '.' && text_.compare(at_, 2, "..") != 0) {
      ++at_;
      node = member(std::move(node), '.');
    } else {
      break;
    }
  }
  return failed_ ? nullptr : std::move(node);
}

Tree Parser::member(Tree of, char how) {
  const std::string name = word();
  if (name.empty()) return give_up(problem("the name of a member is missing"));
  return on_its_chip(std::move(of), true, [&](Tree whole) {
    Tree node = make(NodeKind::kMember, std::move(whole));
    node->op = how;
    node->name = name;
    return node;
  });
}

Tree Parser::integer(std::int64_t value, std::uint8_t bits, bool is_signed) {
  Tree node = make(NodeKind::kConstant);
  node->operand.value.integer = value;
  node->operand.value.bits = bits;
  node->operand.value.is_signed = is_signed;
  return node;
}

Tree Parser::primary() {
  skip_blanks();
  if (at_ >= text_.size())
    return give_up(
        problem(text_.empty() ? "an expression is missing" : "the expression ends too early"));
  const char c = text_[at_];
  if (c == '(') {
    ++at_;
    Tree inner = choice();
    if (!failed_ && !take(")")) return give_up(problem("')' is missing"));
    return inner;
  }
  if (std::isdigit(static_cast<unsigned char>(c)) != 0) return number();
  if (c == '\'') return character();
  if (word_char(c)) return name();
  return give_up(problem(fmt::format("'{}' cannot begin a value", c)));
}

Tree Parser::character() {
  constexpr std::string_view kNames("ntr0\\'", 6);
  constexpr std::string_view kValues("\n\t\r\0\\'", 6);
  ++at_;
  char value = at_ < text_.size() ? text_[at_] : '\0';
  if (value == '\\') {
    ++at_;
    const std::size_t which = at_ < text_.size() ? kNames.find(text_[at_]) : kNames.npos;
    if (which == kNames.npos)
      return give_up(problem("this escape is not known", "there are \\n \\t \\r \\0 \\\\ \\'"));
    value = kValues[which];
  }
  if (text_.compare(std::min(at_ + 1, text_.size()), 1, "'") != 0)
    return give_up(problem("a character stands between two '"));
  at_ += 2;
  return integer(value, 8, true);
}

Tree Parser::number() {
  const std::size_t begin = at_;
  const bool hex = text_.compare(at_, 2, "0x") == 0 || text_.compare(at_, 2, "0X") == 0;
  const bool bin = text_.compare(at_, 2, "0b") == 0;
  if (hex || bin) at_ += 2;
  const auto digit = [&](char d) {
    return hex ? std::isxdigit(static_cast<unsigned char>(d)) != 0
               : std::isdigit(static_cast<unsigned char>(d)) != 0;
  };
  while (at_ < text_.size() && digit(text_[at_])) ++at_;
  bool real = false;
  if (!hex && !bin && at_ + 1 < text_.size() && text_[at_] == '.' && digit(text_[at_ + 1])) {
    real = true;
    ++at_;
    while (at_ < text_.size() && digit(text_[at_])) ++at_;
  }
  const std::string digits = text_.substr(begin, at_ - begin);
  const std::size_t behind = at_;
  const std::string suffix = word();
  if (!suffix.empty() && !hex) {
    if (auto time = parse_time(digits + suffix); time && time->count <= INT64_MAX) {
      Tree node = make(NodeKind::kConstant);
      node->operand.value.kind = Value::Kind::kTime;
      node->operand.value.integer = static_cast<std::int64_t>(time->count);
      return node;
    }
  }
  if (real) {
    if (!suffix.empty() && suffix != "f") at_ = behind;
    Tree node = make(NodeKind::kConstant);
    node->operand.value.kind = Value::Kind::kReal;
    node->operand.value.real = std::strtod(digits.c_str(), nullptr);
    return node;
  }
  const auto value = base::parse_unsigned(digits);
  if (!value) return give_up(problem(fmt::format("'{}' is not a number", digits)));
  if (suffix == "cycles") return integer(static_cast<std::int64_t>(*value), 64, false);
  std::string kind = suffix;
  std::transform(kind.begin(), kind.end(), kind.begin(), ::tolower);
  if (kind.find_first_not_of("ul") != std::string::npos) {
    at_ = behind;
    kind.clear();
    if (word_char(suffix[0]) && at_ == behind && text_[behind] != ' ')
      return give_up(problem(fmt::format("'{}' is not a unit or suffix", suffix),
                             "units are ps ns us ms s min h and cycles"));
  }
  return c_integer(*value, hex || bin, kind);
}

Tree Parser::c_integer(std::uint64_t value, bool may_be_unsigned, const std::string& suffix) {
  const bool is_unsigned = suffix.find('u') != std::string::npos;
  unsigned bits = 8U * scope_.machine.target().convention().int_bytes;
  if (suffix.find('l') != std::string::npos) bits = std::max(bits, 32U);
  if (suffix.find("ll") != std::string::npos) bits = 64;
  for (; bits < 64; bits *= 2) {
    if (!is_unsigned && value < std::uint64_t{1} << (bits - 1))
      return integer(static_cast<std::int64_t>(value), static_cast<std::uint8_t>(bits), true);
    if ((is_unsigned || may_be_unsigned) && value < std::uint64_t{1} << bits)
      return integer(static_cast<std::int64_t>(value), static_cast<std::uint8_t>(bits), false);
  }
  return integer(static_cast<std::int64_t>(value), 64, !is_unsigned && value <= INT64_MAX);
}

Result<Expression> Expression::parse(const std::string& text, const Scope& scope) {
  auto root = Parser(text, scope).parse();
  if (!root) return fail(root.error());
  prepare_quick(**root, scope);
  Expression expression(std::move(*root));
  expression.int_bits_ = 8U * scope.machine.target().convention().int_bytes;
  return expression;
}

Expression::Expression(std::unique_ptr<Node> root) : root_(std::move(root)) {}
Expression::Expression(Expression&&) noexcept = default;
Expression& Expression::operator=(Expression&&) noexcept = default;
Expression::~Expression() = default;

}  // namespace lucid::expression
