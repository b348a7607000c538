// SPDX-License-Identifier: MIT
#include "avr/chip/fabric.h"

#include <fmt/format.h>

#include "avr/peripherals/eeprom.h"
#include "avr/peripherals/external_interrupts.h"
#include "avr/peripherals/prescalers.h"
#include "avr/peripherals/spi.h"
#include "avr/peripherals/system.h"
#include "avr/peripherals/twi.h"
#include "avr/peripherals/two_wire_bus.h"
#include "avr/peripherals/wire_end.h"
#include "base/text.h"

namespace lucid::avr {
namespace {

u32 power_of_two(u32 least) {
  u32 span = 1;
  while (span < least) span *= 2;
  return span;
}

ChipInfo info_of(const Device& device, u64 clock_hz) {
  ChipInfo info;
  info.name = device.name;
  info.core = device.core;
  info.clock_hz = clock_hz;
  info.memories = {{"flash", Space::kCode, 0, device.flash},
                   {"registers", Space::kData, 0, 0x20},
                   {"io", Space::kData, 0x20, device.ram_begin},
                   {"ram", Space::kData, device.ram_begin, device.ram_end}};
  if (device.eeprom != 0) info.memories.push_back({"eeprom", Space::kEeprom, 0, device.eeprom});
  info.memories.push_back({"fuses", Space::kFuse, 0, 3});
  info.memories.push_back({"lock", Space::kLock, 0, 1});
  info.memories.push_back({"signature", Space::kSignature, 0, 3});
  info.io = registers_of(device);
  if (wiring_of(device) != nullptr) add_meanings(info.io);
  info.vectors = vectors_of(device);
  return info;
}

}  // namespace

u16 Names::reg(const std::string& name) const {
  for (const IoRegister& io : info_.io)
    if (io.name == name) return static_cast<u16>(io.address);
  return 0;
}

std::optional<u8> Names::bit(u16 address, const std::string& name) const {
  for (const IoRegister& io : info_.io)
    if (io.address == address)
      for (const IoField& field : io.fields)
        if (field.name == name) return static_cast<u8>(field.lowest);
  return std::nullopt;
}

unsigned Names::vector(std::initializer_list<std::string> names) const {
  for (const std::string& name : names)
    for (const InterruptVector& vector : info_.vectors)
      if (vector.name == name) return vector.number;
  return 0;
}

Fabric::Fabric(const Device& the_device, u64 clock_hz)
    : device(the_device),
      flash_span(power_of_two(the_device.flash)),
      target(*find_core(the_device.core), flash_span),
      info(info_of(the_device, clock_hz)),
      reach{{}, clock_hz, ports, usarts},
      owner(the_device.ram_begin, nullptr),
      of_port(the_device.ram_begin, false),
      plain(the_device.ram_begin, false),
      own(the_device.ram_begin, false),
      data_bytes(the_device.ram_end),
      xmcra(Names(info).reg("XMCRA")) {
  const Wiring* wiring = wiring_of(device);
  add_ports();
  if (wiring != nullptr) add_peripherals(*wiring, clock_hz);
  if (const TimerPins* row = wiring == nullptr ? lone_timer_of(device) : nullptr)
    add_timer(*row, pins_of(*row), clock_hz);
  reach.adc = adc;
  reach.two_wire = two_wire;
  for (const auto& p : ports) enlist(*p);
  for (const auto& p : usarts) enlist(*p);
  for (const auto& p : others) enlist(*p);
  if (system_ != nullptr) {
    add_power_switches();
    system_->set_all(all);
  }
  for (const char* name :
       {"GPIOR0", "GPIOR1", "GPIOR2", "RAMPZ", "EIND", "XMCRA", "XMCRB", "DIDR0", "DIDR1", "DIDR2"})
    if (const u16 address = Names(info).reg(name); address != 0)
      plain[address] = wiring != nullptr || device.set == "bare";
  if (device.set == "bare") plain[0x53] = true;                     // SMCR
  for (const u16 a : {0x5d, 0x5e, 0x5f}) plain[a] = own[a] = true;  // SP and SREG
  for (IoRegister& io : info.io) io.modelled = owner[io.address] != nullptr || plain[io.address];
}

/// Who answers for which address, vector, event and pin.
void Fabric::enlist(Peripheral& peripheral) {
  all.push_back(&peripheral);
  if (adc != nullptr && &peripheral != adc) peripheral.set_followers({adc});
  for (const Pin& listened : peripheral.listens())
    for (const auto& port : ports)
      if (port.get() == listened.port) port->add_listener(listened.bit, peripheral);
  for (const u16 address : peripheral.addresses()) owner[address] = &peripheral;
  for (const unsigned vector : peripheral.vectors()) {
    vector_owner[vector] = &peripheral;
    info.vectors[vector].modelled = true;
  }
  for (const unsigned slot : peripheral.slots()) slot_owner[slot] = &peripheral;
}

Result<std::unique_ptr<Fabric>> Fabric::make(const Chip::Options& options) {
  const Device* device = find_device(options.name);
  if (device == nullptr)
    return fail(ErrorCode::kNotFound, "there is no chip '" + options.name + "' here");
  if (options.clock_hz < 1 || options.clock_hz > 1'000'000'000)
    return fail(ErrorCode::kOutOfRange, "a clock runs at 1 Hz to 1000 MHz");
  if (options.supply < 1'800'000 || options.supply > kMostSupply)
    return fail(ErrorCode::kOutOfRange, "these chips work from 1.8 V to 5.5 V");
  auto fabric = std::make_unique<Fabric>(*device, options.clock_hz);
  if (auto added = fabric->add_external_ram(options.external_ram); !added)
    return fail(added.error());
  for (const auto& part : options.parts)
    if (auto attached = fabric->attach(part); !attached) return fail(attached.error());
  return fabric;
}

Result<void> Fabric::attach(const std::shared_ptr<const Part>& part) {
  if (next_slot_ == kEventSlots)
    return fail(ErrorCode::kOutOfRange,
                "there is no room for more parts than " + std::to_string(attached.size()));
  std::vector<Pin> wired;
  std::vector<unsigned> numbers;
  for (const std::string& name : part->pins()) {
    const auto found = find_pin(name);
    if (!found) {
      Error error = found.error();
      error.what = "part '" + part->name() + "': " + error.what;
      return fail(std::move(error));
    }
    wired.push_back(*found);
    numbers.push_back(found->port->number(found->bit));
  }
  if (auto added = reach.outside.add(part, std::move(numbers)); !added) return added;
  reach.slots.push_back(next_slot_);
  const Attached* const made =
      add<Attached>(reach, static_cast<unsigned>(attached.size()), wired, next_slot_);
  attached.push_back(made);
  enlist(*others.back());
  for (const auto& usart : usarts) usart->add_listener(*made);
  const auto is_on = [&](Pin pin) {
    return std::find(wired.begin(), wired.end(), pin) != wired.end();
  };
  if (two_wire != nullptr && is_on(two_wire->sda()) && is_on(two_wire->scl()))
    two_wire->add_device(*made);
  return {};
}

Result<void> Fabric::join(machine::Family::Joined joined) {
  if (!joined.several) return {};
  if (next_slot_ == kEventSlots)
    return fail(ErrorCode::kOutOfRange,
                info.name + " has so many parts that there is no room for wires");
  group = std::move(joined.group);
  wire_slot = next_slot_;
  wire_end = add<WireEnd>(ports, next_slot_);
  enlist(*others.back());
  for (const std::string& name : joined.pins) {
    const auto pin = find_pin(name);
    if (!pin) {
      Error error = pin.error();
      error.what = "wire to '" + name + "': " + error.what;
      return fail(std::move(error));
    }
    for (const auto& port : ports)
      if (port.get() == pin->port) port->add_wire(pin->bit);
  }
  for (auto& wire : group.wires)
    for (machine::Group::Place& place : wire)
      if (place.chip == 0)
        if (const auto pin = find_pin(place.pin)) {
          place.number = pin->port->number(pin->bit);
          place.pin = pin->port->pin_name(pin->bit);
        }
  return {};
}

Result<Pin> Fabric::find_pin(const std::string& name) const {
  std::vector<std::string> names;
  for (const auto& port : ports) {
    for (u8 bit = 0; bit < 8; ++bit) {
      if (!port->has(bit)) continue;
      names.push_back(port->pin_name(bit));
      if (base::equal_ignoring_case(names.back(), name)) return Pin{port.get(), bit};
    }
  }
  return fail(ErrorCode::kNotFound, "there is no pin '" + name + "' on " + info.name,
              did_you_mean(name, names));
}

Pin Fabric::pin(std::string_view name) const {
  for (const auto& port : ports)
    if (name.size() == 2 && port->letter() == name[0] &&
        port->has(static_cast<unsigned>(name[1] - '0')))
      return {port.get(), static_cast<u8>(name[1] - '0')};
  return {};
}

WorldShape Fabric::shape() const {
  WorldShape shape;
  shape.data = data_bytes;
  shape.eeprom = device.eeprom;
  shape.flash = flash_span;
  shape.ports = static_cast<unsigned>(ports.size());
  shape.timers = timers_;
  shape.usarts = static_cast<unsigned>(usarts.size());
  shape.slots = next_slot_;
  if (!group.empty()) shape.sync_slot = wire_slot;
  return shape;
}

Timer::Pins Fabric::pins_of(const TimerPins& row) const {
  Timer::Pins out;
  unsigned i = 0;
  for (const std::string_view name : words_of(row.compare)) out.compare[i++] = pin(name);
  out.capture = pin(row.capture);
  out.clock = pin(row.clock);
  return out;
}

const Timer* Fabric::add_timer(const TimerPins& row, const Timer::Pins& pins, u64 clock_hz) {
  const Timer* timer = add<Timer>(row.number, row.bits, pins, Names(info), clock_hz, timers_++,
                                  next_slot_, static_cast<unsigned>(info.moments.size()));
  for (std::string& moment : timer->moments()) info.moments.push_back(std::move(moment));
  return timer;
}

/// The ports that the registers tell of. Writing PINx toggles on parts of the generation that has
/// general purpose or input disable registers, too ("I/O-Ports").
void Fabric::add_ports() {
  const Names names(info);
  const bool toggles =
      names.reg("GPIOR0") != 0 || names.reg("DIDR0") != 0 || names.reg("DIDR") != 0;
  const u16 pull_ups = wiring_of(device) != nullptr ? names.reg("MCUCR") : u16{0};
  for (const char letter : std::string_view("ABCDEFGHJKL")) {
    for (const IoRegister& io : info.io) {
      const Port::Registers at{static_cast<u16>(io.address), names.reg(std::string("DDR") + letter),
                               names.reg(std::string("PORT") + letter)};
      if (io.name != std::string("PIN") + letter || at.ddr == 0 || at.port == 0) continue;
      unsigned mask = 0;
      for (const IoField& field : io.fields) mask |= 1U << field.lowest;
      ports.push_back(std::make_unique<Port>(letter, at, static_cast<u8>(mask != 0 ? mask : 0xffU),
                                             static_cast<unsigned>(ports.size()), pull_ups,
                                             toggles));
      for (const u16 address : {at.pin, at.ddr, at.port}) of_port[address] = true;
    }
  }
}

/// Every peripheral of the family whose registers the part has.
void Fabric::add_peripherals(const Wiring& wiring, u64 clock_hz) {
  const Names names(info);
  mcucr = names.reg("MCUCR");
  mcusr = names.reg("MCUSR");
  smcr = names.reg("SMCR");
  clkpr = names.reg("CLKPR");
  const auto pins = [this](std::string_view list) {
    std::vector<Pin> out;
    for (const std::string_view name : words_of(list)) out.push_back(pin(name));
    return out;
  };
  info.moments = {"conversion", "watchdog"};  // as Bus::MomentPlace has them
  std::vector<const Timer*> timers;
  std::vector<Pin> taken;            // by a timer's output
  const Timer* capturing = nullptr;  // by the comparator
  for (const TimerPins& row : wiring.timers) {
    if (names.reg("TCCR" + std::to_string(row.number) + "A") == 0) continue;
    Timer::Pins timer_pins = pins_of(row);
    for (std::size_t i = 0; i < timer_pins.compare.size(); ++i) {
      const Pin& output = timer_pins.compare[i];
      timer_pins.second[i] = output && std::find(taken.begin(), taken.end(), output) != taken.end();
      taken.push_back(output);
    }
    timers.push_back(add_timer(row, timer_pins, clock_hz));
    if (row.number == 1) capturing = timers.back();
  }
  for (const UsartPins& row : wiring.usarts) {
    if (names.reg("UCSR" + std::to_string(row.number) + "A") == 0) continue;
    usarts.push_back(std::make_unique<Usart>(row.number, names, pin(row.txd), pin(row.rxd),
                                             pin(row.xck), static_cast<unsigned>(usarts.size()),
                                             next_slot_));
    info.serial_ports.push_back(usarts.back()->name());
    next_slot_ += 3;
  }
  add<Eeprom>(names, device.eeprom, clock_hz, next_slot_);
  system_ = add<System>(names, ports);
  has_jtag_ = !wiring.jtag.empty();
  if (has_jtag_) system_->set_jtag(pins(wiring.jtag));
  add<Prescalers>(names, timers);
  add<ExternalInterrupts>(names, pins(wiring.interrupts), pins(wiring.pin_changes), next_slot_);
  watchdog = add<Watchdog>(names, clock_hz, next_slot_);
  adc = add<Adc>(names, pins(wiring.adc), wiring.adc_kind, next_slot_);
  for (const auto& port : ports)
    for (const Pin& input : adc->inputs())
      if (input.port == port.get()) port->set_sampler(*adc);
  const std::vector<Pin> comparator = pins(wiring.comparator);
  add_input_disables(comparator);
  add<Comparator>(names, comparator[0], comparator[1], *adc, capturing);
  const std::vector<Pin> spi = pins(wiring.spi);
  add<Spi>(names, Spi::Pins{spi[0], spi[1], spi[2], spi[3]}, next_slot_);
  const std::vector<Pin> twi = pins(wiring.twi);
  add<Twi>(names, twi[0], twi[1], next_slot_);
  info.buses = {"SPI", "TWI"};
  two_wire = add<TwoWireBus>(twi[0], twi[1], clock_hz, next_slot_);
  boot = add<Boot>(names, device, wiring, clock_hz, next_slot_);
}

/// DIDRn: ADC3D is of pin ADC3, AIN0D of the comparator's first.
void Fabric::add_input_disables(const std::vector<Pin>& comparator) {
  for (const IoRegister& io : info.io) {
    if (io.name.rfind("DIDR", 0) != 0) continue;
    for (const IoField& field : io.fields) {
      const bool analog = field.name.rfind("ADC", 0) == 0;
      const auto number = base::parse_unsigned(field.name.substr(3, field.name.size() - 4));
      const std::vector<Pin>& list = analog ? adc->inputs() : comparator;
      if (!number || *number >= list.size()) continue;
      const Pin& input = list[*number];
      for (const auto& port : ports)
        if (port.get() == input.port)
          port->set_input_disable(input.bit, static_cast<u16>(io.address),
                                  static_cast<u8>(1U << field.lowest));
    }
  }
}

Result<void> Fabric::add_external_ram(u32 bytes) {
  if (bytes == 0) return {};
  if (xmcra == 0)
    return fail(ErrorCode::kUnsupported, info.name + " has no external memory interface");
  if (bytes > 0x10000 - device.ram_end)
    return fail(ErrorCode::kOutOfRange, fmt::format("behind its RAM {} reaches 1 to {} bytes",
                                                    info.name, 0x10000 - device.ram_end));
  data_bytes = device.ram_end + bytes;
  info.memories.push_back({"external", Space::kData, device.ram_end, data_bytes});
  return {};
}

/// "Power Reduction Register": PRTIM1 switches off the owner of TCCR1B, and so on.
void Fabric::add_power_switches() {
  const Names names(info);
  const auto switched = [&](const std::string& name) -> const Peripheral* {
    const std::string number = name.empty() ? "" : name.substr(name.size() - 1);
    std::string reg;
    if (name.rfind("PRTIM", 0) == 0) reg = "TCCR" + number + "B";
    if (name.rfind("PRUSART", 0) == 0) reg = "UCSR" + number + "A";
    if (name == "PRSPI") reg = "SPCR";
    if (name == "PRTWI") reg = "TWCR";
    if (name == "PRADC") reg = "ADCSRA";
    const u16 address = reg.empty() ? u16{0} : names.reg(reg);
    return address == 0 ? nullptr : owner[address];
  };
  std::vector<const Peripheral*> all_switched;
  for (const IoRegister& io : info.io) {
    if (io.name.rfind("PRR", 0) != 0) continue;
    for (const IoField& field : io.fields) {
      const Peripheral* const p = switched(field.name);
      if (p == nullptr) continue;
      const Peripheral::PowerSwitch power{static_cast<u16>(io.address),
                                          static_cast<u8>(1U << field.lowest),
                                          static_cast<u8>(all_switched.size())};
      for (const auto& usart : usarts)
        if (usart.get() == p) usart->set_power_switch(power);
      for (const auto& other : others)
        if (other.get() == p) other->set_power_switch(power);
      all_switched.push_back(p);
    }
  }
  system_->set_switched(std::move(all_switched));
}

}  // namespace lucid::avr
