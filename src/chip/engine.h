// SPDX-License-Identifier: MIT
// Engine: runs an AvrMachine's world, one predecoded entry an instruction.
//
// Two gears over one instruction table and one state. The precise gear makes one comparison between
// two instructions: is it time for something (an event, an interrupt, the end of the run)? The
// quick gear makes it only where a straight run of instructions ends, and leaves out flags that are
// written again before anybody could see them. It is used while nothing can be due within the run
// ahead, and left at once when a data access meets anything but plain memory.
//
// Breakpoints are entries that have been replaced; data accesses test one attribute byte. Nothing
// else is looked at, so what is not used costs nothing.
#ifndef LUCID_CHIP_ENGINE_H
#define LUCID_CHIP_ENGINE_H

#include <vector>

#include "chip/avr_machine.h"

/// Kept out of the run loop, which inlines everything else.
#define LUCID_SLOW __attribute__((noinline))

namespace lucid::chip {

class Engine {
 public:
  explicit Engine(AvrMachine& machine);

  isa::Stop run(const isa::RunRequest& request);
  /// The flash word has changed: its entry is decoded again when it is reached.
  void forget(u32 word);
  /// Puts a mark on an entry or takes it off.
  void mark(u32 word, bool on);
  /// Attributes of a data address that depend on what a debugger asked for, from the machine's own.
  void renew_attributes(u32 address);
  /// What is compared after each instruction, from the machine's own.
  void renew_observed();

 private:
  struct Frame;
  friend struct Frame;

  // Entries beyond the instruction set.
  enum : u8 {
    kUndecoded = avr::kOpCount,
    kMarked,      ///< a breakpoint; keeps the length of what it stands for
    kUndefined,   ///< the manual leaves the result open: said once, then executed
    kEndOfFlash,  ///< the program counter wraps
    kReserved,
    kLabels,
  };
  // What the quick gear does at a word: a row of the table, one of these, or a row with kCarry or
  // kQuiet added.
  enum : unsigned {
    kUnknown = avr::kOpCount,               ///< to be looked at when it is reached
    kCheckpoint,                            ///< is there still time? At every kRunWords-th word
    kPrecise,                               ///< marked, reserved, …: for the precise gear
    kCarry,                                 ///< added to a row: of its flags only C can be seen
    kQuiet = kCarry + avr::kOpCount,        ///< added to a row: none of its flags can be seen
    kBranchIfSet = kQuiet + avr::kOpCount,  ///< BRBS with the flag's number added
    kBranchIfClear = kBranchIfSet + 8,      ///< BRBC
  };
  /// A flash word, ready to execute.
  struct Slot {
    const void* quick = nullptr;  ///< where run() executes it in the quick gear
    avr::Entry entry;
    std::int32_t jump = 0;   ///< to the slot of the target in `entry`, in bytes
    u16 worst = kRunCycles;  ///< more cycles than the quick gear takes from here to its next check
    u16 behind = 0;          ///< what a checkpoint, a mark or a note goes on with
  };
  static constexpr u32 kRunWords = 16;
  /// More cycles than any run has between two checks: up to 2 * kRunWords words, as a two-word
  /// instruction can step over a checkpoint, of at most three cycles, and what ends it.
  static constexpr u64 kRunCycles = 128;

  // Attributes of a data address.
  enum : u8 {
    kIo = 1,           ///< a peripheral may answer
    kUnmapped = 2,     ///< nothing answers
    kNotRam = 4,       ///< no place for a stack
    kGuarded = 8,      ///< static data: no place for a stack either
    kWatchRead = 16,   ///< a debugger wants to know of loads
    kWatchWrite = 32,  ///< and of stores
    kUnwritten = 64,   ///< RAM that has not been written since power-on
    kUnreadable = 128  ///< the same, and a load of it is a fault
  };
  enum : unsigned {
    kSlowLoad = kIo | kUnmapped | kWatchRead | kUnreadable,
    kSlowStore = kIo | kUnmapped | kWatchWrite | kUnwritten,
    kNoStack = kIo | kUnmapped | kNotRam,
    kSlowPush = kSlowStore | kNoStack | kGuarded,
    kSlowPop = kSlowLoad | kNoStack,
  };

  [[nodiscard]] Bus bus() { return {machine_.world_, machine_.outputs_}; }
  [[nodiscard]] u16 flash_word(u32 word) const;
  LUCID_SLOW avr::Entry decoded(u32 word) const;
  LUCID_SLOW void decode_at(u32 word);
  void set_jump(u32 word, const avr::Entry& entry);
  LUCID_SLOW void shift_up(u32 word);
  /// What lies behind a word until the quick gear checks again.
  struct Ahead {
    unsigned flags_seen = 0xff;  ///< of those the word leaves
    unsigned cycles = 0;
  };
  [[nodiscard]] Ahead look_ahead(u32 word);
  void forget_run(u32 word);
  void fire_due(u64 until);
  void set_deadline();
  /// At an instruction boundary. True: the run ends, `stop_` says why.
  LUCID_SLOW bool boundary(bool executed);
  bool end(isa::Stop::Why why);
  bool enter_interrupt();
  LUCID_SLOW void raise(isa::Fault fault, u32 address);
  LUCID_SLOW u8 slow_load(u16 address);
  LUCID_SLOW void slow_store(u16 address, u8 value, u8 mask);
  LUCID_SLOW void note_store(u16 address, u8 value, u8 mask);
  void note_access(const isa::Access& access);
  LUCID_SLOW void note_unmodelled(u16 address);
  LUCID_SLOW void note_undefined(u32 word);
  void stand_before(u32 word, u8 label);
  LUCID_SLOW const Slot* settled(const Slot* slot);
  void observe();
  [[nodiscard]] bool pins_moved() const;
  void note_edges();
  LUCID_SLOW void fall_asleep();
  LUCID_SLOW void feed_watchdog();
  LUCID_SLOW void self_program();

  AvrMachine& machine_;
  CpuState& cpu_;
  const Fabric& fabric_;
  std::vector<Slot> code_;
  const void* const* quick_labels_ = nullptr;  ///< in run(), by what the quick gear does
  std::vector<u8> attributes_;
  /// Bytes that change otherwise than by a store: compared after each instruction.
  std::vector<std::pair<Address, u8>> observed_;
  std::vector<u8> levels_;  ///< of each port's pins as last seen, if edges are waited for

  // The run under way.
  isa::RunRequest request_;
  isa::Stop stop_;
  u64 deadline_ = 0;
  u64 steps_left_ = 0;
  bool entered_interrupt_ = false;
  isa::Fault fault_ = isa::Fault::kNone;
  u32 fault_address_ = 0;
};

}  // namespace lucid::chip

#undef LUCID_SLOW

#endif  // LUCID_CHIP_ENGINE_H
