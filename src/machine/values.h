// SPDX-License-Identifier: MIT
// Following values: which bits in registers and memory come from nothing that has ever written
// them, where they get to, and what becomes of the heap. Along the timeline: a copy of a machine
// has what its original had, and tells nobody.
#ifndef LUCID_MACHINE_VALUES_H
#define LUCID_MACHINE_VALUES_H

#include <cstdint>
#include <functional>
#include <map>
#include <vector>

namespace lucid::machine {

struct ValueFault {
  enum class Kind : std::uint8_t {
    kDecision,      ///< a branch, a skip or a jump depends on bits that nothing has written
    kAddress,       ///< a load or store goes where such bits say
    kOutput,        ///< they are written to a peripheral
    kNull,          ///< a pointer leads to registers of the processor, as a null pointer does
    kGone,          ///< memory of the stack is accessed that no call holds any more
    kFreed,         ///< memory of the heap is accessed that has been given back
    kOutsideBlock,  ///< memory of the heap is accessed that is in no block
    kFreedAgain,    ///< what is given back has been before
    kNeverGiven,    ///< what is given back is no block
    kOutside,       ///< an access through an address of an object leads outside of it
  };
  Kind kind = Kind::kDecision;
  std::uint32_t pc = 0;
  bool write = false;  ///< of an access
  /// The data address accessed or given back. Of the first three: where the bits come from, a byte
  /// of memory, a register of the processor, or the register of a port whose `pins` float.
  std::uint32_t address = 0;
  std::uint8_t pins = 0;
  /// Of the heap: the block that is meant, and the instruction that called for it, or gave it back;
  /// of the stack: that gave the memory up; of kOutside: the object, and where its address was
  /// made.
  std::uint32_t begin = 0, bytes = 0, by = 0;
  bool in_code = false;  ///< of kOutside: in code space
};

class ValueListener {
 public:
  virtual ~ValueListener() = default;
  /// The instruction at `pc` is about to do it. True: the run ends behind it, with Fault::kCheck.
  virtual bool found(const ValueFault& fault) = 0;
};

/// The C library's functions that give and take memory.
enum class HeapFunction : std::uint8_t { kMalloc, kCalloc, kRealloc, kFree };

/// An object: `[begin, end)`, addresses or offsets in a frame.
struct Extent {
  std::int32_t begin = 0, end = 0;
  std::int32_t unit = 1;  ///< bytes of an element, of an array
};

/// What an instruction that makes an address can mean.
struct Surroundings {
  bool knows_objects = true;  ///< false: start-up code, for which all data is one
  /// The objects in the frame of its function, by offset from the frame's register.
  std::vector<Extent> frame{};
};

struct ValueFollowing {
  ValueListener* listener = nullptr;             ///< null: nobody is told
  std::uint32_t static_end = 0;                  ///< of data: behind it are heap and stack
  std::map<std::uint32_t, HeapFunction> heap{};  ///< by where they begin
  std::vector<Extent> data{}, code{};            ///< static objects by address, apart
  /// Of an instruction; called on any thread.
  std::function<Surroundings(std::uint32_t pc)> around{};
};

/// Memory that has been given and not given back.
struct HeapBlock {
  std::uint32_t begin = 0, bytes = 0;
  std::uint32_t by = 0;    ///< the instruction that called for it
  std::uint64_t tick = 0;  ///< when
};
struct Heap {
  std::vector<HeapBlock> blocks;
  std::uint64_t given = 0;           ///< how many blocks in all
  std::uint64_t refused = 0;         ///< how often there was no memory
  std::uint32_t used = 0, most = 0;  ///< bytes of blocks, now and at the most
  std::uint64_t most_tick = 0;       ///< when that was first so
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_VALUES_H
