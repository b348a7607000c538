// SPDX-License-Identifier: MIT
// Commands that look.
#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <string_view>

#include "console.h"
#include "output.h"

namespace lucid::app {

Result<void> Console::do_evaluate(const Words& words) {
  const std::string text = words.text("EXPR");
  Format format;
  if (const std::string name = words.text("FORMAT"); !name.empty()) {
    const auto parsed = parse_format(name);
    if (!parsed) return fail(parsed.error());
    format = *parsed;
  }
  auto value = session_->evaluate(text, format);
  if (!value) return fail(value.error());
  show(Evaluated{text, *value});
  return {};
}

Result<void> Console::do_let(const Words& words) {
  const std::string object = words.text("OBJECT");
  auto value = session_->let(object, words.text("EXPR"), words.has("effects"));
  if (!value) return fail(value.error());
  show(Evaluated{object, *value});
  return {};
}

Result<void> Console::do_watch(const Words& words) {
  auto view = session_->watch(words.text("EXPR"), words.text("FORMAT"));
  if (!view) return fail(view.error());
  show(Watches{{*view}});
  return {};
}

namespace {
/// The place that a line names, or here.
std::string place_of(const Words& words) {
  const std::string place = words.text("PLACE");
  return place.empty() ? "here" : place;
}
}  // namespace

Result<void> Console::do_explain(const Words& words) {
  auto explanation = session_->explain(place_of(words));
  if (!explanation) return fail(explanation.error());
  show(*explanation);
  return {};
}

Result<void> Console::do_find(const Words& words) {
  const std::string rest = words.text("NAME");
  const Program& program = session_->program();
  Found found;
  found.text = rest;
  const auto has = [&](const std::string& name) { return name.find(rest) != std::string::npos; };
  const auto add = [&](const char* kind, const std::string& name,
                       std::optional<std::uint32_t> address, std::string detail) {
    found.items.push_back({kind, name, address, std::move(detail)});
  };
  for (const Function& f : program.functions())
    if (has(f.name + f.signature))
      add("function", f.name + f.signature, f.begin,
          f.file && f.line != 0 ? fmt::format("{}:{}", program.files()[*f.file].name, f.line) : "");
  for (const Variable& v : program.variables())
    if (has(v.name))
      add("variable", v.name, v.address.offset,
          program.types()[v.type].name + " in " +
              (v.function.empty() ? program.files()[v.file].name : v.function));
  for (const InlinedCall& call : program.inlined_calls())
    if (has(call.name))
      add("inlined", call.name, call.entry,
          call.call_file ? fmt::format("called at {}:{}", program.files()[*call.call_file].name,
                                       call.call_line)
                         : "");
  std::set<std::string> types;
  for (const Type& t : program.types())
    if (!t.name.empty() && t.bytes != 0 && has(t.name) &&
        t.name.find_first_of("*[") == std::string::npos && types.insert(t.name).second)
      add("type", t.name, {}, fmt::format("{} bytes", t.bytes));
  for (const Type& t : program.types())
    for (const Type::Enumerator& e : t.enumerators)
      if (has(e.name)) add("enumerator", e.name, {}, fmt::format("{}  {}", e.value, t.name));
  for (const SourceFile& f : program.files())
    if (has(f.name) && !f.lines_with_code.empty())
      add("file", f.name, {}, fmt::format("{} lines with code", f.lines_with_code.size()));
  show(found);
  return {};
}

Result<void> Console::do_follow(const Words& words) {
  const auto graph = session_->graph(words.text("EXPR"));
  if (!graph) return fail(graph.error());
  const std::string path = file(words);
  if (path.empty()) {
    show(*graph);
    return {};
  }
  if (auto written = write_file(path, graph->dot()); !written) return written;
  show(Message{fmt::format("{} nodes written into {}", graph->nodes.size(), path)});
  return {};
}

Result<void> Console::do_macros(const Words& words) {
  const auto levels = session_->macros(place_of(words));
  if (!levels) return fail(levels.error());
  show(OpenedLine{*levels});
  return {};
}

Result<void> Console::show_memory(const std::string& area, const std::string& rest) {
  std::optional<std::uint32_t> begin;
  std::uint32_t length = 0;
  if (!rest.empty()) {
    std::string from = rest;
    std::string to;
    std::string count;
    if (const std::size_t dots = rest.find(".."); dots != std::string::npos) {
      from = rest.substr(0, dots);
      to = rest.substr(dots + 2);
    } else if (const std::size_t by = rest.find(" for "); by != std::string::npos) {
      from = rest.substr(0, by);
      count = rest.substr(by + 5);
    }
    auto first = session_->evaluate(from);
    if (!first) return fail(first.error());
    // A variable means where it lives.
    const bool named = first->address.has_value();
    if (!named && (first->kind != Value::Kind::kInteger || first->integer < 0 ||
                   first->integer > std::int64_t{UINT32_MAX}))
      return fail(ErrorCode::kOutOfRange, "'" + from + "' is not an address");
    begin = named ? first->address->offset : static_cast<std::uint32_t>(first->integer);
    if (named && count.empty() && to.empty()) {
      auto size = session_->evaluate("sizeof(" + from + ")");
      length = size ? static_cast<std::uint32_t>(size->integer) : 1;
    }
    for (const std::string* text : {&to, &count}) {
      if (text->empty()) continue;
      auto value = session_->evaluate(*text);
      if (!value) return fail(value.error());
      if (value->kind != Value::Kind::kInteger || value->integer > std::int64_t{UINT32_MAX})
        return fail(ErrorCode::kOutOfRange, "'" + *text + "' is not in this memory");
      const std::int64_t bytes =
          text == &to ? value->integer - std::int64_t{*begin} + 1 : value->integer;
      if (bytes < 1) return fail(ErrorCode::kOutOfRange, "the range ends before it begins");
      length = static_cast<std::uint32_t>(bytes);
    }
  }
  auto view = session_->memory(area, begin, length);
  if (!view) return fail(view.error());
  show(*view);
  return {};
}

Result<void> Console::show_code(const Words& words) {
  const std::string place = place_of(words);
  const std::uint64_t count = words.number("N", 0);
  if (words.has("for") && (count == 0 || count > 100000))
    return fail(ErrorCode::kUsage, "'" + words.text("N") + "' is not a number of lines",
                "1 to 100000 can be shown");
  if (words.has("source")) {
    auto view = session_->source(place, count == 0 ? 5 : static_cast<unsigned>(count / 2));
    if (!view) return fail(view.error());
    show(*view);
    return {};
  }
  auto view = session_->disassembly(place, count == 0 ? 14 : static_cast<unsigned>(count),
                                    words.has("mixed"));
  if (!view) return fail(view.error());
  show(*view);
  return {};
}

Result<void> Console::do_show(const Words& words) {
  if (const std::string memory = words.text("MEMORY"); !memory.empty())
    return show_memory(memory, words.text("RANGE"));
  const std::string what = words.items()[1].text;
  if (what == "source" || what == "disassembly" || what == "mixed") return show_code(words);
  if (what == "breakpoints") return do_breakpoints(words);
  if (what == "stack" && words.has("bound")) {
    auto bound = session_->stack_bound();
    if (!bound) return fail(bound.error());
    show(*bound);
    return {};
  }
  if (what == "profile") return show_profile(words);
  if (what == "coverage") return show_coverage(words);
  if (what == "interrupts") return show_interrupts();
  if (what == "io") {
    auto io = session_->io(words.text("REGISTER"));
    if (!io) return fail(io.error());
    show(IoRegisters{std::move(*io)});
    return {};
  }
  using Make = Reply (*)(const Session& session, const Words& words);
  static constexpr std::pair<std::string_view, Make> kViews[] = {
      {"registers",
       [](const Session& s, const Words&) -> Reply {
         return Registers{"registers", s.registers(), s.flags()};
       }},
      {"flags",
       [](const Session& s, const Words&) -> Reply {
         return Registers{"flags", {}, s.flags()};
       }},
      {"stack", [](const Session& s, const Words&) -> Reply { return s.stack(); }},
      {"callers",
       [](const Session& s, const Words&) -> Reply {
         auto levels = s.callers();
         const auto current = static_cast<unsigned>(levels.size());
         return Callers{std::move(levels), s.level(), current};
       }},
      {"globals",
       [](const Session& s, const Words& w) -> Reply {
         return Variables{"globals", s.globals(w.text("NAME"))};
       }},
      {"variables",
       [](const Session& s, const Words&) -> Reply {
         return Variables{"variables", s.variables()};
       }},
      {"parts", [](const Session& s, const Words&) -> Reply { return Parts{s.chip().parts()}; }},
      {"pins", [](const Session& s, const Words&) -> Reply { return Pins{s.pins()}; }},
      {"watches", [](const Session& s, const Words&) -> Reply { return Watches{s.watches()}; }},
      {"checks", [](const Session& s, const Words&) -> Reply { return Checks{s.checks()}; }},
      {"wear", [](const Session& s, const Words&) -> Reply { return WearTable{s.wear()}; }},
      {"watchdog", [](const Session& s, const Words&) -> Reply { return Watchdog{s.watchdog()}; }},
      {"heap", [](const Session& s, const Words&) -> Reply { return HeapTable{s.heap()}; }},
      {"findings", [](const Session& s, const Words&) -> Reply { return Findings{s.findings()}; }},
      {"faults", [](const Session& s, const Words&) -> Reply { return Faults{s.faults()}; }},
      {"time", [](const Session& s, const Words&) -> Reply { return s.time(); }},
  };
  for (const auto& [name, make] : kViews)
    if (name == what) show(make(*session_, words));
  if (what == "serial") show(Serial{sent_.text()});
  return {};
}

Result<void> Console::do_level(const Words& words) {
  const std::uint64_t number = std::min<std::uint64_t>(words.number("N", 0), UINT32_MAX);
  if (auto selected = session_->select_level(static_cast<unsigned>(number)); !selected)
    return selected;
  const auto levels = session_->callers();
  for (const CallLevel& level : levels)
    if (level.level == number)
      show(Callers{{level}, level.level, static_cast<unsigned>(levels.size())});
  show(Variables{"variables", session_->variables()});
  return {};
}

}  // namespace lucid::app
