// SPDX-License-Identifier: MIT
#include "avr/peripherals/two_wire_bus.h"

#include <fmt/format.h>

#include "avr/peripherals/attached.h"

namespace lucid::avr {

/// The controller's ends of the lines.
class TwoWireBus::Lines {
 public:
  Lines(const TwoWireBus& outside, const Bus& bus, u64 t) : outside_(outside), bus_(bus), t_(t) {}
  void sda(bool high) const {
    TwoWireBusState& state = bus_.world.two_wire_bus;
    state.controller_low = !high;
    outside_.pull(bus_, t_);
  }
  void scl(bool high) const {
    const Pin& pin = outside_.scl_;
    pin.port->hold_low(bus_, pin.bit, !high, t_);
  }
  [[nodiscard]] bool sda_high() const { return level(outside_.sda_); }
  [[nodiscard]] bool scl_high() const { return level(outside_.scl_); }
  void wake(u64 after) const { bus_.schedule_tick(outside_.slot_, bus_.world.tick_at(t_) + after); }

 private:
  [[nodiscard]] bool level(Pin pin) const { return pin.port->level(bus_.world, pin.bit); }
  const TwoWireBus& outside_;
  const Bus& bus_;
  u64 t_;
};

/// SDA is low if the controller or a device pulls it.
void TwoWireBus::pull(const Bus& bus, u64 t) const {
  const TwoWireBusState& state = bus.world.two_wire_bus;
  const bool behind = !scl_.port->level(bus.world, scl_.bit);  // as Twi::line does
  sda_.port->hold_low(bus, sda_.bit, state.controller_low || state.device_low, behind ? t + 1 : t);
}

void TwoWireBus::reset(const Bus& bus) const {
  if (devices_.empty()) return;
  for (const Pin& pin : {scl_, sda_}) pin.port->pull_up_outside(bus, pin.bit, bus.world.cpu.now);
}

// Devices -----------------------------------------------------------------------------------------

const Attached* TwoWireBus::device(const Bus& bus) const {
  const unsigned number = bus.world.two_wire_bus.device;
  return number == 0 ? nullptr : devices_[number - 1];
}

void TwoWireBus::answer(const Bus& bus, bool low, u64 t) const {
  bus.world.two_wire_bus.device_low = low;
  pull(bus, t);
}

void TwoWireBus::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  if (devices_.empty() && state.steps.empty() && !state.busy) {
    // Nobody is there; but who comes later has to know that the bus is taken.
    if (pin == sda_ && !level && scl_.port->level(bus.world, scl_.bit)) state.busy = true;
    return;
  }
  if (pin == sda_) {
    if (scl_.port->level(bus.world, scl_.bit)) on_condition(bus, !level, t);
    return;
  }
  if (level) state.seen.take(sda_.port->level(bus.world, sda_.bit));
  if (!level) on_clock_fall(bus, t);
  Lines lines(*this, bus, t);
  Controller controller(state.own, lines, bit_);
  follow(bus, controller.on_clock(level), controller, t);
}

void TwoWireBus::on_condition(const Bus& bus, bool start, u64 t) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  const bool mine =
      state.own.doing == (start ? Controller::kStart : Controller::kStop) && state.own.phase == 2;
  if (!start)
    if (const Attached* part = device(bus); part != nullptr) part->on_stop(bus, t);
  state.busy = start;
  state.device = 0;
  state.address = start;
  state.seen = {};
  if (start && !mine && state.own.doing == Controller::kStart)  // somebody was faster
    state.own.doing = Controller::kNothing;
  if (!start && !mine) next_step(bus, t);
}

void TwoWireBus::on_clock_fall(const Bus& bus, u64 t) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  const Attached* const part = device(bus);
  if (state.seen.count == 8) {
    const auto byte = static_cast<u8>(state.seen.bits);
    if (state.address) {
      state.reading = (byte & 1U) != 0;
      for (std::size_t i = 0; i < devices_.size() && state.device == 0; ++i)
        if (devices_[i]->on_address(bus, byte >> 1U, state.reading, t))
          state.device = static_cast<u8>(i + 1);
      answer(bus, state.device != 0, t);
    } else {
      answer(bus, part != nullptr && !state.reading && part->on_bus_byte(bus, byte, t), t);
    }
  } else if (state.seen.count == 9) {
    const bool wants_more = std::exchange(state.address, false) || (state.seen.bits & 1U) == 0;
    state.seen = {};
    if (part != nullptr && state.reading && wants_more) {
      state.byte = part->bus_byte(bus, t);
      show_bit(bus, t);
    } else {
      if (part != nullptr && state.reading) state.device = 0;  // it has been told that it is enough
      answer(bus, false, t);
    }
  } else if (part != nullptr && state.reading && state.seen.count != 0) {
    show_bit(bus, t);
  }
}

void TwoWireBus::show_bit(const Bus& bus, u64 t) const {
  const TwoWireBusState& state = bus.world.two_wire_bus;
  answer(bus, (state.byte >> (7U - state.seen.count) & 1U) == 0, t);
}

// The controller ----------------------------------------------------------------------------------

void TwoWireBus::transfer(const Bus& bus, const TwoWireTransfer& transfer, u64 t) const {
  auto& steps = bus.world.two_wire_bus.steps;
  const bool idle = steps.empty();
  const unsigned address = unsigned{transfer.address} << 1U;
  if (!transfer.write.empty() || transfer.read == 0) {
    steps.push_back(static_cast<u16>(kAddress | address));
    steps.insert(steps.end(), transfer.write.begin(), transfer.write.end());
  }
  if (transfer.read != 0) steps.push_back(static_cast<u16>(kAddress | address | 1U));
  for (unsigned i = 0; i < transfer.read; ++i)
    steps.push_back(i + 1U == transfer.read ? kReadLast : kReadByte);
  steps.push_back(kEnd);
  for (const Pin& pin : {scl_, sda_}) pin.port->pull_up_outside(bus, pin.bit, t);
  if (idle) next_step(bus, t);
}

/// Begins what comes next, if it can.
void TwoWireBus::next_step(const Bus& bus, u64 t) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  if (state.steps.empty() || state.own.doing != Controller::kNothing) return;
  Lines lines(*this, bus, t);
  Controller controller(state.own, lines, bit_);
  const u16 step = state.steps[state.at];
  switch (step & kKind) {
    case kAddress:
      if (state.owns && state.started)
        controller.exchange(static_cast<u16>((step & 0xffU) << 1 | 1U), 0x1fe);
      else if (state.owns || !state.busy)
        controller.start();
      break;
    case kWriteByte: controller.exchange(static_cast<u16>((step & 0xffU) << 1 | 1U), 0x1fe); break;
    case kReadByte: controller.exchange(0x1fe, 0); break;
    case kReadLast: controller.exchange(0x1ff, 1); break;
    default: controller.stop();
  }
}

void TwoWireBus::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  Lines lines(*this, bus, due);
  Controller controller(bus.world.two_wire_bus.own, lines, bit_);
  follow(bus, controller.step(), controller, due);
}

void TwoWireBus::follow(const Bus& bus, Controller::Outcome outcome, const Controller& controller,
                        u64 t) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  if (outcome == Controller::Outcome::kUnderWay) return;
  if (outcome == Controller::Outcome::kLost) {
    bus.schedule(slot_, kNever);
    bus.note("two-wire: the controller outside has lost arbitration; it tries again");
    state.owns = state.started = false;
    state.at = 0;
    return;
  }
  switch (state.own.was) {
    case Controller::kStart: state.owns = state.started = true; break;
    case Controller::kStop:
      state.owns = state.started = false;
      state.steps.erase(state.steps.begin(), state.steps.begin() + state.at + 1);
      state.at = 0;
      break;
    default: byte_done(bus, controller);
  }
  next_step(bus, t);
}

void TwoWireBus::byte_done(const Bus& bus, const Controller& controller) const {
  TwoWireBusState& state = bus.world.two_wire_bus;
  const u16 step = state.steps[state.at++];
  state.started = false;
  const unsigned kind = step & kKind;
  if (kind == kReadByte || kind == kReadLast) bus.transmit("TWI", controller.byte());
  if ((kind != kAddress && kind != kWriteByte) || controller.acknowledged()) return;
  if (kind == kAddress)
    bus.note(fmt::format("two-wire: nobody acknowledged address 0x{:02x}", (step & 0xffU) >> 1U));
  while (state.steps[state.at] != kEnd) ++state.at;
}

}  // namespace lucid::avr
