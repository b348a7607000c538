// SPDX-License-Identifier: MIT
// Engine: runs an AvrMachine's world, one predecoded entry an instruction.
//
// Two gears over one instruction table and one state. The precise gear executes one predecoded
// entry after the other and asks between two of them: is it time for something (an event, an
// interrupt, the end of the run)? Where jumps lead again and again the quick gear takes over: the
// run there is translated to machine code that asks only once, at its start, and leaves out flags
// that nobody can see. It is used while nothing can be due within the run ahead, and left at once,
// before the instruction, when a data access meets anything but plain memory.
//
// Breakpoints are entries that have been replaced; data accesses test one attribute byte. Nothing
// else is looked at, so what is not used costs nothing.
#ifndef LUCID_AVR_CHIP_ENGINE_H
#define LUCID_AVR_CHIP_ENGINE_H

#include <memory>
#include <optional>
#include <unordered_map>
#include <vector>

#include "avr/chip/attributes.h"
#include "avr/chip/avr_machine.h"
#include "avr/chip/translator.h"
#include "base/pages.h"

/// Kept out of the run loop, which inlines everything else.
#define LUCID_SLOW __attribute__((noinline))

namespace lucid::avr {

class Engine final : private CodeReader {
 public:
  explicit Engine(AvrMachine& machine);
  ~Engine() override;
  Engine(const Engine&) = delete;
  Engine& operator=(const Engine&) = delete;

  machine::Stop run(const machine::RunRequest& request);
  /// The flash word has changed: its entry is decoded again when it is reached.
  void forget(u32 word);
  /// Puts a mark on an entry or takes it off.
  void mark(u32 word, bool on);
  /// Attributes of a data address that depend on what a debugger asked for, from the machine's own.
  void renew_attributes(u32 address);
  /// What is compared after each instruction, from the machine's own.
  void renew_observed();
  /// What translated code has counted goes to the machine's counter. REQUIRES: there is one.
  void fold();

 private:
  struct Frame;
  friend struct Frame;

  // Entries beyond the instruction set.
  enum : u8 {
    kUndecoded = kOpCount,
    kMarked,      ///< a breakpoint; keeps the length of what it stands for
    kUndefined,   ///< the manual leaves the result open: said once, then executed
    kEndOfFlash,  ///< the program counter wraps
    kReserved,
    kLabels,
  };
  /// A flash word, ready to execute.
  struct Slot {
    Entry entry;
    std::int32_t jump = 0;  ///< to the slot of the target in `entry`, in bytes
    u32 worst = 0;          ///< cycles that the translated run from here can take; kNoRun: none
    u8 behind = 0;          ///< what a mark or a note goes on with
    u8 heat = 0;            ///< how often a run began here while it was not translated; kCounted
    bool translated = false;
    u8 worst_behind = 0;  ///< of a mark: `worst` of the run that starts behind it, if there is one
  };
  static constexpr u32 kNoRun = 1U << 30;
  // Of Slot::heat: a CountedLoop begins there, or a loop that may wait.
  static constexpr u8 kCounted = 0xff, kWaits = 0xfe;
  static constexpr unsigned kRegisters = 32;  ///< the first bytes of data space
  // A request to pause is looked at at least this often, in cycles.
  static constexpr u64 kPauseGrain = 100'000;

  /// Who has it may change what is observed.
  [[nodiscard]] Bus bus() {
    if (!observed_.empty()) observe_at_ = 0;
    return {machine_.world_, machine_.outputs_};
  }
  static std::shared_ptr<const base::Pattern> fresh(const AvrMachine& machine);
  [[nodiscard]] u16 flash_word(u32 word) const;
  [[nodiscard]] std::optional<u8> read_back(u32 pc) const override;
  LUCID_SLOW Entry decoded(u32 word) const;
  LUCID_SLOW void decode_at(u32 word);
  void set_jump(u32 word, const Entry& entry);
  LUCID_SLOW void translate(u32 word);
  LUCID_SLOW void warm_mark(u32 word);
  /// What another copy of the machine has had translated. False: it has not.
  LUCID_SLOW bool adopt(u32 word);
  /// The words of flash that a block was made from, and that ended it.
  [[nodiscard]] std::vector<u16> words_of(const std::vector<std::pair<u32, u32>>& spans) const;
  void make_translator();
  void forget_run(u32 word);
  void cool(u32 word);
  void renew_memories();
  void begin_access(u32 word);
  LUCID_SLOW void take_calls();
  [[nodiscard]] bool logs_calls() const;
  void end_access();
  [[nodiscard]] std::optional<Entry> translatable(u32 word, bool starts);
  /// A loop that does nothing but count a number in registers down to nought.
  struct CountedLoop {
    std::array<u8, 4> registers{};  ///< of the number, the lowest first
    unsigned bytes = 0;
    u32 branch = 0;  ///< the word of its last instruction
    unsigned cycles = 0;
    [[nodiscard]] u64 rounds(const u8* data) const;
    /// The number becomes less by so many rounds.
    void skip(u8* data, u64 rounds) const;
  };
  [[nodiscard]] LUCID_SLOW std::optional<CountedLoop> counted_loop(u32 word) const;
  // Waiting loops: waiting_loop.cpp.
  struct Round;
  friend struct Round;
  struct Passed {
    u32 word;
    bool departs;  ///< it leads elsewhere than to what follows it
  };
  std::vector<Passed> round_;  ///< that was gone through last
  struct Waiting {
    u32 last = 0;  ///< the word of the branch back
    u8 failures = 0;
    u64 cycles = 0;  ///< of the last round that changed nothing
  };
  std::unordered_map<u32, Waiting> waits_;  ///< by the loop's first word
  [[nodiscard]] LUCID_SLOW std::optional<u32> waiting_loop(u32 begin);
  /// Before the first instruction of a loop: the cycles of all its rounds in which nothing happens,
  /// but the last. 0: there are none.
  LUCID_SLOW u64 wait(u32 begin);
  static u32 load_for_run(void* engine, u32 address, u32 word);
  static void store_for_run(void* engine, u32 address, u32 word, u32 value, u32 mask);
  /// After the system clock has changed.
  void renew_end() {
    until_ = std::min(machine_.world_.cycle_at(request_.until_ticks), request_.until_cycles);
  }
  void fire_due(u64 until) {
    if (machine_.world_.next_due() <= until) fire_events(until);
  }
  LUCID_SLOW void fire_events(u64 until);
  [[nodiscard]] bool something_happened() const;
  LUCID_SLOW bool tell();
  void set_deadline();
  /// At an instruction boundary. True: the run ends, `stop_` says why.
  LUCID_SLOW bool boundary(bool executed);
  bool end(machine::Stop::Why why);
  bool enter_interrupt();
  LUCID_SLOW void raise(machine::Fault fault, u32 address);
  LUCID_SLOW u8 slow_load(u16 address);
  LUCID_SLOW void slow_store(u16 address, u8 value, u8 mask);
  LUCID_SLOW void note_store(u16 address, u8 value, u8 mask);
  void note_access(const machine::Access& access);
  LUCID_SLOW void happened(machine::EventKind kind, unsigned number = 0);
  LUCID_SLOW void note_return(u64 now, u32 sp);
  void note_sleep(u64 cycles);
  static constexpr bool is_call(unsigned op) {
    return op == kRCALL || op == kCALL || op == kICALL || op == kEICALL;
  }
  LUCID_SLOW void note_call(machine::EventKind kind, u32 word, u32 sp, u64 now);
  LUCID_SLOW void follow_values(u8 op);
  LUCID_SLOW void note_unmodelled(u16 address);
  LUCID_SLOW u8 note_off(u16 address);
  bool reach_external(u16 address);
  LUCID_SLOW void note_undefined(u32 word);
  void stand_before(u32 word, u8 label);
  LUCID_SLOW const Slot* settled(const Slot* slot);
  void observe();
  [[nodiscard]] u64 observed_until() const;
  LUCID_SLOW void tell_tapped(u64 t);
  [[nodiscard]] bool pins_moved() const;
  void note_edges();
  LUCID_SLOW void fall_asleep();
  LUCID_SLOW void feed_watchdog();
  LUCID_SLOW void self_program();

  AvrMachine& machine_;
  CpuState& cpu_;
  const Fabric& fabric_;
  base::Pages pages_;                       ///< of the three that follow
  u8* const attributes_;                    ///< of each data address
  const void** const table_;                ///< the translator's
  Slot* const code_;                        ///< of each word, and two behind flash
  std::unique_ptr<Translator> translator_;  ///< made with the first hot run
  Native native_;
  std::vector<CallRecord> calls_;  ///< where native_.log writes; empty: calls are not told
  std::vector<const u8*> flash_pages_;
  u32 translations_ = 0;   ///< since the translator was empty
  bool met_mark_ = false;  ///< the block under way was ended by one
  /// Bytes that change otherwise than by a store.
  std::vector<std::pair<Address, u8>> observed_;
  u64 observe_at_ = kNever;  ///< the cycle from which they are compared at the next boundary
  std::vector<std::pair<Address, u8>> tapped_;  ///< told when they change, of I/O and EEPROM
  std::vector<u8> levels_;  ///< of each port's pins as last seen, if edges are waited for

  // The run under way.
  machine::RunRequest request_;
  machine::Stop stop_;
  u64 deadline_ = 0;
  u64 until_ = 0;  ///< the cycle at which the run ends
  u64 steps_left_ = 0;
  bool entered_interrupt_ = false;
  bool listened_ = false;  ///< somebody waits for events, or listens
  machine::Fault fault_ = machine::Fault::kNone;
  u32 fault_address_ = 0;
};

}  // namespace lucid::avr

#undef LUCID_SLOW

#endif  // LUCID_AVR_CHIP_ENGINE_H
