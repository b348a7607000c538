// SPDX-License-Identifier: MIT
// Pointers: beside each byte, which object the address that it is part of has been made from. Code
// makes an object's address from constants (`ldi`, `subi` of a pair), from the frame pointer and an
// offset, or gets it from the heap; sums with an index and copies keep it.
//
// What a constant means is learned where it is first used: the object in which it is, or a
// neighbour's that a loop goes through from its end, or from its first element on. One that leads
// nowhere near is an ordinary number.
#ifndef LUCID_AVR_CHIP_POINTERS_H
#define LUCID_AVR_CHIP_POINTERS_H

#include <array>
#include <optional>
#include <unordered_map>
#include <vector>

#include "avr/isa/table.h"
#include "avr/world/world.h"
#include "machine/values.h"

namespace lucid::avr {

class Pointers {
 public:
  /// A place in `made_`, and what it counts from; 0: of no object.
  using Tag = u32;
  enum class Memory : u8 { kData, kFlash };

  /// Where an access outside of its object was to go.
  struct Outside {
    u32 begin = 0, bytes = 0;
    u32 made_at = 0;  ///< the instruction that has made the address
  };

  /// Forgets everything. `how` outlives it.
  void begin(std::size_t bytes, const machine::ValueFollowing& how);
  [[nodiscard]] Tag of(u32 address) const { return tags_[address]; }
  void set(u32 address, Tag tag) { tags_[address] = tag; }
  void set_heap(u32 low_register, u32 block);

  /// Around an instruction: `before` what it reads, `after` what its result is part of.
  void before(const Entry& entry);
  void after(const World& world, const Core& core, const Entry& entry);
  /// Of what the instruction accesses through a register pair; counting the pair on changes
  /// nothing.
  [[nodiscard]] Tag address() const { return address_; }
  /// The block that it has been made from, if it is of the heap: its bounds are not known here.
  [[nodiscard]] std::optional<u32> heap_block() const;
  std::optional<Outside> accessed(const World& world, const Entry& entry, Memory memory,
                                  u32 address);

 private:
  using Extent = machine::Extent;
  /// An instruction that makes addresses.
  struct Made {
    u32 at = 0;
    std::int32_t constant = 0;    ///< with the displacement of an access, in a frame
    bool in_frame = false;        ///< counts from the frame pointer
    bool plain = false;           ///< a number that is near no object
    std::vector<Extent> frame{};  ///< its function's, if it counts from the frame pointer
    std::array<std::optional<Extent>, 2> owner{};  ///< by Memory
    std::array<u8, 2> astray{};                    ///< accesses that led near no object
  };

  [[nodiscard]] static Tag tag(u32 index, u32 base) { return index << 16U | (base & 0xffffU); }
  [[nodiscard]] static u32 index(Tag tag) { return tag >> 16U; }
  [[nodiscard]] Tag pair(unsigned n) const { return tags_[n] == tags_[n + 1] ? tags_[n] : 0; }
  void set_pair(unsigned n, Tag tag) { tags_[n] = tags_[n + 1] = tag; }
  enum class Strength : u8 { kNumber, kConstant, kPointer };
  [[nodiscard]] Strength strength(Tag tag) const;
  [[nodiscard]] bool in_frame(Tag tag) const;
  [[nodiscard]] bool is_frame(Tag tag) const { return index(tag) == kFrame; }
  [[nodiscard]] bool is_near_object(std::int32_t constant) const;
  u32 make(u32 at, std::int32_t constant, bool in_frame, u32 displaced = 0);
  Tag from_constant(const World& world, std::int32_t constant);
  Tag from_frame(const World& world, u32 at, std::int32_t offset, Tag otherwise);
  Tag moved(const World& world, u32 at, Tag tag, u32 value, std::int32_t by);
  [[nodiscard]] Tag sum(const World& world, Tag a, Tag b);
  [[nodiscard]] Tag difference(Tag a, Tag b) const;

  static constexpr u32 kFrame = 1, kHeap = 2, kFirst = 3;  // places that stand for no instruction

  const machine::ValueFollowing* how_ = nullptr;
  std::vector<Tag> tags_;  ///< by data address
  std::vector<Made> made_;
  std::unordered_map<u64, u32> by_place_;
  Tag address_ = 0;           ///< that the instruction under way accesses
  Tag left_ = 0, right_ = 0;  ///< what it calculates with
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_CHIP_POINTERS_H
