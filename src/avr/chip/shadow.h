// SPDX-License-Identifier: MIT
// Shadow: beside each register and each byte of memory, which of its bits come from nothing that
// has written them. It goes through each instruction before the machine does, by the same
// instruction table, with numbers that know what is unknown of them.
#ifndef LUCID_AVR_CHIP_SHADOW_H
#define LUCID_AVR_CHIP_SHADOW_H

#include <deque>
#include <memory>
#include <vector>

#include "avr/chip/avr_machine.h"
#include "avr/chip/partial.h"
#include "avr/chip/pointers.h"
#include "machine/values.h"

namespace lucid::avr {

class Shadow {
 public:
  Shadow(const AvrMachine& machine, const machine::ValueFollowing& how);
  /// A copy that tells nobody.
  [[nodiscard]] std::unique_ptr<Shadow> silent() const;
  /// Comes to know what another one does; who listens stays.
  void assume(const Shadow& other);

  /// As if it had been made for a machine now.
  void begin(const AvrMachine& machine);

  /// The instruction at the program counter is about to execute. True: the run is to end.
  bool follow(const AvrMachine& machine, const Entry& entry);
  /// An interrupt has been entered.
  void entered(const AvrMachine& machine);
  /// A person has written a byte of data space.
  void written(u32 address) {
    if (address >= unknown_.size()) return;
    unknown_[address] = 0;
    pointers_.set(address, 0);
  }
  [[nodiscard]] machine::Heap heap() const;

 private:
  Shadow(const Shadow&) = default;
  Shadow& operator=(const Shadow&) = default;
  struct Step;
  friend struct Step;
  using Kind = machine::ValueFault::Kind;
  struct Block {
    u32 bytes = 0, by = 0;
    u64 tick = 0;
  };
  struct Call {
    machine::HeapFunction function;
    u32 back = 0;  ///< word to which it returns
    u16 sp = 0;    ///< when it has
    u32 by = 0;
    u32 bytes = 0, block = 0;  ///< what it was called for
  };
  bool tell(machine::ValueFault fault);
  void lose(u32 address) {
    unknown_[address] = 0xff;
    from_[address] = address;
    pointers_.set(address, 0);
  }
  void settle_stack(const AvrMachine& machine, const Entry& entry);
  void touch(const AvrMachine& machine, u32 address, bool write);
  bool leaves_object(const AvrMachine& machine, const Entry& entry, Pointers::Memory memory,
                     u32 address, bool write);
  void follow_heap(const AvrMachine& machine, u32 word);
  void call(const AvrMachine& machine, machine::HeapFunction function);
  void returned(const AvrMachine& machine, const Call& call);
  void give_back(u32 begin, u32 by);
  /// The one that an address is in.
  [[nodiscard]] std::map<u32, Block>::const_iterator block_at(u32 address) const;
  [[nodiscard]] bool in_allocator() const { return !calls_.empty(); }

  machine::ValueListener* listener_ = nullptr;
  std::shared_ptr<const machine::ValueFollowing> how_;
  std::shared_ptr<const std::vector<u8>> heap_words_;  ///< 1 more than a HeapFunction, by word
  std::vector<u8> unknown_;                            ///< by data address: bits
  /// The same: Partial::from.
  std::vector<u32> from_;
  Pointers pointers_;
  std::vector<u32> left_by_;  ///< of memory that the stack has given up: the instruction
  BasicFlags<Partial> flags_;
  u16 sp_ = 0;  ///< up to which the stack is settled
  u32 pc_ = 0;  ///< of the instruction under way
  bool ends_ = false;
  std::vector<Call> calls_;
  std::map<u32, Block> blocks_;                ///< given, by where they begin
  std::deque<machine::HeapBlock> given_back_;  ///< the last ones; `by` gave it back
  u32 lowest_block_ = UINT32_MAX, highest_block_ = 0;
  u64 given_ = 0, refused_ = 0, most_tick_ = 0;
  u32 used_ = 0, most_ = 0;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_SHADOW_H
