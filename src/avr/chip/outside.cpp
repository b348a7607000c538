// SPDX-License-Identifier: MIT
// AvrMachine as others outside meet it: pins, parts, serial ports, companions.
#include <fmt/format.h>

#include <algorithm>

#include "avr/chip/avr_machine.h"
#include "avr/peripherals/system.h"
#include "avr/peripherals/two_wire_bus.h"
#include "avr/peripherals/wire_end.h"
#include "base/hash.h"
#include "base/text.h"

namespace lucid::avr {

std::optional<std::uint8_t> AvrMachine::wire_pin(const std::string& name) const {
  const auto pin = fabric_->find_pin(name);
  return pin ? std::optional<std::uint8_t>(pin->port->number(pin->bit)) : std::nullopt;
}

void AvrMachine::receive(const machine::WireChange& change) {
  if (fabric_->wire_end != nullptr) fabric_->wire_end->receive({world_, outputs_}, change);
}

std::vector<PinState> AvrMachine::pins() const {
  std::vector<PinState> out;
  std::vector<PinUse> uses;
  for (const Peripheral* p : fabric_->all)
    for (PinUse& use : p->uses(world_)) uses.push_back(std::move(use));
  for (const auto& port : fabric_->ports) {
    for (u8 bit = 0; bit < 8; ++bit) {
      if (!port->has(bit)) continue;
      out.push_back(port->state(world_, bit));
      for (const PinUse& use : uses)
        if (use.pin == Pin{port.get(), bit})
          out.back().taken_by += (out.back().taken_by.empty() ? "" : ", ") + use.name;
    }
  }
  return out;
}

Result<void> AvrMachine::on_this_chip(const std::string& name) const {
  for (const machine::Group::Companion& companion : fabric_->group.companions) {
    const auto parts = companion.at_power_on->parts();
    const bool part =
        std::any_of(parts.begin(), parts.end(), [&](const PartState& p) { return p.name == name; });
    if (part || name.rfind(companion.name + ".", 0) == 0)
      return fail(ErrorCode::kUnsupported,
                  fmt::format("'{}' is on chip '{}', not on the one that is debugged", name,
                              companion.name),
                  "write it into the bench file as [[input]], or open that chip with --on " +
                      companion.name);
  }
  return {};
}

Result<void> AvrMachine::drive(const std::string& name, std::optional<bool> level) {
  if (auto here = on_this_chip(name); !here) return here;
  const Result<Pin> pin = fabric_->find_pin(name);
  if (!pin) return tl::unexpected(pin.error());
  set_by_hand(*pin, machine::OutsideLevel::of(level));
  return {};
}

Result<void> AvrMachine::apply(const std::string& name, std::int32_t microvolts) {
  if (base::equal_ignoring_case(name, "VCC")) {
    if (microvolts < 0 || microvolts > kMostSupply)
      return fail(ErrorCode::kOutOfRange, "the supply is 0 V to 5.5 V");
    const Bus bus(world_, outputs_);
    if (fabric_->adc != nullptr) fabric_->adc->before_change(bus, world_.cpu.now);
    set_supply(bus, microvolts);
    return {};
  }
  if (auto here = on_this_chip(name); !here) return here;
  const Result<Pin> pin = fabric_->find_pin(name);
  if (!pin) return tl::unexpected(pin.error());
  if (microvolts < -500'000 || microvolts > world_.supply + 500'000)
    return fail(ErrorCode::kOutOfRange, fmt::format("a pin of this chip bears -0.5 V to {:.1f} V",
                                                    (world_.supply + 500'000) / 1e6));
  set_by_hand(*pin, {machine::OutsideLevel::kVoltage, microvolts});
  return {};
}

void AvrMachine::set_by_hand(Pin pin, const machine::OutsideLevel& level) {
  const Bus bus(world_, outputs_);
  AvrTerminals chip(fabric_->reach, bus, world_.cpu.now);
  const unsigned number = pin.port->number(pin.bit);
  chip.by_hand(number) = level;
  fabric_->reach.outside.settle(chip, number);
}

std::uint64_t AvrMachine::hash() const {
  if (!companions_) return world_.hash();
  base::Hasher hasher;
  hasher(world_.hash(), companions_->hash(world_.group, ticks()));
  return hasher.value();
}

std::vector<SerialText> AvrMachine::take_serial() {
  if (companions_) {
    const Bus bus(world_, outputs_);
    WireHost host(fabric_->ports, bus, world_.cpu.now);
    companions_->catch_up(host);
  }
  return std::exchange(outputs_.serial, {});
}

std::vector<std::string> AvrMachine::companions() const {
  std::vector<std::string> out;
  for (const machine::Group::Companion& companion : fabric_->group.companions)
    out.push_back(companion.name);
  return out;
}

std::unique_ptr<machine::Machine> AvrMachine::companion(const std::string& name) const {
  const auto which = companions_ ? companions_->find(name) : std::nullopt;
  return which ? companions_->as_now(world_.group, ticks(), *which).clone() : nullptr;
}

const machine::Machine* AvrMachine::hear(const std::string& companion,
                                         const machine::Hearing& hearing) {
  const auto which = companions_ ? companions_->find(companion) : std::nullopt;
  return which ? &companions_->hear(world_.group, *which, hearing) : nullptr;
}

std::uint64_t AvrMachine::hear_out(const std::string& companion) {
  const auto which = companions_ ? companions_->find(companion) : std::nullopt;
  return which ? companions_->hear_out(world_.group, ticks(), *which) : 0;
}

const Image* AvrMachine::companion_image(const std::string& name) const {
  const auto which = companions_ ? companions_->find(name) : std::nullopt;
  return which ? &fabric_->group.companions[*which].image : nullptr;
}

std::vector<PartState> AvrMachine::parts() const {
  std::vector<PartState> out;
  const machine::Group& group = fabric_->group;
  for (unsigned i = 0; i < group.companions.size(); ++i)
    out.push_back({group.companions[i].name, group.pins_to(i + 1),
                   companions_->describe(world_.group, ticks(), i), false});
  World look = world_;  // a description changes nothing
  Outputs unheard;
  const Bus bus(look, unheard);
  AvrTerminals chip(fabric_->reach, bus, look.cpu.now);
  for (PartState& part : fabric_->reach.outside.states(chip)) out.push_back(std::move(part));
  return out;
}

Result<void> AvrMachine::act(const std::string& name, const std::string& action,
                             const std::string& value) {
  const machine::Outside& outside = fabric_->reach.outside;
  if (!outside.has(name))
    if (auto here = on_this_chip(name); !here) return here;
  const Bus bus(world_, outputs_);
  AvrTerminals chip(fabric_->reach, bus, world_.cpu.now);
  return outside.act(chip, name, action, value);
}

Result<const Usart*> AvrMachine::find_usart(const std::string& name) const {
  for (const auto& usart : fabric_->usarts)
    if (base::equal_ignoring_case(usart->name(), name)) return usart.get();
  if (auto here = on_this_chip(name); !here) return fail(here.error());
  return fail(ErrorCode::kNotFound, "there is no serial port '" + name + "' on " + info().name,
              did_you_mean(name, info().serial_ports));
}

Result<void> AvrMachine::feed(const std::string& port, const std::string& bytes) {
  const auto usart = find_usart(port);
  if (!usart) return tl::unexpected(usart.error());
  (*usart)->send(Bus(world_, outputs_), bytes, world_.cpu.now);
  return {};
}

std::vector<u32> AvrMachine::latches() const {
  std::vector<u32> out;
  for (const IoRegister& io : info().io)
    for (const char* name : {"PORT", "DDR", "GPIOR"})
      if (io.bytes == 1 && io.name.rfind(name, 0) == 0) out.push_back(io.address);
  return out;
}

/// "Features": write and erase cycles of EEPROM and of flash.
std::vector<machine::Wear> AvrMachine::wear() const {
  constexpr u64 kEeprom = 100'000, kFlash = 10'000;
  std::vector<machine::Wear> out;
  for (const auto& [address, worn] : outputs_.eeprom)
    out.push_back({Space::kEeprom, address, 1, worn.times, worn.pc, kEeprom});
  for (const auto& [page, worn] : outputs_.flash)
    out.push_back({Space::kCode, page, fabric_->device.flash_page, worn.times, worn.pc, kFlash});
  return out;
}

machine::WatchdogMargin AvrMachine::watchdog() const { return outputs_.watchdog; }

machine::Machine::Raised AvrMachine::raise(unsigned vector, std::optional<u8> byte) {
  const auto& owners = fabric_->vector_owner;
  const Peripheral* owner = vector < owners.size() ? owners[vector] : nullptr;
  if (owner == nullptr || owner->is_off(world_)) return Raised::kNot;
  const Bus bus(world_, outputs_);
  const bool by_itself = owner->bring_forward(bus, vector, byte, world_.cpu.now);
  if ((world_.cpu.pending >> vector & 1U) == 0) return Raised::kNot;
  return by_itself ? Raised::kEvent : Raised::kForced;
}

Result<void> AvrMachine::transfer(const TwoWireTransfer& transfer) {
  if (fabric_->two_wire == nullptr) return Machine::transfer(transfer);
  fabric_->two_wire->transfer(Bus(world_, outputs_), transfer, world_.cpu.now);
  return {};
}

Result<void> AvrMachine::feed_frame(const std::string& port, const SerialFrame& frame) {
  const auto usart = find_usart(port);
  if (!usart) return tl::unexpected(usart.error());
  (*usart)->send(Bus(world_, outputs_), frame, world_.cpu.now);
  return {};
}

}  // namespace lucid::avr
