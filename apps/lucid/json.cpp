// SPDX-License-Identifier: MIT
// The writer for programs: JSON, one object a line. docs/json.md describes it.
#include <nlohmann/json.hpp>

#include "breakpoint_text.h"
#include "json_views.h"
#include "lucid/bench.h"
#include "output.h"
#include "writer.h"

namespace lucid::app {

Json json(const Location& w) {
  Json out{{"address", w.address}};
  if (!w.function.empty()) {
    out["function"] = w.function;
    out["offset"] = w.offset;
  }
  if (!w.vector.empty()) out["vector"] = w.vector;
  if (!w.inlined.empty()) out["inlined"] = w.inlined;
  if (!w.file.empty()) {
    out["file"] = w.file;
    out["line"] = w.line;
    out["line_begins"] = w.line_begins;
  }
  return out;
}

namespace {

using app::json;  // beside those that follow

constexpr const char* kCauses[] = {
    "ready", "breakpoint",        "step",  "arrived",     "time up", "holds", "requested",
    "fault", "break instruction", "moved", "cannot tell", "data",    "event", "limit"};

Json json(const Instruction& i) {
  Json out{{"address", i.address},
           {"bytes", i.bytes},
           {"mnemonic", i.mnemonic},
           {"operands", i.operands}};
  if (i.target) out["target"] = *i.target;
  if (i.data) out["data"] = *i.data;
  return out;
}

const char* slot_kind(StackView::Slot::Kind kind) {
  switch (kind) {
    case StackView::Slot::Kind::kTemporary: return "temporary";
    case StackView::Slot::Kind::kReturn: return "return";
    case StackView::Slot::Kind::kSaved: return "saved";
    case StackView::Slot::Kind::kLocal: return "local";
    case StackView::Slot::Kind::kArgument: return "argument";
    case StackView::Slot::Kind::kUnknown: break;
  }
  return "unknown";
}

const char* space_word(Space space) {
  switch (space) {
    case Space::kCode: return "code";
    case Space::kData: return "data";
    case Space::kEeprom: return "eeprom";
    case Space::kFuse: return "fuse";
    case Space::kLock: return "lock";
    case Space::kSignature: return "signature";
    case Space::kNowhere: break;
  }
  return "nowhere";
}

Json json(const VariableView& v) {
  Json out{{"name", v.name},
           {"type", v.type},
           {"value", v.value},
           {"before", v.before},
           {"changed", v.value != v.before}};
  if (!v.file.empty()) {  // it has an address
    out["file"] = v.file;
    out["address"] = v.address.offset;
    out["space"] = space_word(v.address.space);
  }
  if (!v.function.empty()) out["function"] = v.function;
  if (!v.expression.empty()) out["expression"] = v.expression;
  if (v.children != 0) out["children"] = v.children;
  if (!v.which.empty()) out["which"] = v.which;
  if (v.unknown != Unknown::kNone) out["unknown"] = unknown_word(v.unknown);
  return out;
}

Json json(const WatchView& w) {
  Json out{{"id", w.id}, {"expression", w.expression}, {"value", w.value}};
  if (!w.format.empty()) out["format"] = w.format;
  if (!w.which.empty()) out["which"] = w.which;
  if (!w.function.empty()) out["function"] = w.function;
  if (!w.before.empty()) out["before"] = w.before;
  if (!w.problem.empty()) {
    out["problem"] = w.problem;
    if (w.unknown != Unknown::kNone) out["unknown"] = unknown_word(w.unknown);
    out["known_at_picoseconds"] = w.known_at.count;
    out["known_in"] = json(w.known_in);
  }
  return out;
}

std::vector<unsigned char> bytes_of(const std::string& text) { return {text.begin(), text.end()}; }

Json json(const Input& input) {
  Json out{{"picoseconds", input.at.count}, {"tick", input.tick}};
  for (const auto& [name, text] :
       {std::pair{"pin", &input.pin}, std::pair{"serial", &input.serial},
        std::pair{"part", &input.part}, std::pair{"action", &input.action},
        std::pair{"value", &input.value}})
    if (!text->empty()) out[name] = *text;
  if (input.level) out["level"] = *input.level;
  if (input.microvolts) out["microvolts"] = *input.microvolts;
  if (!input.pin.empty() && !input.level && !input.microvolts) out["open"] = true;
  if (!input.bytes.empty()) out["bytes"] = bytes_of(input.bytes);
  if (input.frame || input.transfer) out["table"] = Bench::table(input);
  if (input.reset) out["reset"] = true;
  return out;
}

struct JsonViews : BackJson, SignalJson, SurveyJson {
  using BackJson::operator();
  using SignalJson::operator();
  using SurveyJson::operator();
  Json operator()(const Message& m) const { return {{"view", "message"}, {"text", m.text}}; }
  Json operator()(const Warning& w) const { return {{"view", "warning"}, {"text", w.text}}; }
  Json operator()(const Standing& s) const {
    const Pause& p = s.pause;
    Json out{{"view", "pause"},
             {"cause", kCauses[static_cast<unsigned>(p.cause)]},
             {"where", json(p.where)},
             {"cycles", p.cycles},
             {"cycles_since", p.cycles_since},
             {"picoseconds", p.time.count},
             {"picoseconds_since", p.since.count},
             {"by_instruction", s.by_instruction}};
    if (p.backwards) out["backwards"] = true;
    if (s.behind.count != 0) out["picoseconds_behind"] = s.behind.count;
    if (!p.interrupt.empty()) out["interrupt"] = p.interrupt;
    if (p.handler) out["handler"] = json(*p.handler);
    if (p.interrupted) out["interrupted"] = json(*p.interrupted);
    if (!p.breakpoints.empty()) {
      out["breakpoints"] = p.breakpoints;
      out["passes"] = p.passes;
      out["reached"] = p.reached;
    }
    if (!p.detail.empty()) out["detail"] = p.detail;
    if (p.data) {
      static constexpr const char* kHow[] = {"read", "written", "changed"};
      out["data"] = {{"object", p.data->object}, {"how", kHow[static_cast<unsigned>(p.data->how)]},
                     {"before", p.data->before}, {"after", p.data->after},
                     {"by", json(p.data->by)},   {"instruction", p.data->instruction},
                     {"stores", p.data->stores}};
      if (!p.data->interrupt.empty()) out["data"]["interrupt"] = p.data->interrupt;
    }
    for (const WatchView& w : s.watches) out["watches"].push_back(json(w));
    for (const Pause::Returned& r : p.returned)
      out["returned"].push_back({{"function", r.function}, {"value", r.value}});
    if (!p.remarks.empty()) out["remarks"] = p.remarks;
    for (const VariableView& v : s.changed) out["changed"].push_back(json(v));
    return out;
  }
  Json operator()(const Armed& a) const {
    Json out{{"view", "expectations"}, {"expectations", Json::array()}};
    for (const Expectation& e : a.list)
      out["expectations"].push_back({{"expected", e.expected},
                                     {"broken", !e.held},
                                     {"instead", e.instead},
                                     {"picoseconds", e.time.count}});
    return out;
  }
  Json operator()(const Tested& t) const {
    Json out{{"view", "tests"}, {"tests", Json::array()}};
    for (const Expectations::Test& test : t.tests)
      out["tests"].push_back({{"name", test.name},
                              {"failures", test.failures},
                              {"picoseconds_began", test.began.count},
                              {"picoseconds_took", test.took.count}});
    return out;
  }
  Json operator()(const Evaluated& e) const {
    Json out{{"view", "value"}, {"expression", e.expression}, {"text", e.value.text}};
    if (!e.value.type.empty()) out["type"] = e.value.type;
    if (!e.value.which.empty()) out["which"] = e.value.which;
    if (e.value.kind == Value::Kind::kInteger) out["integer"] = e.value.integer;
    if (e.value.kind == Value::Kind::kReal) out["real"] = e.value.real;
    if (e.value.kind == Value::Kind::kTime) out["picoseconds"] = e.value.integer;
    if (e.value.address) {
      out["address"] = e.value.address->offset;
      out["space"] = space_word(e.value.address->space);
    }
    for (const Value::Field& field : e.value.fields) {
      out["fields"][field.name] = field.value;
      if (!field.meaning.empty()) out["meanings"][field.name] = field.meaning;
    }
    return out;
  }
  Json operator()(const SourceView& v) const {
    Json out{{"view", "source"}, {"file", v.file}, {"path", v.path}, {"lines", Json::array()}};
    if (!v.problem.empty()) out["problem"] = v.problem;
    for (const auto& l : v.lines)
      out["lines"].push_back({{"line", l.number},
                              {"text", l.text},
                              {"has_code", l.has_code},
                              {"never_run", l.never_run},
                              {"current", l.current},
                              {"selected", l.selected},
                              {"values", l.values},
                              {"breakpoints", l.breakpoints}});
    return out;
  }
  Json operator()(const DisassemblyView& v) const {
    Json out{{"view", "disassembly"}, {"rows", Json::array()}};
    for (const auto& r : v.rows) {
      Json row = json(r.instruction);
      if (!r.function.empty()) {
        row["function"] = r.function;
        row["offset"] = r.offset;
      }
      if (r.line != 0) {
        row["file"] = r.file;
        row["line"] = r.line;
      }
      if (!r.source.empty()) row["source"] = r.source;
      if (!r.target.empty()) row["target_name"] = r.target;
      if (r.executed) row["executed"] = *r.executed;
      if (r.taken) row["taken"] = *r.taken;
      row["current"] = r.current;
      row["selected"] = r.selected;
      row["breakpoints"] = r.breakpoints;
      out["rows"].push_back(std::move(row));
    }
    return out;
  }
  Json operator()(const Registers& r) const {
    Json out{{"view", r.view}};
    for (const auto& reg : r.registers)
      out["registers"][reg.name] = {{"value", reg.known ? Json(reg.value) : Json()},
                                    {"before", reg.known ? Json(reg.before) : Json()},
                                    {"bits", reg.bits}};
    for (const auto& f : r.flags)
      out["flags"][std::string(1, f.letter)] = {{"value", f.value}, {"before", f.before}};
    return out;
  }
  Json operator()(const MemoryView& v) const {
    Json out{{"view", "memory"},
             {"area", v.area},
             {"space", space_word(v.space)},
             {"rows", Json::array()}};
    for (const auto& r : v.rows)
      out["rows"].push_back(
          {{"address", r.address}, {"bytes", r.bytes}, {"changed", r.changed}, {"names", r.names}});
    return out;
  }
  Json operator()(const StackView& v) const {
    Json out{{"view", "stack"},
             {"sp", v.sp},
             {"top", v.top},
             {"used", v.used},
             {"slots", Json::array()}};
    if (v.deepest) out["deepest"] = *v.deepest;
    out["deepest_chain"] = v.deepest_chain;
    if (v.free) out["free"] = *v.free;
    for (const auto& s : v.slots)
      out["slots"].push_back({{"address", s.address},
                              {"bytes", s.bytes},
                              {"kind", slot_kind(s.kind)},
                              {"name", s.name},
                              {"owner", s.owner},
                              {"value", s.value},
                              {"meaning", s.meaning}});
    return out;
  }
  Json operator()(const Found& f) const {
    Json out{{"view", "found"}, {"text", f.text}, {"items", Json::array()}};
    for (const Found::Item& i : f.items) {
      Json item{{"kind", i.kind}, {"name", i.name}, {"detail", i.detail}};
      if (i.address) item["address"] = *i.address;
      out["items"].push_back(std::move(item));
    }
    return out;
  }
  Json operator()(const OpenedLine& o) const { return {{"view", "macros"}, {"levels", o.levels}}; }
  Json operator()(const Inputs& i) const {
    Json out{{"view", "inputs"}, {"inputs", Json::array()}};
    for (const Input& input : i.list) out["inputs"].push_back(json(input));
    return out;
  }
  Json operator()(const GraphView& g) const {
    Json out{{"view", "graph"},        {"type", g.type},     {"nodes", Json::array()},
             {"edges", Json::array()}, {"circle", g.circle}, {"cut", g.cut}};
    for (const auto& n : g.nodes)
      out["nodes"].push_back({{"address", n.address.offset}, {"name", n.name}, {"value", n.value}});
    for (const auto& e : g.edges) {
      Json edge{{"from", e.from}, {"member", e.member}, {"text", e.text}};
      if (e.to) edge["to"] = *e.to;
      out["edges"].push_back(std::move(edge));
    }
    return out;
  }
  Json operator()(const Callers& c) const {
    Json out{{"view", "callers"},
             {"selected", c.selected},
             {"current", c.current},
             {"levels", Json::array()}};
    for (const CallLevel& l : c.levels)
      out["levels"].push_back(
          {{"level", l.level},
           {"where", json(l.where)},
           {"signature", l.signature},
           {"cfa", l.cfa},
           {"interrupt", l.interrupt},
           {"inlined", l.inlined},
           {"left", l.left},
           {"ends", l.end == CallersEnd::kNone ? "" : callers_end_text(l.end)}});
    return out;
  }
  Json operator()(const Breakpoints& b) const {
    static constexpr const char* kRules[] = {"always", "on", "from", "every"};
    Json out{{"view", "breakpoints"}, {"on", b.all_on}, {"list", Json::array()}};
    for (const Breakpoint& p : b.points) {
      Json item{{"id", p.id},
                {"pause", subject_text(p.spec) + clauses_text(p.spec)},
                {"place", p.spec.place},
                {"rule", kRules[static_cast<unsigned>(p.spec.rule)]},
                {"count", p.spec.count},
                {"passes", p.passes},
                {"reached", p.reached},
                {"enabled", p.enabled},
                {"once", p.spec.once},
                {"each_byte", p.spec.each_byte},
                {"following", p.spec.following},
                {"addresses", p.addresses},
                {"functions", p.functions}};
      if (!p.spec.condition.empty()) item["condition"] = p.spec.condition;
      if (!p.spec.log.empty()) item["log"] = p.spec.log;
      if (!p.spec.then.empty()) item["then"] = p.spec.then;
      if (!p.addresses.empty()) item["where"] = json(p.where);
      if (!p.remark.empty()) item["remark"] = p.remark;
      if (!p.spec.row.empty()) item["row"] = p.spec.row;
      if (!p.waits_because.empty()) item["waits_because"] = p.waits_because;
      out["list"].push_back(std::move(item));
    }
    return out;
  }
  Json operator()(const Watches& w) const {
    Json out{{"view", "watches"}, {"list", Json::array()}};
    for (const WatchView& v : w.list) out["list"].push_back(json(v));
    return out;
  }
  Json operator()(const Faults& f) const {
    Json out{{"view", "faults"}, {"list", Json::array()}};
    for (const Session::Fault& v : f.list)
      out["list"].push_back({{"name", v.name}, {"words", v.words}, {"on", v.on}});
    return out;
  }
  Json operator()(const Pins& p) const {
    Json out{{"view", "pins"}, {"pins", Json::array()}};
    for (const PinView& v : p.pins)
      out["pins"].push_back({{"name", v.pin.name},
                             {"output", v.pin.output},
                             {"level", v.pin.level},
                             {"before", v.level_before},
                             {"pull_up", v.pin.pull_up},
                             {"pulled_up_outside", v.pin.pulled_up_outside},
                             {"driven", v.pin.driven},
                             {"driven_high", v.pin.driven_high},
                             {"floating", v.pin.floating},
                             {"contention", v.pin.contention},
                             {"volts", v.pin.microvolts ? Json(*v.pin.microvolts / 1e6) : Json()},
                             {"taken_by", v.pin.taken_by}});
    return out;
  }
  Json operator()(const Parts& p) const {
    Json out{{"view", "parts"}, {"parts", Json::array()}};
    for (const PartState& part : p.parts) {
      Json item{{"name", part.name},
                {"pins", part.pins},
                {"state", part.state},
                {"failed", part.failed},
                {"actions", Json::array()}};
      for (const PartState::Action& a : part.actions)
        item["actions"].push_back(a.value.empty() ? a.action : a.action + " " + a.value);
      out["parts"].push_back(std::move(item));
    }
    return out;
  }
  Json operator()(const IoRegisters& r) const {
    Json out{{"view", "io"}, {"registers", Json::array()}};
    for (const IoView& v : r.registers) {
      Json item{{"name", v.io.name},        {"peripheral", v.io.peripheral},
                {"address", v.io.address},  {"bytes", v.io.bytes},
                {"value", v.value},         {"before", v.before},
                {"modelled", v.io.modelled}};
      for (const IoField& f : v.io.fields) {
        const unsigned value = v.value >> f.lowest & ((1U << f.width) - 1);
        item["fields"][f.name] = value;
        if (value < f.meanings.size() && !f.meanings[value].empty())
          item["meanings"][f.name] = f.meanings[value];
      }
      out["registers"].push_back(std::move(item));
    }
    return out;
  }
  Json operator()(const Variables& v) const {
    Json out{{"view", v.view}, {"variables", Json::array()}};
    for (const VariableView& view : v.variables) out["variables"].push_back(json(view));
    return out;
  }
  Json operator()(const TimeView& t) const {
    return {{"view", "time"},
            {"cycles", t.cycles},
            {"cycles_since", t.cycles_since},
            {"picoseconds", t.time.count},
            {"picoseconds_since", t.since.count},
            {"picoseconds_asleep", t.asleep.count},
            {"picoseconds_skipped", t.skipped.count},
            {"clock_hz", t.clock_hz},
            {"divided_by", t.divided_by},
            {"picoseconds_behind", t.behind.count}};
  }
  Json operator()(const Explanation& e) const {
    return {{"view", "explanation"},
            {"instruction", json(e.instruction)},
            {"transfer", e.transfer},
            {"words", e.words},
            {"flags", e.flags},
            {"cycles", e.cycles},
            {"now", e.now}};
  }
  Json operator()(const Serial& s) const {
    return {{"view", "serial"}, {"text", s.sent}, {"bytes", bytes_of(s.sent)}};
  }
  Json operator()(const Logged& l) const { return {{"view", "log"}, {"text", l.text}}; }
  Json operator()(const Remark& r) const { return {{"view", "note"}, {"text", r.text}}; }
  Json operator()(const Completions& c) const {
    return {{"view", "completions"}, {"line", c.line}, {"words", c.words}};
  }
  Json operator()(const Help& h) const {
    Json out{{"view", "help"}, {"sections", Json::array()}};
    for (const Help::Section& section : h.sections) {
      Json item = Json::object();
      if (!section.title.empty()) item["title"] = section.title;
      if (!section.lines.empty()) item["lines"] = section.lines;
      for (const Help::Row& row : section.rows) {
        Json entry{{"word", row.word}, {"words", row.words}};
        if (!row.shorter.empty()) entry["short"] = row.shorter;
        item["rows"].push_back(std::move(entry));
      }
      if (!section.text.empty()) item["text"] = section.text;
      out["sections"].push_back(std::move(item));
    }
    return out;
  }
  Json operator()(const ChipFacts& c) const {
    Json out{{"view", "chip"}, {"name", c.info.name}, {"core", c.info.core}};
    for (const MemoryArea& m : c.info.memories)
      out["memories"].push_back(
          {{"name", m.name}, {"space", space_word(m.space)}, {"begin", m.begin}, {"end", m.end}});
    out["modelled"] = c.modelled;
    out["registers_only"] = c.registers_only;
    return out;
  }
  Json operator()(const Demos& d) const {
    Json out{{"view", "demos"}, {"folder", d.folder}, {"list", Json::array()}};
    for (const Demos::Item& item : d.list)
      out["list"].push_back({{"name", item.name}, {"words", item.words}});
    return out;
  }
  Json operator()(const Chips& c) const {
    Json out{{"view", "chips"}, {"chips", Json::array()}};
    for (const Chip::Summary& chip : c.chips)
      out["chips"].push_back({{"name", chip.name},
                              {"core", chip.core},
                              {"flash", chip.flash},
                              {"ram", chip.ram},
                              {"eeprom", chip.eeprom},
                              {"remark", chip.remark}});
    return out;
  }
};

/// Bytes that are no text are written as \xNN.
void make_text(Json& json) {
  if (json.is_string()) {
    auto& text = json.get_ref<std::string&>();
    if (!is_utf8(text)) text = with_bytes_escaped(text);
  } else if (json.is_structured()) {
    for (Json& part : json) make_text(part);
  }
}

std::string dumped(Json json) {
  make_text(json);
  return json.dump() + "\n";
}

const char* code_word(ErrorCode code) {
  switch (code) {
    case ErrorCode::kUsage: return "usage";
    case ErrorCode::kNotFound: return "not found";
    case ErrorCode::kBadImage: return "bad image";
    case ErrorCode::kUnsupported: return "not supported";
    case ErrorCode::kOutOfRange: return "out of range";
    case ErrorCode::kIo: return "input/output";
  }
  return "";
}

Json json(const Error& error) {
  Json out{{"code", code_word(error.code)}, {"what", error.what}};
  if (!error.where.empty()) out["where"] = error.where;
  if (!error.hint.empty()) out["hint"] = error.hint;
  if (error.unknown != Unknown::kNone) out["unknown"] = unknown_word(error.unknown);
  return out;
}

class JsonWriter final : public Writer {
 public:
  explicit JsonWriter(std::ostream& out) : out_(out) {}

  void begin(const std::string& id, const std::string& /*prompt*/,
             const std::string& command) override {
    if (depth_++ != 0) return;
    answer_ = Json{{"id", Json::parse(id)}, {"command", command}, {"answer", ""}};
    views_ = Json::array();
  }

  void reply(const Reply& reply) override {
    Json view = std::visit(JsonViews{}, reply);
    // What the program says while it runs does not wait for its end.
    if (std::holds_alternative<Logged>(reply) || std::holds_alternative<Remark>(reply))
      event(view);
    else
      views_.push_back(std::move(view));
  }

  void serial(const std::string& port, bool /*first*/, const std::string& bytes) override {
    out_ << dumped({{"event", "serial"}, {"port", port}, {"bytes", bytes_of(bytes)}}) << std::flush;
  }

  void end(const Result<void>& result) override {
    if (--depth_ != 0) return;
    answer_["answer"] = result ? "done" : "error";
    if (!result) answer_["error"] = json(result.error());
    answer_["views"] = std::move(views_);
    out_ << dumped(std::move(answer_)) << std::flush;
  }

 private:
  void event(const Json& view) {
    Json out{{"event", view["view"]}};
    for (const auto& [key, value] : view.items())
      if (key != "view") out[key] = value;
    out_ << dumped(std::move(out)) << std::flush;
  }

  std::ostream& out_;
  unsigned depth_ = 0;
  Json answer_, views_;
};

}  // namespace

std::unique_ptr<Writer> json_writer(std::ostream& out) { return std::make_unique<JsonWriter>(out); }

std::optional<JsonCommand> json_command(const std::string& line) {
  const Json json = Json::parse(line, nullptr, false);
  if (!json.is_object() || !json.contains("command") || !json["command"].is_string())
    return std::nullopt;
  return JsonCommand{json.contains("id") ? json["id"].dump() : "", json["command"]};
}

}  // namespace lucid::app
