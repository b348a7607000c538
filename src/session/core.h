// SPDX-License-Identifier: MIT
// What a Session is made of. The member functions are spread over breakpoints.cpp, moving.cpp,
// looking.cpp and session.cpp by what they do.
#ifndef LUCID_SESSION_CORE_H
#define LUCID_SESSION_CORE_H

#include <algorithm>
#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <set>
#include <tuple>

#include "expression/expression.h"
#include "frames/callers.h"
#include "frames/passes.h"
#include "lucid/divergence.h"
#include "lucid/session.h"
#include "lucid/survey.h"
#include "machine/machine.h"
#include "record/log.h"
#include "record/recording.h"
#include "record/timeline.h"
#include "session/sources.h"

namespace lucid {

class Session::Core final : private machine::MarkListener {
 public:
  explicit Core(Chip chip);
  ~Core() override;
  Core(const Core&) = delete;
  Core& operator=(const Core&) = delete;

  // The image
  Result<std::vector<std::string>> open(const std::string& path);
  void take(const Image& image, const std::string& path, std::vector<std::string>& warnings);

  // Breakpoints
  Result<Breakpoint> add(const BreakpointSpec& spec);
  Result<void> enable(unsigned id, bool on);
  Result<void> rearm(unsigned id);
  Result<void> tabulate(unsigned id, const std::vector<std::string>& row);
  void tell_row(const Breakpoint& point);
  Result<void> remove(unsigned id);
  void bind_all();
  /// Breakpoints on lines follow their text into a new build. Result: what moved, in words.
  std::vector<std::string> follow_lines();
  [[nodiscard]] std::string line_text(const Location& where) const;
  void sync_marks() { marks_changed_ = true; }
  void make_marks();
  void count_passed();
  Result<void> set_fault(const std::string& name, bool on);
  [[nodiscard]] std::vector<Session::Fault> faults() const;

  // Watches
  Result<WatchView> watch(const std::string& expression, const std::string& format);
  void look_at_watches();
  struct WatchMeaning {
    std::shared_ptr<const expression::Expression> expression;  ///< null: there is a problem
    Error problem;
    std::string which;
    Format format;
    bool stays = false;  ///< wherever its file and function are the current ones
  };
  const WatchMeaning& meaning_of(const WatchView& w, const frames::Scope& now);
  /// By watch, file and function.
  std::map<std::tuple<unsigned, std::optional<unsigned>, const Function*>, WatchMeaning>
      watch_meanings_;

  // Moving
  Pause go(machine::RunRequest request, Pause::Cause at_end);
  /// The tick at which a run ends, if nothing has ended it before; UINT64_MAX: none.
  [[nodiscard]] std::uint64_t end_of(std::optional<Picoseconds> within) const {
    return within ? later(to_ticks(*within, machine().info().clock_hz)) : UINT64_MAX;
  }
  Result<Pause> go_to(const std::vector<std::string>& places, std::uint64_t until);
  Result<Pause> go_until(const std::string& expression, std::uint64_t until);
  Result<Pause> go_until_sent(const std::string& port, const std::string& text,
                              std::uint64_t until);
  Pause step_instruction(StepKind kind);
  Pause step_line(StepKind kind);
  [[nodiscard]] bool has_lines_here();
  Pause step_out();
  [[nodiscard]] Result<GraphView> graph(const std::string& expression, unsigned most) const;
  [[nodiscard]] Result<std::vector<std::string>> macros(const std::string& place) const;
  Result<void> filter_steps(std::vector<std::string> stay_in, std::vector<std::string> run_through);
  /// Why a step does not enter a function; empty if it does.
  [[nodiscard]] std::string passed_over(const Function& callee) const;
  Result<Pause> move_to(const std::string& place);
  Pause reset();
  Result<Pause> stepped(StepKind kind, StepUnit unit, std::uint64_t count);

  // Moments: moment.cpp.
  struct Kept;
  [[nodiscard]] std::shared_ptr<const Kept> keep() const;
  Result<Pause> return_to(const Kept& kept);

  // The past: past.cpp, and back_steps.cpp for steps.
  [[nodiscard]] record::Moment now() const { return {machine().ticks(), timeline_.done()}; }
  [[nodiscard]] bool in_past() const { return now() < timeline_.end(); }
  void begin_timeline();
  Result<Pause> back(bool from_start);
  Result<Pause> back_to_place(const std::string& place);
  Result<Pause> to_tick(std::uint64_t tick, Pause::Cause cause);
  Result<Pause> back_to_start();
  Result<Session::MarkView> mark(const std::string& name);
  Result<Pause> revert_to(const std::string& name);
  Result<ComparisonView> compare(const std::string& name, const std::string& with);
  [[nodiscard]] std::vector<Difference> differences(const machine::Machine& a,
                                                    const machine::Machine& b) const;
  Result<SuppositionView> suppose(const std::vector<Session::Change>& changes, Picoseconds span,
                                  const std::string& place);
  Result<void> change(const Session::Change& change);
  static Result<Divergence> first_divergence(Core& a, Core& b, const DivergenceOptions& options);
  Result<void> assign(const std::string& object, const std::string& text, bool with_effects);
  Result<Pause> back_until(const std::string& expression);
  Result<OriginView> origin(const std::string& object, unsigned depth);
  Result<Pause> back_to_origin(std::size_t number);
  Result<MissedView> missed(const std::string& place, const std::string& mark);
  Result<std::vector<Session::Write>> history(const std::string& object, std::size_t most);
  Result<Pause> back_to_history(std::size_t number);
  Result<Pause> stepped_back(StepKind kind, StepUnit unit, std::uint64_t count);
  /// The last tick that has begun at a time.
  [[nodiscard]] std::uint64_t tick_of(Picoseconds time) const;
  void told(Picoseconds time, std::uint64_t tick);
  [[nodiscard]] Picoseconds meant(Picoseconds time) const;

  // Signals: tracing.cpp.
  Result<Session::TraceView> trace(const Session::TraceSpec& spec);
  [[nodiscard]] std::vector<Session::TraceView> traces() const;
  /// Error: kNotFound.
  [[nodiscard]] Result<unsigned> find_trace(const std::string& name) const;
  [[nodiscard]] Result<Signal> signal(const std::string& name) const;
  [[nodiscard]] Result<Signal> signal(unsigned id) const;
  [[nodiscard]] Result<Decoded> decoded(const Session::DecodeSpec& spec) const;
  Result<Decoded> decode(Session::DecodeSpec spec);
  Result<std::vector<Session::TraceView>> add_signals(const std::vector<Signal>& signals,
                                                      const std::string& prefix, Picoseconds start);
  Result<void> untrace(const std::string& name);
  void clear_traces();
  Result<std::vector<Signal>> executed(const std::vector<std::string>& places);
  /// After an image has been loaded. Result: what cannot be traced any more, in words.
  std::vector<std::string> trace_again();
  record::Recording recording_;

  // Whole runs: survey.cpp.
  [[nodiscard]] Result<machine::Counts> counts() const;
  [[nodiscard]] Result<std::vector<InstructionCount>> instruction_counts() const;
  [[nodiscard]] Result<ProfileView> profile() const;
  [[nodiscard]] std::vector<ProfileView::Call> calls(const machine::Counts& counts) const;
  [[nodiscard]] Result<CoverageView> coverage() const;
  class Arcs;
  [[nodiscard]] CoverageView::Line covered(const Arcs& arcs, unsigned unit, unsigned file,
                                           unsigned line) const;
  void add_branches(const Arcs& arcs, unsigned file, unsigned line, CoverageView::File& out) const;
  /// The lines of a file from one to another that have code and have not run; none while nothing is
  /// counted.
  [[nodiscard]] std::set<unsigned> never_run(unsigned file, unsigned from, unsigned to) const;
  [[nodiscard]] Result<std::vector<InterruptView>> interrupts() const;
  void add_waits(const machine::Counts& counts, ProfileView& out) const;
  [[nodiscard]] std::optional<Location> turned_off(std::uint32_t before) const;
  [[nodiscard]] bool leaves_interrupts(const Function* function,
                                       std::set<const Function*>& seen) const;
  class StackBounds;
  [[nodiscard]] std::map<std::uint32_t, std::uint32_t> stack_in_use(
      const machine::Counts& counts) const;
  [[nodiscard]] std::uint32_t begin_of(const machine::CallTree::Node& node) const;
  [[nodiscard]] Result<StackBoundView> stack_bound() const;

  // Checks: checks.cpp.
  class Accesses;
  class Masks;
  class Checks;
  std::vector<std::string> found_;  ///< by checks, and not yet told
  [[nodiscard]] std::vector<WearView> wear() const;
  /// As people are told it, with where it is.
  [[nodiscard]] std::string told_note(const machine::Note& note) const;

  // Races: race.cpp.
  class Race;
  struct Raced {
    std::uint64_t entered = 0;  ///< of the function, a tick
    struct Raise {
      std::uint64_t tick = 0;
      std::uint32_t pc = 0;  ///< of the instruction it comes before
      unsigned vector = 0;
    };
    std::vector<Raise> raises;  ///< in their order
    std::optional<std::uint8_t> byte;
    std::vector<machine::Edit> edits;  ///< at the entry
    unsigned loads = 0;                ///< of which image
  };
  std::vector<Raced> races_;
  std::shared_ptr<const Kept> races_from_;  ///< where they were searched
  Result<RaceView> race_search(const RaceSpec& spec);
  class RaceOverviewer;
  Result<RaceOverview> race_overview(const RaceOverviewSpec& spec);
  Result<Pause> go_to_race(std::size_t number);
  [[nodiscard]] Result<unsigned> vector_named(const std::string& interrupt) const;
  Result<void> raise(unsigned vector, std::optional<std::uint8_t> byte);

  // Chips beside: beside.cpp
  /// A chip as it stands and what its names mean: the one that is debugged, or one beside it.
  struct Side {
    std::string chip;  ///< empty: the one that is debugged
    std::shared_ptr<const machine::Machine> copy;
    frames::Scope scope;
    [[nodiscard]] const machine::Machine& machine() const { return scope.machine; }
    [[nodiscard]] const Program& program() const { return scope.program; }
    [[nodiscard]] std::string name() const { return chip.empty() ? machine().info().name : chip; }
  };
  [[nodiscard]] Side side(const std::string& chip) const;
  /// The chip beside whose name a text begins with, `panel` of `panel.pin.PB0`; empty if there is
  /// none.
  [[nodiscard]] std::string chip_in(const std::string& text) const;
  [[nodiscard]] static tl::unexpected<Error> not_this_chip(const std::string& object,
                                                           const std::string& chip);
  std::unique_ptr<frames::OtherPrograms> others_ = programs_beside();
  [[nodiscard]] std::unique_ptr<frames::OtherPrograms> programs_beside() const;
  void hear(const std::string& chip, record::Recorder& recorder, bool anew);
  void begin_beside(const std::string& chip, record::Recorder& recorder);

  // Looking
  [[nodiscard]] frames::Scope scope() const {
    frames::Scope out{program_, machine(), flows_, static_end_, level_, {}};
    out.measures = measures_.get();
    out.others = others_.get();
    return out;
  }
  [[nodiscard]] std::string filled(const std::string& log) const;
  Result<void> select_level(unsigned number);
  void name_addresses(Explanation& explanation) const;
  [[nodiscard]] static Program named(const Program& program, const machine::Machine& machine);
  [[nodiscard]] std::vector<VariableView> variables() const;
  [[nodiscard]] std::vector<VariableView> globals(const std::string& like, bool changed) const;
  [[nodiscard]] bool tells_of_others(unsigned type) const;
  [[nodiscard]] bool is_as_before(const Variable& v) const;
  [[nodiscard]] std::uint64_t count_children(unsigned type) const;
  [[nodiscard]] Result<std::vector<VariableView>> children(const std::string& expression,
                                                           std::uint64_t begin,
                                                           std::uint64_t count) const;
  [[nodiscard]] std::string which(const std::string& expression, const frames::Scope& in) const;
  [[nodiscard]] std::string function_here(const frames::Scope& in) const;
  [[nodiscard]] Location location(std::uint32_t address) const;
  [[nodiscard]] static Location location_in(const Program& program, const machine::Machine& machine,
                                            std::uint32_t address);
  [[nodiscard]] Result<std::vector<std::uint32_t>> resolve(const std::string& place) const;
  [[nodiscard]] Result<std::vector<frames::Arrival>> places(const std::string& place) const;
  [[nodiscard]] Result<std::vector<frames::Arrival>> column_of(const std::vector<unsigned>& files,
                                                               unsigned line,
                                                               std::uint64_t column) const;
  [[nodiscard]] static std::vector<std::string> members_behind(const std::string& text,
                                                               const Side& on);
  [[nodiscard]] std::string functions_like(const std::string& name) const;
  [[nodiscard]] std::vector<frames::Arrival> arrivals(unsigned file, unsigned line) const;
  /// Where a function's body begins: behind its prologue, and whenever it is called.
  [[nodiscard]] std::uint32_t body_of(const Function& function) const;
  [[nodiscard]] frames::Arrival arrival_at(std::uint32_t address) const;
  [[nodiscard]] std::vector<frames::Arrival> arrivals(const InlinedCall& call) const;
  [[nodiscard]] Result<SourceView> source(const std::string& place, unsigned around) const;
  [[nodiscard]] std::vector<std::string> values_in(const std::string& text) const;
  [[nodiscard]] Result<DisassemblyView> disassembly(const std::string& place, unsigned count,
                                                    bool mixed) const;
  [[nodiscard]] Result<MemoryView> memory(const std::string& area,
                                          std::optional<std::uint32_t> begin,
                                          std::uint32_t length) const;
  class StackReader;
  [[nodiscard]] StackView stack(unsigned slots) const;
  [[nodiscard]] std::vector<CallLevel> callers() const;
  [[nodiscard]] Location where_of(unsigned level) const;
  [[nodiscard]] std::uint32_t call_of(unsigned level) const;
  [[nodiscard]] std::string place_name(std::uint32_t address) const;
  [[nodiscard]] std::string data_name(std::uint32_t address) const;
  [[nodiscard]] std::string path_into(unsigned type, std::uint32_t into) const;
  [[nodiscard]] std::string data_names(Space space, std::uint32_t begin, std::uint32_t end) const;
  [[nodiscard]] std::vector<unsigned> ids_at(std::uint32_t address) const;

  /// Notes what comes from outside; `text` are the keys that say it.
  Result<void> entered(Result<void> done, Input input);
  Result<void> feed(const std::string& port, const std::string& bytes);
  Result<void> drive(const std::string& pin, std::optional<bool> level);

  Result<void> drive_until(const std::string& pin, Result<void> done, Picoseconds span);
  /// Something has been done to the machine from outside its program.
  void acted(record::Act act);
  void forget_future(std::uint64_t tick);
  struct Paused {
    std::uint64_t tick = 0;
    Session::PausedView view;
  };
  std::vector<Paused> paused_;  ///< along the timeline, by tick
  void note_pause(const Pause& pause);
  [[nodiscard]] const std::vector<Input>& inputs() const;

  [[nodiscard]] machine::Machine& machine() { return chip_.machine(); }
  [[nodiscard]] const machine::Machine& machine() const { return chip_.machine(); }
  void remember();
  void deliver();
  /// The tick that much later; the last one there is, if that is sooner.
  [[nodiscard]] std::uint64_t later(std::uint64_t ticks) const {
    const std::uint64_t now = machine().ticks();
    return ticks > UINT64_MAX - now ? UINT64_MAX : now + ticks;
  }

  Chip chip_;
  std::unique_ptr<Checks> checks_;
  record::Timeline timeline_;
  std::shared_ptr<const machine::Machine> before_;  ///< as it was at the last pause
  Program program_;
  std::string image_path_;
  std::uint64_t image_hash_ = 0;  ///< of what it loads
  std::uint64_t start_hash_ = 0;  ///< of the machine, where the timeline begins
  unsigned loads_ = 0;            ///< of images, so far
  std::optional<std::uint32_t> static_begin_, static_end_;
  std::optional<std::uint32_t> no_handler_;  ///< where interrupts without a handler lead
  mutable frames::Flows flows_;              ///< made when asked for
  mutable session::Sources sources_;
  Listener* listener_ = nullptr;
  std::atomic<bool> pause_requested_{false};
  std::atomic<bool> attention_{false};  ///< a pause is requested, or something has been posted
  std::mutex posting_;
  std::vector<std::function<void()>> posted_;  ///< guarded by posting_
  void do_posted();
  /// A run comes by at least this often: what the program has sent is told, requests are heard.
  static constexpr std::uint64_t kSliceTicks = 4'000'000;
  void tell_progress();
  std::atomic<bool> running_{false};
  Pause pause_;
  Picoseconds limit_, pace_;                        ///< of a run; 0: none
  std::vector<std::string> stay_in_, run_through_;  ///< files; files and functions
  unsigned level_ = 0;  ///< selected call level, counted from the innermost

  /// An object whose bytes are being stored.
  struct Partial {
    std::vector<std::uint8_t> before;
    std::vector<bool> stored;
    std::vector<std::uint32_t> stores;  ///< by which instructions
    unsigned line = 0;                  ///< of the first of them
    std::optional<unsigned> interrupt;  ///< that came before all were stored
  };
  struct WatchedObject {
    std::vector<expression::WatchedByte> bytes;
    std::optional<Partial> partial;
    bool read_now = false;  ///< by the instruction at hand
    bool at_once = false;   ///< the hardware changes all of it together
    bool leads = false;     ///< a pointer on the way to the object, not the object itself
  };
  struct Entry {
    Breakpoint point;
    std::string line_text;  ///< of the line it was set on; lines move from build to build
    std::shared_ptr<const expression::Expression> condition;
    /// Of a condition on locals, by address: as the machine may work it out there.
    std::map<std::uint32_t, std::optional<machine::Predicate>> predicates;
    // Of what is no place:
    std::shared_ptr<const expression::Expression> object;  ///< or the expression of `when`
    unsigned object_type = 0;
    frames::Place object_place;
    std::vector<WatchedObject> objects;
    bool every_instruction = false;  ///< `when` over something that cannot be watched
    bool on_edges = false;           ///< `when` over pins
    bool held = false;               ///< `when`: was it true?
    std::string last;                ///< of a local in registers: its value as last known
    std::uint32_t cfa = 0;           ///< and the frame it belongs to
    /// Of a local: it ends when the frame has returned.
    struct Frame {
      std::uint32_t return_pc = 0, cfa = 0;
      std::string function;
    };
    std::optional<Frame> frame;
    std::vector<frames::Arrival> arrivals;  ///< of a place
    record::Moment armed_at;                ///< its passes are counted from there
    unsigned arming = 0;                    ///< which time it was armed
    std::shared_ptr<const Entry> as_armed;  ///< one on a local, as it was then
    /// From where an address is reached without its being a pass; null if from nowhere.
    [[nodiscard]] const std::vector<std::uint32_t>* inner_at(std::uint32_t address) const;
  };
  std::vector<Entry> breakpoints_;
  /// Breakpoints that have gone by themselves: those for once, those on locals.
  std::vector<std::shared_ptr<const Entry>> spent_;
  struct Mark {
    std::string name;
    record::Moment at;
    std::shared_ptr<const Kept> kept;
    bool own = false;  ///< made by us, for the end of another future
  };
  std::vector<Mark> marks_named_;
  Mark* find_mark(const std::string& name);
  /// Errors: kNotFound; kUsage if its image is gone.
  Result<const Mark*> usable_mark(const std::string& name);
  [[nodiscard]] Session::MarkView view(const Mark& mark) const;
  std::uint64_t heard_ = 0;  ///< bytes from serial ports that were told
  Result<Pause> back_by(std::uint64_t ticks);
  [[nodiscard]] record::Log log() const;
  Result<Pause> follow_log(const std::string& text);
  void set_timeline(bool on);
  std::vector<WatchView> watched_;
  std::set<unsigned> bound_watches_;  ///< those whose names have had a meaning: they keep it
  unsigned next_id_ = 1;
  bool breakpoints_on_ = true;
  bool pause_without_handler_ = true;

 private:
  /// The places at which a step or `go to` ends.
  struct Target {
    struct Place {
      std::uint32_t address = 0;
      std::optional<std::uint32_t> sp;  ///< the stack pointer must be this
    };
    std::vector<Place> places;
    [[nodiscard]] bool is_at(std::uint32_t pc, std::uint32_t sp) const {
      return std::any_of(places.begin(), places.end(),
                         [&](const Place& p) { return p.address == pc && (!p.sp || *p.sp == sp); });
    }
  };
  /// What a stretch of running came to.
  struct Outcome {
    enum class Kind : std::uint8_t { kTarget, kBreakpoint, kEnd } kind = Kind::kEnd;
    machine::Stop stop;
    Pause::Cause cause = Pause::Cause::kStep;  ///< for kBreakpoint
    std::string detail;
    std::vector<unsigned> ids;
    std::optional<DataAccess> data;
    bool sought = false;  ///< what the run looks for is there
  };

  Outcome run(machine::RunRequest request, const Target* target = nullptr);
  struct Traced {
    unsigned id = 0;
    Session::TraceSpec spec;
    std::shared_ptr<const Signal> imported = {};              ///< it is not of the chip
    std::shared_ptr<const Session::DecodeSpec> decoder = {};  ///< it follows from others
    /// What a decoder made of its wires when they had come so far.
    struct Made {
      std::vector<std::uint64_t> of;
      Signal signal;
    };
    mutable std::shared_ptr<const Made> made = {};
    [[nodiscard]] const std::string& name() const {
      return spec.name.empty() ? spec.signal : spec.name;
    }
  };
  [[nodiscard]] Session::TraceView view(const Traced& traced) const;
  [[nodiscard]] std::optional<record::AroundSpec> around(const Session::TraceSpec& spec,
                                                         std::uint64_t hz) const;
  [[nodiscard]] static Signal with_named_places(Signal signal, const Side& on);
  [[nodiscard]] Result<void> be_free(const std::string& name) const;
  std::vector<Traced> traced_;
  struct Traceable {
    Signal::Facts facts;
    record::Source source;
    std::string chip = {};   ///< the one beside that it is of
    std::string whole = {};  ///< what is traced, if what was asked for means it only here
  };
  struct LocalPlaces;
  [[nodiscard]] static LocalPlaces places_of_locals(const std::string& function,
                                                    const frames::Scope& on);
  [[nodiscard]] std::optional<Result<Traceable>> traceable_local(const std::string& text,
                                                                 const Side& on) const;
  static void name_values(const Program& program, unsigned type, Signal::Facts& facts);
  void stand_in_trace();
  Result<Traceable> traceable(const Session::TraceSpec& spec) const;
  static Result<Traceable> traceable_object(const std::string& text, const Side& on);
  [[nodiscard]] static std::optional<Result<Traceable>> traceable_event(const std::string& text,
                                                                        const Side& on);
  [[nodiscard]] static record::Standing standing(const record::Recorder& recorder,
                                                 const frames::Scope& on);
  void add_lane(record::Recording& to, unsigned id, const Session::TraceSpec& spec,
                Traceable found);
  void begin_traces(record::Recording& recording);
  [[nodiscard]] static std::map<unsigned, std::uint32_t> handler_begins(const machine::Machine& of);
  [[nodiscard]] std::map<unsigned, std::uint32_t> handler_begins() const {
    return handler_begins(machine());
  }
  static void name_functions(record::Recorder& recorder, const frames::Scope& on);
  void listen(record::Recording& recording);
  void stop_listening(record::Recording& recording);
  void hear_on();
  Result<void> fill_from_start(record::Recording& recording);
  record::Recording* listening_ = nullptr;  ///< while the program runs
  class Measuring;
  std::unique_ptr<const frames::Measures> measures_ = measuring();
  [[nodiscard]] std::unique_ptr<const frames::Measures> measuring() const;
  void note_feeder(std::uint32_t pc);
  void executes(std::uint32_t pc);
  bool pauses_at(std::uint32_t pc);
  [[nodiscard]] bool goes_on(const Entry& entry, std::uint32_t pc) const;
  machine::Stop run_in_slices(machine::RunRequest request);
  /// Counts a pass of every breakpoint at the PC. True: at least one wants to pause.
  bool hit(Outcome& outcome);
  /// Counts a pass of one. True: it wants to pause.
  bool counts(Entry& entry, Outcome& outcome);
  /// After all have been counted: removes those for once. True: at least one wants to pause.
  bool settle(const Outcome& outcome);
  // Data and events: watching.cpp.
  Result<void> bind_object(Entry& entry) const;
  Result<void> bind_event(Entry& entry) const;
  void sync_watches();
  [[nodiscard]] bool is_io(const Address& address) const;
  [[nodiscard]] std::uint32_t events_wanted() const;
  [[nodiscard]] bool object_under_way() const;
  [[nodiscard]] bool looks_at_every_instruction() const;
  bool digest(const machine::Stop& stop, Outcome& outcome);
  [[nodiscard]] Pause::Cause at_end(std::uint64_t until) const;
  Outcome seek(Entry entry, std::uint64_t until);
  bool heard(char byte);
  Pause found(bool it, Pause pause);
  /// What people have set, unless it is off, and what the run under way looks for.
  template <class Act>
  void each_that_acts(Act act) {
    if (breakpoints_on_)
      for (Entry& entry : breakpoints_)
        if (entry.point.enabled) act(entry);
    if (sought_) act(*sought_);
  }
  template <class Act>
  void each_that_acts(Act act) const {
    const_cast<Core*>(this)->each_that_acts([&](const Entry& entry) { act(entry); });
  }
  bool note(Entry& entry, WatchedObject& object, std::size_t index, const machine::Access& access,
            const machine::Stop& stop, Outcome& outcome);
  void judge(Entry& entry, WatchedObject& object, const machine::Stop& stop, Outcome& outcome);
  void became_true(Entry& entry, Outcome& outcome);
  void follow(Entry& entry);
  void look_at_local(Entry& entry, const machine::Stop& stop, Outcome& outcome);
  [[nodiscard]] DataAccess account(const Entry& entry, const WatchedObject& object,
                                   const Partial& partial, const machine::Stop& stop) const;
  [[nodiscard]] std::string object_text(const Entry& entry, const machine::Machine& at,
                                        const std::map<Address, std::uint8_t>& held = {}) const;
  [[nodiscard]] bool matches(const Entry& entry, const machine::Event& event,
                             const machine::Stop& stop) const;
  [[nodiscard]] std::string event_text(const machine::Event& event) const;
  void end_frames();
  /// Passes that end in nothing but counting are counted without ending the run.
  bool ends_run_at(std::uint32_t pc) override;
  void count_passed(Entry& entry, std::uint32_t address);
  void allow_passes();
  void allow_passes(const Entry& entry);
  static bool counts_down(const Entry& entry);
  [[nodiscard]] std::optional<machine::Predicate> predicate_at(Entry& entry,
                                                               std::uint32_t address) const;
  [[nodiscard]] std::optional<machine::Predicate> predicate_in_frame(const Entry& entry,
                                                                     std::uint32_t address) const;
  static bool rule_says_pause(const BreakpointSpec& spec, std::uint64_t passes);
  Pause finish(const Outcome& outcome, Pause::Cause at_end, std::string detail = {});
  void begin_run();
  // The past.
  struct Beside;
  struct Point {
    record::Moment at;
    std::shared_ptr<const machine::Machine> machine;
  };
  /// Is told of each pause that there would have been. True: it ends there.
  using Met = std::function<bool(const Outcome&)>;
  [[nodiscard]] std::shared_ptr<const Beside> beside();
  [[nodiscard]] bool is_valid(const record::Timeline::Copy& copy) const;
  [[nodiscard]] const record::Timeline::Copy* valid_before(const record::Moment& moment,
                                                           bool strictly) const;
  bool restore(const record::Timeline::Copy& copy);
  void restore(const Point& point);
  void arm(Entry& entry);
  void set_back(Entry& entry);
  void wake_dormant();
  bool happen();
  [[nodiscard]] bool unmet_here() const;
  [[nodiscard]] std::uint64_t next_stop();
  void look_at_timeline();
  void meet(record::Timeline::Copy& copy);
  /// Runs again, up to a moment. False: somebody asked for a pause.
  bool run_again(const record::Moment& to, const Met& met);
  void keep_here();
  bool travel(const record::Moment& to);
  void spend(unsigned id);
  void begin_back();
  Pause finish_back(const Outcome& outcome, Pause::Cause cause, std::string detail = {});
  Result<Pause> give_up(const Kept& present);
  Result<Pause> at_beginning(std::string why);
  struct Happening {
    std::uint64_t tick = 0;
    std::string what;
    std::uint32_t pc = 0;
  };
  struct Future {
    std::vector<Happening> seen, calls;
    std::uint64_t end = 0;
    bool arrived = false;  ///< at one of the places
    std::shared_ptr<machine::Machine> machine;
  };
  Future what_comes(std::uint64_t until, const std::vector<std::uint32_t>& places);
  void begin_run_quietly();
  bool supposing_ = false;  ///< what is done is not noted
  class Quiet;
  using Timeline = record::Timeline;
  class Walk;
  class Origins;
  class Missed;
  class Trail;
  Result<std::vector<machine::Record>> last_edges(std::uint32_t pin, const record::Moment& present,
                                                  std::size_t most);
  [[nodiscard]] const record::Act* act_on(const std::string& pin, std::uint64_t tick) const;
  std::optional<machine::Cell> io_written_here();
  Result<OriginView> pin_origin(const std::string& object, const std::string& pin, unsigned depth);
  Result<std::vector<Session::Write>> pin_history(const std::string& object, const std::string& pin,
                                                  std::size_t most);
  Result<MissedView> look_for_miss(const std::string& place,
                                   const std::vector<std::uint32_t>& places, Point from);
  Result<void> why_turned(Origins& origins, const record::Moment& at);
  std::vector<record::Moment> origin_moments_, history_moments_;
  /// Forwards through the past, one stretch after the other, the latest first, until one gives a
  /// moment. nullopt: none does. Error: somebody asked for a pause.
  /// Or until `enough`, if that is given.
  using Look = std::function<std::optional<record::Moment>(const record::Moment& until)>;
  Result<std::optional<record::Moment>> latest(const record::Moment& before, const Look& look,
                                               const bool* enough = nullptr);
  Result<std::optional<record::Moment>> latest_interrupt(std::uint32_t pc, std::uint32_t sp,
                                                         const record::Moment& before);
  std::uint32_t events_too_ = 0;  ///< that end a stretch of running, beside those people want
  bool steps_ = false;            ///< a step is under way: a reset ends it
  Result<std::optional<record::Moment>> call_of_this_level(const record::Moment& end);
  Result<std::optional<record::Moment>> step_before(StepKind kind, StepUnit unit);
  Outcome line_step(StepKind kind);
  [[nodiscard]] bool stands_in_start_up();
  Outcome run_to_main();
  Outcome out_step();
  void restore_at(const record::Moment& moment);
  /// The nearest that is kept at a moment or before it.
  [[nodiscard]] std::optional<Point> point_before(const record::Moment& moment,
                                                  bool strictly) const;
  /// Keeps points before a moment, the denser the nearer, while a Quiet lives.
  void come_near(const record::Moment& moment);
  std::map<record::Moment, std::shared_ptr<const machine::Machine>> near_;
  [[nodiscard]] tl::unexpected<Error> no_past() const;
  Result<std::optional<record::Moment>> latest_at(const Target& target,
                                                  const record::Moment& before);
  Result<std::optional<record::Moment>> boundary_before(const record::Moment& moment);
  Result<Pause> arrive(const record::Moment& moment, Pause::Cause cause, std::string detail = {});
  [[nodiscard]] bool over_limit() const { return machine().ticks() >= limit_end_; }
  /// Lets the listener keep time, and takes what it has for the serial ports.
  void keep_pace();
  // Steps: stepping.cpp.
  class Step;
  Outcome run_through(std::uint32_t returns_to, std::uint32_t sp);
  void note_returned(const Function* function);
  /// Right behind its return; nothing: it has none, or it is not known.
  [[nodiscard]] std::optional<std::string> returned_value(const Function& function,
                                                          const machine::Machine& machine) const;
  [[nodiscard]] std::vector<std::uint32_t> places_of_stack_switches();
  Result<void> bind(Entry& entry);
  static tl::unexpected<Error> no_breakpoint(unsigned id);
  Entry* find(unsigned id);

  std::optional<Entry> sought_;           ///< of the run under way, beside breakpoints
  std::string sought_text_, last_heard_;  ///< if that is a text
  std::string heard_wish_;                ///< of which port, and which text
  std::uint64_t heard_until_ = 0;
  std::set<std::uint32_t> marks_;      ///< set in the machine
  bool marks_changed_ = true;          ///< or will be, before it runs
  const Target* target_ = nullptr;     ///< of the run under way
  std::set<std::uint32_t> also_at_;    ///< a stretch of running ends there, too
  std::set<std::uint32_t> looked_at_;  ///< where traced locals are looked at, while that is done
  /// Instructions from which places are reached whose passes depend on that, and those places.
  std::map<std::uint32_t, std::set<std::uint32_t>> feeders_;
  /// The last of them to execute, by the place, and the stack pointer behind it.
  std::map<std::uint32_t, std::pair<std::uint32_t, std::uint32_t>> came_from_;
  std::optional<std::vector<std::uint32_t>> stack_switches_;
  /// Addresses where nothing but breakpoints stands, and their places in breakpoints_.
  std::vector<std::pair<std::uint32_t, std::vector<std::size_t>>> simple_;
  std::map<Address, std::uint8_t> watches_;  ///< set in the machine
  bool watches_moved_ = false;               ///< a pointer that is followed leads elsewhere
  std::vector<unsigned> used_up_;            ///< for once, and paused or logged now
  std::vector<std::uint32_t> temporary_;     ///< of the step under way
  struct Instant {
    std::uint64_t cycles = 0, ticks = 0;
  };
  void count_since(Pause& pause, const Instant& start) const;
  Instant started_;               ///< of the last pause
  bool replaying_ = false;        ///< the past is gone through: nobody is told
  bool walking_ = false;          ///< … and nothing of it is kept
  bool run_all_through_ = false;  ///< steps enter no call
  std::string keep_end();
  [[nodiscard]] bool is_on_this_timeline(const Mark& mark) const;
  std::shared_ptr<const Kept> present_;  ///< the end of the timeline, while one is in the past
  bool again_ = false;                   ///< the stretch under way has been run before
  unsigned kept_armings_ = 0;            ///< those that the last copy knows
  void told(const Pause& pause) { told(pause.time, machine().ticks()); }
  std::size_t acts_until_ = SIZE_MAX;  ///< how many acts are to be done at most
  std::vector<Entry> dormant_;         ///< not yet armed, while the past is gone through
  std::vector<std::pair<record::Moment, unsigned>> arming_;  ///< what will be, by moment
  unsigned armings_ = 0;                                     ///< so far, of all breakpoints
  mutable std::vector<Input> inputs_;                        ///< made when asked for
  std::map<std::uint64_t, std::uint64_t> told_times_;  ///< picoseconds as told, and their ticks
  bool difference_said_ = false;
  std::pair<std::uint32_t, std::uint64_t> stood_at_{};  ///< pc and ticks where a run began
  std::optional<std::pair<std::uint32_t, std::uint64_t>> counted_;  ///< pass counted at pc, ticks
  struct Remarks {
    std::vector<std::pair<std::string, std::uint64_t>> all;  ///< text, how often
    void add(const std::string& text, std::uint64_t times);
    [[nodiscard]] std::vector<std::string> texts() const;
  };
  Remarks remarks_;  ///< of the run under way, or the last one
  void remark(const std::string& text) { remarks_.add(text, 1); }
  std::vector<Pause::Returned> returned_;
  std::uint64_t limit_end_ = UINT64_MAX;  ///< the tick at which the run under way ends
  std::uint64_t next_pace_ = UINT64_MAX;
  unsigned stretches_ = 0;  ///< of running, so far
  bool asked_ = false;      ///< for a pause, when a run had already ended otherwise
};

}  // namespace lucid

#endif  // LUCID_SESSION_CORE_H
