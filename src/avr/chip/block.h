// SPDX-License-Identifier: MIT
// Block: what a straight run of instructions does, as values and effects, taken down from the same
// functions that execute instructions one by one (isa/avr/execute.h). It is what the translator
// makes machine code of.
//
// A run is left in four ways: at its end, by a branch or skip that is taken, before an instruction
// that turns out to need the precise gear (it meets I/O, a watched byte, the deepest stack so far),
// and on its way when time is short. Each exit says what the state is there, so flags that nobody
// sees are never worked out.
#ifndef LUCID_AVR_CHIP_BLOCK_H
#define LUCID_AVR_CHIP_BLOCK_H

#include <array>
#include <functional>
#include <optional>
#include <utility>
#include <vector>

#include "avr/chip/attributes.h"
#include "avr/isa/execute.h"
#include "avr/world/world.h"
#include "machine/machine.h"

namespace lucid::avr {

enum class StepKind : u8 {
  // Leaves: what was there when the run began, or is in memory now.
  kReg,    ///< register `imm`
  kPair,   ///< registers `imm` and `imm` + 1
  kData,   ///< the byte at data address `imm`
  kFlag,   ///< a part of the flags, by its place in Flags::Parts; 5 is I
  kSp,     ///< the stack pointer
  kLoad,   ///< the byte at data address a + imm
  kFlash,  ///< the byte of flash at a
  kBytes,  ///< `mask` bytes at data address `imm`
  kIo,     ///< what a peripheral answers: the load of data address `imm`, by the word at b
  // Calculation, in 32 bits.
  kAdd,
  kSub,
  kMul,
  kAnd,
  kOr,
  kXor,
  kShl,
  kShr,
  kDivide,  ///< of 16 bits, by 3 or more: the high half of the product with `imm`
  kIsZero,
  kSigned,  ///< of the lowest `imm` bits
  kLess,
  kLessSigned,
  // Effects.
  kSetReg,
  kSetPair,
  kSetData,
  kStore,      ///< b to data address a + imm
  kStoreIo,    ///< a to the peripheral at `imm`, by the word at b; `mask` says which bits
  kCount,      ///< one more in Block::unheld
  kTellCall,   ///< of the function at word b, or a return (bit 0 of `mask`), a is the stack pointer
               ///< behind it; by the instruction at word `exit`, its high bits above that of `mask`
  kLeaveSlow,  ///< exit if the byte at a + imm has an attribute of `mask`
  kCountIf,    ///< if a is 0 the same; else one less in Block::left, and exit if it was 0
  kLeaveDeep,  ///< exit if stack pointer a is the lowest so far
  kLeaveLate,  ///< exit if fewer than `imm` cycles are left, counted from the start of the run
  kLeaveIf,    ///< exit if a is not 0
  kLeaveIfNot,
  kLeave,
};
constexpr bool is_leaf(StepKind kind) { return kind <= StepKind::kIo; }
constexpr bool is_effect(StepKind kind) { return kind >= StepKind::kSetReg; }

struct Block;

/// A number that is worked out when the block runs: a constant, or a step's result.
class Value {
 public:
  Value() = default;
  Value(u32 constant) : number_(constant) {}  // NOLINT: numbers in formulas
  Value(Block& block, u16 step) : block_(&block), number_(step) {}

  [[nodiscard]] bool is_constant() const { return block_ == nullptr; }
  /// REQUIRES: is_constant().
  [[nodiscard]] u32 constant() const { return number_; }
  /// REQUIRES: !is_constant().
  [[nodiscard]] u16 step() const { return static_cast<u16>(number_); }
  [[nodiscard]] Block* block() const { return block_; }
  /// How many bits it can have.
  [[nodiscard]] unsigned bits() const;

  friend bool operator==(const Value& a, const Value& b) {
    return a.block_ == b.block_ && a.number_ == b.number_;
  }
  friend Value operator+(const Value& a, const Value& b);
  friend Value operator-(const Value& a, const Value& b);
  friend Value operator*(const Value& a, const Value& b);
  friend Value operator&(const Value& a, const Value& b);
  friend Value operator|(const Value& a, const Value& b);
  friend Value operator^(const Value& a, const Value& b);
  friend Value operator<<(const Value& a, unsigned places);
  friend Value operator>>(const Value& a, unsigned places);
  friend Value operator~(const Value& a) { return a ^ Value(~0U); }
  friend Value is_zero(const Value& a);
  friend Value signed_of(const Value& a, unsigned bits);
  friend Value signed8(const Value& a) { return signed_of(a, 8); }
  friend Value less(const Value& a, const Value& b, bool is_signed);
  friend Value low8(const Value& a) { return a & 0xffU; }
  friend Value low16(const Value& a) { return a & 0xffffU; }

 private:
  Block* block_ = nullptr;
  u32 number_ = 0;
};

struct Step {
  StepKind kind;
  Value a{}, b{};
  u32 imm = 0;
  u8 mask = 0;
  u8 bits = 32;  ///< of the result
  u16 exit = 0;  ///< for kLeave…: index into Block::exits
};

using FlagParts = BasicFlags<Value>::Parts;

/// What is true when the run is left.
struct Exit {
  Value to;              ///< word address
  u32 cycles = 0;        ///< since the run began
  bool precise = false;  ///< by the instruction at `to`, which is for the precise gear
  bool saved = false;    ///< flags and stack pointer are in memory already: I/O was the last thing
  FlagParts flags;
  Value sp;
  u32 executed = 0;      ///< instructions of the run, so far
  bool departs = false;  ///< the last of them is a branch or a skip, and this is where it leads
};

struct Block {
  u32 start = 0;  ///< word address
  u32 worst = 0;  ///< it takes no more cycles before it looks at the time again
  std::vector<std::pair<u32, u32>> spans;  ///< of words it was made from: [begin, end)
  std::vector<Step> steps;
  std::vector<Exit> exits;
  /// An instruction on the run's way; `departs`: it is a branch that always leads there.
  struct Passed {
    u32 word;
    bool departs;
  };
  std::vector<Passed> path;
  u32 instructions = 0;
  u64* counts = nullptr;  ///< how often it was left by each exit; null: nobody counts
  // Of a breakpoint that is passed in front of it:
  u64* unheld = nullptr;  ///< how often its condition did not hold
  u64* left = nullptr;    ///< how often it may do

  u16 add(const Step& step) {
    steps.push_back(step);
    return static_cast<u16>(steps.size() - 1);
  }
};

/// What a block is made from.
struct CodeView {
  /// Null where a run has to end: a breakpoint, a word that is no instruction.
  std::function<std::optional<Entry>(u32 word)> at;
  /// In words, also of what a breakpoint stands for: who skips it goes on behind it.
  std::function<u32(u32 word)> length;
  /// At the first word stands a breakpoint that may be passed so, and counted.
  const machine::Passing* passing = nullptr;
  u64* unheld = nullptr;
  u64* left = nullptr;
  u32 pc_mask = 0;  ///< of a word address
  u32 ram_begin = 0;
  bool wide_pc = false;
  bool tells_calls = false;  ///< they are noted: see CallRecord
};

/// The run that starts at `word`. It has no instructions if the first one needs the precise gear.
void make_block(Block& block, const CodeView& code, u32 word);

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_BLOCK_H
