// SPDX-License-Identifier: MIT
// What `help` says, and what Tab offers: both from the table of commands.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>

#include "console.h"

namespace lucid::app {
namespace {

Help overview() {
  Help help;
  for (const CommandGroup& group : command_groups()) {
    Help::Section section;
    section.title = group.words;
    for (const Command& c : commands()) {
      if (c.group != group.group) continue;
      std::string brief;
      for (const ShortWord& fixed : short_words())
        if (std::string(fixed.means) == c.name) brief = fixed.word;
      section.rows.push_back({c.name, brief, c.brief});
    }
    help.sections.push_back(std::move(section));
  }
  Help::Section more;
  more.title = "Topics";
  for (const Topic& topic : topics()) more.rows.push_back({topic.name, "", topic.brief});
  help.sections.push_back(std::move(more));
  Help::Section end;
  end.text =
      "`help go` and `help passes` tell more. Any unambiguous beginning of a word will do, Tab "
      "completes, Enter on an empty line repeats the last step or go.";
  help.sections.push_back(std::move(end));
  return help;
}

Help about(const Command& command) {
  Help help;
  Help::Section forms;
  std::vector<std::string> names;
  for (const char* form : command.forms) {
    forms.lines.emplace_back(form);
    for (std::string& name : Grammar::names_in(form))
      if (std::find(names.begin(), names.end(), name) == names.end())
        names.push_back(std::move(name));
  }
  help.sections.push_back(std::move(forms));
  Help::Section words;
  words.text = command.brief;
  words.text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(words.text[0])));
  words.text += std::string(".") + (*command.more != '\0' ? " " : "") + command.more;
  help.sections.push_back(std::move(words));
  Help::Section kinds;
  for (const std::string& name : names) {
    for (const ArgumentKind& kind : argument_kinds())
      if (name == kind.name) kinds.rows.push_back({name, "", kind.words});
    for (const SharedForm& shared : shared_forms())
      if (name == shared.name) kinds.rows.push_back({name, "", shared.words});
  }
  if (!kinds.rows.empty()) help.sections.push_back(std::move(kinds));
  Help::Section example;
  example.lines.push_back(fmt::format("for example: {}", command.example));
  help.sections.push_back(std::move(example));
  return help;
}

Help about(const Topic& topic) {
  Help help;
  Help::Section section;
  section.title = topic.brief;
  section.title[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(section.title[0])));
  const std::string text = topic.text;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    section.lines.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  help.sections.push_back(std::move(section));
  return help;
}

}  // namespace

Result<void> Console::do_help(const Words& words) {
  const std::string asked = words.text("TOPIC");
  if (asked.empty()) {
    show(overview());
    return {};
  }
  for (const Topic& topic : topics())
    if (asked == topic.name) {
      show(about(topic));
      return {};
    }
  // A command by its name; all that begin so: `pause` has three.
  const std::string whole = lengthened(asked);
  std::vector<const Command*> found;
  for (const std::string& end : {std::string(" "), std::string()})
    for (const Command& c : commands()) {
      const std::string name = std::string(c.name) + " ";
      if (found.empty() || end == " ")
        if (name.rfind(whole + end, 0) == 0 || whole.rfind(name, 0) == 0) found.push_back(&c);
    }
  for (const Command* command : found) show(about(*command));
  if (!found.empty()) return {};
  for (const Topic& topic : topics()) {
    const std::string also = std::string(" ") + topic.also + " ";
    if (also.find(" " + asked + " ") == std::string::npos) continue;
    show(about(topic));
    return {};
  }
  for (const Meaning& meaning : meanings())
    if (asked == meaning.word) {
      show(about(*find_command(meaning.command)));
      return {};
    }
  return fail(ErrorCode::kNotFound, "there is no command or topic '" + asked + "'",
              "`help` lists them");
}

namespace {

std::vector<std::string> files_beginning(const std::string& start) {
  namespace fs = std::filesystem;
  const std::size_t slash = start.rfind('/');
  const std::string folder = slash == std::string::npos ? "" : start.substr(0, slash + 1);
  std::vector<std::string> out;
  std::error_code unknown;
  for (const auto& entry : fs::directory_iterator(folder.empty() ? "." : folder, unknown)) {
    const std::string name = folder + entry.path().filename().string();
    if (name.rfind(start, 0) != 0 || entry.path().filename().string()[0] == '.') continue;
    out.push_back(name + (entry.is_directory(unknown) ? "/" : ""));
  }
  return out;
}

}  // namespace

std::vector<std::string> Console::values(const ArgumentKind& kind, const std::string& start) const {
  const std::string_view name = kind.name;
  std::vector<std::string> out;
  if (name == "FILE") return files_beginning(start);
  if (name == "FORMAT")
    for (const char* format : {"dec", "signed", "unsigned", "hex", "bin", "bits", "char", "text",
                               "real", "q8.8", "time", "raw", "depth"})
      out.emplace_back(format);
  if (name == "TOPIC" || name == "WORDS") {
    for (const Command& c : commands()) out.emplace_back(c.name);
    if (name == "TOPIC")
      for (const Topic& topic : topics()) out.emplace_back(topic.name);
  }
  if (name == "MEMORY" && session_ == nullptr) out = {"ram", "flash", "eeprom"};
  if (session_ != nullptr) {
    const ChipInfo& info = session_->chip().info();
    if (name == "PLACE") return session_->places(start);
    if (name == "EXPR" || name == "OBJECT" || name == "RANGE") return session_->names(start);
    if (name == "SOURCE")
      for (const SourceFile& f : session_->program().files())
        if (!f.lines_with_code.empty()) out.push_back(f.name);
    if (name == "FUNCTION")
      for (const Function& f : session_->program().functions()) out.push_back(f.name);
    if (name == "PIN")
      for (const PinView& pin : session_->pins()) out.push_back(pin.pin.name);
    if (name == "PART")
      for (const PartState& part : session_->chip().parts()) out.push_back(part.name);
    if (name == "SETTING") out = {"on", "off"};
    if (name == "PORT") out = info.serial_ports;
    if (name == "INTERRUPT")
      for (const InterruptVector& vector : info.vectors) out.push_back(vector.name);
    if (name == "WHERE") return session_->places(start);
    if (name == "SIGNAL") {
      out = session_->names(start);
      for (const char* word : {"interrupt", "calls", "byte in", "byte out", "voltage", "part",
                               "sleep", "reset", "eeprom write"})
        out.emplace_back(word);
      out.insert(out.end(), info.moments.begin(), info.moments.end());
    }
    if (name == "SIGNAL" || name == "SIGNALS")
      for (const Session::TraceView& trace : session_->traces()) out.push_back(trace.name);
    if (name == "WHEN") out = {"start", "now"};
    if (name == "MARK" || name == "WHEN")
      for (const Session::MarkView& mark : session_->marks()) out.push_back(mark.name);
    if (name == "CHECK")
      for (const Session::Check& check : session_->checks()) out.push_back(check.name);
    if (name == "FAULT")
      for (const Session::Fault& fault : session_->faults()) out.push_back(fault.name);
    if (name == "ID") {
      for (const Breakpoint& p : session_->breakpoints()) out.push_back(std::to_string(p.id));
      for (const WatchView& w : session_->watches()) out.push_back(std::to_string(w.id));
    }
    if (name == "REGISTER")
      for (const IoRegister& io : info.io) {
        out.push_back(io.name);
        out.push_back(io.peripheral);
      }
    if (name == "MEMORY")
      for (const MemoryArea& area : info.memories)
        if (area.name != "registers" && area.name != "io") out.push_back(area.name);
  }
  out.erase(std::remove_if(out.begin(), out.end(),
                           [&](const std::string& v) { return v.rfind(start, 0) != 0; }),
            out.end());
  return out;
}

std::map<std::string, bool> Console::completions(const std::string& line) const {
  // What stands for a short word is completed as if it were written out.
  const auto tokens = tokens_of(line);
  const bool under_way = !tokens.empty() && tokens.back().end == line.size();
  const std::string start = under_way ? tokens.back().text : "";
  const std::string text =
      tokens.size() > (under_way ? 1 : 0) ? lengthened(line) + (under_way ? "" : " ") : line;
  const Values all = [&](const ArgumentKind& kind, const std::string& begin) {
    return this->values(kind, begin);
  };
  const Grammar::Next next = command_grammar().next(text, all);
  std::map<std::string, bool> out;
  for (const std::string& word : next.words) out[word] = true;
  std::vector<const ArgumentKind*> kinds = next.kinds;
  if (!start.empty()) kinds.insert(kinds.end(), next.going_on.begin(), next.going_on.end());
  for (const ArgumentKind* kind : kinds)
    for (const std::string& value : values(*kind, start))
      out.emplace(value, kind->shape == ArgumentKind::Shape::kOneOf);
  // Case does not matter, but what fits it comes alone.
  const auto fits = [&](const auto& entry) { return entry.first.rfind(start, 0) == 0; };
  if (std::any_of(out.begin(), out.end(), fits))
    for (auto at = out.begin(); at != out.end();) at = fits(*at) ? std::next(at) : out.erase(at);
  return out;
}

}  // namespace lucid::app
