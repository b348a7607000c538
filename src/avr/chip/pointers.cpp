// SPDX-License-Identifier: MIT
#include "avr/chip/pointers.h"

#include <algorithm>
#include <cstdlib>

#include "avr/chip/attributes.h"

namespace lucid::avr {
namespace {

// By it functions within functions are told where the outer one's frame is: all of it.
constexpr unsigned kStaticChain = 2;
constexpr unsigned kY = 28, kPointerZ = 30;
// A loop that goes down begins behind its object, one from 1 on before it.
constexpr std::int32_t kBeside = 32;
constexpr std::int32_t kStep = 8;  // two elements of most arrays
constexpr u8 kAstray = 4;  // accesses near no object after which a constant is an ordinary number
constexpr u32 kMost = 0xffff;

using machine::Extent;

/// The last one that begins there or before; null: none does.
const Extent* last_before(const std::vector<Extent>& extents, std::int32_t at) {
  const auto behind = std::upper_bound(
      extents.begin(), extents.end(), at,
      [](std::int32_t value, const Extent& extent) { return value < extent.begin; });
  return behind == extents.begin() ? nullptr : &*std::prev(behind);
}

const Extent* extent_at(const std::vector<Extent>& extents, std::int32_t at) {
  const Extent* const extent = last_before(extents, at);
  return extent != nullptr && at < extent->end ? extent : nullptr;
}

bool is_near(const Extent& extent, std::int32_t at) {
  return at >= extent.begin - kBeside && at <= extent.end + kBeside;
}

bool is_near(const std::vector<Extent>& extents, std::int32_t at) {
  const Extent* const extent = last_before(extents, at + kBeside);  // they are apart
  return extent != nullptr && is_near(*extent, at);
}

u32 pair_of(const World& world, unsigned n) { return world.data[n] | u32{world.data[n + 1]} << 8U; }

/// The object whose address a constant is, by what is first accessed through it.
std::optional<Extent> meant(const std::vector<Extent>& objects, bool in_frame,
                            std::int32_t constant, std::int32_t at) {
  const Extent* const there = extent_at(objects, at);
  const Extent* const own = extent_at(objects, constant);
  // Objects of a frame are all reached from whichever base is at hand.
  if (!in_frame && own != nullptr && own != there && is_near(*own, at)) {
    // It leaves its object at once; unless a neighbour's loop begins behind it or counts from 1.
    const std::int32_t edge = at >= own->end
                                  ? (there != nullptr ? there->begin : own->end)
                                  : (there != nullptr ? there->end : own->begin - kBeside);
    const std::int32_t reach = std::max(kStep, there != nullptr ? 2 * there->unit : 0);
    if (std::abs(edge - constant) > reach) return *own;
  }
  if (there != nullptr && is_near(*there, constant)) return *there;
  return std::nullopt;
}

/// The register pair by which an instruction accesses memory; 0: none.
unsigned pointer_of(const Entry& entry) {
  if (entry.op == kLPM_0 || entry.op == kLPM || entry.op == kLPM_I) return kPointerZ;
  const auto access = pointer_access(entry);
  return access ? access->pair : 0;
}

}  // namespace

void Pointers::begin(std::size_t bytes, const machine::ValueFollowing& how) {
  how_ = &how;
  tags_.assign(bytes, 0);
  made_.assign(kFirst, {});
  by_place_.clear();
}

void Pointers::set_heap(u32 low_register, u32 block) { set_pair(low_register, tag(kHeap, block)); }

/// How sure it is that something is an object's address.
Pointers::Strength Pointers::strength(Tag tag) const {
  if (index(tag) < kFirst) return Strength::kPointer;
  const Made& made = made_[index(tag)];
  if (made.plain) return Strength::kNumber;
  return made.in_frame || made.owner[0] || made.owner[1] ? Strength::kPointer : Strength::kConstant;
}

bool Pointers::in_frame(Tag tag) const {
  return is_frame(tag) || (index(tag) >= kFirst && made_[index(tag)].in_frame);
}

bool Pointers::is_near_object(std::int32_t constant) const {
  return is_near(how_->data, constant) || is_near(how_->code, constant);
}

u32 Pointers::make(u32 at, std::int32_t constant, bool in_frame, u32 displaced) {
  const u64 place = u64{at} << 8U | displaced << 1U | (in_frame ? 1U : 0U);
  const auto [known, is_new] = by_place_.try_emplace(place, 0);
  if (!is_new) {
    // A program may change itself.
    if (known->second == 0 || made_[known->second].constant == constant) return known->second;
  }
  if (made_.size() > kMost) return known->second = 0;
  Made made;
  made.at = at;
  made.constant = constant;
  made.in_frame = in_frame;
  made.plain = !in_frame && !is_near_object(constant);
  bool counts = true;
  if (how_->around && !made.plain) {
    machine::Surroundings around = how_->around(at);
    counts = around.knows_objects && (!in_frame || extent_at(around.frame, constant) != nullptr);
    if (in_frame) made.frame = std::move(around.frame);
  }
  known->second = counts ? static_cast<u32>(made_.size()) : 0;
  if (counts) made_.push_back(std::move(made));
  return known->second;
}

Pointers::Tag Pointers::from_constant(const World& world, std::int32_t constant) {
  const u32 place = make(2 * world.cpu.pc, constant, false);
  return place == 0 ? 0 : tag(place, 0);
}

Pointers::Tag Pointers::from_frame(const World& world, u32 at, std::int32_t offset, Tag otherwise) {
  const u32 place = make(at, offset, true);
  return place == 0 ? otherwise : tag(place, pair_of(world, kY));
}

/// A constant has been added to an address of the frame, which was `value`. Compilers come from one
/// object to another that way.
Pointers::Tag Pointers::moved(const World& world, u32 at, Tag is, u32 value, std::int32_t by) {
  if (is_frame(is)) return from_frame(world, at, by, is);
  if (!in_frame(is)) return is;
  const Made& made = made_[index(is)];
  const std::int32_t offset = made.constant + by;
  const Extent* const object = extent_at(made.frame, made.constant);
  const bool starts_there = ((is + made.constant) & 0xffffU) == value;
  const bool stays = object == nullptr || (offset >= object->begin && offset < object->end);
  return starts_there && !stays ? from_frame(world, at, offset, is) : is;
}

Pointers::Tag Pointers::sum(const World& world, Tag a, Tag b) {
  if (a == 0 || b == 0) return a | b;
  if (is_frame(a)) std::swap(a, b);
  if (is_frame(b)) {
    if (index(a) < kFirst || made_[index(a)].in_frame) return 0;
    return from_frame(world, made_[index(a)].at, made_[index(a)].constant, b);
  }
  if (strength(a) == strength(b)) return 0;
  return strength(a) < strength(b) ? b : a;
}

Pointers::Tag Pointers::difference(Tag a, Tag b) const {
  return b == 0 || (a != 0 && strength(b) == Strength::kNumber) ? a : 0;
}

void Pointers::before(const Entry& entry) {
  const unsigned pointer = pointer_of(entry);
  address_ = pointer == 0 ? 0 : pair(pointer);
  left_ = right_ = 0;
  switch (entry.op) {
    case kADD:
    case kADC:
    case kSUB:
    case kSBC:
      left_ = tags_[entry.a];
      right_ = tags_[entry.b];
      break;
    case kSUBI:
    case kSBCI:
    case kINC:
    case kDEC: left_ = tags_[entry.a]; break;
    case kADIW:
    case kSBIW: left_ = pair(entry.a); break;
    case kMOVW: left_ = pair(entry.b); break;
    default: break;
  }
}

void Pointers::after(const World& world, const Core& core, const Entry& entry) {
  const u32 at = 2 * world.cpu.pc;
  const auto previous = [&](u32 words = 1) {
    const u32 before = at >= 2 * words ? at - 2 * words : 0;
    const auto word = [&](u32 address) {
      return static_cast<u16>(world.flash[address] | world.flash[address + 1] << 8);
    };
    return decode(core, word(before), word(before + 2), before / 2);
  };
  switch (entry.op) {
    case kADD:
    case kADC: tags_[entry.a] = sum(world, left_, right_); break;
    case kSUB:
    case kSBC: tags_[entry.a] = difference(left_, right_); break;
    case kSUBI:
    case kINC:
    case kDEC: tags_[entry.a] = left_; break;
    case kMOV: {
      // The lower registers get constants by way of one of the others.
      if (entry.a % 2 == 0 || entry.a > 15) break;
      const Entry high = previous(1), move = previous(2), low = previous(3);
      if (high.op == kLDI && move.op == kMOV && low.op == kLDI && high.a == entry.b &&
          move.a + 1 == entry.a && low.a == move.b)
        set_pair(move.a, from_constant(world, low.k | high.k << 8));
      break;
    }
    case kMOVW: set_pair(entry.a, entry.a == kStaticChain && in_frame(left_) ? 0 : left_); break;
    case kIN:
      if (const u32 io = static_cast<u32>(entry.k) + 0x20; io == kSpl || io == kSph)
        tags_[entry.a] = tag(kFrame, 0);
      break;
    case kADIW:
    case kSBIW:
      if (entry.a != kY)
        left_ = moved(world, at, left_, pair_of(world, entry.a),
                      entry.op == kADIW ? entry.k : -entry.k);
      set_pair(entry.a, left_);
      break;
    case kLDI:
      if (const Entry low = previous(); low.op == kLDI && entry.a % 2 == 1 && low.a + 1 == entry.a)
        set_pair(low.a, from_constant(world, low.k | entry.k << 8));
      break;
    case kSBCI: {
      tags_[entry.a] = left_;
      const Entry low = previous();
      if (low.op != kSUBI || entry.a % 2 == 0 || low.a + 1 != entry.a) break;
      const std::int32_t subtracted = low.k | entry.k << 8;
      const std::int32_t added = -subtracted & 0xffff;
      const Tag is = tags_[low.a] == left_ ? left_ : 0;
      if (in_frame(is)) {
        if (low.a == kY) break;
        const u32 before = (world.data[low.a] + static_cast<u32>(low.k)) & 0xffU;
        set_pair(low.a, moved(world, at, is, before | u32{world.data[entry.a]} << 8U,
                              static_cast<std::int16_t>(added)));
      } else if (is == 0 || strength(is) == Strength::kNumber) {
        if (is_near_object(added)) set_pair(low.a, from_constant(world, added));
      } else if (is_near(how_->data, subtracted)) {
        set_pair(low.a, 0);  // the distance of two addresses
      }
      break;
    }
    default: break;
  }
}

std::optional<u32> Pointers::heap_block() const {
  if (index(address_) != kHeap) return std::nullopt;
  return address_ & 0xffffU;
}

std::optional<Pointers::Outside> Pointers::accessed(const World& world, const Entry& entry,
                                                    Memory memory, u32 address) {
  Tag is = address_;
  // Objects of a frame have one base, and offsets from it in the instructions.
  if (const auto access = pointer_access(entry); access && access->by > 0) {
    if (is_frame(is)) {
      is = access->pair != kY ? from_frame(world, 2 * world.cpu.pc, access->by, 0) : 0;
    } else if (in_frame(is)) {
      const Made& base = made_[index(is)];
      const u32 place =
          make(base.at, base.constant + access->by, true, static_cast<u32>(access->by));
      is = place == 0 ? 0 : tag(place, is);
    }
  }
  if (index(is) < kFirst) return std::nullopt;
  Made& made = made_[index(is)];
  const unsigned which = static_cast<unsigned>(memory);
  if (made.astray[which] >= kAstray || (made.in_frame && memory == Memory::kFlash))
    return std::nullopt;
  const u32 base = is & 0xffffU;
  const auto at = made.in_frame
                      ? static_cast<std::int32_t>(static_cast<std::int16_t>(address - base))
                      : static_cast<std::int32_t>(address);
  auto& owner = made.owner[which];
  if (!owner) {
    const auto& objects = made.in_frame              ? made.frame
                          : memory == Memory::kFlash ? how_->code
                                                     : how_->data;
    owner = meant(objects, made.in_frame, made.constant, at);
    if (!owner) ++made.astray[which];
    if (!owner) return std::nullopt;
  }
  if (at >= owner->begin && at < owner->end) return std::nullopt;
  return Outside{static_cast<u32>(owner->begin) + (made.in_frame ? base : 0),
                 static_cast<u32>(owner->end - owner->begin), made.at};
}

}  // namespace lucid::avr
