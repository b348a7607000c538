// SPDX-License-Identifier: MIT
// Looking and changing: threads, calls, variables, memory, instructions, sources, expressions.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <utility>

#include "code_map.h"
#include "serve/adapter.h"
#include "serve/messages.h"
#include "serve/refusal.h"
#include "text_back.h"

namespace lucid::app {
namespace {

std::string hex(std::uint64_t value, unsigned bits) {
  return fmt::format("{:#0{}x}", value, 2 + (bits + 3) / 4);
}

}  // namespace

Adapter::Look::Look(Adapter& adapter, unsigned thread) : adapter_(adapter) {
  if (thread <= 1) return;
  const std::vector<std::string> names = adapter.own().chip().companions();
  if (thread - 2 >= names.size()) throw Refusal("there is no such thread");
  std::unique_ptr<Session>& session = adapter.beside_[thread];
  if (session == nullptr) session = required(adapter.console_.companion(names[thread - 2]));
  adapter.looked_at_ = session.get();
  adapter.looking_at_ = thread;
}
Adapter::Look::~Look() {
  adapter_.looked_at_ = nullptr;
  adapter_.looking_at_ = 1;
}

unsigned Adapter::thread_of_frame(const Json& a) {
  return 1 + static_cast<unsigned>(whole(a, "frameId", 0, INT32_MAX, 0)) / kFrames;
}
unsigned Adapter::level_of_frame(const Json& a) {
  return static_cast<unsigned>(whole(a, "frameId", 0, INT32_MAX, 0)) % kFrames;
}

unsigned Adapter::thread_of(const std::string& reference) const {
  const std::size_t colon = reference.find(':');
  if (colon == std::string::npos) return 1;
  const std::vector<std::string> names = own().chip().companions();
  const auto found = std::find(names.begin(), names.end(), reference.substr(0, colon));
  if (found == names.end()) throw Refusal("'" + reference + "' is no memory reference");
  return 2 + static_cast<unsigned>(found - names.begin());
}

void Adapter::only_own(unsigned thread) const {
  if (thread <= 1) return;
  const std::vector<std::string> names = own().chip().companions();
  if (thread - 2 >= names.size()) throw Refusal("there is no such thread");
  throw Refusal(
      fmt::format("{0} runs along and is only looked at; `\"on\": \"{0}\"` in the launch "
                  "block debugs it",
                  names[thread - 2]));
}

void Adapter::forget_looks() {
  holders_.clear();
  beside_.clear();
}

std::string Adapter::reference(Address address) const {
  const std::string number = fmt::format("{:#x}", session().chip().linker_address(address));
  return looking_at_ == 1 ? number : own().chip().companions()[looking_at_ - 2] + ":" + number;
}

Address Adapter::address_of(const std::string& whole_text, std::int64_t offset) const {
  const std::size_t colon = whole_text.find(':');
  if (colon != std::string::npos && looking_at_ == 1) only_own(thread_of(whole_text));
  const std::string text = colon == std::string::npos ? whole_text : whole_text.substr(colon + 1);
  const auto number = parse_number(text);
  if (!number) throw Refusal("'" + text + "' is no memory reference");
  Address out = session().chip().placed(static_cast<std::uint32_t>(*number));
  const std::int64_t at = std::int64_t{out.offset} + offset;
  if (at < 0 || at > std::int64_t{UINT32_MAX}) throw Refusal("the offset leads out of all memory");
  out.offset = static_cast<std::uint32_t>(at);
  return out;
}

void Adapter::select(unsigned level) {
  if (level != 0 && level != session().level()) required(session().select_level(level));
}

int Adapter::hold(Holder holder) {
  holder.thread = looking_at_;
  holder.time = own().chip().time();
  holders_[next_holder_] = std::move(holder);
  return next_holder_++;
}

int Adapter::hold_parts_of(const std::string& expression) {
  const auto parts = session().children(expression, 0, 1);
  if (!parts || parts->empty()) return 0;
  return hold({Holder::Kind::kChildren, session().level(), expression});
}

const Adapter::Holder& Adapter::holder_of(const Json& a) const {
  const auto found = holders_.find(static_cast<int>(whole(a, "variablesReference", 0, INT32_MAX)));
  // What is told on the way may be asked for when the program has gone on.
  if (found == holders_.end() || found->second.time.count != own().chip().time().count)
    throw Refusal("these variables are of an earlier pause");
  return found->second;
}

// Threads, calls, sources -------------------------------------------------------------------------

Json Adapter::threads(const Json& /*a*/) {
  Json out{{{"id", 1}, {"name", session().chip().info().name}}};
  int id = 1;
  for (const std::string& name : session().chip().companions())
    out.push_back({{"id", ++id}, {"name", name}});
  return {{"threads", out}};
}

Json Adapter::source_json(unsigned file) const {
  const SourceFile& source = session().program().files()[file];
  Json out{{"name", source.name}};
  std::string path = source.path;
  if (!source.lines_with_code.empty())
    if (const auto view =
            session().source(fmt::format("{}:{}", source.path, source.lines_with_code.front()), 0);
        view && !view->path.empty()) {
      std::error_code unknown;
      const auto full = std::filesystem::canonical(view->path, unknown);
      path = unknown ? view->path : full.string();
    }
  out["path"] = path;
  return out;
}

/// The file of the program that a source of the client's is: by where its text was found, else by
/// its name.
std::optional<unsigned> Adapter::file_of(const Json& source) const {
  const auto path = source.value("path", std::string());
  const auto name = path.empty() ? source.value("name", std::string())
                                 : std::filesystem::path(path).filename().string();
  const auto& files = session().program().files();
  std::optional<unsigned> by_name;
  for (unsigned i = 0; i < files.size(); ++i) {
    if (files[i].name != name || files[i].lines_with_code.empty()) continue;
    if (!by_name) by_name = i;
    if (source_json(i)["path"] == path) return i;
  }
  return by_name;
}

Json Adapter::stack_trace(const Json& a) {
  const Look look(*this, static_cast<unsigned>(whole(a, "threadId", 0, INT32_MAX, 1)));
  const auto levels = session().callers();
  const std::size_t start = static_cast<std::size_t>(whole(a, "startFrame", 0, INT32_MAX, 0));
  const std::size_t count = static_cast<std::size_t>(whole(a, "levels", 0, INT32_MAX, 0));
  Json frames = Json::array();
  for (std::size_t i = start; i < levels.size() && (count == 0 || i < start + count); ++i) {
    const CallLevel& level = levels[levels.size() - 1 - i];
    std::string name =
        level.where.function.empty() ? place(level.where) : level.where.function + level.signature;
    if (level.inlined) name += " (inlined)";
    if (level.left) name += " (left by a jump)";
    if (level.interrupt) name += " (interrupt)";
    Json frame{{"id", (looking_at_ - 1) * kFrames + level.level},
               {"name", name},
               {"line", 0},
               {"column", 0},
               {"instructionPointerReference", reference({Space::kCode, level.where.address})},
               {"moduleId", 1}};
    if (!level.where.file.empty()) {
      frame["source"] = source_json(level.where.file_index);
      frame["line"] = level.where.line - (lines_from_1_ ? 0 : 1);
      frame["column"] = columns_from_1_ ? 1 : 0;
    } else {
      frame["presentationHint"] = "subtle";
    }
    frames.push_back(std::move(frame));
  }
  return {{"stackFrames", frames}, {"totalFrames", levels.size()}};
}

Json Adapter::loaded_sources(const Json& /*a*/) {
  Json out = Json::array();
  const auto& files = session().program().files();
  for (unsigned i = 0; i < files.size(); ++i)
    if (!files[i].lines_with_code.empty()) out.push_back(source_json(i));
  return {{"sources", out}};
}

Json Adapter::source(const Json& a) {
  const Json given = a.value("source", Json::object());
  const auto file = file_of(given);
  if (!file) throw Refusal("the program has no such source");
  const SourceFile& source = session().program().files()[*file];
  const auto view = required(session().source(
      fmt::format("{}:{}", source.path, source.lines_with_code.front()), 10'000'000));
  if (!view.problem.empty()) throw Refusal(view.problem);
  std::string text;
  for (const SourceView::Line& line : view.lines) text += line.text + "\n";
  return {{"content", text}};
}

Json Adapter::modules(const Json& /*a*/) {
  const std::string& path = session().image_path();
  const bool known = !session().program().files().empty();
  return {{"modules",
           {{{"id", 1},
             {"name", std::filesystem::path(path).filename().string()},
             {"path", path},
             {"isUserCode", true},
             {"symbolStatus", known ? "Symbols loaded" : "No symbols"}}}},
          {"totalModules", 1}};
}

// Variables ---------------------------------------------------------------------------------------

Json Adapter::scopes(const Json& a) {
  (void)whole(a, "frameId", 0, INT32_MAX);
  const Look look(*this, thread_of_frame(a));
  const unsigned level = level_of_frame(a);
  select(level);
  std::string file;
  bool known = false;
  for (const CallLevel& l : session().callers())
    if (l.level == level) file = l.where.file, known = true;
  if (!known) throw Refusal("there is no such call");
  Json out = Json::array();
  const auto add = [&](const char* name, const char* hint, Holder holder, bool expensive) {
    Json scope{
        {"name", name}, {"variablesReference", hold(std::move(holder))}, {"expensive", expensive}};
    if (*hint != '\0') scope["presentationHint"] = hint;
    out.push_back(std::move(scope));
  };
  using Kind = Holder::Kind;
  add("Locals", "locals", {Kind::kLocals, level, ""}, false);
  if (!file.empty()) add("Statics", "", {Kind::kStatics, level, file}, false);
  add("Globals", "globals", {Kind::kGlobals, level, ""}, true);
  add("Registers", "registers", {Kind::kRegisters, level, ""}, true);
  if (!session().flags().empty()) add("Flags", "registers", {Kind::kFlags, level, ""}, true);
  add("I/O", "", {Kind::kIo, level, ""}, true);
  add("Pins", "", {Kind::kPins, level, ""}, true);
  if (!session().chip().parts().empty()) add("Parts", "", {Kind::kParts, level, ""}, true);
  return {{"scopes", out}};
}

Json Adapter::value_json(const std::string& name, const std::string& value,
                         const std::string& evaluate_name, const Holder* inner) {
  Json out{{"name", name},
           {"value", value},
           {"variablesReference", inner != nullptr ? hold(*inner) : 0}};
  if (!evaluate_name.empty()) out["evaluateName"] = evaluate_name;
  return out;
}

Json Adapter::variable_json(const VariableView& v, unsigned level, bool as_hex) {
  std::string value = v.value;
  if (as_hex && v.children == 0 && v.unknown == Unknown::kNone)
    if (const auto again = session().evaluate(v.expression, {Format::Kind::kHex, 0, 3}))
      value = again->text;
  const Holder inner{Holder::Kind::kChildren, level, v.expression};
  Json out = value_json(v.name, value, v.expression, v.children != 0 ? &inner : nullptr);
  if (!v.type.empty()) out["type"] = v.type;
  if (v.children > 1 && v.type.find('[') != std::string::npos) out["indexedVariables"] = v.children;
  if (v.address.space == Space::kData || v.address.space == Space::kEeprom ||
      v.address.space == Space::kCode)
    if (const auto at = session().evaluate(v.expression); at && at->address)
      out["memoryReference"] = reference(*at->address);
  if (v.unknown != Unknown::kNone) out["presentationHint"] = {{"attributes", {"readOnly"}}};
  return out;
}

std::vector<Json> Adapter::held(const Holder& holder, std::uint64_t from, std::uint64_t count,
                                bool as_hex) {
  select(holder.level);
  std::vector<Json> out;
  const auto add = [&](const std::vector<VariableView>& list) {
    for (const VariableView& v : list) out.push_back(variable_json(v, holder.level, as_hex));
  };
  using Kind = Holder::Kind;
  switch (holder.kind) {
    case Kind::kLocals: add(session().variables()); break;
    case Kind::kStatics:
    case Kind::kGlobals:
      for (const VariableView& v : session().globals())
        if ((v.file == holder.name) == (holder.kind == Kind::kStatics) || holder.name.empty())
          out.push_back(variable_json(v, holder.level, as_hex));
      break;
    case Kind::kChildren:
      add(required(session().children(holder.name, from, count)));
      return out;  // it is paged already
    case Kind::kRegisters:
      for (const RegisterView& r : session().registers())
        out.push_back(value_json(r.name, r.known ? hex(r.value, r.bits) : "not kept for this call",
                                 "chip." + r.name, nullptr));
      break;
    case Kind::kFlags:
      for (const FlagView& f : session().flags())
        out.push_back(value_json(std::string(1, f.letter), f.value ? "1" : "0",
                                 std::string("chip.sreg.") + f.letter, nullptr));
      break;
    case Kind::kIo: {
      std::string last;
      for (const IoView& io : required(session().io())) {
        if (io.io.peripheral == last) continue;
        last = io.io.peripheral;
        const Holder inner{Kind::kPeripheral, holder.level, last};
        out.push_back(value_json(last, "", "", &inner));
      }
      break;
    }
    case Kind::kPeripheral:
    case Kind::kIoRegister:
      for (const IoView& io : required(session().io())) {
        const bool whole = holder.kind == Kind::kPeripheral;
        if ((whole ? io.io.peripheral : io.io.name) != holder.name) continue;
        if (whole) {
          const Holder inner{Kind::kIoRegister, holder.level, io.io.name};
          out.push_back(value_json(io.io.name, hex(io.value, io.io.bytes * 8U),
                                   "chip." + io.io.name, io.fields.empty() ? nullptr : &inner));
          out.back()["memoryReference"] = reference({Space::kData, io.io.address});
          continue;
        }
        for (const Value::Field& f : io.fields)
          out.push_back(value_json(
              f.name, std::to_string(f.value) + (f.meaning.empty() ? "" : " (" + f.meaning + ")"),
              "chip." + io.io.name + "." + f.name, nullptr));
      }
      break;
    case Kind::kPins:
      for (const PinView& p : session().pins())
        out.push_back(
            value_json(p.pin.name, p.pin.level ? "1" : "0", "pin." + p.pin.name, nullptr));
      break;
    case Kind::kParts:
      for (const PartState& part : session().chip().parts()) {
        out.push_back(value_json(part.name, part.state, "", nullptr));
        out.back()["presentationHint"] = {{"attributes", {"readOnly"}}};
      }
      break;
  }
  if (from >= out.size()) return {};
  const auto begin = out.begin() + static_cast<std::ptrdiff_t>(from);
  const std::uint64_t left = out.size() - from;
  return {std::make_move_iterator(begin),
          std::make_move_iterator(begin + static_cast<std::ptrdiff_t>(std::min(count, left)))};
}

Json Adapter::variables(const Json& a) {
  const Holder holder = holder_of(a);
  const Look look(*this, holder.thread);
  const bool as_hex = a.contains("format") && a["format"].value("hex", false);
  constexpr std::uint64_t kMost = 10'000;
  const auto count = static_cast<std::uint64_t>(whole(a, "count", 0, INT64_MAX, 0));
  Json out = Json::array();
  for (Json& v : held(holder, static_cast<std::uint64_t>(whole(a, "start", 0, INT64_MAX, 0)),
                      count == 0 ? kMost : std::min(count, kMost), as_hex))
    out.push_back(std::move(v));
  return {{"variables", out}};
}

Result<void> Adapter::let(const std::string& object, const std::string& value) {
  const auto done = session().let(object, value);
  return done ? Result<void>() : Result<void>(fail(done.error()));
}

Json Adapter::set_variable(const Json& a) {
  const Holder holder = holder_of(a);
  only_own(holder.thread);
  const auto name = a.at("name").get<std::string>();
  std::string object;
  for (const Json& v : held(holder, 0, UINT32_MAX, false))
    if (v["name"] == name) object = v.value("evaluateName", std::string());
  if (object.empty()) throw Refusal("'" + name + "' cannot be changed");
  select(holder.level);
  required(let(object, a.at("value").get<std::string>()));
  std::string now;
  for (const Json& v : held(holder, 0, UINT32_MAX, false))
    if (v["name"] == name) now = v["value"].get<std::string>();
  then([this] { changed(true); });
  return {{"value", now}};
}

Json Adapter::set_expression(const Json& a) {
  only_own(thread_of_frame(a));
  if (a.contains("frameId")) select(level_of_frame(a));
  const auto expression = a.at("expression").get<std::string>();
  required(let(expression, a.at("value").get<std::string>()));
  const auto now = required(session().evaluate(expression));
  then([this] { changed(true); });
  return {{"value", now.text}, {"type", now.type}};
}

// Expressions and commands ------------------------------------------------------------------------

Json Adapter::evaluate(const Json& a) {
  const auto text = a.at("expression").get<std::string>();
  const auto context = a.value("context", std::string("repl"));
  if (context == "repl" && Console::is_command(text)) {
    only_own(thread_of_frame(a));
    if (a.contains("frameId")) select(level_of_frame(a));
    const std::string first = text.substr(0, text.find(' '));
    if (first == "open" || first == "screen" || first == "quit")
      throw Refusal("`" + first + "` is not for here: the editor opens, shows and ends it");
    if (console_.is_mover(text) && !session().running()) {
      then([this, text] {
        event("continued", {{"threadId", 1}, {"allThreadsContinued", true}});
        move(text);
      });
      return {{"result", ""}, {"variablesReference", 0}};
    }
    capturing_ = true;
    captured_.clear();
    captured_holder_ = 0;
    const auto done = carry_out(text);
    capturing_ = false;
    required(done);
    std::string result = std::exchange(captured_, {});
    while (!result.empty() && result.back() == '\n') result.pop_back();
    then([this] { changed(true); });
    return {{"result", result}, {"variablesReference", captured_holder_}};
  }
  const Look look(*this, thread_of_frame(a));
  if (a.contains("frameId")) select(level_of_frame(a));
  Format format;
  if (a.contains("format") && a["format"].value("hex", false)) format.kind = Format::Kind::kHex;
  const Value value = required(session().evaluate(text, format));
  Json out{{"result", value.text}, {"variablesReference", 0}};
  if (!value.type.empty()) out["type"] = value.type;
  if (value.address) out["memoryReference"] = reference(*value.address);
  out["variablesReference"] = hold_parts_of(text);
  return out;
}

Json Adapter::completions(const Json& a) {
  const auto text = a.at("text").get<std::string>();
  const auto column = static_cast<std::size_t>(whole(a, "column", 0, INT32_MAX));
  const std::size_t at =
      std::min(text.size(), column - std::min<std::size_t>(column, columns_from_1_ ? 1 : 0));
  const std::string line = text.substr(0, at);
  const std::size_t blank = line.rfind(' ');
  const std::size_t start = blank == std::string::npos ? 0 : blank + 1;
  std::map<std::string, bool> found = console_.completions(line);
  if (start == 0)
    for (const std::string& name : session().names(line)) found.emplace(name, true);
  Json out = Json::array();
  for (const auto& [word, ends] : found)
    out.push_back(
        {{"label", word}, {"start", start + (columns_from_1_ ? 1 : 0)}, {"length", at - start}});
  return {{"targets", out}};
}

// Memory and instructions -------------------------------------------------------------------------

Json Adapter::read_memory(const Json& a) {
  const Look look(*this, thread_of(a.at("memoryReference").get<std::string>()));
  const Address at = address_of(a.at("memoryReference").get<std::string>(),
                                whole(a, "offset", INT32_MIN, INT32_MAX, 0));
  constexpr std::int64_t kMost = 1 << 20;
  const auto count = static_cast<std::uint64_t>(whole(a, "count", 0, kMost));
  std::string bytes;
  while (bytes.size() < count) {
    const auto byte =
        session().chip().peek({at.space, at.offset + static_cast<std::uint32_t>(bytes.size())});
    if (!byte) break;
    bytes += static_cast<char>(*byte);
  }
  Json out{{"address", reference(at)}, {"unreadableBytes", count - bytes.size()}};
  if (!bytes.empty()) out["data"] = base64(bytes);
  return out;
}

Json Adapter::write_memory(const Json& a) {
  const Address at = address_of(a.at("memoryReference").get<std::string>(),
                                whole(a, "offset", INT32_MIN, INT32_MAX, 0));
  const std::string bytes = required(from_base64(a.at("data").get<std::string>()));
  std::string area;
  for (const MemoryArea& m : session().chip().info().memories)
    if (m.space == at.space && at.offset >= m.begin && at.offset < m.end) area = m.name;
  if (area.empty()) throw Refusal("there is no memory at " + reference(at));
  const bool partial = a.value("allowPartial", false);
  std::size_t done = 0;
  for (; done < bytes.size(); ++done) {
    const auto written = let(fmt::format("chip.{}[{:#x}]", area, at.offset + done),
                             std::to_string(static_cast<unsigned char>(bytes[done])));
    if (!written && !partial) throw Refusal(written.error());
    if (!written) break;
  }
  then([this] { changed(true); });
  return {{"bytesWritten", done}};
}

Json Adapter::disassemble(const Json& a) {
  const Look look(*this, thread_of(a.at("memoryReference").get<std::string>()));
  const Address at = address_of(a.at("memoryReference").get<std::string>(),
                                whole(a, "offset", INT32_MIN, INT32_MAX, 0));
  constexpr std::int64_t kMost = 100'000;  // at a time
  const std::int64_t count = whole(a, "instructionCount", 0, kMost);
  const auto starts = instruction_starts(session());
  const auto here = std::lower_bound(starts.begin(), starts.end(), at.offset);
  const std::int64_t first =
      (here - starts.begin()) + whole(a, "instructionOffset", INT32_MIN, INT32_MAX, 0);
  Json out = Json::array();
  for (std::int64_t i = first; i < first + count; ++i) {
    if (at.space != Space::kCode || i < 0 || i >= static_cast<std::int64_t>(starts.size())) {
      // As many rows as were asked for, whatever there is.
      const std::int64_t beyond = i < 0
                                      ? 0
                                      : std::int64_t{starts.empty() ? 0 : starts.back()} +
                                            2 * (i - static_cast<std::int64_t>(starts.size()) + 1);
      out.push_back({{"address", fmt::format("{:#x}", beyond)},
                     {"instruction", "(nothing)"},
                     {"presentationHint", "invalid"}});
      continue;
    }
    const std::uint32_t pc = starts[static_cast<std::size_t>(i)];
    const auto view = session().disassembly(fmt::format("{:#x}", pc), 1);
    if (!view || view->rows.empty()) throw Refusal("the instruction cannot be read");
    const DisassemblyView::Row& row = view->rows[0];
    std::string bytes;
    for (const std::uint8_t byte : row.instruction.bytes)
      bytes += fmt::format("{}{:02x}", bytes.empty() ? "" : " ", byte);
    std::string text = row.instruction.mnemonic + " " + row.instruction.operands;
    if (!row.target.empty()) text += "  ; " + row.target;
    Json one{{"address", reference({Space::kCode, pc})},
             {"instructionBytes", bytes},
             {"instruction", text}};
    if (row.offset == 0 && !row.function.empty()) one["symbol"] = row.function;
    if (const auto line = session().program().line_at(pc);
        line && line->line != 0 && line->begin == pc) {
      one["location"] = source_json(line->file);
      one["line"] = line->line - (lines_from_1_ ? 0 : 1);
    }
    out.push_back(std::move(one));
  }
  return {{"instructions", out}};
}

}  // namespace lucid::app
