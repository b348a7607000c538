// SPDX-License-Identifier: MIT
// What the word under way may go on to.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/text.h"
#include "expression/object.h"
#include "session/core.h"

namespace lucid {
namespace {

/// Where the last name, with the members and elements in front of it, begins: `p->buf[i].x` of
/// `3+p->buf[i].x`.
std::size_t begin_of_object(const std::string& text) {
  std::size_t at = text.size();
  int depth = 0;
  while (at > 0) {
    const char c = text[at - 1];
    const bool arrow = c == '>' && at > 1 && text[at - 2] == '-';
    const bool closes = c == '>' && !arrow && text.compare(at, 2, "::") == 0;
    if (c == ']' || c == ')' || closes) {
      ++depth;
    } else if (c == '<' && depth > 0) {
      --depth;
    } else if (c == '[' || c == '(') {
      if (--depth < 0) break;
    } else if (depth == 0 && !arrow && std::isalnum(static_cast<unsigned char>(c)) == 0 &&
               std::string_view("_.:").find(c) == std::string_view::npos) {
      break;
    }
    at -= arrow ? 2 : 1;
  }
  return at;
}

void add_members(const Program& program, unsigned type, const std::string& before,
                 std::vector<std::string>& out, unsigned depth = 0) {
  constexpr unsigned kMostDepth = 8;
  for (const Type::Member& member : program.types()[type].members)
    if (member.name.find('.') != std::string::npos)
      continue;  // the compiler's own
    else if (!member.base && !member.name.empty())
      out.push_back(before + member.name);
    else if (depth < kMostDepth)
      add_members(program, member.type, before, out, depth + 1);
}

void add_names_of_chip(const machine::Machine& machine, const std::string& before,
                       std::vector<std::string>& out) {
  const ChipInfo& info = machine.info();
  for (const IoRegister& io : info.io) out.push_back(before + io.name);
  for (const auto& r : machine.target().registers()) out.push_back(before + r.name);
  for (const MemoryArea& area : info.memories) out.push_back(before + area.name + "[");
  for (const char* fact : {"cycles", "time", "stack.free", "stack.deepest", "stack.used"})
    out.push_back(before + fact);
}

}  // namespace

/// Members of the object in front of the last `.` or `->`; empty if there is none.
std::vector<std::string> Session::Core::members_behind(const std::string& text, const Side& on) {
  const std::size_t dot = text.rfind('.');
  const std::size_t arrow = text.rfind("->");
  const bool by_arrow = arrow != std::string::npos && (dot == std::string::npos || arrow > dot);
  const std::size_t at = by_arrow ? arrow : dot;
  std::vector<std::string> out;
  if (at == std::string::npos || at == 0) return out;
  const std::string object = text.substr(0, at);
  const bool named = object.rfind("chip.", 0) == 0;
  const IoRegister* io = nullptr;
  if (named || !on.chip.empty()) io = on.machine().io_register(object.substr(named ? 5 : 0));
  if (io != nullptr) {
    for (const IoField& field : io->fields) out.push_back(object + "." + field.name);
    return out;
  }
  const auto expression = expression::Expression::parse(object, on.scope);
  const auto type = expression ? expression->type(on.scope) : std::nullopt;
  if (!type) return out;
  const Type& t = on.program().types()[*type];
  const bool pointer = t.kind == Type::Kind::kPointer;
  add_members(on.program(), pointer ? t.target : *type, object + (pointer ? "->" : "."), out);
  return out;
}

std::vector<std::string> Session::places(const std::string& start) const {
  const Program& program = core_->program_;
  std::vector<std::string> all{"here"};
  for (const Function& f : program.functions()) all.push_back(f.name);
  for (const InlinedCall& call : program.inlined_calls()) all.push_back(call.name);
  const std::size_t colon = start.rfind(':');
  for (const SourceFile& f : program.files()) {
    if (f.lines_with_code.empty()) continue;
    all.push_back(f.name + ":");
    if (colon != std::string::npos && start.compare(0, colon, f.name) == 0)
      for (const unsigned line : f.lines_with_code)
        all.push_back(fmt::format("{}:{}", f.name, line));
  }
  std::vector<std::string> out;
  for (const bool any_case : {false, true})
    for (std::string& name : all) {
      if (any_case && !out.empty()) break;
      const std::string_view head = std::string_view(name).substr(0, start.size());
      if (name != start && (any_case ? base::equal_ignoring_case(head, start) : head == start))
        out.push_back(std::move(name));
    }
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  return out;
}

std::vector<std::string> Session::names(const std::string& start) const {
  const std::size_t begin = begin_of_object(start);
  const std::string chip = core_->chip_in(start.substr(begin));
  const Core::Side on = core_->side(chip);
  const std::size_t begins_at = begin + (chip.empty() ? 0 : chip.size() + 1);
  const std::string before = start.substr(0, begins_at);
  const std::string word = start.substr(begins_at);
  std::vector<std::string> all = Core::members_behind(word, on);
  if (all.empty()) {
    all = expression::known_names(on.scope);
    // What belongs to the chip comes when its name has been begun with; the toolchain's own names
    // likewise.
    const bool of_chip = word.rfind("chip.", 0) == 0;
    const bool own = word.rfind('_', 0) == 0;
    all.erase(std::remove_if(all.begin(), all.end(),
                             [&](const std::string& name) {
                               if (word.empty() && !on.program().find_functions(name).empty())
                                 return true;  // seldom meant as a value
                               return (!own && name.rfind("__", 0) == 0) || name == "chip" ||
                                      name == "pin";
                             }),
              all.end());
    all.push_back("pin.");
    if (chip.empty()) all.push_back("chip.");
    if (of_chip || !chip.empty()) add_names_of_chip(on.machine(), of_chip ? "chip." : "", all);
    if (word.rfind("pin.", 0) == 0)
      for (const PinState& pin : on.machine().pins()) all.push_back("pin." + pin.name);
  }
  // `p.` of a pointer goes on as `p->`: what counts is behind both.
  std::string wanted = word;
  if (!all.empty() && !wanted.empty() && wanted.find("->", wanted.rfind('.') + 1) == wanted.npos)
    if (const std::size_t dot = wanted.rfind('.');
        dot != wanted.npos && all[0].compare(0, dot + 2, wanted.substr(0, dot) + "->") == 0)
      wanted.replace(dot, 1, "->");
  const auto begins = [&](const std::string& name, bool any_case) {
    if (name.size() < wanted.size() || name == word) return false;
    const std::string_view head = std::string_view(name).substr(0, wanted.size());
    return any_case ? base::equal_ignoring_case(head, wanted) : head == wanted;
  };
  std::vector<std::string> out;
  for (const bool any_case : {false, true})
    if (out.empty())
      for (const std::string& name : all)
        if (begins(name, any_case)) out.push_back(before + name);
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  return out;
}

}  // namespace lucid
