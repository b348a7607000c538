// SPDX-License-Identifier: MIT
// Registers of the chip stay in the data space: every one that is written is stored at once, so
// that a block may be left at any instruction. What it reads twice it keeps in a register of the
// host.
#if defined(LUCID_TRANSLATOR)
#include "avr/chip/emitter.h"

#include <algorithm>
#include <cstddef>

namespace lucid::avr {
namespace {

constexpr u8 kScratch = 0;  // eax
constexpr u8 kForValues[] = {1, 2, 6, 7, 8, 9, 10, 11, 15};
constexpr u32 kAllOnes = ~0U;

x86::Gp r32(u8 id) { return x86::gpd(id); }
x86::Gp r64(u8 id) { return x86::gpq(id); }
x86::Mem flag_field(u32 index) {
  return field(offsetof(Native, flags) + std::size_t{4} * index, 4);
}

/// Where a value is.
struct Place {
  enum class Kind : u8 { kNowhere, kRegister, kSpilled } kind = Kind::kNowhere;
  u8 index = 0;
};

/// What is where, at one point of the code.
struct Layout {
  std::vector<Place> places;             ///< by step
  std::vector<u16> uses;                 ///< still to come, by step
  std::array<std::int32_t, 16> owner{};  ///< step in each register; -1: free
  u8 next_spill = 0;
};

/// A way out, to be written behind the rest.
struct Stub {
  asmjit::Label label;
  u16 exit;
  bool late;
  std::array<std::int32_t, 16> owner;  ///< as in Layout, when it was met
  u8 next_spill;
  u32 held_begin, held_end = 0;  ///< in Emitter::held_
};

class Emitter {
 public:
  Emitter(const Block& block, x86::Assembler& out, u32 page_bytes)
      : block_(block), a_(out), page_bytes_(page_bytes), needed_(block.steps.size()) {
    at_.places.resize(block.steps.size());
    at_.uses.resize(block.steps.size());
    at_.owner.fill(-1);
  }

  bool emit() {
    find_needed();
    wanted_.reserve(block_.exits.size());
    stubs_.reserve(block_.exits.size());
    for (const Exit& exit : block_.exits) wanted_.push_back(wanted(exit));
    count_uses();
    const asmjit::Label no_time = a_.newLabel();
    a_.cmp(kLeft, block_.worst);
    a_.jle(no_time);
    for (u16 i = 0; i < block_.steps.size() && !failed_; ++i) {
      const Step& step = block_.steps[i];
      pinned_ = 0;
      if (is_effect(step.kind))
        effect(step);
      else if (needed_[i])
        define(i);
    }
    for (std::size_t i = 0; i < stubs_.size() && !failed_; ++i) {
      a_.bind(stubs_[i].label);
      restore(stubs_[i]);
      leave(stubs_[i].exit, stubs_[i].late);
    }
    a_.bind(no_time);
    a_.mov(x86::eax, block_.start);
    a_.jmp(x86::qword_ptr(kTable, -8));
    return !failed_;
  }

 private:
  // What has to be worked out --------------------------------------------------------------------

  [[nodiscard]] const Step& step(const Value& value) const { return block_.steps[value.step()]; }

  void need(const Value& value) {
    if (value.is_constant() || needed_[value.step()]) return;
    needed_[value.step()] = true;
    need(step(value).a);
    need(step(value).b);
  }
  /// What a test comes down to: any of `mask` set in `value`?
  struct Test {
    Value value;
    u32 mask;
  };
  [[nodiscard]] Test test_of(const Value& condition) const {
    Test test{condition, kAllOnes};
    for (;;) {
      if (test.value.is_constant()) return test;
      const Step& s = step(test.value);
      if (s.kind == StepKind::kAnd && s.b.is_constant()) {
        test = {s.a, test.mask & s.b.constant()};
      } else if (s.kind == StepKind::kShr) {
        const unsigned bits = s.a.bits();
        const u32 all = bits >= 32 ? kAllOnes : (1U << bits) - 1;
        test = {s.a, (test.mask << s.imm) & all};
      } else {
        return test;
      }
    }
  }
  static bool tests(StepKind kind) {
    return kind == StepKind::kLeaveIf || kind == StepKind::kLeaveIfNot;
  }
  /// Calls `visit` with each value an exit stores, and where it goes if it has to be worked out.
  template <class Visit>
  void roots(const Exit& exit, Visit visit) const {
    if (!exit.saved) {
      const Value* const parts[] = {&exit.flags.c, &exit.flags.carries, &exit.flags.sign,
                                    &exit.flags.zero, &exit.flags.t};
      for (u32 i = 0; i < 5; ++i)
        if (!unchanged(*parts[i], StepKind::kFlag, i)) visit(*parts[i], flag_field(i));
      if (!unchanged(exit.sp, StepKind::kSp, 0)) visit(exit.sp, field(offsetof(Native, sp), 4));
    }
  }
  [[nodiscard]] bool unchanged(const Value& value, StepKind kind, u32 imm) const {
    return !value.is_constant() && step(value).kind == kind && step(value).imm == imm;
  }
  /// Of what an exit needs: what is at hand (needed_ elsewhere), and what has to be worked out
  /// there, in order.
  struct Wanted {
    std::vector<u16> at_hand, made;
  };
  void want(const Value& value, Wanted& wanted) const {
    if (value.is_constant()) return;
    auto& list = needed_[value.step()] ? wanted.at_hand : wanted.made;
    if (std::find(list.begin(), list.end(), value.step()) != list.end()) return;
    if (!needed_[value.step()]) {
      want(step(value).a, wanted);
      want(step(value).b, wanted);
    }
    list.push_back(value.step());
  }
  [[nodiscard]] Wanted wanted(const Exit& exit) const {
    constexpr std::size_t kUsual = 12;
    Wanted all;
    all.at_hand.reserve(kUsual);
    all.made.reserve(kUsual);
    roots(exit, [&](const Value& value, const x86::Mem& /*to*/) { want(value, all); });
    want(exit.to, all);
    return all;
  }
  static bool stays_in_memory(StepKind kind) {
    return kind == StepKind::kFlag || kind == StepKind::kSp;
  }
  /// Leaves are read where they stand: memory may change later.
  void need_leaves(const Value& value) {
    if (value.is_constant() || needed_[value.step()]) return;
    const Step& s = step(value);
    if (is_leaf(s.kind) && !stays_in_memory(s.kind)) {
      need(value);
    } else {
      need_leaves(s.a);
      need_leaves(s.b);
    }
  }
  void find_needed() {
    for (const Step& s : block_.steps) {
      if (!is_effect(s.kind)) continue;
      if (tests(s.kind)) {
        need(test_of(s.a).value);
      } else {
        need(s.a);
        need(s.b);
      }
    }
    for (const Exit& exit : block_.exits) {
      roots(exit, [&](const Value& value, const x86::Mem& /*to*/) { need_leaves(value); });
      need_leaves(exit.to);
    }
    for (std::size_t i = 0; i < block_.steps.size(); ++i)
      if (block_.steps[i].kind == StepKind::kIo) needed_[i] = true;
  }
  void use(const Value& value) {
    if (!value.is_constant()) ++at_.uses[value.step()];
  }
  void count_uses() {
    for (std::size_t i = 0; i < block_.steps.size(); ++i) {
      const Step& s = block_.steps[i];
      if (tests(s.kind)) {
        use(test_of(s.a).value);
      } else if (is_effect(s.kind) || needed_[i]) {
        use(s.a);
        use(s.b);
      }
      if (has_exit(s.kind))
        for (const u16 hand : wanted_[s.exit].at_hand) ++at_.uses[hand];
    }
  }
  static bool has_exit(StepKind kind) {
    return kind >= StepKind::kLeaveSlow || kind == StepKind::kStoreIo || kind == StepKind::kIo;
  }

  // Registers ------------------------------------------------------------------------------------

  u8 allocate() {
    u8 victim = 0xff;
    for (const u8 id : kForValues) {
      if ((pinned_ >> id & 1U) != 0) continue;
      if (at_.owner[id] < 0) {
        pinned_ |= 1U << id;
        return id;
      }
      if (victim == 0xff || at_.owner[id] < at_.owner[victim]) victim = id;
    }
    if (at_.next_spill == 64) {
      failed_ = true;
      return kForValues[0];
    }
    const auto owner = static_cast<std::size_t>(at_.owner[victim]);
    a_.mov(field(offsetof(Native, spilled) + std::size_t{4} * at_.next_spill, 4), r32(victim));
    at_.places[owner] = {Place::Kind::kSpilled, at_.next_spill++};
    at_.owner[victim] = -1;
    pinned_ |= 1U << victim;
    return victim;
  }
  void put(u16 step, u8 id) {
    at_.places[step] = {Place::Kind::kRegister, id};
    at_.owner[id] = step;
  }
  /// The register that holds a value. REQUIRES: it is no constant.
  u8 hold(const Value& value) {
    Place& place = at_.places[value.step()];
    if (place.kind == Place::Kind::kSpilled) {
      const u8 id = allocate();
      a_.mov(r32(id), field(offsetof(Native, spilled) + std::size_t{4} * place.index, 4));
      put(value.step(), id);
    } else if (place.kind == Place::Kind::kNowhere) {
      failed_ = true;  // cannot happen: a step comes before its uses
    }
    const u8 id = at_.places[value.step()].index;
    pinned_ |= 1U << id;
    return id;
  }
  /// One use is over.
  void release(const Value& value) {
    if (value.is_constant()) return;
    if (--at_.uses[value.step()] > 0) return;
    Place& place = at_.places[value.step()];
    if (place.kind == Place::Kind::kRegister && at_.owner[place.index] == value.step())
      at_.owner[place.index] = -1;
    place = {};
  }
  [[nodiscard]] bool last_use(const Value& value) const {
    return !value.is_constant() && at_.uses[value.step()] == 1 &&
           at_.places[value.step()].kind == Place::Kind::kRegister &&
           at_.places[value.step()].index != kScratch;
  }

  // Values ---------------------------------------------------------------------------------------

  [[nodiscard]] static x86::Mem at(const x86::Gp& base, u32 offset, u32 size) {
    return x86::Mem(base, static_cast<std::int32_t>(offset), size);
  }
  /// The byte at base + value + offset.
  x86::Mem byte_at(const x86::Gp& base, const Value& value, u32 offset) {
    if (value.is_constant()) return at(base, value.constant() + offset, 1);
    return x86::Mem(base, r64(hold(value)), 0, static_cast<std::int32_t>(offset), 1);
  }

  void define(u16 i) {
    const Step& s = block_.steps[i];
    switch (s.kind) {
      case StepKind::kReg:
      case StepKind::kData: load_leaf(i, at(kData, s.imm, 1), true); break;
      case StepKind::kPair: load_leaf(i, at(kData, s.imm, 2), true); break;
      case StepKind::kFlag: load_leaf(i, flag_field(s.imm), false); break;
      case StepKind::kSp: load_leaf(i, field(offsetof(Native, sp), 4), false); break;
      case StepKind::kLoad: {
        const x86::Mem from = byte_at(kData, s.a, s.imm);
        release(s.a);
        load_leaf(i, from, true);
        break;
      }
      case StepKind::kFlash: flash(i, s); break;
      case StepKind::kBytes: load_leaf(i, at(kData, s.imm, s.mask), s.mask < 4); break;
      case StepKind::kIo: ask(i, s); break;
      default: calculate(i, s);
    }
  }
  void load_leaf(u16 i, const x86::Mem& from, bool widen) {
    const u8 id = allocate();
    if (widen)
      a_.movzx(r32(id), from);
    else
      a_.mov(r32(id), from);
    put(i, id);
  }
  void flash(u16 i, const Step& s) {
    unsigned shift = 0;
    while (page_bytes_ >> shift > 1) ++shift;
    const u8 id = allocate();
    if (s.a.is_constant()) {
      a_.mov(x86::eax, s.a.constant());
    } else {
      a_.mov(r32(kScratch), r32(hold(s.a)));
    }
    a_.mov(r32(id), x86::eax);
    a_.and_(r32(id), page_bytes_ - 1);
    a_.shr(x86::eax, shift);
    a_.shl(x86::eax, 3);
    a_.add(x86::rax, field(offsetof(Native, flash_pages), 8));
    a_.mov(x86::rax, x86::qword_ptr(x86::rax));
    a_.movzx(r32(id), x86::byte_ptr(x86::rax, r64(id)));
    release(s.a);
    put(i, id);
  }
  void calculate(u16 i, const Step& s) {
    Value a = s.a;
    Value b = s.b;
    const bool commutes = s.kind != StepKind::kSub;  // of those with two operands below
    if (commutes && !b.is_constant() && !last_use(a) && last_use(b)) std::swap(a, b);
    if (s.kind == StepKind::kLess || s.kind == StepKind::kLessSigned) {
      compare(i, s);
      return;
    }
    const u8 left = a.is_constant() ? kScratch : hold(a);
    const u8 right = b.is_constant() ? kScratch : hold(b);
    const auto imm = static_cast<std::int32_t>(b.is_constant() ? b.constant() : 0);
    if (s.kind == StepKind::kIsZero) {
      const u8 to = allocate();
      a_.test(r32(left), r32(left));
      a_.mov(r32(to), 0);
      a_.setz(r32(to).r8());
      release(a);
      put(i, to);
      return;
    }
    const bool in_place = last_use(a) && !(a == b);
    const u8 to = in_place ? left : allocate();
    const auto copied = [&] {
      if (a.is_constant())
        a_.mov(r32(to), a.constant());
      else if (to != left)
        a_.mov(r32(to), r32(left));
    };
    switch (s.kind) {
      case StepKind::kAdd:
        if (in_place && b.is_constant())
          a_.add(r32(to), imm);
        else if (in_place)
          a_.add(r32(to), r32(right));
        else if (b.is_constant())
          a_.lea(r32(to), x86::ptr(r64(left), imm));
        else
          a_.lea(r32(to), x86::ptr(r64(left), r64(right)));
        break;
      case StepKind::kSub:
        copied();
        a_.sub(r32(to), r32(right));
        break;
      case StepKind::kMul:
        if (b.is_constant()) {
          a_.imul(r32(to), r32(left), imm);
        } else {
          copied();
          a_.imul(r32(to), r32(right));
        }
        break;
      case StepKind::kAnd:
        if (s.b == Value(0xffU)) {
          a_.movzx(r32(to), r32(left).r8());
        } else if (s.b == Value(0xffffU)) {
          a_.movzx(r32(to), r32(left).r16());
        } else {
          copied();
          if (b.is_constant())
            a_.and_(r32(to), imm);
          else
            a_.and_(r32(to), r32(right));
        }
        break;
      case StepKind::kOr:
        copied();
        if (b.is_constant())
          a_.or_(r32(to), imm);
        else
          a_.or_(r32(to), r32(right));
        break;
      case StepKind::kXor:
        copied();
        if (b.is_constant())
          a_.xor_(r32(to), imm);
        else
          a_.xor_(r32(to), r32(right));
        break;
      case StepKind::kShl:
        copied();
        a_.shl(r32(to), s.imm);
        break;
      case StepKind::kShr:
        copied();
        a_.shr(r32(to), s.imm);
        break;
      case StepKind::kDivide:
        copied();
        a_.imul(r64(to), r64(to), static_cast<std::int32_t>(s.imm));
        a_.shr(r64(to), 32);
        break;
      case StepKind::kSigned:
        if (s.imm == 8)
          a_.movsx(r32(to), r32(left).r8());
        else
          a_.movsx(r32(to), r32(left).r16());
        break;
      default: failed_ = true;
    }
    release(a);
    release(b);
    put(i, to);
  }

  void compare(u16 i, const Step& s) {
    const u8 to = allocate();
    a_.mov(r32(to), 0);
    if (s.a.is_constant()) a_.mov(x86::eax, s.a.constant());
    const x86::Gp left = r32(s.a.is_constant() ? kScratch : hold(s.a));
    if (s.b.is_constant())
      a_.cmp(left, static_cast<std::int32_t>(s.b.constant()));
    else
      a_.cmp(left, r32(hold(s.b)));
    if (s.kind == StepKind::kLess)
      a_.setb(r32(to).r8());
    else
      a_.setl(r32(to).r8());
    release(s.a);
    release(s.b);
    put(i, to);
  }

  // Effects --------------------------------------------------------------------------------------

  void store(const x86::Mem& to, unsigned bytes, const Value& value) {
    if (value.is_constant()) {
      a_.mov(to, static_cast<std::int32_t>(value.constant()));
      return;
    }
    const x86::Gp from = r32(hold(value));
    a_.mov(to, bytes == 1 ? from.r8() : bytes == 2 ? from.r16() : from);
  }
  void effect(const Step& s) {
    switch (s.kind) {
      case StepKind::kSetReg:
      case StepKind::kSetData: store(at(kData, s.imm, 1), 1, s.a); break;
      case StepKind::kSetPair: store(at(kData, s.imm, 2), 2, s.a); break;
      case StepKind::kStore: store(byte_at(kData, s.a, s.imm), 1, s.b); break;
      case StepKind::kStoreIo: tell(s); return;
      case StepKind::kCount:
        a_.mov(x86::rax, reinterpret_cast<std::uintptr_t>(block_.unheld));
        a_.inc(x86::qword_ptr(x86::rax));
        break;
      case StepKind::kCountIf: count_if(s); break;
      case StepKind::kTellCall: {
        const auto put = [&](std::size_t at, const Value& value) {
          const x86::Mem to = x86::dword_ptr(x86::rax, static_cast<std::int32_t>(at));
          if (value.is_constant())
            a_.mov(to, value.constant());
          else
            a_.mov(to, r32(hold(value)));
        };
        a_.mov(x86::rax, field(offsetof(Native, log), 8));
        put(offsetof(CallRecord, word), s.b);
        put(offsetof(CallRecord, sp), s.a);
        put(offsetof(CallRecord, cycles), s.imm | ((s.mask & 1U) != 0 ? CallRecord::kReturn : 0));
        put(offsetof(CallRecord, from), s.exit | u32{s.mask} >> 1U << 16U);
        a_.mov(x86::qword_ptr(x86::rax, offsetof(CallRecord, left)), kLeft);
        a_.add(field(offsetof(Native, log), 8), sizeof(CallRecord));
        break;
      }
      case StepKind::kLeaveSlow:
        a_.test(byte_at(kAttributesAt, s.a, s.imm), s.mask);
        leave_when(x86::CondCode::kNotZero, s);
        break;
      case StepKind::kLeaveDeep:
        if (s.a.is_constant()) {
          a_.mov(x86::eax, s.a.constant());
          a_.cmp(x86::eax, field(offsetof(Native, lowest_sp), 4));
        } else {
          a_.cmp(r32(hold(s.a)), field(offsetof(Native, lowest_sp), 4));
        }
        leave_when(x86::CondCode::kUnsignedLT, s);
        break;
      case StepKind::kLeaveLate:
        a_.cmp(kLeft, s.imm);
        leave_when(x86::CondCode::kSignedLE, s);
        break;
      case StepKind::kLeaveIf:
      case StepKind::kLeaveIfNot: test(s); return;
      default: leave(s.exit); return;
    }
    release(s.a);
    release(s.b);
  }
  void count_if(const Step& s) {
    const asmjit::Label unheld = a_.newLabel(), counted = a_.newLabel();
    if (!s.a.is_constant()) {
      const x86::Gp holds = r32(hold(s.a));
      a_.test(holds, holds);
      a_.jz(unheld);
    }
    a_.mov(x86::rax, reinterpret_cast<std::uintptr_t>(block_.left));
    a_.cmp(x86::qword_ptr(x86::rax), 0);
    leave_when(x86::CondCode::kZero, s);
    a_.dec(x86::qword_ptr(x86::rax));
    a_.jmp(counted);
    a_.bind(unheld);
    a_.mov(x86::rax, reinterpret_cast<std::uintptr_t>(block_.unheld));
    a_.inc(x86::qword_ptr(x86::rax));
    a_.bind(counted);
  }
  void test(const Step& s) {
    const auto [value, mask] = test_of(s.a);
    const x86::Gp at_hand = r32(hold(value));
    bool sign = false;
    if (mask == 0xff && at_hand.id() < 16) {
      a_.test(at_hand.r8(), at_hand.r8());
    } else if (mask == 0x80000000U) {
      a_.test(at_hand, at_hand);
      sign = true;
    } else if (mask == kAllOnes) {
      a_.test(at_hand, at_hand);
    } else {
      a_.test(at_hand, static_cast<std::int32_t>(mask));
    }
    const bool when = s.kind == StepKind::kLeaveIf;
    if (sign)
      leave_when(when ? x86::CondCode::kSign : x86::CondCode::kNotSign, s);
    else
      leave_when(when ? x86::CondCode::kNotZero : x86::CondCode::kZero, s);
    release(value);
  }
  void leave_when(x86::CondCode condition, const Step& s) {
    stubs_.push_back({a_.newLabel(), s.exit, s.kind == StepKind::kLeaveLate, at_.owner,
                      at_.next_spill, static_cast<u32>(held_.size())});
    a_.j(condition, stubs_.back().label);
    for (const u16 hand : wanted_[s.exit].at_hand) {
      held_.emplace_back(hand, at_.places[hand]);
      release(Value(*block_of_this(), hand));
    }
    stubs_.back().held_end = static_cast<u32>(held_.size());
  }
  /// What was where when a stub was made, as far as its exit asks.
  void restore(const Stub& stub) {
    std::fill(at_.places.begin(), at_.places.end(), Place{});
    at_.owner = stub.owner;
    at_.next_spill = stub.next_spill;
    for (u32 i = stub.held_begin; i < stub.held_end; ++i)
      at_.places[held_[i].first] = held_[i].second;
  }
  [[nodiscard]] Block* block_of_this() const { return const_cast<Block*>(&block_); }

  /// Brings what an exit says into memory. Nothing else is held behind it.
  void save(u16 number) {
    const Exit& exit = block_.exits[number];
    const Wanted& all = wanted_[number];
    std::vector<u16>& uses = at_.uses;
    uses.assign(block_.steps.size(), 0);
    for (const u16 i : all.made)
      for (const Value& value : {block_.steps[i].a, block_.steps[i].b})
        if (!value.is_constant()) ++uses[value.step()];
    roots(exit, [&](const Value& value, const x86::Mem& /*to*/) {
      if (!value.is_constant()) ++uses[value.step()];
    });
    if (!exit.to.is_constant()) ++uses[exit.to.step()];
    for (auto& owner : at_.owner)
      if (owner >= 0 && at_.uses[static_cast<std::size_t>(owner)] == 0) owner = -1;
    for (const u16 i : all.made) {
      pinned_ = 0;
      define(i);
    }
    roots(exit, [&](const Value& value, const x86::Mem& to) {
      pinned_ = 0;
      store(to, 4, value);
      release(value);
    });
  }
  void spend(u32 cycles) {
    if (cycles > spent_) a_.sub(kLeft, cycles - spent_);
  }
  /// `late`: there is no time to go on.
  void leave(u16 number, bool late = false) {
    const Exit& exit = block_.exits[number];
    if (!exit.saved) save(number);
    const u32 before = spent_;
    if (!exit.saved) spent_ = 0;
    spend(exit.cycles);
    spent_ = before;
    if (block_.counts != nullptr) {
      a_.mov(x86::rax, reinterpret_cast<std::uintptr_t>(block_.counts + number));
      a_.inc(x86::qword_ptr(x86::rax));
    }
    if (exit.to.is_constant()) {
      a_.mov(x86::eax, exit.to.constant() | (exit.precise || late ? kPrecise : 0));
    } else {
      pinned_ = 0;
      a_.mov(x86::eax, r32(hold(exit.to)));
    }
    if (exit.precise || late)
      a_.jmp(x86::qword_ptr(kTable, -8));
    else
      a_.jmp(x86::qword_ptr(kTable, x86::rax, 3));
  }

  // Peripherals: the state is saved, and nothing is held.
  void call(const Step& s, const x86::Mem& function) {
    const Exit& exit = block_.exits[s.exit];
    save(s.exit);
    spend(exit.cycles);
    spent_ = exit.cycles;
    at_.owner.fill(-1);
    a_.mov(field(offsetof(Native, left), 8), kLeft);
    a_.mov(x86::rdi, field(offsetof(Native, engine), 8));
    a_.mov(x86::esi, s.imm);
    a_.mov(x86::edx, s.b.constant());
    a_.mov(x86::ecx, field(offsetof(Native, io_value), 4));
    a_.mov(x86::r8d, s.mask);
    a_.call(function);
    a_.mov(kLeft, field(offsetof(Native, left), 8));
  }
  void ask(u16 i, const Step& s) {
    const u16 uses = at_.uses[i];
    call(s, field(offsetof(Native, load), 8));
    at_.uses.assign(block_.steps.size(), 0);
    at_.uses[i] = uses;
    at_.places[i] = {Place::Kind::kRegister, kScratch};
  }
  void tell(const Step& s) {
    store(field(offsetof(Native, io_value), 4), 4, s.a);
    call(s, field(offsetof(Native, store), 8));
  }

  const Block& block_;
  x86::Assembler& a_;
  const u32 page_bytes_;
  std::vector<bool> needed_;
  Layout at_;
  u32 pinned_ = 0;              ///< registers of the step at hand
  u32 spent_ = 0;               ///< cycles that have been taken off already
  std::vector<Wanted> wanted_;  ///< by exit
  std::vector<Stub> stubs_;
  std::vector<std::pair<u16, Place>> held_;  ///< of the stubs: steps that they ask for, and where
  bool failed_ = false;
};

}  // namespace

bool emit(const Block& block, x86::Assembler& out, u32 page_bytes) {
  return Emitter(block, out, page_bytes).emit();
}

}  // namespace lucid::avr
#endif
