// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>

#include "base/names.h"
#include "base/text.h"
#include "expression/integers.h"
#include "expression/node.h"
#include "expression/object.h"
#include "expression/type_name.h"
#include "lucid/time.h"

namespace lucid::expression {
namespace {

constexpr unsigned kMostDepth = 100;
constexpr unsigned kMostNodes = 500;  // a chain of operators is as deep as it is long

struct Binary {
  std::string_view text;
  char op;
  int precedence;
};
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

class Parser {
 public:
  Parser(const std::string& text, const Scope& scope) : text_(text), scope_(scope) {}

  Result<std::unique_ptr<Node>> parse() {
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

 private:
  using Tree = std::unique_ptr<Node>;

  // Errors are sticky: after the first one everything returns null and nothing is consumed.
  Error problem(std::string what, std::string hint = {}, ErrorCode code = ErrorCode::kUsage) const {
    return {code, std::move(what), fmt::format("column {}", at_ + 1), std::move(hint)};
  }
  Tree give_up(Error error) {
    if (!failed_) error_ = std::move(error);
    failed_ = true;
    return nullptr;
  }

  // Reading
  // ----------------------------------------------------------------------------------------

  void skip_blanks() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
  }
  bool take(std::string_view token) {
    skip_blanks();
    if (text_.compare(at_, token.size(), token) != 0) return false;
    at_ += token.size();
    return true;
  }
  static bool word_char(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
  }
  std::string word() {
    skip_blanks();
    const std::size_t begin = at_;
    while (at_ < text_.size() && word_char(text_[at_])) ++at_;
    return text_.substr(begin, at_ - begin);
  }
  [[nodiscard]] std::string peek_word() {
    const std::size_t before = at_;
    std::string out = word();
    at_ = before;
    return out;
  }

  Tree make(NodeKind kind, Tree a = nullptr, Tree b = nullptr) {
    if (++nodes_ > kMostNodes)
      give_up(problem(fmt::format("an expression has at most {} parts", kMostNodes)));
    auto node = std::make_unique<Node>();
    node->kind = kind;
    node->column = at_ + 1;
    node->a = std::move(a);
    node->b = std::move(b);
    return node;
  }

  // Operators
  // --------------------------------------------------------------------------------------

  Tree choice() {
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

  const Binary* peek_binary() {
    skip_blanks();
    if (text_.compare(at_, 2, "..") == 0) return nullptr;
    for (const Binary& b : kBinaries)
      if (text_.compare(at_, b.text.size(), b.text) == 0) return &b;
    return nullptr;
  }

  Tree binary(int least) {
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

  /// `in 2..5`, `in low..high`; not `in kiln.c`.
  bool is_range_next() {
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

  Tree within(Tree value) {
    const std::size_t column = at_ + 1;
    word();
    constexpr int kAdditive = 9;
    Tree node = make(NodeKind::kWithin, std::move(value), binary(kAdditive));
    node->column = column;
    if (!failed_ && !take("..")) return give_up(problem("'..' is missing: in 2..5"));
    node->c = binary(kAdditive);
    return finished(std::move(node));
  }

  /// `width(pin.PB5, high)`: the arguments as they are.
  Tree measure(const std::string& function) {
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

  Tree unary() {
    if (++depth_ > kMostDepth) return give_up(problem("the expression is nested too deeply"));
    Tree out = unary_inside();
    --depth_;
    return out;
  }

  Tree unary_inside() {
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

  /// `*panel.latest` is followed on the panel, and has its members there.
  template <class Make>
  Tree on_its_chip(Tree operand, bool may, Make make_of) {
    if (failed_) return nullptr;
    if (!may || operand->kind != NodeKind::kElsewhere) return finished(make_of(std::move(operand)));
    operand->a = make_of(std::move(operand->a));
    return finished(std::move(operand));
  }
  Tree led(NodeKind kind, Tree operand) {
    return on_its_chip(std::move(operand), true,
                       [&](Tree of) { return make(kind, std::move(of)); });
  }

  Tree finished(Tree node) { return failed_ ? nullptr : std::move(node); }

  /// A cast node if the next words name a type, else null.
  Tree type_name() {
    auto type = read_type(text_, at_, scope_.program, scope_.machine.target().convention());
    if (!type) return nullptr;
    Tree node = make(NodeKind::kCast);
    node->operand = std::move(*type);
    return node;
  }

  Tree size_of() {
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

  static std::uint32_t size_in(const Operand& operand, const Scope& scope) {
    return operand.type != 0 ? scope.program.types()[operand.type].bytes : operand.value.bits / 8U;
  }

  Tree postfix() {
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

  Tree member(Tree of, char how) {
    const std::string name = word();
    if (name.empty()) return give_up(problem("the name of a member is missing"));
    return on_its_chip(std::move(of), true, [&](Tree whole) {
      Tree node = make(NodeKind::kMember, std::move(whole));
      node->op = how;
      node->name = name;
      return node;
    });
  }

  // Primaries
  // ----------------------------------------------------------------------------------------

  Tree integer(std::int64_t value, std::uint8_t bits, bool is_signed) {
    Tree node = make(NodeKind::kConstant);
    node->operand.value.integer = value;
    node->operand.value.bits = bits;
    node->operand.value.is_signed = is_signed;
    return node;
  }

  Tree primary() {
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

  Tree character() {
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

  Tree number() {
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

  /// The type that C gives an integer constant.
  Tree c_integer(std::uint64_t value, bool may_be_unsigned, const std::string& suffix) {
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

  Tree name() {
    const std::size_t begin = at_;
    const std::string first = read_name(text_, at_, false);
    std::string in;
    const std::size_t behind = at_;
    skip_blanks();
    if (text_.compare(at_, 1, "(") == 0)
      for (const auto& [function, words] : frames::Measures::functions())
        if (first == function) return measure(first);
    if (peek_word() == "in" && !is_range_next()) {
      word();
      skip_blanks();
      const std::size_t from = at_;
      (void)read_name(text_, at_, true);
      while (at_ < text_.size() &&
             (word_char(text_[at_]) || text_[at_] == '.' || text_[at_] == '/' || text_[at_] == '-'))
        ++at_;
      in = text_.substr(from, at_ - from);
      if (in.empty()) return give_up(problem("a file or function is missing behind 'in'"));
    } else {
      at_ = behind;
    }
    if (in.empty() && first == "chip") return chip();
    if (in.empty() && first == "pin") return pin();
    if (in.empty() && text_.compare(at_, 1, ".") == 0)
      if (const auto companion = scope_.machine.companion(first))
        return elsewhere(first, *companion);
    if (in.empty() && (first == "true" || first == "false"))
      return integer(first == "true" ? 1 : 0, 8, false);
    return variable(first, in, begin);
  }

  Tree variable(const std::string& name, const std::string& in, std::size_t begin) {
    if (in.empty() && !scope_.globals_only) {
      for (const Local* local : frames::locals_of(scope_)) {
        if (local->name != name) continue;
        Tree node = make(NodeKind::kLocal);
        node->column = begin + 1;
        node->name = name;
        return node;
      }
    }
    if (in.empty() && !scope_.globals_only)
      if (Tree node = member_of_this(name, begin); node != nullptr || failed_) return node;
    std::vector<const Variable*> found;
    const auto& files = scope_.program.files();
    for (const Variable& v : scope_.program.variables()) {
      const bool here =
          in.empty() || base::means(v.function, in) ||
          (v.file < files.size() && (files[v.file].name == in || files[v.file].path == in));
      if (base::means(v.name, name) && here) found.push_back(&v);
    }
    if (found.empty() && !in.empty() && scope_.program.has_local(name, in)) {
      Tree node = make(NodeKind::kLocal);
      node->column = begin + 1;
      node->name = name;
      node->of = in;
      return node;
    }
    if (found.size() > 1) {  // the whole name comes before the end of one
      const auto exact = std::stable_partition(found.begin(), found.end(),
                                               [&](const Variable* v) { return v->name == name; });
      if (exact != found.begin()) found.erase(exact, found.end());
    }
    if (found.size() > 1) narrow(found);
    if (found.size() == 1) {
      Tree node = make(NodeKind::kVariable);
      node->name = name;
      node->operand.type = found[0]->type;
      node->operand.place = place_of(*found[0]);
      return node;
    }
    at_ = found.empty() ? begin : at_;
    if (found.size() > 1) {
      std::string hint = "say which:";
      for (const Variable* v : found)
        hint += fmt::format(" `{} in {}`", name,
                            v->function.empty() ? files[v->file].name : v->function);
      return give_up(problem(fmt::format("there are {} variables '{}'", found.size(), name), hint));
    }
    if (in.empty()) {
      for (const Type& type : scope_.program.types())
        for (const Type::Enumerator& e : type.enumerators)
          if (e.name == name ||
              (ends_with(name, e.name) && (base::means(type.name + "::" + e.name, name) ||
                                           base::means(without_last(type.name) + e.name, name)))) {
            at_ = begin + name.size();
            return e.value < 0 ? integer(e.value, e.value < -32768 ? 32 : 16, true)
                               : c_integer(static_cast<std::uint64_t>(e.value), true, "");
          }
      const auto functions = scope_.program.find_functions(name);
      if (!functions.empty()) {
        at_ = begin + name.size();
        skip_blanks();
        if (at_ < text_.size() && text_[at_] == '(')
          return give_up(problem("functions of the program cannot be called here"));
        return integer(functions[0]->begin, 32, false);
      }
      if (const Macro* macro = scope_.program.find_macro(name); macro != nullptr)
        return from_macro(*macro, begin);
      if (scope_.program.find_symbol(name) != nullptr)
        return give_up(
            problem(fmt::format("'{}' is known to the linker only, without a type", name),
                    fmt::format("read its bytes: chip.ram[{:#06x}]",
                                scope_.program.find_symbol(name)->address.offset),
                    ErrorCode::kNotFound));
    }
    if (in.empty() && scope_.machine.companion(name) != nullptr)
      return give_up(problem(fmt::format("'{}' is another chip: a part of it is missing", name),
                             fmt::format("such as {0}.PORTC or {0}.cycles", name)));
    return give_up(problem(in.empty() ? fmt::format("there is no '{}' in this program", name)
                                      : fmt::format("there is no '{}' in {}", name, in),
                           scope_.without_hints ? std::string() : elsewhere_than(name),
                           ErrorCode::kNotFound));
  }

  /// In a function of a class, the names of its members mean those of the object at hand.
  Tree member_of_this(const std::string& name, std::size_t begin) {
    const auto& types = scope_.program.types();
    for (const Local* local : frames::locals_of(scope_)) {
      if (local->name != "this" || types[local->type].kind != Type::Kind::kPointer) continue;
      if (!find_member(scope_.program, types[local->type].target, name)) return nullptr;
      Tree self = make(NodeKind::kLocal);
      self->column = begin + 1;
      self->name = local->name;
      Tree node = make(NodeKind::kMember, std::move(self));
      node->column = begin + 1;
      node->op = '>';
      node->name = name;
      return finished(std::move(node));
    }
    return nullptr;
  }

  static bool ends_with(const std::string& text, const std::string& end) {
    return text.size() >= end.size() &&
           text.compare(text.size() - end.size(), end.size(), end) == 0;
  }

  /// The scopes around a name, with the `::` behind them.
  static std::string without_last(const std::string& name) {
    const std::size_t colon = name.rfind("::");
    return colon == std::string::npos ? "" : name.substr(0, colon + 2);
  }

  /// What a macro stands for, as an expression of its own.
  Tree from_macro(const Macro& macro, std::size_t begin) {
    at_ = begin;
    if (macro.takes_arguments)
      return give_up(problem(fmt::format("'{}' is a macro with arguments", macro.name),
                             "write what it stands for; `macros` opens those of a line"));
    if (std::find(open_.begin(), open_.end(), macro.name) != open_.end())
      return give_up(problem(fmt::format("'{}' leads back to itself", macro.name)));
    Parser inner(macro.body, scope_);
    inner.open_ = open_;
    inner.open_.push_back(macro.name);
    inner.depth_ = depth_;
    inner.nodes_ = nodes_;
    auto root = inner.parse();
    if (!root)
      return give_up(problem(open_.empty() ? fmt::format("'{}' stands for `{}`: {}", macro.name,
                                                         macro.body, root.error().what)
                                           : root.error().what));
    nodes_ = inner.nodes_;
    at_ = begin + macro.name.size();
    move_columns(**root, begin + 1);
    return std::move(*root);
  }

  /// Errors point at the macro, not into its body.
  static void move_columns(Node& node, std::size_t column) {
    node.column = column;
    for (const auto* part : {&node.a, &node.b, &node.c})
      if (*part != nullptr) move_columns(**part, column);
  }

  /// Of several variables of one name: this function's, else this file's, else the global one.
  void narrow(std::vector<const Variable*>& found) const {
    const auto line = scope_.program.line_at(frames::names_address(scope_));
    const Function* function = scope_.program.function_at(frames::names_address(scope_));
    const auto keep = [&](auto matches) {
      std::vector<const Variable*> kept;
      std::copy_if(found.begin(), found.end(), std::back_inserter(kept), matches);
      if (kept.size() != 1) return false;
      found = kept;
      return true;
    };
    if (function != nullptr &&
        keep([&](const Variable* v) { return v->function == function->name; }))
      return;
    if (line &&
        keep([&](const Variable* v) { return v->file == line->file && v->function.empty(); }))
      return;
    keep([](const Variable* v) { return v->global; });
  }

  // The machine
  // --------------------------------------------------------------------------------------

  Tree pin() {
    if (!take(".")) return give_up(problem("a pin is missing", "such as pin.PB5"));
    const std::string wanted = word();
    std::vector<std::string> names;
    for (const PinState& state : scope_.machine.pins()) {
      names.push_back(state.name);
      if (!base::equal_ignoring_case(state.name, wanted)) continue;
      Tree node = make(NodeKind::kPin);
      node->operand.place.kind = Place::Kind::kPin;
      node->operand.place.pin = state.name;
      return node;
    }
    return give_up(problem(fmt::format("there is no pin '{}'", wanted), did_you_mean(wanted, names),
                           ErrorCode::kNotFound));
  }

  /// The chip's own comes first, `panel.PORTC`, then what its program names, `panel.latest->is`.
  Tree elsewhere(const std::string& name, const machine::Machine& companion) {
    const Scope there = scope_on(name, companion, scope_);
    Parser parser(text_, there);
    parser.at_ = at_;
    const bool is_pin = parser.take(".") && parser.word() == "pin";
    if (!is_pin) parser.at_ = at_;
    Tree found = is_pin ? parser.pin() : parser.chip();
    if (parser.failed_ && !is_pin && parser.error_.code == ErrorCode::kNotFound) {
      Parser of_program(text_, there);
      of_program.at_ = at_;
      of_program.take(".");
      Tree variable = of_program.postfix();
      if (!of_program.failed_) {
        at_ = of_program.at_;
        return on(name, std::move(variable));
      }
      // Half a name of the program is one, too: what is wrong stands behind it.
      const Error& wrong = of_program.error_;
      if (wrong.code != ErrorCode::kNotFound || parser.error_.hint.empty()) parser.error_ = wrong;
    }
    at_ = parser.at_;
    if (parser.failed_) {
      if (parser.error_.hint.empty())
        parser.error_.hint =
            "of another chip there are registers, memory, pins and facts, and the variables of its "
            "program but for locals";
      return give_up(parser.error_);
    }
    return on(name, std::move(found));
  }

  Tree on(const std::string& chip, Tree part) {
    Tree node = make(NodeKind::kElsewhere);
    node->name = chip;
    node->a = std::move(part);
    return node;
  }

  Tree chip() {
    const bool names_part = take(".");
    const std::size_t begin = at_;
    const std::string part = names_part ? word() : std::string();
    if (part.empty()) return give_up(problem("a part of the chip is missing", some_parts()));
    if (part == "cycles") return make(NodeKind::kCycles);
    if (part == "time") return make(NodeKind::kTime);
    if (part == "stack") return stack();
    if (part == scope_.machine.target().flags_register()) {
      const std::size_t behind = at_;
      if (take(".")) return flag();
      at_ = behind;
    }
    // Single capitals X, Y and Z are pointer registers; an I/O register of the name wins.
    if (const IoRegister* io = scope_.machine.io_register(part);
        io != nullptr && !scope_.machine.find_register(part))
      return io_register(*io);
    if (const auto index = scope_.machine.find_register(part)) {
      Tree node = make(NodeKind::kRegister);
      node->operand.place.kind = Place::Kind::kRegister;
      node->operand.place.index = *index;
      return node;
    }
    if (scope_.machine.area(part) != nullptr) return area(part);
    at_ = begin;
    return give_up(problem(fmt::format("{} has no '{}'", scope_.machine.info().name, part),
                           did_you_mean(part, chip_names()), ErrorCode::kNotFound));
  }

  /// What a name that the program does not have could be meant as: the chip's own, or a slip.
  [[nodiscard]] std::string elsewhere_than(const std::string& name) const {
    for (const std::string& own : chip_names())
      if (base::equal_ignoring_case(own, name)) return fmt::format("the chip's is chip.{}", own);
    for (const PinState& pin : scope_.machine.pins())
      if (base::equal_ignoring_case(pin.name, name))
        return fmt::format("the pin is pin.{}", pin.name);
    return did_you_mean(name, known_names(scope_));
  }

  /// Two of them, as an example.
  [[nodiscard]] std::string some_parts() const {
    const auto& registers = scope_.machine.target().registers();
    const auto& io = scope_.machine.info().io;
    std::string out = "such as chip.cycles";
    if (!registers.empty()) out += " or chip." + registers[registers.size() / 2].name;
    if (!io.empty()) out += " or chip." + io[io.size() / 2].name;
    return out;
  }

  [[nodiscard]] std::vector<std::string> chip_names() const {
    std::vector<std::string> out{"cycles", "time", "stack"};
    for (const auto& r : scope_.machine.target().registers()) out.push_back(r.name);
    for (const auto& r : scope_.machine.info().io) out.push_back(r.name);
    for (const auto& area : scope_.machine.info().memories) out.push_back(area.name);
    return out;
  }

  Tree stack() {
    const std::string what = take(".") ? word() : std::string();
    if (what == "free") return make(NodeKind::kStackFree);
    if (what == "deepest") return make(NodeKind::kStackDeepest);
    if (what == "used") return make(NodeKind::kStackUsed);
    return give_up(
        problem("of the stack there are `free`, `used` and `deepest`", "such as chip.stack.free"));
  }

  Tree flag() {
    const std::string letter = word();
    const std::string letters = scope_.machine.flag_letters();
    const std::size_t at = letter.size() == 1
                               ? letters.find(static_cast<char>(std::toupper(letter[0])))
                               : std::string::npos;
    if (at == std::string::npos)
      return give_up(problem(fmt::format("there is no flag '{}'", letter),
                             "the flags are " + letters, ErrorCode::kNotFound));
    Tree node = make(NodeKind::kRegister);
    node->operand.place.kind = Place::Kind::kFlag;
    node->operand.place.index = static_cast<unsigned>(letters.size() - 1 - at);
    return node;
  }

  Tree io_register(const IoRegister& io) {
    Tree node = make(NodeKind::kPair);
    Place& place = node->operand.place;
    place.kind = Place::Kind::kMemory;
    place.address = {Space::kData, io.address};
    place.bytes = io.bytes;
    const std::size_t behind = at_;
    if (text_.compare(at_, 2, "..") == 0 || !take(".")) {
      at_ = behind;
      return node;
    }
    const std::string part = word();
    std::vector<std::string> names;
    if (const auto bit = base::parse_unsigned(part); bit && *bit < std::uint64_t{8} * io.bytes) {
      place.bit_offset = static_cast<std::uint8_t>(*bit);
      place.bit_size = 1;
      return node;
    }
    for (const IoField& field : io.fields) {
      names.push_back(field.name);
      if (!base::equal_ignoring_case(field.name, part)) continue;
      place.bit_offset = field.lowest;
      place.bit_size = field.width;
      return node;
    }
    std::string hint = did_you_mean(part, names);
    if (hint.empty() && !names.empty()) {
      hint = "it has";
      for (const std::string& n : names) hint += " " + n;
    }
    return give_up(problem(fmt::format("{} has no bit or field '{}'", io.name, part), hint,
                           ErrorCode::kNotFound));
  }

  Tree area(const std::string& name) {
    if (!take("["))
      return give_up(problem("an address is missing", fmt::format("such as chip.{}[0x120]", name)));
    Tree first = choice();
    Tree last;
    bool by_length = false;
    if (!failed_ && take("..")) {
      last = choice();
    } else if (!failed_ && peek_word() == "for") {
      word();
      last = choice();
      by_length = true;
    }
    if (!failed_ && !take("]")) return give_up(problem("']' is missing"));
    if (failed_) return nullptr;
    Tree node = make(NodeKind::kArea, std::move(first), std::move(last));
    node->name = name;
    node->op = by_length ? 'f' : '.';
    return node;
  }

  const std::string& text_;
  const Scope& scope_;
  std::size_t at_ = 0;
  unsigned depth_ = 0;
  unsigned nodes_ = 0;
  std::vector<std::string> open_;  ///< macros opened on the way here
  bool failed_ = false;
  Error error_;
};

}  // namespace

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

std::vector<std::string> known_names(const Scope& scope) {
  std::vector<std::string> out = scope.machine.companions();
  out.insert(out.end(), {"chip", "pin"});
  if (!scope.globals_only)
    for (const Local* local : frames::locals_of(scope)) out.push_back(local->name);
  const auto add = [&](const std::string& name) {
    out.push_back(name);
    int depth = 0;
    for (std::size_t i = 0; i + 2 < name.size(); ++i) {  // and with fewer scopes
      depth += name[i] == '<' ? 1 : name[i] == '>' ? -1 : 0;
      if (depth == 0 && name.compare(i, 2, "::") == 0) out.push_back(name.substr(i + 2));
    }
  };
  for (const Variable& v : scope.program.variables()) add(v.name);
  for (const Function& f : scope.program.functions()) add(f.name);
  for (const Type& t : scope.program.types())
    for (const Type::Enumerator& e : t.enumerators) out.push_back(e.name);
  return out;
}

}  // namespace lucid::expression
