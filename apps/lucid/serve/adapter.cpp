// SPDX-License-Identifier: MIT
// The life of a session of the protocol: requests, what moves the program, events.
#include "serve/adapter.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <sstream>
#include <utility>

#include "output.h"
#include "serve/refusal.h"
#include "text.h"

namespace lucid::app {

/// Answers of commands: into the request that asked, or to the client's console.
class AdapterWriter final : public Writer {
 public:
  AdapterWriter(Adapter& adapter, const TextStyle& style)
      : adapter_(adapter), inner_(text_writer(out_, style)) {}

  void begin(const std::string& id, const std::string& prompt,
             const std::string& command) override {
    inner_->begin(id, prompt, command);
    take();
  }
  void reply(const Reply& reply) override {
    // The client shows where the program stands by itself.
    if (std::get_if<Standing>(&reply) != nullptr) return;
    inner_->reply(reply);
    const auto* evaluated = std::get_if<Evaluated>(&reply);
    take(evaluated != nullptr ? adapter_.hold_parts_of(evaluated->expression) : 0);
  }
  void error(const Error& error) override {
    inner_->error(error);
    take();
  }
  void serial(const std::string& port, bool first, const std::string& bytes) override {
    adapter_.output("stdout", first ? bytes : port + ": " + bytes);
  }
  void end(const Result<void>& result) override {
    inner_->end(result);
    take();
  }
  void progress(const std::string& now) override { adapter_.work_goes_on(now); }

 private:
  /// `holder`: of the parts of what is told.
  void take(int holder = 0) {
    const std::string text = out_.str();
    out_.str("");
    if (text.empty()) return;
    if (adapter_.capturing_) {
      adapter_.captured_ += text;
      adapter_.captured_holder_ = holder;
    } else {
      adapter_.output("console", text, holder);
    }
  }
  Adapter& adapter_;
  std::ostringstream out_;
  std::unique_ptr<Writer> inner_;
};

namespace {

std::ostream& nowhere() {
  static std::ostringstream out;
  return out;
}

const char* reason_of(const Pause& pause) {
  switch (pause.cause) {
    case Pause::Cause::kReady: return "entry";
    case Pause::Cause::kBreakpoint:
    case Pause::Cause::kEvent: return "breakpoint";
    case Pause::Cause::kData: return "data breakpoint";
    case Pause::Cause::kStep: return "step";
    case Pause::Cause::kMoved: return "goto";
    case Pause::Cause::kFault:
    case Pause::Cause::kBreakInstruction:
    case Pause::Cause::kCannotTell: return "exception";
    case Pause::Cause::kArrived:
    case Pause::Cause::kTimeUp:
    case Pause::Cause::kHolds:
    case Pause::Cause::kRequested:
    case Pause::Cause::kLimit: return "pause";
  }
  return "pause";
}

}  // namespace

Adapter::Adapter(Console::Options options, std::function<void(const std::string&)> send)
    : send_(std::move(send)), console_(std::move(options), nowhere()) {
  TextStyle style;
  console_.write_with(std::make_unique<AdapterWriter>(*this, style));
}

Adapter::~Adapter() = default;

const std::vector<Adapter::Request>& Adapter::requests() {
  static const std::vector<Request> kRequests{
      {"initialize", &Adapter::initialize, false},
      {"launch", &Adapter::launch, false},
      {"attach", &Adapter::attach, false},
      {"configurationDone", &Adapter::configuration_done},
      {"setBreakpoints", &Adapter::set_breakpoints, true, true},
      {"setFunctionBreakpoints", &Adapter::set_function_breakpoints, true, true},
      {"setInstructionBreakpoints", &Adapter::set_instruction_breakpoints, true, true},
      {"setDataBreakpoints", &Adapter::set_data_breakpoints, true, true},
      {"dataBreakpointInfo", &Adapter::data_breakpoint_info, true, true},
      {"setExceptionBreakpoints", &Adapter::set_exception_breakpoints, true, true},
      {"breakpointLocations", &Adapter::breakpoint_locations, true, true},
      {"exceptionInfo", &Adapter::exception_info},
      {"threads", &Adapter::threads, true, true},
      {"stackTrace", &Adapter::stack_trace},
      {"scopes", &Adapter::scopes},
      {"variables", &Adapter::variables},
      {"setVariable", &Adapter::set_variable},
      {"setExpression", &Adapter::set_expression, true, true},
      {"evaluate", &Adapter::evaluate, true, true},
      {"completions", &Adapter::completions, true, true},
      {"continue", &Adapter::continue_},
      {"next", &Adapter::next},
      {"stepIn", &Adapter::step_in},
      {"stepInTargets", &Adapter::step_in_targets},
      {"stepOut", &Adapter::step_out},
      {"stepBack", &Adapter::step_back},
      {"reverseContinue", &Adapter::reverse_continue},
      {"pause", &Adapter::pause, true, true},
      {"gotoTargets", &Adapter::goto_targets, true, true},
      {"goto", &Adapter::goto_},
      {"restart", &Adapter::restart},
      {"disassemble", &Adapter::disassemble, true, true},
      {"readMemory", &Adapter::read_memory, true, true},
      {"writeMemory", &Adapter::write_memory, true, true},
      {"loadedSources", &Adapter::loaded_sources, true, true},
      {"source", &Adapter::source, true, true},
      {"modules", &Adapter::modules, true, true},
      {"disconnect", &Adapter::disconnect, false, true},
      {"terminate", &Adapter::disconnect, false, true},
      {"cancel", &Adapter::nothing, false, true},  // done where it is received
  };
  return kRequests;
}

// Messages ----------------------------------------------------------------------------------------

void Adapter::receive(std::string message) {
  // What ends a run has to reach one that goes through the past, too, where nothing is done
  // between.
  const Json parsed = Json::parse(message, nullptr, false);
  std::string command;
  if (parsed.is_object() && parsed.contains("command") && parsed["command"].is_string())
    command = parsed["command"].get<std::string>();
  const Json arguments =
      parsed.is_object() && parsed.contains("arguments") && parsed["arguments"].is_object()
          ? parsed["arguments"]
          : Json::object();
  const bool cancels = command == "cancel";
  const std::lock_guard<std::mutex> lock(mutex_);
  if (cancels && arguments.contains("requestId") && arguments["requestId"].is_number_integer())
    cancelled_.insert(arguments["requestId"].get<std::int64_t>());
  waiting_.push_back(std::move(message));
  arrived_.notify_one();
  if (cancels && arguments.contains("progressId") && at_work_ != nullptr) at_work_->request_pause();
  if (running_ == nullptr) return;
  running_->post([this] { handle_waiting(); });
  if (command == "pause" || command == "disconnect" || command == "terminate")
    running_->request_pause();
}

void Adapter::close() {
  const std::lock_guard<std::mutex> lock(mutex_);
  closed_ = true;
  if (running_ != nullptr) running_->request_pause();
  arrived_.notify_one();
}

void Adapter::run() {
  while (!finished_) {
    {
      std::unique_lock<std::mutex> lock(mutex_);
      arrived_.wait(lock, [&] { return closed_ || !waiting_.empty(); });
      if (waiting_.empty()) return;  // the client is gone
    }
    handle_waiting();
  }
}

void Adapter::handle_waiting() {
  while (!finished_) {
    std::string message;
    {
      const std::lock_guard<std::mutex> lock(mutex_);
      if (waiting_.empty()) return;
      message = std::move(waiting_.front());
      waiting_.pop_front();
    }
    handle(message);
  }
}

void Adapter::handle(const std::string& message) {
  const Json request = Json::parse(message, nullptr, false);
  if (!request.is_object() || !request.contains("command") || !request["command"].is_string() ||
      !request.contains("seq") || !request["seq"].is_number_integer())
    return output("important", "a message is no request of the protocol, and was left out\n");
  const auto command = request["command"].get<std::string>();
  const auto known = std::find_if(requests().begin(), requests().end(),
                                  [&](const Request& r) { return command == r.command; });
  const bool runs = console_.session() != nullptr && session().running();
  if (known == requests().end())
    return refuse(request, "there is no request '" + command + "' here");
  if (known->needs_image && console_.session() == nullptr)
    return refuse(request, "no image is open: `launch` comes first");
  if (runs && !known->while_running) return refuse(request, "notStopped: the program runs");
  const Json arguments = request.contains("arguments") && request["arguments"].is_object()
                             ? request["arguments"]
                             : Json::object();
  {
    const std::lock_guard<std::mutex> lock(mutex_);
    if (cancelled_.erase(request["seq"].get<std::int64_t>()) != 0)
      return refuse(request, "cancelled");
    if (command == "cancel") cancelled_.clear();  // what was waiting before it is done
  }
  try {
    respond(request, (this->*known->handle)(arguments));
  } catch (const Refusal& refusal) {
    after_.clear();
    return refuse(request, refusal.why);
  } catch (const Json::exception& error) {
    after_.clear();
    return refuse(request, std::string("the arguments are not the protocol's: ") + error.what());
  }
  for (const auto& act : std::exchange(after_, {})) act();
}

void Adapter::respond(const Json& request, Json body) {
  Json out{{"seq", next_seq_++},
           {"type", "response"},
           {"request_seq", request["seq"]},
           {"success", true},
           {"command", request["command"]}};
  if (!body.is_null()) out["body"] = std::move(body);
  send_(out.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void Adapter::refuse(const Json& request, const std::string& why) {
  const Json out{{"seq", next_seq_++},
                 {"type", "response"},
                 {"request_seq", request["seq"]},
                 {"success", false},
                 {"command", request["command"]},
                 {"message", why},
                 {"body", {{"error", {{"id", 1}, {"format", why}, {"showUser", false}}}}}};
  send_(out.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void Adapter::event(const char* name, Json body) {
  const Json out{
      {"seq", next_seq_++}, {"type", "event"}, {"event", name}, {"body", std::move(body)}};
  send_(out.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void Adapter::output(const char* category, const std::string& text, int holder) {
  Json body{{"category", category}, {"output", with_bytes_escaped(text)}};
  if (holder != 0) body["variablesReference"] = holder;
  event("output", std::move(body));
}

// The beginning and the end
// ------------------------------------------------------------------------

Json Adapter::initialize(const Json& a) {
  lines_from_1_ = a.value("linesStartAt1", true);
  columns_from_1_ = a.value("columnsStartAt1", true);
  invalidated_ = a.value("supportsInvalidatedEvent", false);
  memory_events_ = a.value("supportsMemoryEvent", false);
  progress_ = a.value("supportsProgressReporting", false);
  Json filters = Json::array();
  const Session any(*Chip::make({}));
  for (const Session::Fault& fault : any.faults())
    filters.push_back({{"filter", fault.name}, {"label", fault.words}, {"default", fault.on}});
  Json out{{"exceptionBreakpointFilters", filters}};
  for (const char* can : {"supportsConfigurationDoneRequest",
                          "supportsFunctionBreakpoints",
                          "supportsConditionalBreakpoints",
                          "supportsHitConditionalBreakpoints",
                          "supportsEvaluateForHovers",
                          "supportsStepBack",
                          "supportsStepInTargetsRequest",
                          "supportsCancelRequest",
                          "supportsSetVariable",
                          "supportsGotoTargetsRequest",
                          "supportsCompletionsRequest",
                          "supportsModulesRequest",
                          "supportsRestartRequest",
                          "supportsValueFormattingOptions",
                          "supportsExceptionInfoRequest",
                          "supportsDelayedStackTraceLoading",
                          "supportsLoadedSourcesRequest",
                          "supportsLogPoints",
                          "supportsSetExpression",
                          "supportsTerminateRequest",
                          "supportsDataBreakpoints",
                          "supportsReadMemoryRequest",
                          "supportsWriteMemoryRequest",
                          "supportsDisassembleRequest",
                          "supportsBreakpointLocationsRequest",
                          "supportsClipboardContext",
                          "supportsSteppingGranularity",
                          "supportsInstructionBreakpoints"})
    out[can] = true;
  return out;
}

void Adapter::open(const Json& a) {
  const auto program = a.value("program", std::string());
  if (program.empty()) throw Refusal("`program` is missing: the image to debug, such as main.elf");
  Console::Options options = console_.options();
  options.bench = a.value("bench", options.bench);
  options.chip = a.value("chip", options.chip);
  options.on = a.value("on", options.on);
  options.timeline = a.value("timeline", options.timeline);
  if (a.contains("clock"))
    options.clock_hz = required(parse_frequency(
        a["clock"].is_number_unsigned() ? std::to_string(a["clock"].get<std::uint64_t>())
                                        : a["clock"].get<std::string>()));
  options.source_folders = a.value("sources", options.source_folders);
  stop_on_entry_ = a.value("stopOnEntry", true);
  console_.set_options(std::move(options));
  required(console_.open(program));
  for (const auto& line : a.value("first", std::vector<std::string>()))
    required(console_.execute(line));
}

Json Adapter::launch(const Json& a) {
  if (console_.session() != nullptr) throw Refusal("an image is open: `restart` loads another one");
  open(a);
  then([this] { event("initialized"); });
  return nullptr;
}

Json Adapter::attach(const Json& /*a*/) {
  throw Refusal("there is nothing to attach to: the chip is here. Use `launch`");
}

Json Adapter::configuration_done(const Json& /*a*/) {
  configured_ = true;
  then([this] {
    if (stop_on_entry_)
      stopped(session().pause(), "entry");
    else
      move("go");
  });
  return nullptr;
}

Json Adapter::restart(const Json& a) {
  const Json arguments =
      a.contains("arguments") && a["arguments"].is_object() ? a["arguments"] : Json::object();
  const auto program = arguments.value("program", std::string());
  stop_on_entry_ = arguments.value("stopOnEntry", stop_on_entry_);
  const auto warnings = session().reload(program);
  if (!warnings) throw Refusal(warnings.error());
  for (const std::string& warning : *warnings) output("console", "note: " + warning + "\n");
  forget_looks();
  then([this] {
    tell_breakpoints();
    if (stop_on_entry_)
      stopped(session().pause(), "entry");
    else
      move("go");
  });
  return nullptr;
}

Json Adapter::disconnect(const Json& /*a*/) {
  if (console_.session() != nullptr && session().running()) console_.interrupt();
  then([this] {
    event("terminated");
    finished_ = true;
  });
  return nullptr;
}

Json Adapter::nothing(const Json& /*a*/) { return nullptr; }

// Moving ------------------------------------------------------------------------------------------

void Adapter::move(const std::string& line) {
  forget_looks();
  {
    const std::lock_guard<std::mutex> lock(mutex_);
    running_ = &session();
    if (!waiting_.empty()) running_->post([this] { handle_waiting(); });
  }
  const auto done = carry_out(line);
  {
    const std::lock_guard<std::mutex> lock(mutex_);
    running_ = nullptr;
  }
  console_.forget_interrupt();
  if (finished_) return;
  if (!done) output("important", done.error().text() + "\n");
  stopped(session().pause(), done ? nullptr : "pause");
}

Result<void> Adapter::carry_out(const std::string& line) {
  {
    const std::lock_guard<std::mutex> lock(mutex_);
    at_work_ = &session();
  }
  work_ = {};
  // A bare run has no end in sight: that it runs is all there is to tell.
  if (progress_ && line != "go") work_.line = line;
  work_.began = std::chrono::steady_clock::now();
  auto done = console_.execute(line);
  {
    const std::lock_guard<std::mutex> lock(mutex_);
    at_work_ = nullptr;
  }
  if (work_.told) event("progressEnd", {{"progressId", work_.id()}});
  work_ = {};
  return done;
}

/// What takes longer than a second is told, and can be cancelled.
void Adapter::work_goes_on(const std::string& now) {
  using namespace std::chrono_literals;
  if (work_.line.empty()) return;
  const auto clock = std::chrono::steady_clock::now();
  if (clock - work_.began < (work_.told ? 500ms : 1000ms)) return;
  work_.began = clock;
  if (!work_.told) {
    work_.number = ++works_;
    event("progressStart", {{"progressId", work_.id()},
                            {"title", work_.line},
                            {"cancellable", true},
                            {"message", now}});
  } else {
    event("progressUpdate", {{"progressId", work_.id()}, {"message", now}});
  }
  work_.told = true;
}

void Adapter::stopped(const Pause& pause, const char* reason) {
  Standing standing;
  standing.pause = pause;
  const std::string text = to_text(standing, Style(Palette::kNone, true, 1000));
  Json body{{"reason", reason != nullptr ? reason : reason_of(pause)},
            {"description", text.substr(0, text.find('\n'))},
            {"threadId", 1},
            {"allThreadsStopped", true}};
  if (!pause.breakpoints.empty()) body["hitBreakpointIds"] = pause.breakpoints;
  if (pause.cause == Pause::Cause::kFault) body["text"] = pause.detail;
  for (const Pause::Returned& r : pause.returned)
    output("console", fmt::format("{} returned {}\n", r.function, r.value));
  for (const std::string& remark : pause.remarks) output("console", remark + "\n");
  event("stopped", std::move(body));
  tell_breakpoints();
}

Json Adapter::continue_(const Json& /*a*/) {
  then([this] { move("go"); });
  return {{"allThreadsContinued", true}};
}

Json Adapter::step(const Json& a, StepKind kind, bool backwards) {
  only_own(static_cast<unsigned>(whole(a, "threadId", 0, INT32_MAX, 1)));
  const bool instruction = a.value("granularity", std::string("statement")) == "instruction";
  constexpr const char* kKinds[] = {"into", "over", "out"};
  const std::string line =
      fmt::format("{} {} {}", backwards ? "back" : "step", kKinds[static_cast<int>(kind)],
                  instruction ? "instruction" : "line");
  then([this, line] { move(line); });
  return nullptr;
}

Json Adapter::next(const Json& a) { return step(a, StepKind::kOver, false); }
Json Adapter::step_in(const Json& a) {
  if (!a.contains("targetId")) return step(a, StepKind::kInto, false);
  only_own(static_cast<unsigned>(whole(a, "threadId", 0, INT32_MAX, 1)));
  const auto targets = session().step_targets();
  const auto target = static_cast<std::size_t>(whole(a, "targetId", 0, INT32_MAX));
  if (target >= targets.size()) throw Refusal("this call is not of the line at hand");
  then([this, line = "step into call " + targets[target]] { move(line); });
  return nullptr;
}
Json Adapter::step_in_targets(const Json& a) {
  Json out = Json::array();
  const auto levels = session().callers();
  // A step begins at the innermost call.
  if (thread_of_frame(a) == 1 && !levels.empty() && level_of_frame(a) == levels.back().level)
    for (const std::string& name : session().step_targets())
      out.push_back({{"id", out.size()}, {"label", name}});
  return {{"targets", out}};
}
Json Adapter::step_out(const Json& a) { return step(a, StepKind::kOut, false); }
Json Adapter::step_back(const Json& a) { return step(a, StepKind::kOver, true); }
Json Adapter::reverse_continue(const Json& /*a*/) {
  then([this] { move("back"); });
  return nullptr;
}

Json Adapter::pause(const Json& /*a*/) {
  if (session().running()) session().request_pause();
  return nullptr;
}

Json Adapter::goto_targets(const Json& a) {
  const auto file = file_of(a.at("source"));
  if (!file) throw Refusal("the program has no such source");
  const auto line = static_cast<unsigned>(whole(a, "line", 0, INT32_MAX)) + (lines_from_1_ ? 0 : 1);
  const auto where = required(
      session().locate(fmt::format("{}:{}", session().program().files()[*file].path, line)));
  return {{"targets",
           {{{"id", where.address},
             {"label", fmt::format("{}:{}", where.file, where.line)},
             {"line", where.line - (lines_from_1_ ? 0 : 1)},
             {"instructionPointerReference", reference({Space::kCode, where.address})}}}}};
}

Json Adapter::goto_(const Json& a) {
  only_own(static_cast<unsigned>(whole(a, "threadId", 0, INT32_MAX, 1)));
  const auto target = whole(a, "targetId", 0, UINT32_MAX);
  required(session().move_to(fmt::format("{:#x}", target)));
  forget_looks();
  then([this] { stopped(session().pause(), "goto"); });
  return nullptr;
}

void Adapter::changed(bool memory) {
  beside_.clear();
  if (invalidated_ && configured_) event("invalidated", {{"areas", {"variables"}}});
  if (memory && memory_events_)
    for (const MemoryArea& area : session().chip().info().memories)
      if (area.name == "ram" || area.name == "eeprom")
        event("memory", {{"memoryReference", reference({area.space, area.begin})},
                         {"offset", 0},
                         {"count", area.end - area.begin}});
  tell_breakpoints();
}

}  // namespace lucid::app
