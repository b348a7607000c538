// SPDX-License-Identifier: MIT
// Views. They read the machine as observers do and change nothing; `before_` is the machine as it
// was at the last pause, so that each view can say what has changed.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "expression/macros.h"
#include "session/core.h"

namespace lucid {

std::string Session::Core::place_name(std::uint32_t address) const {
  const Function* function = program_.function_at(address);
  if (function == nullptr) {
    for (const InterruptVector& vector : machine().info().vectors)
      if (vector.address == address && vector.number != 0)
        return fmt::format("vector {}", vector.name);
    return fmt::format("{:#06x}", address);
  }
  const std::uint32_t offset = address - function->begin;
  return offset == 0 ? function->name : fmt::format("{}+{:#x}", function->name, offset);
}

std::string Session::Core::data_names(Space space, std::uint32_t begin, std::uint32_t end) const {
  std::string out;
  for (const Variable& v : program_.variables()) {
    if (v.address.space != space || v.address.offset < begin || v.address.offset >= end) continue;
    out += (out.empty() ? "" : " ") + v.name;
  }
  return out;
}

/// `.rate`, `[3].low + 1`: what lies so far into an object.
std::string Session::Core::path_into(unsigned type, std::uint32_t into) const {
  std::string out;
  for (;;) {
    const Type& t = program_.types()[type];
    if (t.kind == Type::Kind::kArray && t.target != 0 && program_.types()[t.target].bytes != 0) {
      const std::uint32_t each = program_.types()[t.target].bytes;
      out += fmt::format("[{}]", into / each);
      type = t.target;
      into %= each;
      continue;
    }
    const Type::Member* found = nullptr;
    if (t.kind == Type::Kind::kStruct)
      for (const Type::Member& member : t.members)
        if (member.bit_size == 0 && into >= member.offset &&
            into < member.offset + program_.types()[member.type].bytes)
          found = &member;
    if (found == nullptr || found->name.empty()) break;
    out += "." + found->name;
    type = found->type;
    into -= found->offset;
  }
  return into == 0 ? out : out + fmt::format(" + {}", into);
}

/// `ramp.rate + 1`, or the name of an I/O register; empty if nothing is known there.
std::string Session::Core::data_name(std::uint32_t address) const {
  for (const IoRegister& io : machine().info().io)
    if (io.address == address && io.bytes == 1) return io.name;
  for (const Variable& v : program_.variables()) {
    const std::uint32_t bytes = std::max(program_.types()[v.type].bytes, 1U);
    if (v.address.space != Space::kData || address < v.address.offset ||
        address >= v.address.offset + bytes)
      continue;
    return v.name + path_into(v.type, address - v.address.offset);
  }
  return {};
}

Result<SourceView> Session::Core::source(const std::string& place, unsigned around) const {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  const Location here = location(machine().pc());
  const Location selected = level_ != 0 ? where_of(level_) : Location{};
  const Location where = place == "here" && level_ != 0 ? selected : location((*addresses)[0]);
  SourceView view;
  if (where.file.empty()) {
    view.problem = fmt::format("no source is known for {}", place_name((*addresses)[0]));
    return view;
  }
  const SourceFile& file = program_.files()[where.file_index];
  const session::Sources::Text& text = sources_.text(file);
  view.file = file.name;
  view.path = text.path;
  if (text.path.empty()) {
    view.problem =
        fmt::format("the source {} was not found; say where with --source FOLDER", file.path);
    return view;
  }
  const auto last = static_cast<unsigned>(text.lines.size());
  const unsigned from = where.line > around ? where.line - around : 1;
  const std::set<unsigned> never = never_run(where.file_index, from, where.line + around);
  for (unsigned n = from; n <= std::min(last, where.line + around); ++n) {
    SourceView::Line line;
    line.number = n;
    line.text = text.lines[n - 1];
    const auto& code = file.lines_with_code;
    line.has_code = std::binary_search(code.begin(), code.end(), n);
    line.never_run = never.count(n) != 0;
    line.current = here.file_index == where.file_index && !here.file.empty() && here.line == n;
    line.selected =
        selected.file_index == where.file_index && !selected.file.empty() && selected.line == n;
    for (const Entry& entry : breakpoints_)
      if (entry.point.where.file == file.name && entry.point.where.line == n)
        line.breakpoints.push_back(entry.point.id);
    if (level_ == 0 ? line.current : line.selected) line.values = values_in(line.text);
    view.lines.push_back(std::move(line));
  }
  return view;
}

/// The variables that a line of source names, with their members and elements, where a value of
/// theirs can be told.
std::vector<std::string> Session::Core::values_in(const std::string& text) const {
  constexpr std::size_t kMost = 6;
  constexpr std::size_t kLongest = 60;
  frames::Scope now = scope();
  now.without_hints = true;
  std::set<std::string> seen;
  std::vector<std::string> out;
  for (const std::string& name : expression::names_in(text)) {
    if (out.size() >= kMost || !seen.insert(name).second) continue;
    const auto expression = expression::Expression::parse(name, now);
    if (!expression || !expression->names_variable()) continue;
    const auto value = expression->evaluate(now);
    if (!value || value->value.kind == Value::Kind::kAggregate) continue;
    std::string written = expression::written(*value, {}, now);
    if (written.size() <= kLongest) out.push_back(name + " = " + std::move(written));
  }
  return out;
}

Result<DisassemblyView> Session::Core::disassembly(const std::string& place, unsigned count,
                                                   bool mixed) const {
  const auto addresses = resolve(place);
  if (!addresses) return fail(addresses.error());
  const std::uint32_t pc_here = level_ != 0 ? call_of(level_) : machine().pc();
  const std::uint32_t wanted = place == "here" ? pc_here : (*addresses)[0];
  // Begin at an instruction for certain: the function's start, walked forward; here, a little
  // before.
  const Function* function = program_.function_at(wanted);
  std::uint32_t begin = wanted;
  if (place == "here" && function != nullptr) {
    std::vector<std::uint32_t> starts;
    for (std::uint32_t pc = function->begin; pc < wanted;
         pc += machine().instruction_at(pc, false).size)
      starts.push_back(pc);
    const std::size_t back = std::min<std::size_t>({starts.size(), 4, count / 3});
    if (back != 0) begin = starts[starts.size() - back];
  }
  if (const auto line = program_.line_at(begin); mixed && line) begin = line->begin;
  const auto counts = machine().counts();
  DisassemblyView view;
  std::uint32_t pc = begin;
  for (unsigned i = 0; i < count && machine().peek({Space::kCode, pc}); ++i) {
    DisassemblyView::Row row;
    row.instruction = machine().instruction_at(pc);
    const Function* at = program_.function_at(pc);
    if (at != nullptr && (i == 0 || at->begin == pc)) {
      row.function = at->name;
      row.offset = pc - at->begin;
      row.function_bytes = at->end - at->begin;
    }
    if (row.instruction.target) row.target = "→ " + place_name(*row.instruction.target);
    if (row.instruction.data) row.target = data_name(*row.instruction.data);
    const auto line = program_.line_at(pc);
    if (line && (line->begin == pc || i == 0)) {
      const SourceFile& file = program_.files()[line->file];
      row.file = file.name;
      row.line = line->line;
      if (mixed) {
        const auto& text = sources_.text(file);
        if (line->line <= text.lines.size()) row.source = text.lines[line->line - 1];
      }
    }
    row.current = pc == machine().pc();
    row.selected = level_ != 0 && pc == pc_here;
    if (const std::size_t unit = counts ? pc / counts->unit : 0;
        counts && unit < counts->executed.size()) {
      row.executed = counts->executed[unit];
      if (row.instruction.flow == Flow::kBranch || row.instruction.flow == Flow::kSkip)
        row.taken = counts->departed[unit];
    }
    row.breakpoints = ids_at(pc);
    pc += std::max<unsigned>(row.instruction.size, 1);
    view.rows.push_back(std::move(row));
  }
  return view;
}

Result<std::vector<std::string>> Session::Core::macros(const std::string& place) const {
  const auto view = source(place, 0);
  if (!view) return fail(view.error());
  if (!program_.has_macros())
    return fail(ErrorCode::kUnsupported, "this image does not know the macros of its source",
                "build it with -g3 -gdwarf-4");
  if (!view->problem.empty() || view->lines.empty())
    return fail(ErrorCode::kNotFound, view->problem.empty() ? "no source here" : view->problem);
  return expression::opened(program_, view->lines[0].text);
}

Result<MemoryView> Session::Core::memory(const std::string& name,
                                         std::optional<std::uint32_t> begin,
                                         std::uint32_t length) const {
  const MemoryArea* area = machine().area(name);
  if (area == nullptr) {
    std::vector<std::string> names;
    for (const MemoryArea& a : machine().info().memories) names.push_back(a.name);
    return fail(ErrorCode::kNotFound,
                fmt::format("{} has no memory '{}'", machine().info().name, name),
                did_you_mean(name, names));
  }
  const std::uint32_t first = begin.value_or(area->begin);
  if (first < area->begin || first >= area->end)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{:#06x} is not in {}, which reaches from {:#06x} to {:#06x}", first,
                            name, area->begin, area->end - 1));
  const std::uint32_t end = std::min<std::uint32_t>(
      area->end, first + std::min<std::uint32_t>(length == 0 ? 256 : length, 1U << 20));
  MemoryView view;
  view.area = name;
  view.space = area->space;
  constexpr std::uint32_t kRow = 16;
  for (std::uint32_t at = first; at < end;) {
    MemoryView::Row row;
    row.address = at;
    const std::uint32_t row_end = std::min(end, at - at % kRow + kRow);
    for (; at < row_end; ++at) {
      const std::uint8_t byte = machine().peek({area->space, at}).value_or(0);
      row.bytes.push_back(byte);
      row.changed.push_back(before_ != nullptr && before_->peek({area->space, at}) != byte);
    }
    row.names = data_names(area->space, row.address, row_end);
    view.rows.push_back(std::move(row));
  }
  return view;
}

/// Where the call of a level stands, counted from the innermost.
Location Session::Core::where_of(unsigned level) const {
  const auto levels = callers();
  return level < levels.size() ? levels[levels.size() - 1 - level].where : Location{};
}

/// The call instruction itself, if the code before it can be walked; else what it returns to.
std::uint32_t Session::Core::call_of(unsigned level) const {
  const auto levels = callers();
  if (level >= levels.size()) return machine().pc();
  const std::uint32_t returns_to = levels[levels.size() - 1 - level].where.address;
  const Function* function = program_.function_at(returns_to);
  const bool interrupted = level != 0 && levels[levels.size() - level].interrupt;
  if (function == nullptr || interrupted) return returns_to;
  for (std::uint32_t pc = function->begin; pc < returns_to;) {
    const std::uint32_t next = pc + std::max<unsigned>(machine().instruction_at(pc, false).size, 1);
    if (next == returns_to) return pc;
    pc = next;
  }
  return returns_to;
}

std::vector<CallLevel> Session::Core::callers() const {
  const auto frames = frames::call_levels(program_, machine(), flows_);
  std::vector<CallLevel> out;
  for (std::size_t i = frames.size(); i-- > 0;) {
    const frames::Frame& frame = frames[i];
    CallLevel level;
    level.level = static_cast<unsigned>(frames.size() - i);
    level.where = location(frames::look_address(frame));
    level.where.address = frame.pc;
    level.where.inlined.clear();
    level.cfa = frame.cfa;
    level.interrupt = frame.interrupt;
    level.end = frame.end;
    level.left = frame.left;
    if (frame.function != nullptr) level.signature = frame.function->signature;
    if (frame.inlined != nullptr) {
      level.signature.clear();
      level.inlined = true;
      level.where.function = frame.inlined->name;
      level.where.offset = 0;
    }
    if (frame.inner != nullptr) {  // it stands at a call that has no instruction
      level.where.line_begins = false;
      level.where.file.clear();
      level.where.line = frame.inner->call_line;
      if (frame.inner->call_file) {
        level.where.file_index = *frame.inner->call_file;
        level.where.file = program_.files()[*frame.inner->call_file].name;
      }
    }
    out.push_back(std::move(level));
  }
  return out;
}

Result<void> Session::Core::select_level(unsigned number) {
  const auto levels =
      static_cast<unsigned>(frames::call_levels(program_, machine(), flows_).size());
  if (number < 1 || number > levels)
    return fail(ErrorCode::kNotFound, fmt::format("there is no call level {}", number),
                fmt::format("levels are 1 to {}, see `show callers`", levels));
  level_ = levels - number;
  return {};
}

std::vector<VariableView> Session::Core::variables() const {
  const frames::Scope now = scope();
  frames::Scope then{program_, *before_, flows_, static_end_, 0, {}};
  const std::uint32_t here = frames::names_address(now);
  const Function* function = program_.function_at(here);
  const bool same_place =
      level_ == 0 && before_ != nullptr && program_.function_at(before_->pc()) == function;
  std::vector<VariableView> out;
  for (const Local* local : frames::locals_of(now)) {
    VariableView view;
    view.name = local->name;
    view.type = program_.types()[local->type].name;
    view.expression = local->name;
    view.children = count_children(local->type);
    view.function = function != nullptr ? function->name : "";
    const auto written = [&](const frames::Scope& in) {
      auto operand = expression::local_value(*local, in);
      return operand ? expression::written(*operand, {}, in) : "(" + operand.error().hint + ")";
    };
    view.which = which(local->name, now);
    if (const auto found = expression::local_value(*local, now); !found)
      view.unknown = found.error().unknown;
    view.value = written(now);
    view.before = same_place ? written(then) : view.value;
    out.push_back(std::move(view));
  }
  return out;
}

namespace {
std::string first_name(const std::string& expression) {
  const auto part = [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
  };
  return {expression.begin(), std::find_if_not(expression.begin(), expression.end(), part)};
}
}  // namespace

/// The function, or inlined body, whose locals names mean.
std::string Session::Core::function_here(const frames::Scope& in) const {
  const std::uint32_t here = frames::names_address(in);
  if (const auto inlined = program_.inlined_at(here); !inlined.empty() && in.level == 0)
    return inlined.front()->name;
  const Function* function = program_.function_at(here);
  return function != nullptr ? function->name : std::string();
}

std::string Session::Core::which(const std::string& expression, const frames::Scope& in) const {
  const std::string name = first_name(expression);
  std::vector<const Variable*> globals;
  for (const Variable& v : program_.variables())
    if (v.name == name) globals.push_back(&v);
  if (globals.empty() || expression.find(" in ") != std::string::npos) return {};
  const auto full = [&](const Variable& v) {
    return fmt::format("'{} in {}'", name,
                       v.function.empty() ? program_.files()[v.file].name : v.function);
  };
  const auto locals = frames::locals_of(in);
  const bool local =
      !in.globals_only &&
      std::any_of(locals.begin(), locals.end(), [&](const Local* l) { return l->name == name; });
  if (local) {  // what could be meant here without it
    const std::string here = function_here(in);
    const auto hidden = std::find_if(globals.begin(), globals.end(), [&](const Variable* v) {
      return v->function.empty() || v->function == here;
    });
    return hidden != globals.end() ? "hides " + full(**hidden) : "";
  }
  if (globals.size() == 1 && !in.globals_only) return {};
  const auto parsed = expression::Expression::parse(name, in);
  const auto found =
      parsed ? parsed->evaluate(in) : Result<expression::Operand>(fail(parsed.error()));
  for (const Variable* v : globals)
    if (found && v->address == found->place.address &&
        (globals.size() > 1 || program_.has_local(name)))
      return full(*v).substr(1 + name.size() + 1, full(*v).size() - name.size() - 3);
  return {};
}

Result<WatchView> Session::Core::watch(const std::string& expression, const std::string& format) {
  if (!format.empty())
    if (auto parsed = parse_format(format); !parsed) return fail(parsed.error());
  const auto parsed = expression::Expression::parse(expression, scope());
  if (!parsed && parsed.error().code != ErrorCode::kNotFound) return fail(parsed.error());
  if (!parsed) {  // a local of some other function may come into scope; nothing else will
    if (!program_.has_local(first_name(expression))) return fail(parsed.error());
  }
  WatchView view;
  view.id = next_id_++;
  view.expression = expression;
  view.format = format;
  watched_.push_back(view);
  look_at_watches();
  return watched_.back();
}

/// Can its text be another though its bytes are the same? Pointers say where they lead.
bool Session::Core::tells_of_others(unsigned type) const {
  const Type& t = program_.types()[type];
  switch (t.kind) {
    case Type::Kind::kSigned:
    case Type::Kind::kUnsigned:
    case Type::Kind::kBool:
    case Type::Kind::kChar:
    case Type::Kind::kFloat:
    case Type::Kind::kEnum: return false;
    case Type::Kind::kArray: return t.bytes == 0 || tells_of_others(t.target);
    case Type::Kind::kStruct:
      return t.bytes == 0 ||
             std::any_of(t.members.begin(), t.members.end(),
                         [&](const Type::Member& m) { return tells_of_others(m.type); });
    default: return true;
  }
}

bool Session::Core::is_as_before(const Variable& v) const {
  if (tells_of_others(v.type)) return false;
  const std::uint32_t bytes = program_.types()[v.type].bytes;
  const std::uint8_t* now = machine().plain_bytes(v.address, bytes);
  const std::uint8_t* then = before_->plain_bytes(v.address, bytes);
  if (now != nullptr && then != nullptr) return std::equal(now, now + bytes, then);
  for (std::uint32_t i = 0; i < bytes; ++i) {
    const Address at{v.address.space, v.address.offset + i};
    if (machine().peek(at) != before_->peek(at)) return false;
  }
  return true;
}

std::vector<VariableView> Session::Core::globals(const std::string& like, bool changed) const {
  std::vector<VariableView> out;
  const frames::Scope now = scope();
  const frames::Scope then{program_, *before_, flows_, static_end_, 0, {}};
  const std::vector<const Local*> locals = frames::locals_of(now);
  const auto is_shared = [&](const std::string& name) {
    const auto same = [&name](const auto& one) { return one.name == name; };
    return std::any_of(locals.begin(), locals.end(), [&](const Local* l) { return same(*l); }) ||
           std::count_if(program_.variables().begin(), program_.variables().end(), same) > 1;
  };
  for (const Variable& v : program_.variables()) {
    if (v.name.find(like) == std::string::npos || (changed && is_as_before(v))) continue;
    VariableView view;
    view.name = v.name;
    view.type = program_.types()[v.type].name;
    view.function = v.function;
    view.file = program_.files()[v.file].name;
    view.address = v.address;
    const std::string text = v.name + " in " + (v.function.empty() ? view.file : v.function);
    view.expression = text;
    if (is_shared(v.name)) view.which = text.substr(v.name.size() + 1);
    view.children = count_children(v.type);
    if (auto expression = expression::Expression::parse(text, now)) {
      const auto written = [&](const frames::Scope& scope) -> std::string {
        auto operand = expression->evaluate(scope);
        return operand ? expression::written(*operand, {}, scope)
                       : "(" + operand.error().what + ")";
      };
      view.value = written(now);
      view.before = written(then);
    }
    if (!changed || view.value != view.before) out.push_back(std::move(view));
  }
  return out;
}

/// What a watch means where the execution is: from the last time, if that was in the same file and
/// function.
const Session::Core::WatchMeaning& Session::Core::meaning_of(const WatchView& w,
                                                             const frames::Scope& now) {
  constexpr std::size_t kMost = 10'000;
  if (watch_meanings_.size() > kMost) watch_meanings_.clear();
  const std::uint32_t here = frames::names_address(now);
  const auto line = program_.line_at(here);
  const std::optional<unsigned> file = line ? std::optional<unsigned>(line->file) : std::nullopt;
  const Function* function = program_.function_at(here);
  WatchMeaning& known = watch_meanings_[{w.id, file, function}];
  if (known.stays) return known;
  auto expression = expression::Expression::parse(w.expression, now);
  known = {};
  known.format = parse_format(w.format).value_or(Format{});
  if (!expression) {
    known.problem = expression.error();
    return known;
  }
  known.expression = std::make_shared<const expression::Expression>(std::move(*expression));
  known.which = which(w.expression, now);
  known.stays = now.globals_only && known.expression->keeps_its_meaning();
  return known;
}

/// Works every watch out; what was there becomes what it was before. A watch keeps the variable
/// that it was made for.
void Session::Core::look_at_watches() {
  if (watched_.empty()) return;
  const Picoseconds time = to_time(machine().ticks(), machine().info().clock_hz);
  const Location here = location(machine().pc());
  frames::Scope now = scope();
  const std::string function = function_here(now);
  for (WatchView& w : watched_) {
    w.before = w.problem.empty() ? w.value : "";
    const bool bound = bound_watches_.count(w.id) != 0;
    if (bound && !w.function.empty() && function != w.function) {
      w.problem = fmt::format("not in scope here, but in {}", w.function);
      w.unknown = Unknown::kNotInScope;
      continue;
    }
    now.globals_only = bound && w.function.empty();
    const WatchMeaning& meaning = meaning_of(w, now);
    const auto operand = meaning.expression != nullptr
                             ? meaning.expression->evaluate(now)
                             : Result<expression::Operand>(fail(meaning.problem));
    if (meaning.expression != nullptr) {
      if (!bound) {
        bound_watches_.insert(w.id);
        if (meaning.expression->uses_locals()) w.function = function;
      }
      w.which = meaning.which;
    }
    if (operand && operand->value.past_end) w.which = "past the end of the array";
    if (!operand) {
      const bool local =
          meaning.expression == nullptr && program_.has_local(first_name(w.expression));
      w.problem = local ? "not in scope here" : operand.error().what;
      w.unknown = local ? Unknown::kNotInScope : operand.error().unknown;
      continue;
    }
    w.value = expression::written(*operand, meaning.format, now);
    w.problem.clear();
    w.unknown = Unknown::kNone;
    w.known_at = time;
    w.known_in = here;
  }
}

}  // namespace lucid
