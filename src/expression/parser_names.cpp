// SPDX-License-Identifier: MIT
// What a name in an expression means: the program's, a macro, the chip's own, another chip's.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/names.h"
#include "base/text.h"
#include "expression/integers.h"
#include "expression/object.h"
#include "expression/parser.h"
#include "expression/type_name.h"

namespace lucid::expression {

Tree Parser::name() {
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
    if (const auto companion = scope_.machine.companion(first)) return elsewhere(first, *companion);
  if (in.empty() && (first == "true" || first == "false"))
    return integer(first == "true" ? 1 : 0, 8, false);
  return variable(first, in, begin);
}

Tree Parser::variable(const std::string& name, const std::string& in, std::size_t begin) {
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
      hint +=
          fmt::format(" `{} in {}`", name, v->function.empty() ? files[v->file].name : v->function);
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
      return give_up(problem(fmt::format("'{}' is known to the linker only, without a type", name),
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

Tree Parser::member_of_this(const std::string& name, std::size_t begin) {
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

bool Parser::ends_with(const std::string& text, const std::string& end) {
  return text.size() >= end.size() && text.compare(text.size() - end.size(), end.size(), end) == 0;
}

std::string Parser::without_last(const std::string& name) {
  const std::size_t colon = name.rfind("::");
  return colon == std::string::npos ? "" : name.substr(0, colon + 2);
}

Tree Parser::from_macro(const Macro& macro, std::size_t begin) {
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

void Parser::move_columns(Node& node, std::size_t column) {
  node.column = column;
  for (const auto* part : {&node.a, &node.b, &node.c})
    if (*part != nullptr) move_columns(**part, column);
}

void Parser::narrow(std::vector<const Variable*>& found) const {
  const auto line = scope_.program.line_at(frames::names_address(scope_));
  const Function* function = scope_.program.function_at(frames::names_address(scope_));
  const auto keep = [&](auto matches) {
    std::vector<const Variable*> kept;
    std::copy_if(found.begin(), found.end(), std::back_inserter(kept), matches);
    if (kept.size() != 1) return false;
    found = kept;
    return true;
  };
  if (function != nullptr && keep([&](const Variable* v) { return v->function == function->name; }))
    return;
  if (line && keep([&](const Variable* v) { return v->file == line->file && v->function.empty(); }))
    return;
  keep([](const Variable* v) { return v->global; });
}

Tree Parser::pin() {
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

Tree Parser::elsewhere(const std::string& name, const machine::Machine& companion) {
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

Tree Parser::on(const std::string& chip, Tree part) {
  Tree node = make(NodeKind::kElsewhere);
  node->name = chip;
  node->a = std::move(part);
  return node;
}

Tree Parser::chip() {
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

std::string Parser::elsewhere_than(const std::string& name) const {
  for (const std::string& own : chip_names())
    if (base::equal_ignoring_case(own, name)) return fmt::format("the chip's is chip.{}", own);
  for (const PinState& pin : scope_.machine.pins())
    if (base::equal_ignoring_case(pin.name, name))
      return fmt::format("the pin is pin.{}", pin.name);
  return did_you_mean(name, known_names(scope_));
}

std::string Parser::some_parts() const {
  const auto& registers = scope_.machine.target().registers();
  const auto& io = scope_.machine.info().io;
  std::string out = "such as chip.cycles";
  if (!registers.empty()) out += " or chip." + registers[registers.size() / 2].name;
  if (!io.empty()) out += " or chip." + io[io.size() / 2].name;
  return out;
}

std::vector<std::string> Parser::chip_names() const {
  std::vector<std::string> out{"cycles", "time", "stack"};
  for (const auto& r : scope_.machine.target().registers()) out.push_back(r.name);
  for (const auto& r : scope_.machine.info().io) out.push_back(r.name);
  for (const auto& area : scope_.machine.info().memories) out.push_back(area.name);
  return out;
}

Tree Parser::stack() {
  const std::string what = take(".") ? word() : std::string();
  if (what == "free") return make(NodeKind::kStackFree);
  if (what == "deepest") return make(NodeKind::kStackDeepest);
  if (what == "used") return make(NodeKind::kStackUsed);
  return give_up(
      problem("of the stack there are `free`, `used` and `deepest`", "such as chip.stack.free"));
}

Tree Parser::flag() {
  const std::string letter = word();
  const std::string letters = scope_.machine.flag_letters();
  const std::size_t at = letter.size() == 1
                             ? letters.find(static_cast<char>(std::toupper(letter[0])))
                             : std::string::npos;
  if (at == std::string::npos)
    return give_up(problem(fmt::format("there is no flag '{}'", letter), "the flags are " + letters,
                           ErrorCode::kNotFound));
  Tree node = make(NodeKind::kRegister);
  node->operand.place.kind = Place::Kind::kFlag;
  node->operand.place.index = static_cast<unsigned>(letters.size() - 1 - at);
  return node;
}

Tree Parser::io_register(const IoRegister& io) {
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

Tree Parser::area(const std::string& name) {
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
