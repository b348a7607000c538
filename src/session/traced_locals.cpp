// SPDX-License-Identifier: MIT
// Locals as signals: looked at where a line of their function begins, and unknown once it is left.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <iterator>

#include "base/names.h"
#include "base/text.h"
#include "session/core.h"

namespace lucid {

namespace {

/// As a signal of reals, or of whole numbers, has it; unknown if it is no number, or does not fit.
Sample sample_of(const Result<expression::Operand>& looked, bool real) {
  Sample out{0, 0, Sample::State::kUnknown};
  if (!looked || looked->value.kind == Value::Kind::kAggregate) return out;
  const bool is_real = looked->value.kind == Value::Kind::kReal;
  if (is_real && !real) return out;
  out.state = Sample::State::kKnown;
  const double number = is_real ? looked->value.real : static_cast<double>(looked->value.integer);
  if (real)
    std::memcpy(&out.value, &number, sizeof out.value);
  else
    out.value = static_cast<std::uint64_t>(looked->value.integer);
  return out;
}

std::string name_of(const frames::Frame& level) {
  if (level.inlined != nullptr) return level.inlined->name;
  return level.function != nullptr ? level.function->name : std::string();
}

bool is_jump(const Instruction& at) { return at.flow == Flow::kJump || at.flow == Flow::kBranch; }

}  // namespace

/// Where a function's locals are looked at, and where they are gone.
struct Session::Core::LocalPlaces {
  std::vector<std::uint32_t> lines, ends;  ///< ascending
};

Session::Core::LocalPlaces Session::Core::places_of_locals(const std::string& function,
                                                           const frames::Scope& on) {
  const Program& program = on.program;
  const auto is_it = [&](const std::string& name) { return base::means(name, function); };
  const auto within = [&](std::uint32_t address) {
    const auto inlined = program.inlined_at(address);
    if (!inlined.empty()) return is_it(inlined.front()->name);
    const Function* at = program.function_at(address);
    return at != nullptr && is_it(at->name);
  };
  LocalPlaces out;
  for (const Function& f : program.functions()) {
    if (!f.has_lines) continue;
    const auto lines = program.lines_in(f.begin, f.end);
    if (std::none_of(lines.begin(), lines.end(), [&](const auto& l) { return within(l.begin); }))
      continue;
    for (const LineRange& line : lines) {
      // What it calls inline changes nothing of it until it goes on.
      const auto inlined = program.inlined_at(line.begin);
      const bool deeper = !within(line.begin) &&
                          (is_it(f.name) ||
                           std::any_of(inlined.begin(), inlined.end(),
                                       [&](const InlinedCall* call) { return is_it(call->name); }));
      if (!deeper) (within(line.begin) ? out.lines : out.ends).push_back(line.begin);
    }
    for (std::uint32_t at = f.begin; at < f.end;) {
      const Instruction instruction = on.machine.instruction_at(at, false);
      const Function* to = is_jump(instruction) && instruction.target &&
                                   (*instruction.target < f.begin || *instruction.target >= f.end)
                               ? program.function_at(*instruction.target)
                               : nullptr;
      const bool leaves =
          instruction.flow == Flow::kReturn || instruction.flow == Flow::kInterruptReturn ||
          (instruction.flow == Flow::kJump && to != nullptr &&
           on.machine.target().shared_code(to->name) != machine::SharedCode::kTable);
      if (leaves) out.ends.push_back(at);
      at += std::max<std::uint32_t>(1, instruction.size);
    }
  }
  for (auto* list : {&out.lines, &out.ends}) {
    std::sort(list->begin(), list->end());
    list->erase(std::unique(list->begin(), list->end()), list->end());
  }
  return out;
}

/// An expression of the locals of a function: of the one that is named behind it, `error in
/// control_step`, or of the selected call level's. nullopt: no local is in it.
std::optional<Result<Session::Core::Traceable>> Session::Core::traceable_local(
    const std::string& text, const Side& on) const {
  const auto parsed_in = [](const std::string& expression, const frames::Scope& names) {
    auto out = expression::Expression::parse(expression, names);
    if (out && !out->uses_locals()) out = fail(ErrorCode::kNotFound, "no local");
    return out;
  };
  std::string expression = text, function;
  LocalPlaces places;
  const Program& program = on.program();
  frames::Flows& flows = on.scope.flows;
  const std::optional<std::uint32_t> static_end = on.scope.static_end;
  frames::Scope names =
      on.chip.empty() ? on.scope : frames::Scope{program, on.machine(), flows, static_end};
  Result<expression::Expression> found = fail(ErrorCode::kNotFound, "no local");
  if (const std::size_t in = text.rfind(" in "); in != std::string::npos) {
    expression = std::string(base::trim(text.substr(0, in)));
    function = std::string(base::trim(text.substr(in + 4)));
    places = places_of_locals(function, names);
    names.level = 0;
    for (std::size_t i = 0; !found && i < places.lines.size(); ++i) {
      names.names_at = places.lines[i];
      found = parsed_in(expression, names);
    }
  } else if ((found = parsed_in(text, names))) {
    const auto levels = frames::call_levels(program, on.machine(), flows);
    if (names.level < levels.size()) function = name_of(levels[names.level]);
    places = places_of_locals(function, names);
  }
  if (!found) return std::nullopt;
  Traceable out;
  out.facts.name = expression;
  out.facts.scope = {on.name(), function};
  out.facts.kind = Signal::Kind::kNumber;
  out.facts.bits = 32;
  out.facts.is_signed = true;
  out.facts.fleeting = true;
  const auto here = found->evaluate(names);
  const auto type = found->type(names);
  if (type) {
    const Type& t = program.types()[*type];
    if (!t.members.empty() || t.kind == Type::Kind::kArray)
      return Result<Traceable>(fail(ErrorCode::kUsage,
                                    fmt::format("'{}' is more than one value", text),
                                    "trace its members, or its elements"));
    out.facts.bits = static_cast<std::uint8_t>(8 * std::clamp<std::uint32_t>(t.bytes, 1, 8));
    out.facts.is_signed = t.kind == Type::Kind::kSigned || t.kind == Type::Kind::kChar ||
                          (t.kind == Type::Kind::kEnum && t.is_signed);
    if (t.kind == Type::Kind::kFloat) out.facts.kind = Signal::Kind::kReal;
    name_values(program, *type, out.facts);
  } else if (here) {
    if (here->value.kind == Value::Kind::kReal) out.facts.kind = Signal::Kind::kReal;
    out.facts.bits = here->value.bits;
    out.facts.is_signed = here->value.is_signed;
  } else {  // it has no value here: real, if something in it is
    for (const std::string& name : lucid::expression::names_in(expression)) {
      const auto part = lucid::expression::Expression::parse(name, names);
      const auto its = part ? part->type(names) : std::nullopt;
      if (its && program.types()[*its].kind == Type::Kind::kFloat)
        out.facts.kind = Signal::Kind::kReal;
    }
  }
  if (out.facts.kind == Signal::Kind::kReal) out.facts.bits = 64;
  out.whole = expression + " in " + function;
  out.source.kind = record::Source::Kind::kLooked;
  std::set_union(places.lines.begin(), places.lines.end(), places.ends.begin(), places.ends.end(),
                 std::back_inserter(out.source.places));
  // What its names mean follows from where it is looked at.
  const auto meanings = std::make_shared<std::map<std::uint32_t, Result<expression::Expression>>>();
  const bool real = out.facts.kind == Signal::Kind::kReal;
  out.source.look = [&program, &flows, static_end, expression, function, meanings, parsed_in, real,
                     places = std::move(places)](const machine::Machine& machine) {
    frames::Scope now{program, machine, flows, static_end, 0, {}};
    const std::uint32_t pc = machine.pc();
    const Sample unknown{0, 0, Sample::State::kUnknown};
    const auto stands_at = [pc](const std::vector<std::uint32_t>& list) {
      return std::binary_search(list.begin(), list.end(), pc);
    };
    if (stands_at(places.ends)) return unknown;
    if (!stands_at(places.lines)) {  // where the trace begins: in the middle of anything
      const auto levels = frames::call_levels(program, machine, flows);
      while (now.level < levels.size() && !base::means(name_of(levels[now.level]), function))
        ++now.level;
      const auto outer = now.level < levels.size() ? parsed_in(expression, now)
                                                   : fail(ErrorCode::kNotFound, "not called");
      return outer ? sample_of(outer->evaluate(now), real) : unknown;
    }
    auto meaning = meanings->find(pc);
    if (meaning == meanings->end())
      meaning = meanings->emplace(pc, parsed_in(expression, now)).first;
    return meaning->second ? sample_of(meaning->second->evaluate(now), real) : unknown;
  };
  return out;
}

}  // namespace lucid
