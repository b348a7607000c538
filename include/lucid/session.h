// SPDX-License-Identifier: MIT
// Session: debugging a program on a chip. Start here.
//
//   lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
//   auto report = session.open("kiln.elf");            // everything ready before the reset vector
//   auto mark = session.pause_at({"control.c:18"});
//   auto pause = session.go();                          // before the marked line has executed
//   auto error = session.evaluate("setpoint - measured");
//
// A Session belongs to one thread; only request_pause() may be called from another. It is the only
// door to a program under test: prompt, scripts, protocols and tests all come through it. A failed
// call leaves the session as it was.
//
// Places, in every function that takes one: `42` (a line of the current file), `kiln.c:42`,
// `control_step` (behind its prologue), `control_step+0x4` and `0x1f4` (instructions), `here`.
#ifndef LUCID_SESSION_H
#define LUCID_SESSION_H

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/decode.h"
#include "lucid/error.h"
#include "lucid/input.h"
#include "lucid/pause.h"
#include "lucid/program.h"
#include "lucid/signal.h"
#include "lucid/value.h"
#include "lucid/views.h"

namespace lucid {

struct CoverageView;
struct Divergence;
struct DivergenceOptions;
struct FindingView;
struct InstructionCount;
struct HeapView;
struct InterruptView;
struct ProfileView;
struct RaceSpec;
struct RaceOverview;
struct RaceOverviewSpec;
struct RaceView;
struct WearView;
struct WatchdogView;

/// Where and when a breakpoint pauses. At a place a pass is counted when the condition holds and
/// the marked instruction executes next: not when it is skipped, not when an interrupt is entered
/// first. The other kinds pause behind the instruction that did it.
struct BreakpointSpec {
  std::string place = {};  ///< or, for another kind, the object, expression, interrupt, pin or port
  enum class Rule : std::uint8_t { kAlways, kOn, kFrom, kEvery } rule = Rule::kAlways;
  std::uint64_t count = 1;     ///< on the count-th pass, from it on, or at every count passes
  std::string condition = {};  ///< an expression; empty: always
  bool once = false;           ///< removed after its first pause
  std::string log = {};        ///< instead of pausing: a message, `{EXPR}` filled in
  enum class Kind : std::uint8_t {
    kPlace,
    kRead,       ///< of an object: a variable, register, flag, I/O register, bytes of memory
    kWrite,      ///< as a whole: a wide object is judged when all of it has been stored
    kChange,     ///< a write that leaves another value, or a change by hardware
    kWhen,       ///< an expression becomes true
    kInterrupt,  ///< is entered; `place` is its name, empty for any
    kReturn,     ///< from an interrupt
    kEdge,       ///< `place` is a pin, and perhaps `rising` or `falling`
    kByteIn,     ///< `place` is a serial port or empty
    kByteOut,
    kSleep,
    kWake,
    kEepromWrite,
    kReset,  ///< by the chip itself: the watchdog
  } kind = Kind::kPlace;
  bool each_byte = false;  ///< kWrite and kChange: judge each byte stored
  bool following = false;  ///< an object behind pointers: where they lead moves with them
  std::string then = {};   ///< a command for the interface, handed over with the pause
  /// Instead of pausing: their values go to Listener::on_row().
  std::vector<std::string> row = {};
};

struct Breakpoint {
  unsigned id = 0;
  BreakpointSpec spec;
  bool enabled = true;
  std::uint64_t passes = 0;
  std::uint64_t reached = 0;
  std::vector<std::uint32_t> addresses;  ///< empty while it waits
  Location where;                        ///< of the first address
  std::string waits_because;             ///< why it is not bound, in words
  std::string remark;                    ///< what it costs, if it does
  std::vector<std::string> functions;    ///< in which the addresses lie, each once
};

enum class StepKind : std::uint8_t { kInto, kOver, kOut };
enum class StepUnit : std::uint8_t { kLine, kInstruction };

/// What happens while a program runs. All functions are called on the session's thread, between
/// instructions; they must not call back into the session.
class LUCID_API Listener {
 public:
  virtual ~Listener() = default;
  virtual void on_serial(const std::string& /*port*/, const std::string& /*bytes*/) {}
  /// What has been sent before, at this time, in a past that is run again.
  virtual void on_serial_again(const std::string& port, const std::string& bytes) {
    on_serial(port, bytes);
  }
  virtual void on_note(const std::string& /*text*/) {}     ///< not modelled, undefined, misused
  virtual void on_message(const std::string& /*text*/) {}  ///< from a breakpoint's log
  /// Of a breakpoint with BreakpointSpec::row; what cannot be told is unknown, with why as text.
  virtual void on_row(unsigned /*id*/, Picoseconds /*now*/, const std::vector<Value>& /*values*/) {}
  /// Every few million cycles of a run.
  virtual void on_progress(Picoseconds /*now*/) {}
  /// As often as Session::set_pace() says; it may take its time. Result: what arrives at serial
  /// ports by then.
  virtual std::vector<SerialText> on_pace(Picoseconds /*now*/) { return {}; }
};

class LUCID_API Session {
 public:
  explicit Session(Chip chip);
  ~Session();
  Session(Session&&) noexcept;
  Session& operator=(Session&&) noexcept;

  /// `listener` must outlive the session or be replaced; null for none.
  void set_listener(Listener* listener);
  /// More folders in which to look for sources, before the usual ones; `FROM=TO` replaces the
  /// beginning of the paths that the compiler noted.
  void add_source_folder(const std::string& folder);

  // The image -------------------------------------------------------------------------------------

  /// Loads an image and stands before its first instruction. Result: warnings, each with what to do
  /// (no debug information, older than its source, another chip). Breakpoints that waited are
  /// bound.
  Result<std::vector<std::string>> open(const std::string& path);
  /// Takes an image that the chip runs already, such as a companion's: all is looked at through it,
  /// and stands as it does. Nothing is loaded or reset; the past begins here. Errors: as open().
  Result<void> adopt(const std::string& path);
  /// The same image, or another, again; breakpoints, with their passes set back, are kept. Where
  /// lines have moved, those on lines follow the line's text, and the result says so.
  Result<std::vector<std::string>> reload(const std::string& path = {});
  [[nodiscard]] const Program& program() const;
  [[nodiscard]] const Chip& chip() const;
  [[nodiscard]] const std::string& image_path() const;  ///< empty before the first open

  // Breakpoints -----------------------------------------------------------------------------------

  /// Error: kNotFound for a line without code (naming the nearest that has some). A file or
  /// function that is not in the image waits for one that has it.
  Result<Breakpoint> pause_at(const BreakpointSpec& spec);
  /// Kinds of misbehaviour that pause, by name. All are on but never-written-read.
  struct Fault {
    std::string name;
    std::string words;
    bool on = true;
  };
  [[nodiscard]] std::vector<Fault> faults() const;
  /// Error: kNotFound.
  Result<void> set_fault(const std::string& name, bool on);
  [[nodiscard]] std::vector<Breakpoint> breakpoints() const;
  Result<void> enable(unsigned id, bool on);
  Result<void> rearm(unsigned id);  ///< counts its passes from nought again
  /// From now on a breakpoint does not pause: its row of values is told. An empty row: it pauses
  /// again. Names mean what they mean at its place. Error: kUsage for what is no expression.
  Result<void> tabulate(unsigned id, const std::vector<std::string>& row);
  Result<void> remove(unsigned id);  ///< a breakpoint or a watch
  void all_breakpoints(bool on);     ///< off for a clean run; each keeps its own state
  [[nodiscard]] bool all_breakpoints_on() const;

  // Watches: expressions that are worked out at each pause, with IDs like those of breakpoints.
  // ------

  /// Error: what evaluate() would give, unless the name is only not in scope here.
  /// `format` as parse_format() takes it, or empty.
  Result<WatchView> watch(const std::string& expression, const std::string& format = {});
  [[nodiscard]] std::vector<WatchView> watches() const;

  // Moving ----------------------------------------------------------------------------------------
  // Each returns where the program stands afterwards. Breakpoints on the way pause first.

  Pause go();
  /// `within`: it ends after so long at the latest, with Pause::Cause::kTimeUp.
  Result<Pause> go_to(const std::string& place, std::optional<Picoseconds> within = {});
  /// To the first of several that is reached.
  Result<Pause> go_to_any(const std::vector<std::string>& places,
                          std::optional<Picoseconds> within = {});
  /// Until at least `cycles` CPU cycles have passed; events due by then have fired.
  Pause go_for(std::uint64_t cycles);
  /// The same with time, in which a cycle may take longer or shorter (ChipInfo::clock_hz).
  Pause go_for(Picoseconds span);
  /// Until the expression holds behind an instruction. Of objects wider than a byte what counts is
  /// what they are when all of them has been stored, or the statement that stores has been left.
  Result<Pause> go_until(const std::string& expression, std::optional<Picoseconds> within = {});
  /// Until a serial port has sent a text from here on: behind its last byte. Errors: kUsage for no
  /// text, kNotFound.
  Result<Pause> go_until_sent(const std::string& port, const std::string& text,
                              std::optional<Picoseconds> within = {});
  /// Line steps run interrupt handlers through; instruction steps enter them and say so. A
  /// breakpoint, a fault or a reset by the chip itself (Cause::kEvent) ends them early. Error:
  /// kUsage for no steps.
  Result<Pause> step(StepKind kind, StepUnit unit, std::uint64_t count = 1);
  /// The functions that the line at hand can still call here: those that a line step enters.
  [[nodiscard]] std::vector<std::string> step_targets() const;
  /// Steps into the line's call of one of them; over the others, and to the next line if it is not
  /// called. Error: kNotFound if the line calls no such function.
  Result<Pause> step_into(const std::string& function);
  /// Moves the execution point; nothing executes.
  Result<Pause> move_to(const std::string& place);
  Pause reset();
  /// All that the session is at a moment: the chip, passes, what has been stored of watched objects
  /// so far, pins that are still driven, the pause and what it is compared with. Copies share it.
  class Moment {
   public:
    [[nodiscard]] Picoseconds time() const { return time_; }
    [[nodiscard]] std::uint64_t cycles() const { return cycles_; }

   private:
    friend class Session;
    Picoseconds time_;
    std::uint64_t cycles_ = 0;
    std::shared_ptr<const void> kept_;
  };
  [[nodiscard]] Moment moment() const;
  /// To a moment of this session, back or forward. What the debugger has set stays: breakpoints and
  /// watches that are newer than the moment have not passed then; one for once that was spent since
  /// is back. Error: kUsage for a moment before the image was loaded, or of another session.
  Result<Pause> return_to(const Moment& moment);
  /// The run under way, or else the next one, ends within 10 ms. From any thread; safe in a signal
  /// handler.
  void request_pause();
  /// Has something done on the session's thread, in the order in which it was posted: while the
  /// program runs, at an instruction boundary within 10 ms, and the run goes on; else when
  /// do_posted() is called or the next run begins. It may look, set breakpoints and act from
  /// outside; it must not move the program. From any thread, not in a signal handler.
  void post(std::function<void()> request);
  /// Does now what has been posted. On the session's thread, between runs.
  void do_posted();
  /// Each run ends, with Pause::Cause::kLimit, after so much simulated time; 0: it need not.
  void set_limit(Picoseconds span);
  /// Listener::on_pace() is called every so much simulated time of a run; 0: never.
  void set_pace(Picoseconds every);
  /// True while the chip runs. From any thread.
  [[nodiscard]] bool running() const;

  // Back in time
  // ----------------------------------------------------------------------------------- While a
  // program runs, copies of the world are kept, and all that comes from outside is noted: any
  // moment since the image was loaded can be gone back to, exactly. What the debugger has set stays
  // as it is now; a breakpoint counts its passes from where it was set. In the past a run goes into
  // the same future, with the same inputs at the same ticks, and what is sent again goes to
  // Listener::on_serial_again(). Whatever changes something there begins another future.
  // Errors of all: kOutOfRange at the beginning, kUsage while the timeline is off.

  /// To the latest earlier moment at which a breakpoint or a fault would have paused; to the start
  /// if there is none. A breakpoint with a pass rule is passed over before it was set, unless it is
  /// to count `from_start`. No `log` and no `then` is carried out.
  Result<Pause> back(bool from_start = false);
  /// Where a place was executed last. Error: kNotFound if it was not.
  Result<Pause> back_to(const std::string& place);
  Result<Pause> back_to_start();
  /// To the last instruction boundary at or before so long ago. Error: kOutOfRange.
  Result<Pause> back_for(std::uint64_t cycles);
  Result<Pause> back_for(Picoseconds span);
  /// The latest earlier moment at which it held; if it holds now, where it began to. Error:
  /// kNotFound if it never did.
  Result<Pause> back_until(const std::string& expression);
  /// The latest earlier moment at which such a step ended: of lines, the beginning of the one that
  /// is under way, or of the one before. Over: among this level's own lines, then those of its
  /// caller. Out: before the call; of a handler, before it was entered.
  Result<Pause> step_back(StepKind kind, StepUnit unit, std::uint64_t count = 1);
  /// To a time, back or forward: in the past, the last instruction boundary at or before it.
  Result<Pause> go_to_time(Picoseconds time);
  /// A person has been shown this time (as each pause's is), rounded as to_text() does it.
  void told(Picoseconds time);
  /// The very moment that was told last as what a person gives back; else the time itself.
  [[nodiscard]] Picoseconds meant(Picoseconds time) const;
  /// The same, but only back. Error: kUsage for a time that is not earlier.
  Result<Pause> back_to_time(Picoseconds time);
  /// Where the value that an object has now has come from: the instruction that worked it out,
  /// through whatever has moved it, and what fed that, to `depth` levels. Bytes with different
  /// origins are told apart. Errors: those of evaluate(); kUsage for what has no place.
  Result<OriginView> origin(const std::string& object, unsigned depth = 1);
  /// Before the instruction of a node, from 1 on, of what origin() has given last.
  Result<Pause> back_to_origin(std::size_t number);
  /// Why a place was not reached, since the start or since a mark: the branch on the way to it that
  /// turned away last, what that looked at, and where that has come from; or the function on the
  /// way that was never entered. back_to_origin() goes to the turn. Errors: as back_to(),
  /// revert_to().
  Result<MissedView> missed(const std::string& place, const std::string& from_mark = {});
  struct Write {
    Picoseconds time;
    DataAccess access;
  };
  /// The last writes of an object before now, the latest last. Errors: those of pause_at().
  Result<std::vector<Write>> history(const std::string& object, std::size_t most = 20);
  /// Behind a write, from 1 on, of what history() has given last.
  Result<Pause> back_to_history(std::size_t number);
  /// How far the timeline goes beyond this moment; 0 at the present.
  [[nodiscard]] Picoseconds behind() const;
  /// Keeps no copies from now on, and forgets those that there are; or keeps them again.
  void set_timeline(bool on);
  struct TimelineView {
    bool on = true;
    std::size_t copies = 0, bytes = 0;
    Picoseconds first;  ///< as far back as one can go
    Picoseconds end;    ///< the present, if one is in the past
  };
  [[nodiscard]] TimelineView timeline() const;
  /// All that has been done from outside and by hand since the image was loaded, and where one
  /// stands, as text: whoever has the same image and bench has every moment of it.
  [[nodiscard]] std::string timeline_text() const;
  /// Begins anew with such a text, and goes to where one stood. What the debugger has set stays.
  /// Error: kUsage for another image or chip, or what is no such text.
  Result<Pause> follow_timeline(const std::string& text);
  /// Bytes of memory that copies may take; 64 MiB at first.
  void set_timeline_bound(std::size_t bytes);
  /// Of all bytes that serial ports have sent, those up to this moment.
  [[nodiscard]] std::uint64_t bytes_sent() const;

  struct MarkView {
    std::string name;
    Picoseconds time;
    Location where;
    bool other_future = false;  ///< the present timeline does not lead through it
    bool image_gone = false;    ///< it cannot be reverted to
  };
  /// A pause that was no step and no time that was over.
  struct PausedView {
    Picoseconds time;
    Pause::Cause cause = Pause::Cause::kBreakpoint;
    std::vector<unsigned> breakpoints;
  };
  /// Along the present timeline, the earliest first; no more than the last 10,000.
  [[nodiscard]] std::vector<PausedView> pauses() const;
  /// Gives this moment a name; one that is taken means this moment from now on. Error: kUsage
  /// without a name.
  Result<MarkView> mark(const std::string& name);
  [[nodiscard]] std::vector<MarkView> marks() const;
  /// To a marked moment, with the future that it had. Errors: kNotFound; kUsage if the image has
  /// been loaded anew since.
  Result<Pause> revert_to(const std::string& mark);
  /// What differs between a mark and now, or another mark. Errors: as revert_to().
  Result<ComparisonView> compare(const std::string& mark, const std::string& with = {});
  /// A change that is only supposed: of an object, or of one instruction.
  struct Change {
    std::string object, expression;
    std::string place, instruction;  ///< where, and its text as disassembly shows it
  };
  /// Runs on as it is, and with changes, and says what differs first: of pins, bytes sent,
  /// breakpoints and faults. Then all is as before. Errors: those of let() and locate(); kUsage for
  /// what is no instruction, or a longer one than that which is there.
  Result<SuppositionView> suppose(const std::vector<Change>& changes, Picoseconds span);
  /// The same, each up to where it executes a place next; the changed one is given up when it has
  /// taken ten times as long and a second. Error: kNotFound if it is not reached as it is.
  Result<SuppositionView> suppose_until(const std::vector<Change>& changes,
                                        const std::string& place);

  // Signals over time
  // ------------------------------------------------------------------------------------------
  // What is traced is recorded while the program runs, to the tick, along the timeline: what is
  // gone through again is recorded once, another future takes the place of the one that was. A
  // trace never changes what happens.

  /// What can be traced: `pin.PB5`; `pin.PB`, all pins of a port as a number; `voltage PC0`; `part
  /// chamber`; `interrupt` or `interrupt TIMER1_COMPA`; `calls` or `calls 2` by call level; `byte
  /// out USART0`, `byte in USART0`, and of ChipInfo::buses (what a master sends, its addresses
  /// included, is out); `sleep`; `reset`; `eeprom write`; ChipInfo::moments: `conversion`, the end
  /// of one with its result, `watchdog`, when it is reset, with how much of its period had gone,
  /// `match OC1A`, `overflow TIMER1` and `capture TIMER1`, with the count, when their flags rise or
  /// would if they were not up; or an expression of objects that stay where they are: `setpoint -
  /// measured`, `ramp.target`, `chip.PORTB.5`, `chip.TCCR1B`. With the name of another chip of the
  /// bench and a dot before it any of these there, along that chip's clock: `panel.pin.PD0`,
  /// `panel.shown`; locals of a function that is named, `panel.text in read_line`.
  struct TraceSpec {
    std::string signal;
    std::string format = {};   ///< as parse_format() takes it, or empty
    std::string name = {};     ///< what it is to be called; else as it is written
    bool from_start = false;   ///< what has been so far is run through again and recorded, too
    bool with_places = false;  ///< which instruction made each change, too: Signal::places()
    /// The number of a breakpoint: only so much before and after each pass at which it pauses or
    /// writes its log is kept, without any pause of its own; unknown elsewhere. 0: all is kept.
    unsigned around = 0;
    Picoseconds before = {}, after = {};
  };
  struct TraceView {
    unsigned id = 0;  ///< one count with breakpoints and watches
    std::string signal;
    std::string name;
    Signal::Kind kind = Signal::Kind::kLevel;
    Picoseconds from, to;
    std::uint64_t changes = 0, discarded = 0;
    std::size_t bytes = 0;            ///< of memory
    std::uint64_t bytes_in_file = 0;  ///< put_traces_into()
    std::string value;                ///< where it ends
    std::string place;                ///< what made the last change, if that is recorded
    unsigned around = 0;              ///< TraceSpec::around
    Picoseconds before, after;
    std::size_t windows = 0;   ///< stretches that have been kept
    bool around_gone = false;  ///< that breakpoint has been removed: no further stretch will be
  };
  /// Locals, of the selected call level or of a function that is named behind them, `error in
  /// control_step`, are looked at where a line of their function begins; unknown where they are not
  /// held and once the function has returned. Errors: kUsage, kNotFound for what cannot be traced;
  /// kUnsupported for registers of the processor; of `from_start`, those of going back, and kUsage
  /// together with `around`.
  Result<TraceView> trace(const TraceSpec& spec);
  [[nodiscard]] std::vector<TraceView> traces() const;
  /// By its number, its name or as it was written. Error: kNotFound.
  Result<void> untrace(const std::string& name);
  /// Forgets what has been recorded; what is traced begins again here.
  void clear_traces();
  /// What wires say, as one more signal, which follows what is recorded of them.
  struct DecodeSpec {
    enum class Kind : std::uint8_t { kSerial, kTwoWire, kSpi, kOneWire, kDuty, kWidths } kind;
    /// The line; clock and data; clock, data and perhaps select.
    std::vector<std::string> wires;
    SerialForm serial = {};
    unsigned mode = 0;          ///< of kSpi
    Picoseconds glitches = {};  ///< shorter pulses are left out; 0: none are
    std::string name = {};      ///< empty: `pin.PD1 serial`
  };
  /// Errors: those of signal() and of the decoders.
  Result<Decoded> decode(const DecodeSpec& spec);
  /// Lays signals beside the traces: a capture. `prefix` and a point go before their names, times
  /// are moved so that 0 is `start`. Error: kUsage for a name that is taken.
  Result<std::vector<TraceView>> add_signals(const std::vector<Signal>& signals,
                                             const std::string& prefix, Picoseconds start = {});
  /// What has been recorded, as a value. Error: kNotFound, as untrace().
  [[nodiscard]] Result<Signal> signal(const std::string& name) const;
  [[nodiscard]] std::vector<Signal> signals() const;
  /// When places have executed, each as a signal of moments, from the beginning of the timeline up
  /// to now: the past is gone through once. Errors: those of locate(); of going back; kUsage if
  /// somebody asked for a pause.
  [[nodiscard]] Result<std::vector<Signal>> executed(const std::vector<std::string>& places);
  /// Bytes of memory that all traces of a chip together may take; 64 MiB at first. The one that
  /// takes most forgets its oldest.
  void set_trace_bound(std::size_t bytes);
  /// From then on it goes into a file instead, a new one, of which the session reads
  /// when somebody looks; an empty path: no more. If it cannot be written any more, a note says so,
  /// and the oldest is forgotten. Error: kIo.
  Result<void> put_traces_into(const std::string& path);

  // Whole runs ------------------------------------------------------------------------------------

  /// Counts from here on, from nought, what executes, and how long interrupts wait; with calls,
  /// also who calls whom. A run takes a little longer, with calls up to half as long again. Error:
  /// kUnsupported.
  enum class Survey : std::uint8_t { kOff, kCounts, kWithCalls };
  Result<void> survey(Survey what);
  [[nodiscard]] bool surveys() const;
  /// What has been counted. Error of these: kUsage if nothing has.
  [[nodiscard]] Result<std::vector<InstructionCount>> instruction_counts() const;
  [[nodiscard]] Result<ProfileView> profile() const;
  [[nodiscard]] Result<CoverageView> coverage() const;
  [[nodiscard]] Result<std::vector<InterruptView>> interrupts() const;
  /// From the code alone. Recursion, calls through pointers and stack pointers that are worked out
  /// have no bound: it says which function. Error: kUnsupported.
  [[nodiscard]] Result<StackBoundView> stack_bound() const;

  // Checks ----------------------------------------------------------------------------------------

  /// What watches the whole run, whatever is done: each one is off, lists what it finds, or pauses
  /// there. Those that find no fault where there is none list at first.
  enum class CheckMode : std::uint8_t { kOff, kList, kPause };
  struct Check {
    std::string name;
    std::string words;
    CheckMode mode = CheckMode::kOff;
    std::optional<Picoseconds> over = {};  ///< what takes longer is found
    bool follows_values = false;           ///< while it is on, runs take some 40 times as long
  };
  [[nodiscard]] std::vector<Check> checks() const;
  /// For `slow-handler`: 100 us at first.
  void set_slow_handler(Picoseconds over);
  /// Errors: kNotFound; kUnsupported if the chip cannot.
  Result<void> set_check(const std::string& name, CheckMode mode);
  /// Since the image was loaded, in the order in which they were found; each is also told as a note
  /// then. What is gone through again is found once; what another future has found stays.
  [[nodiscard]] std::vector<FindingView> findings() const;

  /// What has been programmed how often, along the timeline; what wears out first comes first.
  [[nodiscard]] std::vector<WearView> wear() const;
  /// Along the timeline. Nothing: it has not been reset while it ran.
  [[nodiscard]] std::optional<WatchdogView> watchdog() const;
  /// Along the timeline, since one of the checks that follow values is on: `never-written`,
  /// `floating-input`, `null-pointer`, `gone-stack`, `heap`, `out-of-bounds`. Nothing: none is.
  [[nodiscard]] std::optional<HeapView> heap() const;

  // Races -----------------------------------------------------------------------------------------

  /// Runs a function again and again, on copies, from its next call on: each time an interrupt is
  /// raised before another one of its instructions, and of those that it calls. What breaks the
  /// expectation is found, and what leaves something else behind than either order without a race:
  /// the interrupt before the entry, or behind the return. The session stays where it is. Errors:
  /// kNotFound for names and for what is not called; kUsage for an expectation about its locals,
  /// what does not return, or if somebody asked for a pause before it is reached; kUnsupported.
  Result<RaceView> race_search(const RaceSpec& spec);
  /// All places in the code where an interrupt could come between the accesses to an object that
  /// its handler changes, or read it half written; and of each, where it is come to within a time
  /// from here on, what comes of trying, as race_search() does. Looked at are static objects whose
  /// address stands in the code. Errors: kNotFound for the name of an interrupt; kUnsupported
  /// without debug information.
  Result<RaceOverview> race_overview(const RaceOverviewSpec& spec);
  /// To a finding, from 1 on, of what race_search() or race_overview() has found last: from where
  /// it was searched on to the instruction, with the interrupt raised. That begins another future.
  /// Breakpoints on the way are counted and do not pause. Errors: kNotFound; kUsage if an image has
  /// been loaded since, or the run ends before it.
  Result<Pause> go_to_race(std::size_t number);
  /// The event that requests an interrupt happens now: its peripheral's next one, before its time.
  /// `byte`: what arrives, for a receiver. Error: kNotFound; kUsage if it is not enabled or nothing
  /// is under way that it could tell of.
  Result<void> raise(const std::string& interrupt, std::optional<std::uint8_t> byte = {});

  // Looking, without any effect
  // ---------------------------------------------------------------------

  [[nodiscard]] const Pause& pause() const;
  /// Error: with the column in `where`.
  [[nodiscard]] Result<Value> evaluate(const std::string& expression, Format format = {}) const;
  /// The same with locals taken from where the debug information says that they are, though that is
  /// seen to be wrong: what evaluate() gives as unknown. For those who judge compilers, or this
  /// library.
  [[nodiscard]] Result<Value> described(const std::string& expression) const;
  /// True if the expression is neither 0 nor false.
  [[nodiscard]] Result<bool> holds(const std::string& expression) const;
  [[nodiscard]] Result<Location> locate(const std::string& place) const;
  /// `around` lines before and behind the place; `here` by default.
  [[nodiscard]] Result<SourceView> source(const std::string& place = "here",
                                          unsigned around = 4) const;
  /// `count` instructions from the start of the place's line (mixed) or a little before it.
  [[nodiscard]] Result<DisassemblyView> disassembly(const std::string& place = "here",
                                                    unsigned count = 12, bool mixed = false) const;
  /// Of the selected level.
  [[nodiscard]] std::vector<RegisterView> registers() const;
  /// Empty at a caller's level: nothing keeps them.
  [[nodiscard]] std::vector<FlagView> flags() const;
  /// Error: kNotFound for an area the chip does not have, kOutOfRange.
  [[nodiscard]] Result<MemoryView> memory(const std::string& area,
                                          std::optional<std::uint32_t> begin = {},
                                          std::uint32_t length = 0) const;
  /// A register, a peripheral's, or all whose names begin so; by peripheral. Error: kNotFound.
  [[nodiscard]] Result<std::vector<IoView>> io(const std::string& like = {}) const;
  [[nodiscard]] std::vector<PinView> pins() const;
  [[nodiscard]] StackView stack(unsigned slots = 24) const;
  [[nodiscard]] std::vector<CallLevel> callers() const;  ///< outermost first
  /// Expressions, variables(), registers() and `here` in views mean this call level, by its number
  /// in callers(), until the program moves. Error: kNotFound.
  Result<void> select_level(unsigned number);
  [[nodiscard]] unsigned level() const;  ///< the one selected
  /// The nodes that can be reached from a pointer to a structure, or a structure, by members that
  /// point at its own type: a list, ring or tree. At most `most` of them. Errors: those of
  /// evaluate; kUsage if it is no such structure.
  [[nodiscard]] Result<GraphView> graph(const std::string& expression, unsigned most = 200) const;
  /// A line of source as it is, then with one level of its macros opened after the other. Errors:
  /// those of `source`; kUnsupported if the image was built without -g3.
  [[nodiscard]] Result<std::vector<std::string>> macros(const std::string& place = "here") const;
  /// Where a step into pauses: with `stay_in`, only in functions of these files; never in those of
  /// the files and functions in `run_through`. What is not entered for that reason is said in the
  /// pause's remarks. Empty lists: everywhere. Error: kNotFound for a name that the program has
  /// not.
  Result<void> filter_steps(std::vector<std::string> stay_in, std::vector<std::string> run_through);
  /// Parameters and locals in scope at the selected level, innermost first. A value that cannot be
  /// told says why.
  [[nodiscard]] std::vector<VariableView> variables() const;
  /// The parts of an object, by an expression that evaluate() takes: members (those of base classes
  /// and of members without a name among them), elements from `begin` on, what a pointer leads to.
  /// Only those that are asked for are read. Error: those of evaluate().
  [[nodiscard]] Result<std::vector<VariableView>> children(const std::string& expression,
                                                           std::uint64_t begin = 0,
                                                           std::uint64_t count = 100) const;
  [[nodiscard]] TimeView time() const;
  [[nodiscard]] std::vector<VariableView> globals(const std::string& like = {}) const;
  /// Of globals(), those that have another value than at the last pause.
  [[nodiscard]] std::vector<VariableView> changed() const;
  [[nodiscard]] Result<Explanation> explain(const std::string& place = "here") const;
  /// What `start`, the last word of a command, may go on to: names in the program and the chip,
  /// members of the object before a `.` or `->`. Case does not matter, but what fits it comes
  /// alone.
  [[nodiscard]] std::vector<std::string> names(const std::string& start) const;
  /// The same for the beginning of a place: functions, files and their lines with code, `here`.
  [[nodiscard]] std::vector<std::string> places(const std::string& start) const;
  /// A text with each `{EXPR}` and `{EXPR as FORMAT}` in it worked out; what cannot be is said
  /// there.
  [[nodiscard]] std::string filled_in(const std::string& text) const;

  // Changing
  // ----------------------------------------------------------------------------------------

  /// Assigns to a variable, register, flag, I/O register or field, byte of memory or pin. An I/O
  /// register comes to hold the value (Chip::poke), or is written as the firmware would, with all
  /// effects. Result: the new value. Error: kUnsupported for what holds no value.
  Result<Value> let(const std::string& object, const std::string& expression,
                    bool with_effects = false);
  Result<void> drive(const std::string& pin, std::optional<bool> level);
  /// What a person does to a part on the bench; see Chip::act for the actions and errors.
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value = {});
  /// A voltage at a pin from outside; see Chip::apply_voltage for its range and errors.
  Result<void> apply_voltage(const std::string& pin, double volts);
  Result<void> feed(const std::string& port, const std::string& bytes);
  /// A single frame, as long and as wrong as it may be. Error: kNotFound.
  Result<void> feed_frame(const std::string& port, const SerialFrame& frame);
  /// A transfer on the two-wire bus; see Chip::transfer, also for its error.
  Result<void> transfer(const TwoWireTransfer& transfer);
  /// Drives a pin for a time and lets go of it at the first instruction boundary behind it, while
  /// the program runs. A later drive of the same pin ends it. Errors: as drive.
  Result<void> drive_for(const std::string& pin, bool level, Picoseconds span);
  Result<void> apply_voltage_for(const std::string& pin, double volts, Picoseconds span);
  /// All that these have done since the image was loaded; Bench::table() writes them for a bench
  /// file that repeats it at the same ticks. Assignments to memory and registers, and `move to` are
  /// not inputs.
  [[nodiscard]] const std::vector<Input>& inputs() const;

 private:
  class Core;
  friend Result<Divergence> first_divergence(Session& a, Session& b,
                                             const DivergenceOptions& options);
  std::unique_ptr<Core> core_;
};

}  // namespace lucid

#endif  // LUCID_SESSION_H
