// SPDX-License-Identifier: MIT
#include "avr/peripherals/attached.h"

#include "avr/peripherals/adc.h"
#include "avr/peripherals/port.h"
#include "avr/peripherals/system.h"
#include "avr/peripherals/two_wire_bus.h"
#include "base/text.h"

namespace lucid::avr {

using machine::OutsideLevel;

void AvrTerminals::set_supply(std::int32_t microvolts) {
  if (reach_.adc != nullptr) reach_.adc->before_change(bus_, cycle_);
  avr::set_supply(bus_, std::clamp(microvolts, 0, kMostSupply));
}

bool AvrTerminals::level(unsigned pin) const { return port(pin).level(bus_.world, pin % 8); }

OutsideLevel& AvrTerminals::by_hand(unsigned pin) { return port(pin).by_hand(bus_.world, pin % 8); }

void AvrTerminals::settle(unsigned pin, const OutsideLevel& all, bool fought) {
  const unsigned bit = pin % 8;
  port(pin).set_fought(bus_, bit, fought);
  if (all.kind == OutsideLevel::kVoltage) {
    port(pin).apply(bus_, bit, all.microvolts, cycle_);
    return;
  }
  const bool open = all.kind == OutsideLevel::kOpen;
  port(pin).drive(bus_, bit,
                  open ? std::nullopt : std::optional<bool>(all.kind == OutsideLevel::kHigh),
                  cycle_);
}

void AvrTerminals::reset() { bus_.world.cpu.reset_cause |= kExtrf; }

void AvrTerminals::send(const std::string& port, const std::string& bytes) {
  for (const auto& usart : reach_.usarts)
    if (base::equal_ignoring_case(usart->name(), port)) usart->send(bus_, bytes, cycle_);
}

void AvrTerminals::send_frame(const std::string& port, const SerialFrame& frame) {
  for (const auto& usart : reach_.usarts)
    if (base::equal_ignoring_case(usart->name(), port)) usart->send(bus_, frame, cycle_);
}

void AvrTerminals::transfer(const TwoWireTransfer& transfer) {
  if (reach_.two_wire != nullptr) reach_.two_wire->transfer(bus_, transfer, cycle_);
}

void AvrTerminals::wake(unsigned part, std::optional<std::uint64_t> tick) {
  if (tick)
    bus_.schedule_tick(reach_.slots[part], *tick);
  else
    bus_.schedule(reach_.slots[part], kNever);
}

void Attached::start(const Bus& bus) const {
  AvrTerminals chip(reach_, bus, bus.world.cpu.now);
  reach_.outside.start(chip, index_);
}

void Attached::on_pin(const Bus& bus, Pin pin, bool level, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  reach_.outside.on_pin(chip, index_, pin.port->number(pin.bit), level);
}

void Attached::on_byte(const Bus& bus, const std::string& port, u8 byte, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  reach_.outside.on_byte(chip, index_, port, byte);
}

void Attached::on_event(const Bus& bus, unsigned /*slot*/, u64 due) const {
  AvrTerminals chip(reach_, bus, due, bus.world.due_tick(slot_));
  reach_.outside.on_time(chip, index_);
}

bool Attached::on_address(const Bus& bus, u8 address, bool reading, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  return reach_.outside.on_address(chip, index_, address, reading);
}

bool Attached::on_bus_byte(const Bus& bus, u8 byte, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  return reach_.outside.on_bus_byte(chip, index_, byte);
}

u8 Attached::bus_byte(const Bus& bus, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  return reach_.outside.bus_byte(chip, index_);
}

void Attached::on_stop(const Bus& bus, u64 t) const {
  AvrTerminals chip(reach_, bus, t);
  reach_.outside.on_stop(chip, index_);
}

}  // namespace lucid::avr
