// SPDX-License-Identifier: MIT
#include "avr/chip/block.h"

#include <algorithm>

#include "avr/isa/target.h"

namespace lucid::avr {
namespace {

constexpr unsigned kMostInstructions = 40;
constexpr unsigned kMostCycles = 64;
constexpr unsigned kCyclesUnlooked = 8;  // then the time is looked at

Value made(Block& block, StepKind kind, const Value& a, const Value& b, unsigned bits,
           u32 imm = 0) {
  Step step{kind, a, b, imm};
  step.bits = static_cast<u8>(std::min(bits, 32U));
  return {block, block.add(step)};
}

Block& block_of(const Value& a, const Value& b) {
  return a.is_constant() ? *b.block() : *a.block();
}

const Step* step_of(const Value& value, StepKind kind) {
  if (value.is_constant()) return nullptr;
  const Step& step = value.block()->steps[value.step()];
  return step.kind == kind ? &step : nullptr;
}

constexpr u32 ones(unsigned bits) { return bits >= 32 ? ~0U : (1U << bits) - 1; }

}  // namespace

unsigned Value::bits() const {
  if (!is_constant()) return block_->steps[number_].bits;
  unsigned bits = 0;
  while (bits < 32 && number_ >> bits != 0) ++bits;
  return bits;
}

Value operator+(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() + b.constant();
  if (a.is_constant()) return b + a;
  if (b == Value(0U)) return a;
  if (const Step* sum = step_of(a, StepKind::kAdd); sum != nullptr && b.is_constant())
    if (sum->b.is_constant()) return sum->a + Value(sum->b.constant() + b.constant());
  return made(block_of(a, b), StepKind::kAdd, a, b, std::max(a.bits(), b.bits()) + 1);
}
Value operator-(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() - b.constant();
  if (b == Value(0U)) return a;
  if (a == b) return 0U;
  if (b.is_constant()) return a + Value(0U - b.constant());
  return made(block_of(a, b), StepKind::kSub, a, b, 32);
}
Value operator*(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() * b.constant();
  if (a.is_constant()) return b * a;
  return made(block_of(a, b), StepKind::kMul, a, b, a.bits() + b.bits());
}
Value operator&(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() & b.constant();
  if (a.is_constant()) return b & a;
  if (a == b) return a;
  if (b.is_constant()) {
    const u32 mask = b.constant() & ones(a.bits());
    if (mask == 0) return 0U;
    if (mask == ones(a.bits())) return a;
    if (const Step* inner = step_of(a, StepKind::kAnd); inner != nullptr)
      if (inner->b.is_constant()) return inner->a & Value(inner->b.constant() & mask);
    return made(*a.block(), StepKind::kAnd, a, Value(mask), Value(mask).bits());
  }
  return made(*a.block(), StepKind::kAnd, a, b, std::min(a.bits(), b.bits()));
}
Value operator|(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() | b.constant();
  if (a.is_constant()) return b | a;
  if (b == Value(0U) || a == b) return a;
  return made(block_of(a, b), StepKind::kOr, a, b, std::max(a.bits(), b.bits()));
}
Value operator^(const Value& a, const Value& b) {
  if (a.is_constant() && b.is_constant()) return a.constant() ^ b.constant();
  if (a.is_constant()) return b ^ a;
  if (b == Value(0U)) return a;
  if (a == b) return 0U;
  return made(block_of(a, b), StepKind::kXor, a, b, std::max(a.bits(), b.bits()));
}
Value operator<<(const Value& a, unsigned places) {
  if (a.is_constant()) return a.constant() << places;
  if (places == 0) return a;
  return made(*a.block(), StepKind::kShl, a, {}, a.bits() + places, places);
}
Value operator>>(const Value& a, unsigned places) {
  if (a.is_constant()) return a.constant() >> places;
  if (places == 0) return a;
  if (places >= a.bits()) return 0U;
  return made(*a.block(), StepKind::kShr, a, {}, a.bits() - places, places);
}
Value is_zero(const Value& a) {
  if (a.is_constant()) return is_zero(a.constant());
  return made(*a.block(), StepKind::kIsZero, a, {}, 1);
}
Value signed_of(const Value& a, unsigned bits) {
  if (bits >= 32) return a;
  if (a.is_constant()) {
    const u32 sign = 1U << (bits - 1);
    return ((a.constant() & ones(bits)) ^ sign) - sign;
  }
  return made(*a.block(), StepKind::kSigned, a, {}, 32, bits);
}
Value less(const Value& a, const Value& b, bool is_signed) {
  if (a.is_constant() && b.is_constant())
    return u32{is_signed ? static_cast<std::int32_t>(a.constant()) <
                               static_cast<std::int32_t>(b.constant())
                         : a.constant() < b.constant()};
  return made(block_of(a, b), is_signed ? StepKind::kLessSigned : StepKind::kLess, a, b, 1);
}

namespace {

/// Takes a block down: the State of Execute that runs nothing.
class Maker {
 public:
  using Number = Value;
  BasicFlags<Value> flags;

  Maker(Block& block, const CodeView& code) : block_(block), code_(code) {
    constexpr std::size_t kUsualSteps = 160, kUsualExits = 24;
    block.steps.reserve(kUsualSteps);
    block.exits.reserve(kUsualExits);
    FlagParts parts;
    Value* const all[] = {&parts.c, &parts.carries, &parts.sign, &parts.zero, &parts.t};
    for (u32 i = 0; i < 5; ++i) *all[i] = leaf(StepKind::kFlag, i, i == 0 || i == 4 ? 1 : 32);
    flags.set_parts(parts);
    sp_ = leaf(StepKind::kSp, 0, 16);
  }

  void make(u32 word) {
    block_.start = next_ = word;
    block_.spans.emplace_back(word, word);
    if (code_.passing != nullptr) begin_with(*code_.passing);
    while (!ended_) {
      if (cycles_ >= looked_ + kCyclesUnlooked) look_at_time();
      const auto entry = block_.instructions < kMostInstructions && cycles_ < kMostCycles
                             ? code_.at(next_)
                             : std::nullopt;
      if (!entry || !take(*entry)) {
        leave(StepKind::kLeave, {}, exit_to(Value(next_ & code_.pc_mask), cycles_));
        break;
      }
    }
    look_back();
  }

  /// Leaves it to the precise gear to pause.
  void begin_with(const machine::Passing& passing) {
    before_ = exit_to(Value(next_), 0);
    before_.precise = true;
    block_.unheld = code_.unheld;
    block_.left = code_.left;
    const Value holds = passing.unless ? worked_out(*passing.unless) : Value(1U);
    leave(passing.times ? StepKind::kCountIf : StepKind::kLeaveIf, holds, before_);
    if (!passing.times) block_.add({StepKind::kCount});
  }

  // What Execute asks for.
  [[nodiscard]] Value reg(unsigned n) {
    auto& known = registers_[n];
    const auto& both = pairs_[n / 2];
    if (!known && both) known = n % 2 == 0 ? low8(*both) : *both >> 8U;
    if (!known) known = leaf(StepKind::kReg, n, 8);
    return *known;
  }
  void set_reg(unsigned n, const Value& value) {
    if (!registers_[n ^ 1U] && pairs_[n / 2]) registers_[n ^ 1U] = reg(n ^ 1U);
    pairs_[n / 2].reset();
    registers_[n] = low8(value);
    pending_.push_back({StepKind::kSetReg, cut(value, 0xff), {}, n});
  }
  [[nodiscard]] Value pair(unsigned n) {
    auto& known = pairs_[n / 2];
    if (!known && (registers_[n] || registers_[n + 1])) known = reg(n) | reg(n + 1) << 8U;
    if (!known) known = leaf(StepKind::kPair, n, 16);
    return *known;
  }
  void set_pair(unsigned n, const Value& value) {
    registers_[n].reset();
    registers_[n + 1].reset();
    pairs_[n / 2] = low16(value);
    pending_.push_back({StepKind::kSetPair, cut(value, 0xffff), {}, n});
  }
  [[nodiscard]] Value rampz() { return leaf(StepKind::kData, kRampzAddress, 8); }
  [[nodiscard]] Value eind() { return leaf(StepKind::kData, kEindAddress, 8); }
  void set_rampz(const Value& value) {
    pending_.push_back({StepKind::kSetData, value, {}, kRampzAddress});
  }

  Value load(const Value& address) {
    if (address.is_constant() && address.constant() < code_.ram_begin)
      return load_io(address.constant());
    return guarded(address, kSlowLoad | kNotRam);
  }
  void store(const Value& address, const Value& value) {
    if (address.is_constant() && address.constant() < code_.ram_begin)
      store_io(address.constant(), value, 0xff);
    else
      guarded_store(address, value, kSlowStore | kNotRam);
  }
  void store_bits(const Value& address, u8 value, u8 mask) {
    store_io(address.constant(), Value(u32{value}), mask);
  }
  void push(const Value& value) {
    guarded_store(sp_, value, kSlowPush);
    sp_ = short_of(sp_ - 1U);
    pushed_ = true;
  }
  Value pop() {
    sp_ = short_of(sp_ + 1U);
    return guarded(sp_, kSlowPop);
  }
  void push_pc() {
    const u32 pc = next_ & code_.pc_mask;
    push(Value(pc & 0xff));
    push(Value(pc >> 8 & 0xff));
    if (code_.wide_pc) push(Value(pc >> 16));
  }
  Value pop_pc() {
    Value word = code_.wide_pc ? pop() : Value(0U);
    word = word << 8U | pop();
    return word << 8U | pop();
  }
  Value flash(const Value& address) {
    const Value cut_address = address & Value(2 * code_.pc_mask + 1);
    return made_leaf({StepKind::kFlash, cut_address}, 8);
  }
  void jump(const Value& word) {
    end_ = word & Value(code_.pc_mask);
    ended_ = true;
  }
  void jump_to(const Entry& entry) {
    const u32 to = static_cast<u32>(entry.k) & code_.pc_mask;
    for (const auto& [begin, end] : block_.spans)
      if (to >= begin && to < end) return jump(Value(to));  // a loop
    followed_ = to;
  }
  void branch_if(const Value& condition, const Entry& entry) {
    if (entry.b == 7) refused_ = true;  // I is not among what the block knows
    branches_ = condition;
    branch_to_ = static_cast<u32>(entry.k) & code_.pc_mask;
    branch_cycles_ = 1;
  }
  void skip_if(const Value& condition) {
    const u32 over = code_.length(next_);
    branches_ = condition;
    branch_to_ = (next_ + over) & code_.pc_mask;
    branch_cycles_ = over;
  }
  void set_flag(unsigned bit, bool on) {
    if (bit == 0)
      flags.set_c(Value(u32{on}));
    else if (bit == 6)
      flags.set_t(Value(u32{on}));
    else
      refused_ = true;
  }
  void returned_from_interrupt() { refused_ = true; }
  void sleep() { refused_ = true; }
  void watchdog_reset() { refused_ = true; }
  void self_program() { refused_ = true; }

 private:
  /// False: it has to be left to the precise gear.
  bool take(const Entry& entry) {
    const std::size_t steps = block_.steps.size();
    const std::size_t exits = block_.exits.size();
    const auto sp = sp_;
    const u32 here = next_;
    before_ = exit_to(Value(here), cycles_);
    before_.precise = true;
    pending_.clear();
    refused_ = pushed_ = io_ = false;
    branches_.reset();
    followed_.reset();
    here_ = here;
    next_ += entry.length;
    block_.spans.back().second = next_;
    cycles_ += row(entry.op).*(code_.wide_pc ? &Row::cycles22 : &Row::cycles);
    execute(entry);
    if (refused_) {
      block_.steps.resize(steps);
      block_.exits.resize(exits);
      sp_ = sp;
      io_ = false;
      next_ = block_.spans.back().second = here;
      cycles_ = before_.cycles;
      flags.set_parts(before_.flags);
      return false;
    }
    if (pushed_) leave(StepKind::kLeaveDeep, sp_, before_);
    for (const Step& step : pending_) block_.add(step);
    ++block_.instructions;
    block_.path.push_back({here, false});
    if (code_.tells_calls) tell_call(entry);
    if (branches_) leave_if(*branches_);
    if (ended_) leave(StepKind::kLeave, {}, exit_to(end_, cycles_));
    if (followed_) {
      next_ = *followed_;
      block_.spans.emplace_back(next_, next_);
    }
    if (io_ && !ended_) {
      leave(StepKind::kLeave, {}, exit_to(Value(next_ & code_.pc_mask), cycles_));
      ended_ = true;
    }
    return true;
  }
  void tell_call(const Entry& entry) {
    const Flow flow = row(entry.op).flow;
    const bool returns = flow == Flow::kReturn;
    if (flow != Flow::kCall && flow != Flow::kIndirectCall && !returns) return;
    const Value target = returns ? Value(0U) : followed_ ? Value(*followed_) : end_;
    if (target == Value(next_ & code_.pc_mask)) return;  // `rcall .+0` makes room on the stack
    block_.add({StepKind::kTellCall, sp_, target, cycles_,
                static_cast<u8>(u32{returns} | here_ >> 16U << 1U), 32, static_cast<u16>(here_)});
  }
  void execute(const Entry& entry) {
    switch (entry.op) {
#define LUCID_AVR(id, ...)            \
  case k##id:                         \
    Execute<Maker>::id(*this, entry); \
    break;
#include "avr/isa/instructions.def"
      default: refused_ = true;
    }
    if (entry.op == kBREAK) refused_ = true;
  }

  [[nodiscard]] Value worked_out(const machine::Predicate& predicate) {
    using Kind = machine::Predicate::Kind;
    std::vector<Value> stack;
    const auto pop = [&stack] {
      const Value top = stack.back();
      stack.pop_back();
      return top;
    };
    for (const machine::Predicate::Operation& op : predicate.operations) {
      if (op.kind == Kind::kConstant) {
        stack.emplace_back(op.value);
        continue;
      }
      if (op.kind == Kind::kBytes) {
        Step step{StepKind::kBytes, {}, {}, op.value, static_cast<u8>(op.bits / 8)};
        const Value bytes = made_leaf(step, op.bits);
        stack.push_back(op.is_signed ? signed_of(bytes, op.bits) : bytes);
        continue;
      }
      if (op.kind == Kind::kRegister) {
        const Value held = op.value < 32 ? leaf(StepKind::kReg, op.value, 8)
                           : op.value == kSp
                               ? sp_
                               : leaf(StepKind::kPair, 26 + 2 * (op.value - kXPair), 16);
        stack.push_back(op.is_signed ? signed_of(held, op.bits) : held);
        continue;
      }
      if (op.kind == Kind::kFlag) {
        const Value flag = op.value == 7 ? leaf(StepKind::kFlag, 5, 1) : flags.test(op.value);
        stack.push_back(is_zero(is_zero(flag)));
        continue;
      }
      const Value b = pop();
      if (op.kind == Kind::kFit) {
        stack.push_back(op.is_signed ? signed_of(b, op.bits) : b & Value(ones(op.bits)));
        continue;
      }
      if (op.kind == Kind::kLoad) {
        Value bytes(0U);
        for (unsigned i = 0; i < op.bits; i += 8)
          bytes = bytes | guarded(low16(b + Value(i / 8)), kSlowLoad | kNotRam) << i;
        stack.push_back(op.is_signed ? signed_of(bytes, op.bits) : bytes);
        continue;
      }
      if (op.kind == Kind::kNot) {
        stack.push_back(is_zero(b));
        continue;
      }
      if (op.kind == Kind::kDivide || op.kind == Kind::kRemainder || op.kind == Kind::kShiftRight) {
        // By the number's distance from 0, or from -1.
        const Value sign = op.is_signed ? Value(0U) - less(b, Value(0U), true) : Value(0U);
        if (op.kind == Kind::kShiftRight) {
          stack.push_back(((b ^ sign) >> op.value) ^ sign);
          continue;
        }
        const Value quotient = (divided((b ^ sign) - sign, op.value) ^ sign) - sign;
        stack.push_back(op.kind == Kind::kDivide ? quotient : b - quotient * Value(op.value));
        continue;
      }
      if (op.kind == Kind::kShiftLeft) {
        stack.push_back(b << op.value);
        continue;
      }
      const Value a = pop();
      switch (op.kind) {
        case Kind::kMultiply: stack.push_back(a * b); break;
        case Kind::kAdd: stack.push_back(a + b); break;
        case Kind::kSubtract: stack.push_back(a - b); break;
        case Kind::kAnd: stack.push_back(a & b); break;
        case Kind::kOr: stack.push_back(a | b); break;
        case Kind::kXor: stack.push_back(a ^ b); break;
        case Kind::kEqual: stack.push_back(is_zero(a ^ b)); break;
        default: stack.push_back(less(a, b, op.is_signed));
      }
    }
    return pop();
  }

  /// Of 16 bits.
  [[nodiscard]] Value divided(const Value& a, u32 by) {
    if ((by & (by - 1)) == 0) return a >> static_cast<unsigned>(__builtin_ctz(by));
    if (a.is_constant()) return a.constant() / by;
    Step step{StepKind::kDivide, a, {}, static_cast<u32>((u64{1} << 32) / by) + 1};
    step.bits = 16;
    return {block_, block_.add(step)};
  }

  void look_at_time() {
    look_back();
    look_step_ = block_.steps.size();
    leave(StepKind::kLeaveLate, {}, exit_to(Value(next_), cycles_));
    looked_ = cycles_;
    looked_exit_ = block_.exits.size();
  }
  /// The last look has to see so far ahead.
  void look_back() {
    u32 worst = cycles_;
    for (std::size_t i = looked_exit_; i < block_.exits.size(); ++i)
      worst = std::max(worst, block_.exits[i].cycles);
    (looked_ == 0 ? block_.worst : block_.steps[look_step_].imm) = worst;
  }

  Value made_leaf(const Step& step, unsigned bits) {
    Step with_bits = step;
    with_bits.bits = static_cast<u8>(bits);
    return {block_, block_.add(with_bits)};
  }
  Value leaf(StepKind kind, u32 imm, unsigned bits) { return made_leaf({kind, {}, {}, imm}, bits); }
  /// The stack pointer stays within 16 bits: at its ends there is no plain memory.
  Value short_of(const Value& value) {
    if (!value.is_constant()) block_.steps[value.step()].bits = 16;
    return value;
  }
  /// Who stores bits 0 to 7 need not cut them out first.
  static Value cut(const Value& value, u32 mask) {
    if (const Step* step = step_of(value, StepKind::kAnd))
      if (step->b == Value(mask)) return step->a;
    return value;
  }
  /// An address is a value and a displacement; that there is memory says that they stay in 16 bits.
  static std::pair<Value, u32> address_of(const Value& address) {
    if (address.is_constant()) return {Value(0U), address.constant()};
    const Value whole = cut(address, 0xffff);
    const Step* sum = step_of(whole, StepKind::kAdd);
    if (sum != nullptr && sum->b.is_constant() && sum->b.constant() < 64 && sum->a.bits() <= 16)
      return {sum->a, sum->b.constant()};
    return {address, 0};
  }
  Value guarded(const Value& address, unsigned attributes) {
    const auto [base, offset] = address_of(address);
    guard(base, offset, attributes);
    return made_leaf({StepKind::kLoad, base, {}, offset}, 8);
  }
  void guarded_store(const Value& address, const Value& value, unsigned attributes) {
    const auto [base, offset] = address_of(address);
    guard(base, offset, attributes);
    block_.add({StepKind::kStore, base, cut(value, 0xff), offset});
  }
  void guard(const Value& base, u32 offset, unsigned attributes) {
    leave(StepKind::kLeaveSlow, base, before_);
    block_.steps.back().imm = offset;
    block_.steps.back().mask = static_cast<u8>(attributes);
  }
  Value load_io(u32 address) {
    if (address < 0x20) refused_ = true;
    if (address == kSpl || address == kSph || address == kSregAddress) {
      guard(Value(0U), address, kWatchRead);
      if (address == kSregAddress) return flags.low_bits() | leaf(StepKind::kFlag, 5, 1) << 7U;
      return address == kSpl ? low8(sp_) : sp_ >> 8U;
    }
    leave_for_io();
    io_ = true;
    return made_leaf({StepKind::kIo, {}, Value(here_), address, 0, 8, last_exit()}, 8);
  }
  void store_io(u32 address, const Value& value, u8 mask) {
    if (address < 0x20) refused_ = true;
    if (address == kSregAddress) {
      if (mask != 0xff) refused_ = true;
      guard(Value(0U), address, kWatchWrite);
      // I stays, or else the instruction is for the precise gear.
      leave(StepKind::kLeaveIf, value >> 7U ^ leaf(StepKind::kFlag, 5, 1), before_);
      flags.set_low_bits(low8(value));
      return;
    }
    if (address == kSpl || address == kSph) {
      if (mask != 0xff) refused_ = true;
      guard(Value(0U), address, kWatchWrite);
      sp_ = address == kSpl ? (sp_ & 0xff00U) | low8(value) : low8(sp_) | low8(value) << 8U;
      pushed_ = true;
      return;
    }
    leave_for_io();
    block_.add({StepKind::kStoreIo, value, Value(here_), address, mask, 0, last_exit()});
    io_ = true;
  }
  /// Its state is saved before the peripheral is asked.
  void leave_for_io() { block_.exits.push_back(exit_to(Value(next_), cycles_)); }
  [[nodiscard]] u16 last_exit() const { return static_cast<u16>(block_.exits.size() - 1); }

  [[nodiscard]] Exit exit_to(const Value& to, u32 cycles) const {
    return {to, cycles, false, io_, flags.parts(), sp_, block_.instructions, false};
  }
  void leave(StepKind kind, const Value& a, const Exit& exit) {
    block_.exits.push_back(exit);
    block_.add({kind, a, {}, 0, 0, 0, last_exit()});
  }
  void leave_if(Value condition) {
    bool when = true;
    while (const Step* step = step_of(condition, StepKind::kIsZero)) {
      condition = step->a;
      when = !when;
    }
    if (condition.is_constant()) {
      if ((condition.constant() != 0) == when) {
        cycles_ += branch_cycles_;
        block_.path.back().departs = true;
        jump(Value(branch_to_));
      }
      return;
    }
    Exit exit = exit_to(Value(branch_to_), cycles_ + branch_cycles_);
    exit.departs = true;
    leave(when ? StepKind::kLeaveIf : StepKind::kLeaveIfNot, condition, exit);
  }

  Block& block_;
  const CodeView& code_;
  u32 here_ = 0;    ///< word of the instruction being taken
  u32 next_ = 0;    ///< and behind it
  u32 cycles_ = 0;  ///< that one included
  u32 looked_ = 0;  ///< cycles at the last look at the time
  std::size_t look_step_ = 0, looked_exit_ = 0;
  Value sp_;
  std::array<std::optional<Value>, 32> registers_;
  std::array<std::optional<Value>, 16> pairs_;
  bool ended_ = false;
  Value end_;

  // Of the instruction being taken.
  Exit before_;
  std::vector<Step> pending_;  ///< registers it writes, when all else has worked out
  bool refused_ = false, pushed_ = false, io_ = false;
  std::optional<Value> branches_;
  u32 branch_to_ = 0, branch_cycles_ = 0;
  std::optional<u32> followed_;
};

}  // namespace

void make_block(Block& block, const CodeView& code, u32 word) { Maker(block, code).make(word); }

}  // namespace lucid::avr
