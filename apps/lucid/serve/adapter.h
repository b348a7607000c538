// SPDX-License-Identifier: MIT
// Adapter: one session of the Debug Adapter Protocol over a console. An editor on the other side
// sets breakpoints, steps and looks; what it may do, the prompt may do, and both see the same.
// Standard: "Debug Adapter Protocol", chapter "Specification".
#ifndef LUCID_APP_SERVE_ADAPTER_H
#define LUCID_APP_SERVE_ADAPTER_H

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "console.h"

namespace lucid::app {

using Json = nlohmann::json;

class Adapter {
 public:
  /// `send` takes a message's contents; it is called on the session's thread alone.
  Adapter(Console::Options options, std::function<void(const std::string&)> send);
  ~Adapter();

  /// From any thread: the contents of a message of the client's.
  void receive(std::string message);
  /// From any thread: the client is gone.
  void close();
  /// Carries out what is received until the client has disconnected.
  void run();

 private:
  friend class AdapterWriter;
  using Handler = Json (Adapter::*)(const Json& arguments);
  struct Request {
    const char* command;
    Handler handle;
    bool needs_image = true;
    bool while_running = false;
  };
  static const std::vector<Request>& requests();

  /// Something that a client asks for by a number, until the program moves.
  struct Holder {
    enum class Kind : std::uint8_t {
      kLocals,
      kStatics,
      kGlobals,
      kRegisters,
      kFlags,
      kIo,
      kPeripheral,
      kIoRegister,
      kPins,
      kParts,
      kChildren
    } kind = Kind::kLocals;
    unsigned level = 0;
    std::string name;     ///< a file, a peripheral, a register, an expression
    unsigned thread = 1;  ///< which chip's; hold() sets this, and when it was
    Picoseconds time{};
  };
  /// While it lives, one of the chips is looked at: the debugged one is thread 1, those beside it
  /// follow, each as a copy of what it is at this pause.
  class Look {
   public:
    Look(Adapter& adapter, unsigned thread);
    ~Look();
    Look(const Look&) = delete;
    Look& operator=(const Look&) = delete;

   private:
    Adapter& adapter_;
  };
  static constexpr unsigned kFrames = 1U << 16;  ///< frames are numbered by thread, then by level
  [[nodiscard]] static unsigned thread_of_frame(const Json& a);
  [[nodiscard]] static unsigned level_of_frame(const Json& a);
  /// Of a memory reference: `panel:0x800100` is one beside.
  [[nodiscard]] unsigned thread_of(const std::string& reference) const;
  /// Refuses what would move or change a chip beside.
  void only_own(unsigned thread) const;
  void forget_looks();

  void handle(const std::string& message);
  void handle_waiting();
  void respond(const Json& request, Json body);
  void refuse(const Json& request, const std::string& why);
  void event(const char* name, Json body = Json::object());
  /// `holder`: of the parts of what is written; 0: it has none.
  void output(const char* category, const std::string& text, int holder = 0);

  // Requests, by their names; what they give is the response's body. They throw Refusal.
  Json initialize(const Json& a);
  Json launch(const Json& a);
  Json attach(const Json& a);
  Json configuration_done(const Json& a);
  Json set_breakpoints(const Json& a);
  Json set_function_breakpoints(const Json& a);
  Json set_instruction_breakpoints(const Json& a);
  Json set_data_breakpoints(const Json& a);
  Json data_breakpoint_info(const Json& a);
  Json set_exception_breakpoints(const Json& a);
  Json breakpoint_locations(const Json& a);
  Json exception_info(const Json& a);
  Json threads(const Json& a);
  Json stack_trace(const Json& a);
  Json scopes(const Json& a);
  Json variables(const Json& a);
  Json set_variable(const Json& a);
  Json set_expression(const Json& a);
  Json evaluate(const Json& a);
  Json completions(const Json& a);
  Json continue_(const Json& a);
  Json next(const Json& a);
  Json step_in(const Json& a);
  Json step_in_targets(const Json& a);
  Json step_out(const Json& a);
  Json step_back(const Json& a);
  Json reverse_continue(const Json& a);
  Json pause(const Json& a);
  Json goto_targets(const Json& a);
  Json goto_(const Json& a);
  Json restart(const Json& a);
  Json disassemble(const Json& a);
  Json read_memory(const Json& a);
  Json write_memory(const Json& a);
  Json loaded_sources(const Json& a);
  Json source(const Json& a);
  Json modules(const Json& a);
  Json disconnect(const Json& a);
  Json nothing(const Json& a);

  // What they share.
  void open(const Json& a);
  Json step(const Json& a, StepKind kind, bool backwards);
  /// What is to be done once the response is out: it moves the program.
  void then(std::function<void()> act) { after_.push_back(std::move(act)); }
  /// Carries out a command that moves, and tells where the program stands then.
  void move(const std::string& line);
  void stopped(const Pause& pause, const char* reason);
  Result<void> carry_out(const std::string& line);
  void work_goes_on(const std::string& now);
  void changed(bool memory);
  Json set(const std::string& group,
           const std::vector<std::pair<std::string, BreakpointSpec>>& wanted);
  [[nodiscard]] std::set<unsigned> columns_of(unsigned file, unsigned line) const;
  Json breakpoint_json(const Breakpoint& point) const;
  void tell_breakpoints();
  [[nodiscard]] Json source_json(unsigned file) const;
  [[nodiscard]] std::optional<unsigned> file_of(const Json& source) const;
  [[nodiscard]] Json variable_json(const VariableView& v, unsigned level, bool hex);
  [[nodiscard]] Json value_json(const std::string& name, const std::string& value,
                                const std::string& evaluate_name, const Holder* inner);
  [[nodiscard]] std::vector<Json> held(const Holder& holder, std::uint64_t from,
                                       std::uint64_t count, bool hex);
  int hold(Holder holder);
  /// 0: it has no parts.
  int hold_parts_of(const std::string& expression);
  [[nodiscard]] const Holder& holder_of(const Json& a) const;
  void select(unsigned level);
  Result<void> let(const std::string& object, const std::string& value);
  [[nodiscard]] std::string reference(Address address) const;
  [[nodiscard]] Address address_of(const std::string& reference, std::int64_t offset) const;
  /// The one that is looked at.
  Session& session() { return looked_at_ != nullptr ? *looked_at_ : *console_.session(); }
  [[nodiscard]] const Session& own() const { return *const_cast<Console&>(console_).session(); }
  [[nodiscard]] const Session& session() const { return const_cast<Adapter*>(this)->session(); }

  std::function<void(const std::string&)> send_;
  std::string captured_;     ///< what a command answers, while it is carried out
  int captured_holder_ = 0;  ///< of the parts of what it has told last
  bool capturing_ = false;
  Console console_;
  std::vector<std::function<void()>> after_;
  Session* looked_at_ = nullptr;                         ///< a chip beside; null: the debugged one
  unsigned looking_at_ = 1;                              ///< its thread
  std::map<unsigned, std::unique_ptr<Session>> beside_;  ///< by thread, of this pause
  std::map<int, Holder> holders_;
  int next_holder_ = 1;
  std::int64_t next_seq_ = 1;
  /// The breakpoints that the client has set, by group (a source, or functions, ...), each by what
  /// it was asked as.
  std::map<std::string, std::map<std::string, unsigned>> groups_;
  std::map<unsigned, std::string> told_;  ///< breakpoints as the client knows them
  bool lines_from_1_ = true, columns_from_1_ = true;
  bool invalidated_ = false, memory_events_ = false;  ///< the client knows these events
  /// A command that takes its time.
  struct Work {
    std::string line;
    std::chrono::steady_clock::time_point began;  ///< or was told of last
    unsigned number = 0;
    bool told = false;
    [[nodiscard]] std::string id() const { return "work " + std::to_string(number); }
  };
  Work work_;
  unsigned works_ = 0;
  bool progress_ = false;  ///< the client shows it
  bool stop_on_entry_ = true, configured_ = false, finished_ = false;

  std::mutex mutex_;  ///< of what follows
  std::condition_variable arrived_;
  std::deque<std::string> waiting_;
  bool closed_ = false;
  std::set<std::int64_t> cancelled_;  ///< requests, by number
  Session* running_ = nullptr;        ///< while its program moves
  Session* at_work_ = nullptr;        ///< while a command is carried out
};

}  // namespace lucid::app

#endif  // LUCID_APP_SERVE_ADAPTER_H
