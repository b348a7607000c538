// SPDX-License-Identifier: MIT
// Machine: a running chip as the debugger sees it, whatever its instruction set.
//
// Looking never changes anything: every const function may be called at any pause, in any order,
// any number of times, without a trace in the machine's hash.
#ifndef LUCID_MACHINE_MACHINE_H
#define LUCID_MACHINE_MACHINE_H

#include <atomic>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "machine/counts.h"
#include "machine/tap.h"
#include "machine/target.h"
#include "machine/values.h"
#include "machine/wires.h"

namespace lucid::machine {

/// Kinds of misbehaviour that end a run.
enum class Fault : std::uint8_t {
  kNone,
  kReservedInstruction,  ///< about to execute; it is not executed
  kErasedFlash,          ///< about to execute erased flash
  kOutsideMemory,        ///< a load or store where nothing answers; it was completed (reads give 0)
  kStackOutsideRam,      ///< a push, pop, call or return there; it was completed
  kStackIntoData,        ///< the stack wrote over static data; it was completed
  kNeverWritten,  ///< a load of RAM that nothing has written since power-on; it was completed
  kBusyFlash,     ///< a load or fetch from flash that is being programmed; it gives 0xff
  kNeverWakes,    ///< asleep or held in reset, and nothing is left that could end it
  kOutside,       ///< something outside the chip has failed: Stop::failure
  kCheck,         ///< an InterruptListener has found something
};

/// Asked whenever a marked instruction is about to execute.
class MarkListener {
 public:
  virtual ~MarkListener() = default;
  /// False: the run goes on as if there were no mark.
  virtual bool ends_run_at(std::uint32_t pc) = 0;
};

/// Cells of a memory that wears out, and how often they have been programmed since power-on. Beside
/// the world, along the timeline: a copy has what its original had.
struct Wear {
  Space space = Space::kEeprom;
  std::uint32_t begin = 0, bytes = 1;
  std::uint64_t times = 0;
  std::uint32_t pc = 0;         ///< of the instruction that did it last
  std::uint64_t endurance = 0;  ///< times that the chip's manual promises
};

/// How near the watchdog has come, in ticks of the oscillator: at the reset of it that came latest
/// in its period.
struct WatchdogMargin {
  std::uint64_t times = 0;  ///< that it has been reset while it ran
  std::uint64_t longest = 0, period = 0;
  std::uint64_t tick = 0;  ///< when
  std::uint32_t pc = 0;    ///< of the instruction
};

/// Is told of interrupts while a machine runs, at the very moment: it may look at the machine, not
/// touch it.
class InterruptListener {
 public:
  virtual ~InterruptListener() = default;
  /// Of the code that is interrupted.
  struct State {
    std::uint32_t pc = 0, sp = 0;             ///< where it goes on; the stack pointer there
    const std::uint8_t* registers = nullptr;  ///< the general ones, good until this returns
    unsigned bytes = 0;                       ///< of them
    std::uint8_t flags = 0;
  };
  /// The handler's vector is next. True: the run ends here, with Fault::kCheck.
  virtual bool entered(unsigned vector, const State& state) = 0;
  /// By a return from interrupt. The same.
  virtual bool returned(const State& state) = 0;
  /// The machine is another one from here on, or at another time.
  virtual void forget() = 0;
};

/// A condition that a machine may work out without asking: operations on a stack of whole numbers
/// of at most 32 bits. It holds if the last one leaves something else than 0.
struct Predicate {
  enum class Kind : std::uint8_t {
    kConstant,  ///< pushes `value`
    kBytes,     ///< pushes `bits` (8, 16, 32) of plain memory at data address `value`
    kRegister,  ///< pushes register `value` of the target, whose `bits` are 8 or 16
    kFlag,      ///< pushes bit `value` of the flags
    kLoad,    ///< the top becomes `bits` of memory at that data address; if it is not plain memory,
              ///< nothing is passed
    kFit,     ///< the top becomes a number of `bits`
    kDivide,  ///< this and the following: the top by a constant `value` other than 0; of at most
    kRemainder,  ///< 16 bits, signed or not
    kShiftLeft,
    kShiftRight,  ///< by less than 32 places
    kAdd,         ///< this and the following: of the two on top, the upper one on the right
    kSubtract,
    kAnd,
    kOr,
    kXor,
    kMultiply,
    kEqual,
    kLess,
    kNot,  ///< 1 for 0, 0 for anything else
  };
  struct Operation {
    Kind kind;
    std::uint32_t value = 0;
    std::uint8_t bits = 32;
    bool is_signed = false;
    friend bool operator==(const Operation& a, const Operation& b) {
      return a.kind == b.kind && a.value == b.value && a.bits == b.bits &&
             a.is_signed == b.is_signed;
    }
  };
  std::vector<Operation> operations;
};

/// What a run with a listener may pass at a breakpoint without asking.
struct Passing {
  std::optional<Predicate> unless;  ///< as long as this does not hold; nullopt: it always does
  bool times = false;               ///< and so often as allow_passes() says when it does
};
/// How often that has been done.
struct Passed {
  std::uint64_t unheld = 0;  ///< the predicate did not hold
  std::uint64_t held = 0;
};

/// What ends a run.
struct RunRequest {
  std::uint64_t until_ticks = UINT64_MAX;     ///< ends at the first boundary at or after this time
  std::uint64_t until_cycles = UINT64_MAX;    ///< the same in cycles
  std::uint64_t instructions = UINT64_MAX;    ///< how many; an interrupt entry counts as one
  bool endless = false;                       ///< more runs follow: `until_ticks` is only a slice
  bool pass_first_breakpoint = false;         ///< execute the instruction at PC though it is marked
  bool stop_at_interrupt = false;             ///< end when an interrupt has been entered
  std::optional<std::uint32_t> within_begin;  ///< end when PC leaves [begin, end)
  std::uint32_t within_end = 0;
  MarkListener* marks = nullptr;                       ///< null: every mark ends the run
  std::uint32_t events = 0;                            ///< end behind these, bits of EventKind
  const std::atomic<bool>* pause_requested = nullptr;  ///< looked at every few thousand cycles
};

/// What a debugger may want to know of a byte, as bits.
enum : std::uint8_t {
  kOnRead = 1,
  kOnWrite = 2,
  kOnChange = 4,
  kTapRead = 8,     ///< only told to who listens
  kTapWrite = 16,   ///< the same
  kTapChange = 32,  ///< the same of I/O and EEPROM, by whomever it is changed
};

/// What somebody wants to be told of a companion.
struct Hearing {
  std::uint32_t kinds = 0;                    ///< bits of EventKind
  std::map<Address, std::uint8_t> taps = {};  ///< its bytes, with kTapWrite or kTapChange
  bool calls = false;
  RecordSink* sink = nullptr;                 ///< outlives the hearing
  std::uint64_t moments = ~std::uint64_t{0};  ///< as Machine::choose_moments has them
  /// Instructions before each of which `look` is called with it; the number that this gives is told
  /// to the sink as kLook, among the rest, if it was so.
  std::vector<std::uint32_t> places = {};
  std::function<std::uint32_t(const Machine& at)> look = {};
};

/// A watched byte has been read, written or, by hardware, changed.
struct Access {
  Address address;
  bool write = false;
  std::uint8_t before = 0, after = 0;
  std::uint32_t pc = 0;  ///< byte address of the instruction
};

struct Stop {
  enum class Why : std::uint8_t {
    kTime,
    kInstructions,
    kBreakpoint,
    kInterruptEntered,
    kLeftRange,
    kRequested,
    kFault,
    kBreakInstruction,
    kAccess,  ///< the instruction is complete
    kEvent,
  } why = Why::kTime;
  Fault fault = Fault::kNone;
  std::uint32_t fault_pc = 0;       ///< byte address of the instruction at fault
  std::uint32_t fault_address = 0;  ///< data address it touched
  std::string failure;              ///< for Fault::kOutside, in words
  bool fault_in_entry = false;      ///< of an interrupt; `fault_pc` is where it came
  std::uint32_t last_pc = 0;        ///< byte address of the last instruction executed
  int interrupt = -1;               ///< vector number, if one has been entered
  std::vector<Access> accesses;     ///< to watched bytes, by the last instruction
  std::vector<Event> events;        ///< of those asked for
};

/// What went wrong, in words and with its addresses. REQUIRES: stop.why is kFault.
[[nodiscard]] std::string fault_text(const Stop& stop);

class Machine {
 public:
  virtual ~Machine() = default;
  [[nodiscard]] virtual std::unique_ptr<Machine> clone() const = 0;
  [[nodiscard]] virtual const Target& target() const = 0;
  [[nodiscard]] virtual const ChipInfo& info() const = 0;

  // Running
  virtual Stop run(const RunRequest& request) = 0;
  virtual void reset() = 0;
  virtual Result<void> load(const Image& image) = 0;
  /// Error: kOutOfRange for an address that is not the start of an instruction in code memory.
  virtual Result<void> set_breakpoint(std::uint32_t address, bool on) = 0;
  /// At a breakpoint; null: a run always asks. A machine that cannot do that ignores it.
  virtual void pass(std::uint32_t /*address*/, const Passing* /*passing*/) {}
  /// Of `Passing::times`, from now on.
  virtual void allow_passes(std::uint32_t /*address*/, std::uint64_t /*times*/) {}
  /// Since it was last asked.
  virtual Passed take_passed(std::uint32_t /*address*/) { return {}; }
  /// Pushes into `[begin, end)` of data space are faults; an empty range turns that off.
  virtual void guard_stack(std::uint32_t begin, std::uint32_t end) = 0;
  /// Ends a run behind each access of these kinds (kOnRead, …) to a byte; 0 turns that off. Loads
  /// and stores cost nothing elsewhere. What changes without a store (a register operand, flags,
  /// I/O and EEPROM changed by hardware) is compared after each instruction, which makes a run
  /// slow. Error: kOutOfRange if there is no such byte.
  virtual Result<void> watch(Address address, std::uint8_t kinds);
  /// Tells a sink of what happens, of kinds as bits, from now on; null: nobody. `sink` must outlive
  /// that. Records that have not been told yet are told before a run ends. A copy is not listened
  /// to. Error: kUnsupported.
  virtual Result<void> listen(std::uint32_t kinds, RecordSink* sink);
  /// Of kMoment only those at these places in ChipInfo::moments, a bit each, are told, until
  /// listen() is called again. More may be told.
  virtual void choose_moments(std::uint64_t /*places*/) {}
  /// Has calls and returns told to who listens, from now on; that makes them slow. False: it
  /// cannot.
  virtual bool tell_calls(bool /*on*/) { return false; }
  /// Counts what is executed from now on, from nought, and how long interrupts wait; `calls`: who
  /// calls whom, too, which takes longer. Off: forgets it all. Error: kUnsupported.
  virtual Result<void> count(bool on, bool calls);
  /// While on, what is executed does not count: it has been before. REQUIRES: when it is turned
  /// off, the machine is where it was, or what has been counted before is of another future.
  virtual void count_apart(bool /*on*/) {}
  [[nodiscard]] virtual bool is_counting() const { return false; }
  /// Nothing if it does not count.
  [[nodiscard]] virtual std::optional<Counts> counts() const { return std::nullopt; }
  /// From now on; null: nobody. It must outlive that. A copy has none. False: it cannot.
  virtual bool attend(InterruptListener* /*listener*/) { return false; }
  /// Follows from now on what has been written and what has not, through each instruction: that is
  /// slow. What has been followed before is forgotten. nullopt: no more. False: it cannot.
  virtual bool follow_values(const std::optional<ValueFollowing>& /*how*/) { return false; }
  /// Nothing if values are not followed.
  [[nodiscard]] virtual std::optional<Heap> heap() const { return std::nullopt; }
  /// Ends a run at notes of these kinds, a bit each, with Fault::kOutside and the note as its text.
  virtual void end_at_notes(std::uint8_t /*kinds*/) {}
  /// Makes a load of RAM that nothing has written since power-on a fault.
  virtual void check_unwritten(bool on) { (void)on; }
  /// A fault that is off is passed over: an access is completed, a word that is no instruction does
  /// nothing for a cycle. kNeverWakes cannot be turned off; kNeverWritten is off at first.
  void set_fault(Fault fault, bool on);
  [[nodiscard]] bool fault_is_on(Fault fault) const {
    return (faults_off_ >> static_cast<unsigned>(fault) & 1U) == 0;
  }

  // Looking
  [[nodiscard]] virtual std::optional<std::uint8_t> peek(Address address) const = 0;
  /// The bytes themselves, where they are nothing but memory; null elsewhere. Good until the
  /// machine runs or changes.
  [[nodiscard]] virtual const std::uint8_t* plain_bytes(Address address, unsigned bytes) const;
  [[nodiscard]] virtual std::uint64_t register_value(unsigned index) const = 0;
  [[nodiscard]] virtual std::uint32_t pc() const = 0;
  [[nodiscard]] virtual std::uint32_t sp() const = 0;
  /// Time since power-on, in ticks of the oscillator (ChipInfo::clock_hz).
  [[nodiscard]] virtual std::uint64_t ticks() const = 0;
  /// Cycles of the processor's clock since power-on, asleep or not.
  [[nodiscard]] virtual std::uint64_t cycles() const { return ticks(); }
  /// How many ticks a cycle takes now.
  [[nodiscard]] virtual unsigned ticks_a_cycle() const { return 1; }
  [[nodiscard]] virtual std::uint64_t hash() const = 0;
  /// True if the next thing to happen is the entry of an interrupt, not the instruction at PC.
  [[nodiscard]] virtual bool interrupt_imminent() const = 0;
  /// True if nothing can interrupt the program.
  [[nodiscard]] virtual bool interrupts_off() const { return false; }
  [[nodiscard]] virtual bool asleep() const { return false; }
  /// The lowest stack pointer while the stack was in use since reset; nullopt before its first use.
  [[nodiscard]] virtual std::optional<std::uint32_t> deepest_sp() const { return std::nullopt; }
  /// A machine whose execution point, registers and stack are as they were then, behind the
  /// instruction that did it; other memory is as it is now. Null if that is not known.
  [[nodiscard]] virtual std::unique_ptr<Machine> at_deepest() const { return nullptr; }
  /// Of the ticks so far, those that the processor was asleep.
  [[nodiscard]] virtual std::uint64_t slept_ticks() const { return 0; }
  /// Of the time so far, in loops that wait and were gone through at once; how much that is depends
  /// on where runs ended.
  [[nodiscard]] virtual std::uint64_t skipped_ticks() const { return 0; }
  [[nodiscard]] virtual std::vector<PinState> pins() const { return {}; }
  [[nodiscard]] virtual std::vector<Wear> wear() const { return {}; }
  [[nodiscard]] virtual WatchdogMargin watchdog() const { return {}; }
  /// Bytes of I/O, by data address, that nothing but the program changes: what it has latched for
  /// pins.
  [[nodiscard]] virtual std::vector<std::uint32_t> latches() const { return {}; }
  /// The named values a status register holds: letter and bit, highest first. Empty: no such
  /// register.
  [[nodiscard]] virtual std::string flag_letters() const { return {}; }
  [[nodiscard]] virtual std::uint8_t flags() const { return 0; }

  // Changing
  virtual bool poke(Address address, std::uint8_t value) = 0;
  /// As an instruction of the firmware would, with all that it has for effects.
  virtual bool store(Address address, std::uint8_t value) { return poke(address, value); }
  virtual void set_register(unsigned index, std::uint64_t value) = 0;
  virtual void set_pc(std::uint32_t address) = 0;
  virtual Result<void> drive(const std::string& pin, std::optional<bool> level);
  [[nodiscard]] virtual std::vector<PartState> parts() const { return {}; }
  virtual Result<void> act(const std::string& part, const std::string& action,
                           const std::string& value);
  virtual Result<void> apply(const std::string& pin, std::int32_t microvolts);
  virtual Result<void> feed(const std::string& port, const std::string& bytes);
  virtual Result<void> feed_frame(const std::string& port, const SerialFrame& frame);
  virtual Result<void> transfer(const TwoWireTransfer& transfer);
  /// The event that requests an interrupt happens now: a peripheral's own next one, before its
  /// time. `byte`: what arrives, for a serial port.
  enum class Raised : std::uint8_t {
    kNot,     ///< it is not enabled, or nothing that the interrupt could tell of is under way
    kEvent,   ///< it is requested
    kForced,  ///< the same, though the peripheral would not have come to that by itself
  };
  virtual Raised raise(unsigned /*vector*/, std::optional<std::uint8_t> /*byte*/) {
    return Raised::kNot;
  }
  virtual std::vector<SerialText> take_serial() { return {}; }
  virtual std::vector<Note> take_notes() { return {}; }
  /// Becomes what `other`, a copy of the same chip, is, but for what a debugger has set here; keeps
  /// what has been decoded where the code is equal. False: it is no copy of the same chip, or
  /// cannot; then nothing has changed.
  [[nodiscard]] virtual bool assume(const Machine& /*other*/) { return false; }
  /// About how many bytes a copy takes that it does not share with others.
  [[nodiscard]] virtual std::size_t copy_bytes() const { return 16384; }
  // On wires to other chips
  /// A pin's number in WireChange.
  [[nodiscard]] virtual std::optional<std::uint8_t> wire_pin(const std::string& /*pin*/) const {
    return std::nullopt;
  }
  /// What it has done to its wires since the last call.
  virtual std::vector<WireChange> take_offers() { return {}; }
  /// The others do this to a wire, at a tick that has not come yet.
  virtual void receive(const WireChange& /*change*/) {}
  /// Further chips that run along, by name, and one of them as it is now; null for another name.
  [[nodiscard]] virtual std::vector<std::string> companions() const { return {}; }
  [[nodiscard]] virtual std::unique_ptr<Machine> companion(const std::string& name) const;
  /// Has a sink told what a companion does from where it surely was last on, which is what is
  /// returned, as it becomes sure while this chip runs. Null: there is none, or it cannot.
  virtual const Machine* hear(const std::string& /*companion*/, const Hearing& /*hearing*/) {
    return nullptr;
  }
  /// Tells the rest up to now, and ends that. Result: the last tick of the companion's that is
  /// sure.
  virtual std::uint64_t hear_out(const std::string& /*companion*/) { return 0; }
  /// What a companion runs; null: there is none.
  [[nodiscard]] virtual const Image* companion_image(const std::string& /*name*/) const {
    return nullptr;
  }

  // Served from the above
  [[nodiscard]] Instruction instruction_at(std::uint32_t address, bool with_text = true) const;
  [[nodiscard]] std::optional<unsigned> find_register(const std::string& name) const;
  [[nodiscard]] std::optional<unsigned> find_dwarf_register(int dwarf) const;
  [[nodiscard]] const MemoryArea* area(const std::string& name) const;
  [[nodiscard]] const IoRegister* io_register(const std::string& name) const;
  /// Where a register can be watched, lowest byte first; empty if it cannot.
  [[nodiscard]] virtual std::vector<Address> register_bytes(unsigned index) const;

 private:
  std::uint32_t faults_off_ = 1U << static_cast<unsigned>(Fault::kNeverWritten);
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_MACHINE_H
