// SPDX-License-Identifier: MIT
// Commands that look.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "console.h"
#include "output.h"
#include "words.h"

namespace lucid::app {

Result<void> Console::do_evaluate(const std::string& rest) {
  std::string text = rest;
  Format format;
  if (const std::size_t as = text.rfind(" as "); as != std::string::npos) {
    std::string name = text.substr(as + 4);
    auto parsed = parse_format(name);
    if (!parsed) return fail(parsed.error());
    format = *parsed;
    text.resize(as);
  }
  auto value = session_->evaluate(text, format);
  if (!value) return fail(value.error());
  show(Evaluated{text, *value});
  return {};
}

Result<void> Console::do_explain(const std::string& rest) {
  auto explanation = session_->explain(rest.empty() ? "here" : rest);
  if (!explanation) return fail(explanation.error());
  show(*explanation);
  return {};
}

Result<void> Console::do_find(const std::string& rest) {
  if (rest.empty()) return fail(ErrorCode::kUsage, "this is written: find TEXT");
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

Result<void> Console::do_follow(const std::string& rest) {
  const std::size_t into = rest.rfind(" into ");
  const auto graph = session_->graph(rest.substr(0, into));
  if (!graph) return fail(graph.error());
  if (into == std::string::npos) {
    show(*graph);
    return {};
  }
  const std::string path = beside(rest.substr(into + 6));
  if (auto written = write_file(path, graph->dot()); !written) return written;
  show(Message{fmt::format("{} nodes written into {}", graph->nodes.size(), path)});
  return {};
}

Result<void> Console::do_macros(const std::string& rest) {
  const auto levels = session_->macros(rest.empty() ? "here" : rest);
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

Result<void> Console::show_code(const std::string& what, const std::string& rest) {
  std::string place = "here";
  std::uint64_t count = 0;
  const auto words = split(rest);
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (words[i] == "for" && i + 1 < words.size()) {
      const auto number = parse_number(words[++i]);
      if (!number || *number == 0 || *number > 100000)
        return fail(ErrorCode::kUsage, "'" + words[i] + "' is not a number of lines");
      count = *number;
    } else if (i == 0) {
      place = words[i];
    } else {
      return fail(ErrorCode::kUsage, "this is written: show " + what + " [PLACE] [for N]");
    }
  }
  if (what == "source") {
    auto view = session_->source(place, count == 0 ? 5 : static_cast<unsigned>(count / 2));
    if (!view) return fail(view.error());
    unit_ = StepUnit::kLine;
    show(*view);
    return {};
  }
  auto view =
      session_->disassembly(place, count == 0 ? 14 : static_cast<unsigned>(count), what == "mixed");
  if (!view) return fail(view.error());
  unit_ = StepUnit::kInstruction;
  show(*view);
  return {};
}

Result<void> Console::do_show(const std::string& rest) {
  const std::size_t space = std::min(rest.find(' '), rest.size());
  const std::string what = rest.substr(0, space);
  const std::string more = space < rest.size() ? rest.substr(space + 1) : "";
  constexpr std::array<std::string_view, 3> kTakeMore{"globals", "io", "breakpoints"};
  const bool is_memory =
      std::any_of(session_->chip().info().memories.begin(), session_->chip().info().memories.end(),
                  [&](const MemoryArea& area) {
                    return area.name == what && what != "registers" && what != "io";
                  });
  const bool takes_more = is_memory || what == "source" || what == "disassembly" ||
                          what == "mixed" ||
                          std::count(kTakeMore.begin(), kTakeMore.end(), what) != 0;
  if (!more.empty() && !takes_more)
    return fail(ErrorCode::kUsage, "'" + more + "' is not expected behind `show " + what + "`");
  if (what == "source" || what == "disassembly" || what == "mixed") return show_code(what, more);
  if (is_memory) return show_memory(what, more);
  if (what == "registers") {
    show(Registers{session_->registers(), session_->flags()});
  } else if (what == "flags") {
    show(Registers{{}, session_->flags()});
  } else if (what == "stack") {
    show(session_->stack());
  } else if (what == "callers") {
    show(Callers{session_->callers()});
  } else if (what == "globals") {
    show(Variables{session_->globals(more)});
  } else if (what == "variables") {
    show(Variables{session_->variables()});
  } else if (what == "io") {
    show(IoRegisters{session_->io(more)});
  } else if (what == "parts") {
    show(Parts{session_->chip().parts()});
  } else if (what == "pins") {
    show(Pins{session_->pins()});
  } else if (what == "watches") {
    show(Watches{session_->watches()});
  } else if (what == "faults") {
    show(Faults{session_->faults()});
  } else if (what == "serial") {
    show(Serial{serial_});
  } else if (what == "time") {
    show(session_->time());
  } else if (what == "breakpoints") {
    return do_breakpoints(more);
  } else {
    return fail(ErrorCode::kUsage, what.empty() ? "show what?" : "there is no view '" + what + "'",
                "views are registers flags source disassembly mixed ram flash eeprom stack callers "
                "variables globals io pins parts serial time watches faults");
  }
  return {};
}

Result<void> Console::do_level(const std::string& rest) {
  const auto number = parse_number(rest);
  if (!number || *number > UINT32_MAX)
    return fail(ErrorCode::kUsage, "this is written: level N", "`show callers` has the numbers");
  if (auto selected = session_->select_level(static_cast<unsigned>(*number)); !selected)
    return selected;
  for (const CallLevel& level : session_->callers())
    if (level.level == *number) show(Callers{{level}});
  show(Variables{session_->variables()});
  return {};
}

Result<void> Console::do_help(const std::string& rest) {
  if (!rest.empty()) {
    std::size_t behind = 0;
    const Command* command = find_command(rest, behind);
    if (command == nullptr)
      for (const Command& c : commands())
        if (std::string(c.name).rfind(rest, 0) == 0) command = &c;
    if (command == nullptr)
      return fail(ErrorCode::kUsage, "there is no command '" + rest + "'", "`help` lists them");
    std::string text = "  " + style_.bold(command->synopsis) + "\n";
    std::string help = command->help;
    for (std::size_t at = 0; (at = help.find('\n', at)) != std::string::npos; at += 3)
      help.replace(at, 1, "\n  ");
    text += "  " + help + "\n";
    if (*command->brief != '\0') text += fmt::format("  short form: {}\n", command->brief);
    text += fmt::format("  for example: {}", command->example);
    show(Message{text});
    return {};
  }
  std::string text;
  for (const Command& c : commands()) {
    std::string help = c.help;
    help.resize(std::min(help.find(". "), std::min(help.find(".\n"), help.size())));
    if (!help.empty() && help.back() == '.') help.pop_back();
    for (char& ch : help)
      if (ch == '\n') ch = ' ';
    if (help.size() > 60) help = help.substr(0, help.rfind(' ', 59)) + " …";
    text += fmt::format("  {:<12} {:<2} {}\n", c.name, c.brief, help);
  }
  text += "An empty line repeats the last step or go. `help COMMAND` tells more.";
  show(Message{text});
  return {};
}

}  // namespace lucid::app
