// SPDX-License-Identifier: MIT
#include "avr/peripherals/attached.h"

#include "avr/peripherals/adc.h"
#include "avr/peripherals/port.h"
#include "avr/peripherals/system.h"
#include "avr/peripherals/two_wire_bus.h"
#include "base/text.h"
#include "lucid/time.h"

namespace lucid {

Wires::~Wires() = default;
Part::~Part() = default;

std::uint64_t Wires::ticks(std::uint64_t microseconds) const {
  return to_ticks({microseconds * 1'000'000}, clock_hz());
}

Result<void> Part::act(Wires& /*wires*/, const std::string& action,
                       const std::string& /*value*/) const {
  return fail(ErrorCode::kUsage, "nobody can " + action + " '" + name_ + "'");
}

namespace avr {

class Attached::View final : public Wires {
 public:
  /// At a cycle, which may have begun behind the tick at which something happens.
  View(const Attached& part, const Bus& bus, u64 now, u64 tick = kNever)
      : part_(part), bus_(bus), now_(now), tick_(tick == kNever ? bus.world.tick_at(now) : tick) {}

  [[nodiscard]] std::uint64_t now() const override { return tick_; }
  [[nodiscard]] std::uint64_t clock_hz() const override { return part_.clock_hz_; }
  [[nodiscard]] std::int32_t supply() const override { return bus_.world.supply; }
  [[nodiscard]] bool level(unsigned pin) const override {
    const Pin& p = part_.pins_[pin];
    return p.port->level(bus_.world, p.bit);
  }
  void drive(unsigned pin, std::optional<bool> level) override {
    part_.set_level(bus_, pin, level_of(level), now_);
  }
  void apply(unsigned pin, std::int32_t microvolts) override {
    part_.set_level(bus_, pin,
                    {OutsideLevel::kVoltage, std::clamp(microvolts, -500'000, supply() + 500'000)},
                    now_);
  }
  void reset() override { bus_.world.cpu.reset_cause |= kExtrf; }
  void set_supply(std::int32_t microvolts) override {
    if (part_.adc_ != nullptr) part_.adc_->before_change(bus_, now_);
    avr::set_supply(bus_, std::clamp(microvolts, 0, 5'500'000));
  }
  void send(const std::string& port, const std::string& bytes) override {
    for (const auto& usart : part_.usarts_)
      if (base::equal_ignoring_case(usart->name(), port)) usart->send(bus_, bytes, now_);
  }
  void transfer(const TwoWireTransfer& transfer) override {
    if (part_.two_wire_ != nullptr) part_.two_wire_->transfer(bus_, transfer, now_);
  }
  void send_frame(const std::string& port, const SerialFrame& frame) override {
    for (const auto& usart : part_.usarts_)
      if (base::equal_ignoring_case(usart->name(), port)) usart->send(bus_, frame, now_);
  }
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value) override {
    for (const Attached* other : part_.others_) {
      if (other == &part_ || !base::equal_ignoring_case(other->part().name(), part)) continue;
      auto done = other->act(bus_, action, value);
      if (!done) bus_.note("an input was not taken: " + done.error().text());
      return done;
    }
    return fail(ErrorCode::kNotFound, "there is no part '" + part + "'");
  }
  void note(const std::string& text) override { bus_.note(part_.part().name() + ": " + text); }
  void wake_at(std::uint64_t tick) override {
    bus_.schedule_tick(part_.slot_, std::max(tick, tick_ + 1));
  }
  std::int64_t& number(unsigned index) override { return bus_.world.parts[part_.index_][index]; }

 private:
  const Attached& part_;
  const Bus& bus_;
  u64 now_, tick_;
};

OutsideLevel level_of(std::optional<bool> level) {
  OutsideLevel out;
  if (level) out.kind = *level ? OutsideLevel::kHigh : OutsideLevel::kLow;
  return out;
}

void settle_outside(const Bus& bus, const std::vector<const Attached*>& parts, Pin pin, u64 now) {
  const OutsideLevel& hand = pin.port->by_hand(bus.world, pin.bit);
  OutsideLevel all = hand;
  bool fought = false;
  const auto add = [&](const OutsideLevel& level) {
    if (level.kind == OutsideLevel::kOpen) return;
    const bool first = all.kind == OutsideLevel::kOpen;
    fought = fought || (!first && (level.kind != all.kind || level.microvolts != all.microvolts));
    const bool goes_before = level.kind == OutsideLevel::kVoltage ||
                             (level.kind == OutsideLevel::kLow && all.kind == OutsideLevel::kHigh);
    if (first || (goes_before && hand.kind == OutsideLevel::kOpen)) all = level;
  };
  for (const Attached* part : parts)
    for (std::size_t i = 0; i < part->levels(bus.world).size(); ++i)
      if (part->pins()[i] == pin) add(part->levels(bus.world)[i]);
  pin.port->set_fought(bus, pin.bit, fought);
  if (all.kind == OutsideLevel::kVoltage) {
    pin.port->apply(bus, pin.bit, all.microvolts, now);
    return;
  }
  const bool open = all.kind == OutsideLevel::kOpen;
  pin.port->drive(bus, pin.bit,
                  open ? std::nullopt : std::optional<bool>(all.kind == OutsideLevel::kHigh), now);
}

void Attached::set_level(const Bus& bus, unsigned pin, const OutsideLevel& level, u64 now) const {
  const Pin& on = pins_[pin];
  if (part_->is_a_hand())
    on.port->by_hand(bus.world, on.bit) = level;
  else
    bus.world.part_levels[index_][pin] = level;
  settle_outside(bus, others_, on, now);
}

/// Calls the part. One that throws is off from there, and the run ends saying so: an exception must
/// not travel through translated code.
template <class Call>
void Attached::ask(const Bus& bus, Call call) const {
  if (is_out(bus.world)) return;
  std::string why = "an unknown exception";
  try {
    call();
    return;
  } catch (const std::exception& error) {
    why = error.what();
  } catch (...) {
  }
  bus.world.parts[index_].back() = 1;
  bus.schedule(slot_, kNever);
  bus.fail("the part '" + part_->name() + "' has failed and is off from here: " + why);
}

void Attached::start(const Bus& bus) const {
  bus.world.parts[index_].assign(part_->numbers() + 1, 0);  // the last one: it is off
  bus.world.part_levels[index_].assign(pins_.size(), {});
  bus.schedule(slot_, kNever);
  ask(bus, [&] {
    View view(*this, bus, bus.world.cpu.now);
    part_->start(view);
  });
}

Result<void> Attached::act(const Bus& bus, const std::string& action,
                           const std::string& value) const {
  Result<void> done =
      fail(ErrorCode::kUnsupported, "the part '" + part_->name() + "' is off: it has failed");
  ask(bus, [&] {
    View view(*this, bus, bus.world.cpu.now);
    done = part_->act(view, action, value);
  });
  return done;
}

std::string Attached::describe(const Bus& bus) const {
  std::string text = "off: it has failed";
  ask(bus, [&] {
    View view(*this, bus, bus.world.cpu.now);
    text = part_->describe(view);
  });
  return text;
}

bool Attached::failed(const Bus& bus) const {
  bool out = true;
  ask(bus, [&] {
    View view(*this, bus, bus.world.cpu.now);
    out = part_->failed(view);
  });
  return out;
}

void Attached::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  ask(bus, [&] {
    View view(*this, bus, t);
    for (unsigned i = 0; i < pins_.size(); ++i)
      if (pins_[i] == pin) part_->on_pin(view, i, level);
  });
}

void Attached::on_byte(const Bus& bus, const std::string& port, u8 byte, u64 t) const {
  ask(bus, [&] {
    View view(*this, bus, t);
    part_->on_byte(view, port, byte);
  });
}

bool Attached::on_address(const Bus& bus, u8 address, bool reading, u64 t) const {
  bool acknowledged = false;
  ask(bus, [&] {
    View view(*this, bus, t);
    acknowledged = part_->on_address(view, address, reading);
  });
  return acknowledged;
}
bool Attached::on_bus_byte(const Bus& bus, u8 byte, u64 t) const {
  bool acknowledged = false;
  ask(bus, [&] {
    View view(*this, bus, t);
    acknowledged = part_->on_bus_byte(view, byte);
  });
  return acknowledged;
}
u8 Attached::bus_byte(const Bus& bus, u64 t) const {
  u8 byte = 0xff;
  ask(bus, [&] {
    View view(*this, bus, t);
    byte = part_->bus_byte(view);
  });
  return byte;
}
void Attached::on_stop(const Bus& bus, u64 t) const {
  ask(bus, [&] {
    View view(*this, bus, t);
    part_->on_stop(view);
  });
}

void Attached::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  ask(bus, [&] {
    View view(*this, bus, due, bus.world.due_tick(slot_));
    part_->on_time(view);
  });
}

}  // namespace avr
}  // namespace lucid
