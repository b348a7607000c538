// SPDX-License-Identifier: MIT
#include "documents.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "arguments.h"
#include "commands.h"
#include "demo.h"

namespace lucid::app {
namespace {

/// Text as roff takes it.
std::string roff(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const bool begins = out.empty() || out.back() == '\n';
    if (text[i] == '\\')
      out += "\\e";
    else if (text[i] == '-')
      out += "\\-";
    else if (begins && (text[i] == '.' || text[i] == '\''))
      out += std::string("\\&") + text[i];
    else if (text.compare(i, 3, "…") == 0)
      out += "...", i += 2;
    else if (text.compare(i, 3, "→") == 0)
      out += "\\(->", i += 2;
    else
      out += text[i];
  }
  return out;
}

std::string usage_of(const CommandFacts& command) {
  std::string out = command.name;
  for (const OptionFacts& argument : command.takes) {
    std::string name = argument.name;
    std::transform(name.begin(), name.end(), name.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    out += argument.required ? " " + name : " [" + name + "]";
  }
  return out;
}

std::string man_page() {
  std::string out =
      ".TH LUCID 1 \"\" \"Lucid Loop\" \"User Commands\"\n.SH NAME\nlucid \\- debug "
      "microcontroller "
      "firmware on a simulated chip\n.SH SYNOPSIS\n.B lucid\n.I COMMAND\n[\\fIARGUMENT\\fR]...\n"
      ".SH DESCRIPTION\nLoads a firmware image for a microcontroller and runs it on an "
      "instruction\\-set simulator, exact to the cycle. Breakpoints, steps, expressions and views "
      "speak the program's own source. \\fBlucid\\fR \\fIIMAGE\\fR opens it.\n.SH COMMANDS\n";
  const auto all = command_facts();
  std::set<std::string> said;
  std::string options;
  for (const CommandFacts& command : all) {
    out += ".TP\n.B " + roff(usage_of(command)) + "\n" + roff(command.words) + ".";
    if (!command.example.empty()) out += "\n" + roff(command.example) + ".";
    out += "\n";
    for (const OptionFacts& option : command.options) {
      if (option.name.find("--help") != std::string::npos || !said.insert(option.name).second)
        continue;
      options += ".TP\n\\fB" + roff(option.name) + "\\fR" +
                 (option.takes.empty() ? "" : " \\fI" + roff(option.takes) + "\\fR") + "\n" +
                 roff(option.words) + ".\n";
    }
  }
  out += ".SH OPTIONS\nEach command says with \\fB\\-\\-help\\fR which it has.\n" + options;
  out +=
      ".SH AT THE PROMPT AND IN SCRIPTS\nAny unambiguous beginning of a word will do. In scripts "
      "# begins a comment.\n";
  for (const CommandGroup& group : command_groups()) {
    out += std::string(".SS ") + group.words + "\n";
    for (const Command& command : commands()) {
      if (command.group != group.group) continue;
      out += ".TP\n";
      for (std::size_t i = 0; i < command.forms.size(); ++i)
        out += (i == 0 ? ".B " : ".TQ\n.B ") + roff(command.forms[i]) + "\n";
      std::string words = command.brief;
      words[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(words[0])));
      out += roff(words) + ".";
      if (*command.more != '\0') out += " " + roff(command.more);
      for (const ShortWord& fixed : short_words())
        if (std::string(fixed.means) == command.name)
          out += fmt::format(" In short: \\fB{}\\fR.", fixed.word);
      out += "\n";
    }
  }
  out += ".SS Arguments\n";
  for (const SharedForm& shared : shared_forms())
    out += std::string(".TP\n.I ") + shared.name + "\n" + roff(shared.words) + "\n";
  for (const ArgumentKind& kind : argument_kinds())
    out += std::string(".TP\n.I ") + kind.name + "\n" + roff(kind.words) + "\n";
  for (const Topic& topic : topics()) {
    std::string title = topic.name;
    title[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(title[0])));
    out += ".SS " + title + "\n.nf\n" + roff(topic.text) + "\n.fi\n";
  }
  out += ".SH EXIT STATUS\n";
  for (const ExitFact& fact : exit_facts())
    out += fmt::format(".TP\n.B {}\n{}\n", fact.code, roff(fact.words));
  out +=
      ".SH ENVIRONMENT\n.TP\n.B NO_COLOR\nNo colours, also on a terminal.\n"
      ".TP\n.B COLORFGBG\nThe terminal's colours, where it says them: light or dark ground.\n"
      ".TP\n.B XDG_STATE_HOME\nWhere the prompt keeps its history, in \\fIlucid/commands\\fR.\n"
      ".TP\n.B XDG_CONFIG_HOME\nWhere \\fIlucid/start.loop\\fR is, with which a session at the "
      "prompt begins.\n";
  return out;
}

/// The longest name of an option: `-h,--help` has two.
std::string long_name(const std::string& names) {
  return names.substr(names.rfind(',') == std::string::npos ? 0 : names.rfind(',') + 1);
}

std::string shell_words(const std::vector<std::string>& words) {
  return fmt::format("{}", fmt::join(words, " "));
}

/// What can stand behind an option, as a command of a shell that prints it; empty: a file.
std::string values_of(const std::string& option) {
  if (option == "--chip") return "lucid chips | awk 'NR > 1 {print $1}'";
  if (option == "--colour") return "echo auto dark light none";
  return {};
}

std::string bash_completion() {
  std::vector<std::string> names;
  std::string cases;
  for (const CommandFacts& command : command_facts()) {
    names.push_back(command.name);
    std::vector<std::string> options;
    for (const OptionFacts& option : command.options) options.push_back(long_name(option.name));
    cases += fmt::format("    {}) options='{}' ;;\n", command.name, shell_words(options));
  }
  std::vector<std::string> demo_names;
  for (const Demo& demo : demos()) demo_names.emplace_back(demo.name);
  std::string values;
  for (const char* option : {"--chip", "--colour"})
    values += fmt::format("    {}) COMPREPLY=($(compgen -W \"$({})\" -- \"$word\")); return ;;\n",
                          option, values_of(option));
  return fmt::format(
      "# Completion of lucid for bash.\n_lucid() {{\n  local word=${{COMP_WORDS[COMP_CWORD]}} "
      "before=${{COMP_WORDS[COMP_CWORD-1]}} options=\n  COMPREPLY=()\n  if ((COMP_CWORD == 1)); "
      "then\n    COMPREPLY=($(compgen -W '{}' -- \"$word\") $(compgen -f -- \"$word\"))\n    "
      "return\n  fi\n  case ${{COMP_WORDS[1]}} in\n{}  esac\n  case $before in\n{}  esac\n  if [[ "
      "$word == -* ]]; then\n    COMPREPLY=($(compgen -W \"$options\" -- \"$word\"))\n  elif [[ "
      "${{COMP_WORDS[1]}} == demo ]]; then\n    COMPREPLY=($(compgen -W '{}' -- \"$word\"))\n  "
      "elif "
      "[[ ${{COMP_WORDS[1]}} == chips ]]; then\n    COMPREPLY=($(compgen -W \"$({})\" -- "
      "\"$word\"))\n  else\n    compopt -o filenames 2>/dev/null\n    COMPREPLY=($(compgen -f -- "
      "\"$word\"))\n  fi\n}}\ncomplete -F _lucid lucid\n",
      shell_words(names), cases, values, shell_words(demo_names), values_of("--chip"));
}

/// Text in single quotes, as zsh's descriptions take it.
std::string zsh_text(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\'')
      out += "'\\''";
    else if (c == '[' || c == ']' || c == ':')
      out += std::string("\\") + c;
    else
      out += c;
  }
  return out;
}

std::string zsh_completion() {
  std::string names;
  std::string cases;
  for (const CommandFacts& command : command_facts()) {
    names += fmt::format("    '{}:{}'\n", command.name, zsh_text(command.words));
    std::string specs;
    for (const OptionFacts& option : command.options) {
      const std::string name = long_name(option.name);
      const std::string values = values_of(name);
      std::string takes;
      if (!option.takes.empty())
        takes = ":" + zsh_text(option.takes) + ":" +
                (values.empty() ? "_files"
                                : "( $(" +
                                      std::string(name == "--chip" ? "lucid chips | awk \"NR > "
                                                                     "1 {print \\\\\\$1}\""
                                                                   : values) +
                                      ") )");
      specs += fmt::format(" \\\n        '*{}[{}]{}'", name, zsh_text(option.words), takes);
    }
    std::string rest = "_files";
    if (command.name == "demo") {
      rest = "(";
      for (const Demo& demo : demos()) rest += std::string(rest == "(" ? "" : " ") + demo.name;
      rest += ")";
    }
    cases += fmt::format("    {})\n      _arguments{} \\\n        '*:argument:{}' ;;\n",
                         command.name, specs, rest);
  }
  return fmt::format(
      "#compdef lucid\n# Completion of lucid for zsh.\n_lucid() {{\n  local -a "
      "commands\n  commands=(\n{}  )\n  if ((CURRENT == 2)); then\n    _describe command "
      "commands\n "
      "   _files\n    return\n  fi\n  shift words\n  ((CURRENT--))\n  case $words[1] in\n{}  "
      "esac\n}}\n_lucid \"$@\"\n",
      names, cases);
}

}  // namespace

Result<std::string> document(const std::string& name) {
  if (name == "man") return man_page();
  if (name == "bash") return bash_completion();
  if (name == "zsh") return zsh_completion();
  return fail(ErrorCode::kUsage, "there is no document '" + name + "'",
              "there are man, bash and zsh");
}

}  // namespace lucid::app
