// SPDX-License-Identifier: MIT
// Translator: makes machine code of blocks, and runs it. Only if built with LUCID_TRANSLATOR, which
// needs an x86-64 processor; elsewhere the precise gear does all the work.
#ifndef LUCID_AVR_CHIP_TRANSLATOR_H
#define LUCID_AVR_CHIP_TRANSLATOR_H

#include <memory>

#include "avr/chip/block.h"

namespace lucid::avr {

/// The state that translated code works on. Everything else it needs is in the data space.
struct Native {
  std::int64_t left = 0;  ///< cycles until the deadline
  u8* data = nullptr;
  const u8* attributes = nullptr;
  void* engine = nullptr;  ///< handed to the two below
  /// The access of an instruction at `word` to I/O; `left` says when. They may change `left`.
  u32 (*load)(void* engine, u32 address, u32 word) = nullptr;
  void (*store)(void* engine, u32 address, u32 word, u32 value, u32 mask) = nullptr;
  const u8* const* flash_pages = nullptr;
  std::array<u32, 6> flags{};  ///< as Flags::Parts, and I
  u32 sp = 0;
  u32 lowest_sp = 0;
  u32 io_value = 0;                  ///< on its way to a peripheral
  std::array<u32, 64> spilled{};     ///< when there are too few registers
  struct CallRecord* log = nullptr;  ///< where the next call or return is noted, if they are
};

/// A call or a return in translated code, where somebody wants to know of them.
struct CallRecord {
  static constexpr u32 kReturn = 1U << 31;
  u32 word;           ///< that is called
  u32 sp;             ///< behind it
  std::int64_t left;  ///< Native::left when the block began
  u32 cycles;         ///< since then; kReturn is set for a return
  u32 from;           ///< the instruction's word
  [[nodiscard]] bool returns() const { return (cycles & kReturn) != 0; }
  /// When it is complete.
  [[nodiscard]] std::uint64_t cycle(std::uint64_t deadline) const {
    return deadline - static_cast<std::uint64_t>(left) + (cycles & ~kReturn);
  }
};

/// One by which a block is left.
struct Way {
  u32 executed;  ///< instructions of its path, by then
  bool departs;  ///< as in Exit
};

/// Machine code of a block. It works on what `Native` says, so that every copy of a machine can run
/// it. Immutable.
struct Code {
  Code() = default;
  Code(const Code&) = delete;
  Code& operator=(const Code&) = delete;
  ~Code();

  u32 start = 0, worst = 0;                ///< as in Block
  std::vector<std::pair<u32, u32>> spans;  ///< as in Block
  std::vector<u16> words;                  ///< of flash, those of the spans and the one behind each
  const void* entry = nullptr;
  std::shared_ptr<struct Assembly> assembly;  ///< whose memory it is in
  // Of code that counts, which is one machine's alone:
  std::vector<Block::Passed> path;  ///< as in Block
  std::vector<Way> ways;            ///< out of it
  std::unique_ptr<u64[]> counts;    ///< by way
};

/// What one machine has had translated, for its copies: from any thread. Code goes with the last
/// who has it.
class CodeStore {
 public:
  CodeStore();
  ~CodeStore();
  /// The code of a start that `fits`; null if there is none.
  [[nodiscard]] std::shared_ptr<const Code> find(
      u32 start, const std::function<bool(const Code&)>& fits) const;
  void add(std::shared_ptr<const Code> code);

 private:
  struct Private;
  std::unique_ptr<Private> p_;
};

class Translator {
 public:
  /// `words` of flash, read in pages of `page_bytes`, a power of two. `table` has an entry for
  /// each, and one before them, all out(); it outlives this.
  Translator(const void** table, u32 words, u32 page_bytes);
  ~Translator();
  Translator(const Translator&) = delete;
  Translator& operator=(const Translator&) = delete;

  /// What leads out of translated code.
  static const void* out();
  /// Whether it was built.
  static bool works();

  /// Null if it cannot be done: the block has no instructions or needs too much. `behind_mark`: no
  /// other run leads into it, only run_behind_mark().
  /// `counts`: how often each of its ways out is taken.
  std::shared_ptr<Code> translate(Block& block, bool behind_mark, bool counts);
  /// Runs that begin at a code's start use it from now on.
  void take(std::shared_ptr<const Code> code, bool behind_mark);
  [[nodiscard]] bool has(u32 word) const;
  /// Drops what was made from this word. `dropped` is told where each such block starts.
  void forget(u32 word, const std::function<void(u32 start)>& dropped);
  /// Drops everything.
  void forget_all(const std::function<void(u32 start)>& dropped);
  /// Who is told of each block's code before it is dropped; nothing: nobody.
  void on_drop(std::function<void(const Code&)> told);
  void each(const std::function<void(const Code&)>& visit) const;
  /// Where a run was left.
  struct Left {
    u32 word;      ///< to go on with
    bool precise;  ///< by that instruction itself, which met something slow
  };
  /// Runs from `word` on, which has been translated, as far as there is time for a whole block.
  Left run(Native& state, u32 word) const;
  Left run_behind_mark(Native& state, u32 word) const;

 private:
  struct Private;
  std::unique_ptr<Private> p_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_TRANSLATOR_H
