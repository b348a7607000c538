// SPDX-License-Identifier: MIT
#include "chip/avr_machine.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.h"
#include "chip/eeprom.h"
#include "chip/engine.h"
#include "chip/system.h"
#include "chip/timer16.h"

namespace lucid::chip {
namespace {

constexpr u16 kMcusr = 0x54, kMcucr = 0x55;
enum : u8 { kPorf = 1, kExtrf = 2 };

/// `NAME:lowest[+width] ...`
std::vector<IoField> fields_of(std::string_view text) {
  std::vector<IoField> out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find(' '), text.size());
    const std::string_view item = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    const std::size_t colon = item.find(':');
    const std::size_t plus = item.find('+');
    IoField field;
    field.name = item.substr(0, colon);
    field.lowest = static_cast<u8>(item[colon + 1] - '0');
    if (plus != std::string_view::npos) field.width = static_cast<u8>(item[plus + 1] - '0');
    out.push_back(field);
  }
  return out;
}

ChipInfo info_of(const DeviceRow& row, u64 clock_hz) {
  ChipInfo info;
  info.name = row.name;
  info.core = row.core;
  info.clock_hz = clock_hz;
  info.memories = {{"flash", Space::kCode, 0, row.flash},
                   {"registers", Space::kData, 0, 0x20},
                   {"io", Space::kData, 0x20, row.ram_begin},
                   {"ram", Space::kData, row.ram_begin, row.ram_end}};
  if (row.eeprom != 0) info.memories.push_back({"eeprom", Space::kEeprom, 0, row.eeprom});
  info.memories.push_back({"fuses", Space::kFuse, 0, 3});
  info.memories.push_back({"lock", Space::kLock, 0, 1});
  info.memories.push_back({"signature", Space::kSignature, 0, 3});
  for (const RegisterRow& r : row.registers) {
    IoRegister io;
    io.name = r.name;
    io.peripheral = r.peripheral;
    io.address = r.address;
    io.bytes = r.bytes;
    io.fields = fields_of(r.fields);
    info.io.push_back(io);
  }
  for (const VectorRow& v : row.vectors)
    info.vectors.push_back({v.number, std::string(v.name), v.number == 0});
  return info;
}

}  // namespace

Fabric::Fabric(const DeviceRow& device, u64 clock_hz)
    : row(device),
      target(*avr::find_core(device.core), device.flash),
      info(info_of(device, clock_hz)),
      owner(device.ram_begin, nullptr),
      plain(device.ram_begin, false),
      own(device.ram_begin, false) {
  unsigned slot = 0;
  for (const PortRow& p : row.ports)
    ports.push_back(std::make_unique<Port>(p, static_cast<unsigned>(ports.size()), kMcucr));
  for (const TimerRow& t : row.timers) {
    others.push_back(std::make_unique<Timer16>(t, 0, slot));
    slot += 1;
  }
  for (const UsartRow& u : row.usarts) {
    const auto port = std::find_if(ports.begin(), ports.end(),
                                   [&](const auto& p) { return p->row().letter == u.port; });
    usarts.push_back(
        std::make_unique<Usart>(u, static_cast<unsigned>(usarts.size()), slot, **port));
    info.serial_ports.push_back(usarts.back()->name());
    slot += 2;
  }
  if (row.eeprom != 0) others.push_back(std::make_unique<Eeprom>(row, clock_hz, slot));
  if (row.ports.size() != 0) others.push_back(std::make_unique<System>(kMcucr, ports));
  for (const auto& p : ports) all.push_back(p.get());
  for (const auto& p : usarts) all.push_back(p.get());
  for (const auto& p : others) all.push_back(p.get());
  for (const Peripheral* p : all) {
    for (const u16 address : p->addresses()) owner[address] = p;
    for (const unsigned vector : p->vectors()) {
      vector_owner[vector] = p;
      info.vectors[vector].modelled = true;
    }
    for (const unsigned s : p->slots()) slot_owner[s] = p;
  }
  for (const u16 address : row.plain) plain[address] = true;
  plain[0x53] = true;                                               // SMCR
  for (const u16 a : {0x5d, 0x5e, 0x5f}) plain[a] = own[a] = true;  // SP and SREG
  for (IoRegister& io : info.io) io.modelled = owner[io.address] != nullptr || plain[io.address];
}

AvrMachine::AvrMachine(const DeviceRow& row, u64 clock_hz)
    : fabric_(std::make_shared<const Fabric>(row, clock_hz)),
      world_(row.ram_end, row.eeprom, row.flash) {
  power_on();
}

AvrMachine::AvrMachine(const AvrMachine& other)
    : Machine(other),
      fabric_(other.fabric_),
      world_(other.world_),
      lowest_sp_(other.lowest_sp_),
      guard_begin_(other.guard_begin_),
      guard_end_(other.guard_end_),
      breakpoints_(other.breakpoints_),
      watched_(other.watched_),
      unwritten_(other.unwritten_),
      check_unwritten_(other.check_unwritten_),
      outputs_(other.outputs_) {}

AvrMachine::~AvrMachine() = default;

std::unique_ptr<isa::Machine> AvrMachine::clone() const {
  return std::make_unique<AvrMachine>(*this);
}

void AvrMachine::power_on() {
  unwritten_.assign(fabric_->row.ram_end, false);
  std::fill(unwritten_.begin() + fabric_->row.ram_begin, unwritten_.end(), true);
  world_.fuses = fabric_->row.fuses;
  world_.cpu.now = 0;
  reset_with(kPorf);
}

void AvrMachine::reset() { reset_with(kExtrf); }

/// Registers of I/O go to their reset values; RAM, EEPROM and the general registers keep theirs.
void AvrMachine::reset_with(u8 cause) {
  const u64 now = world_.cpu.now;
  const bool known_cause = fabric_->row.ports.size() != 0;
  const u8 causes = known_cause ? world_.data[kMcusr] : 0;
  std::fill(world_.data.begin() + 0x20, world_.data.begin() + fabric_->row.ram_begin, u8{0});
  world_.cpu = CpuState{};
  world_.cpu.now = now;
  world_.cpu.sp = static_cast<u16>(fabric_->row.ram_end - 1);
  world_.cpu.pc = reset_word();
  if (known_cause) world_.data[kMcusr] = static_cast<u8>(causes | cause);
  Bus bus(world_, outputs_);
  for (const Peripheral* p : fabric_->all) p->reset(bus);
  lowest_sp_ = UINT32_MAX;
}

u32 AvrMachine::boot_word() const {
  return fabric_->row.flash / 2 - fabric_->row.boot_words[world_.fuses[1] >> 1 & 3U];
}

u32 AvrMachine::reset_word() const {
  const bool to_boot = fabric_->row.boot_words[0] != 0 && (world_.fuses[1] & 1U) == 0;
  return to_boot ? boot_word() : 0;
}

u32 AvrMachine::vector_word(unsigned vector) const {
  const bool in_boot = (world_.data[kMcucr] & 2U) != 0;
  return (in_boot ? boot_word() : 0) + vector * fabric_->row.vector_words;
}

isa::Stop AvrMachine::run(const isa::RunRequest& request) {
  if (engine_ == nullptr) engine_ = std::make_unique<Engine>(*this);
  return engine_->run(request);
}

Result<void> AvrMachine::load(const Image& image) {
  constexpr std::uint16_t kElfAvr = 83;
  if (image.is_elf() && image.machine() != kElfAvr)
    return fail(
        ErrorCode::kBadImage,
        fmt::format("{}: built for ELF machine {}, not for AVR", image.name(), image.machine()),
        "build it with avr-gcc");
  const auto size_of = [&](Space space) -> u32 {
    for (const MemoryArea& area : info().memories)
      if (area.space == space && area.name != "registers" && area.name != "io") return area.end;
    return 0;
  };
  for (const Segment& segment : image.segments()) {
    const u64 end = u64{segment.address.offset} + segment.bytes.size();
    const u32 most = size_of(segment.address.space);
    if (segment.address.space == Space::kSignature || segment.address.space == Space::kData)
      continue;
    if (end <= most) continue;
    const char* what = segment.address.space == Space::kCode     ? "flash"
                       : segment.address.space == Space::kEeprom ? "EEPROM"
                                                                 : "configuration";
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{}: it needs {} bytes of {}, {} has {}", image.name(), end, what,
                            info().name, most),
                "choose a larger chip with --chip, or make the program smaller");
  }
  world_.flash = PagedMemory(fabric_->row.flash, 0xff);
  for (const Segment& segment : image.segments()) {
    for (u32 i = 0; i < segment.bytes.size(); ++i) {
      const u32 offset = segment.address.offset + i;
      switch (segment.address.space) {
        case Space::kCode: world_.flash.write(offset, segment.bytes[i]); break;
        case Space::kEeprom: world_.eeprom[offset] = segment.bytes[i]; break;
        case Space::kFuse: world_.fuses[offset] = segment.bytes[i]; break;
        case Space::kLock: world_.lock = segment.bytes[i]; break;
        default: break;
      }
    }
  }
  engine_.reset();
  breakpoints_.clear();
  outputs_ = Outputs{};
  world_.cpu.now = 0;
  world_.data.assign(world_.data.size(), 0);
  const auto fuses = world_.fuses;
  power_on();
  world_.fuses = fuses;
  world_.cpu.pc = reset_word();
  return {};
}

Result<void> AvrMachine::set_breakpoint(std::uint32_t address, bool on) {
  if (address >= fabric_->row.flash || address % 2 != 0)
    return fail(ErrorCode::kOutOfRange,
                fmt::format("{:#06x} is not the address of an instruction in {} bytes of flash",
                            address, fabric_->row.flash));
  const u32 word = address / 2;
  const auto found = std::find(breakpoints_.begin(), breakpoints_.end(), word);
  if (on == (found != breakpoints_.end())) return {};
  if (on)
    breakpoints_.push_back(word);
  else
    breakpoints_.erase(found);
  if (engine_ != nullptr) engine_->mark(word, on);
  return {};
}

void AvrMachine::guard_stack(std::uint32_t begin, std::uint32_t end) {
  guard_begin_ = begin;
  guard_end_ = end;
  renew_attributes();
}

Result<void> AvrMachine::watch(Address address, std::uint8_t kinds) {
  if (!peek(address))
    return fail(ErrorCode::kOutOfRange,
                fmt::format("there is no memory at {:#06x} on {}", address.offset, info().name));
  if (kinds == 0)
    watched_.erase(address);
  else
    watched_[address] = kinds;
  if (engine_ == nullptr) return {};
  if (address.space == Space::kData) engine_->renew_attributes(address.offset);
  engine_->renew_observed();
  return {};
}

void AvrMachine::check_unwritten(bool on) {
  check_unwritten_ = on;
  renew_attributes();
}

void AvrMachine::renew_attributes() {
  if (engine_ == nullptr) return;
  for (u32 a = 0; a < fabric_->row.ram_end; ++a) engine_->renew_attributes(a);
}

std::optional<std::uint8_t> AvrMachine::peek(Address address) const {
  const u32 a = address.offset;
  switch (address.space) {
    case Space::kCode:
      if (a < world_.flash.size()) return world_.flash[a];
      break;
    case Space::kData:
      if (a >= world_.data.size()) break;
      if (a == 0x5d) return static_cast<u8>(world_.cpu.sp);
      if (a == 0x5e) return static_cast<u8>(world_.cpu.sp >> 8);
      if (a == 0x5f) return world_.cpu.sreg;
      if (a < fabric_->owner.size() && fabric_->owner[a] != nullptr)
        return fabric_->owner[a]->peek(world_, static_cast<u16>(a), world_.cpu.now);
      return world_.data[a];
    case Space::kEeprom:
      if (a < world_.eeprom.size()) return world_.eeprom[a];
      break;
    case Space::kFuse:
      if (a < world_.fuses.size()) return world_.fuses[a];
      break;
    case Space::kLock:
      if (a == 0) return world_.lock;
      break;
    case Space::kSignature:
      if (a < 3) return fabric_->row.signature[a];
      break;
  }
  return std::nullopt;
}

const std::uint8_t* AvrMachine::plain_bytes(Address address, unsigned bytes) const {
  const bool ram = address.space == Space::kData && address.offset >= fabric_->row.ram_begin &&
                   address.offset + u64{bytes} <= world_.data.size();
  return ram ? world_.data.data() + address.offset : nullptr;
}

bool AvrMachine::poke(Address address, std::uint8_t value) {
  const u32 a = address.offset;
  if (!peek(address)) return false;
  switch (address.space) {
    case Space::kCode:
      world_.flash.write(a, value);
      if (engine_ != nullptr) engine_->forget(a / 2);
      return true;
    case Space::kData:
      if (a == 0x5d) {
        world_.cpu.sp = static_cast<u16>((world_.cpu.sp & 0xff00U) | value);
      } else if (a == 0x5e) {
        world_.cpu.sp = static_cast<u16>((world_.cpu.sp & 0xffU) | value << 8);
      } else if (a == 0x5f) {
        world_.cpu.sreg = value;
      } else if (a < fabric_->owner.size() && fabric_->owner[a] != nullptr) {
        // As the firmware would, in the cycle that has just ended.
        fabric_->owner[a]->write(Bus(world_, outputs_), static_cast<u16>(a), value, 0xff,
                                 world_.cpu.now - 1);
        if (world_.cpu.hold != 0) world_.cpu.hold = 1;  // there is no instruction to complete
      } else {
        world_.data[a] = value;
        unwritten_[a] = false;
        if (engine_ != nullptr) engine_->renew_attributes(a);
      }
      return true;
    case Space::kEeprom: world_.eeprom[a] = value; return true;
    case Space::kFuse: world_.fuses[a] = value; return true;
    case Space::kLock: world_.lock = value; return true;
    case Space::kSignature: return false;
  }
  return false;
}

std::uint64_t AvrMachine::register_value(unsigned index) const {
  if (index < 32) return world_.data[index];
  switch (index) {
    case avr::kSp: return world_.cpu.sp;
    case avr::kSreg: return world_.cpu.sreg;
    case avr::kPc: return pc();
    default: {
      const unsigned low = 26 + 2 * (index - avr::kXPair);
      return world_.data[low] | unsigned{world_.data[low + 1]} << 8;
    }
  }
}

void AvrMachine::set_register(unsigned index, std::uint64_t value) {
  if (index < 32) {
    world_.data[index] = static_cast<u8>(value);
  } else if (index == avr::kSp) {
    world_.cpu.sp = static_cast<u16>(value);
  } else if (index == avr::kSreg) {
    world_.cpu.sreg = static_cast<u8>(value);
  } else if (index == avr::kPc) {
    set_pc(static_cast<u32>(value));
  } else {
    const unsigned low = 26 + 2 * (index - avr::kXPair);
    world_.data[low] = static_cast<u8>(value);
    world_.data[low + 1] = static_cast<u8>(value >> 8);
  }
}

std::vector<Address> AvrMachine::register_bytes(unsigned index) const {
  const auto at = [](u32 low, u32 bytes) {
    std::vector<Address> out;
    for (u32 i = 0; i < bytes; ++i) out.push_back({Space::kData, low + i});
    return out;
  };
  if (index < 32) return at(index, 1);
  switch (index) {
    case avr::kSp: return at(0x5d, 2);
    case avr::kSreg: return at(0x5f, 1);
    case avr::kPc: return {};
    default: return at(26 + 2 * (index - avr::kXPair), 2);
  }
}

void AvrMachine::set_pc(std::uint32_t address) {
  world_.cpu.pc = address / 2 % (fabric_->row.flash / 2);
  world_.cpu.asleep = false;
}

bool AvrMachine::interrupt_imminent() const {
  const CpuState& cpu = world_.cpu;
  return cpu.pending != 0 && (cpu.sreg & 0x80U) != 0 && cpu.hold == 0 && cpu.now >= cpu.ivce_until;
}

std::optional<std::uint32_t> AvrMachine::deepest_sp() const {
  if (lowest_sp_ == UINT32_MAX) return std::nullopt;
  return lowest_sp_;
}

std::vector<PinState> AvrMachine::pins() const {
  std::vector<PinState> out;
  for (const auto& port : fabric_->ports)
    for (unsigned bit = 0; bit < 8; ++bit)
      if ((port->row().mask >> bit & 1U) != 0) out.push_back(port->state(world_, bit));
  for (const UsartRow& row : fabric_->row.usarts) {
    for (PinState& pin : out) {
      const unsigned control = world_.data[row.ucsra + 1U];
      const std::string prefix = std::string("P") + row.port;
      const std::string number = std::to_string(row.number);
      if ((control & 8U) != 0 && pin.name == prefix + static_cast<char>('0' + row.txd_bit))
        pin.taken_by = "USART" + number + " TXD";
      if ((control & 0x10U) != 0 && pin.name == prefix + static_cast<char>('0' + row.rxd_bit))
        pin.taken_by = "USART" + number + " RXD";
    }
  }
  return out;
}

Result<void> AvrMachine::drive(const std::string& pin, std::optional<bool> level) {
  std::vector<std::string> names;
  for (const auto& port : fabric_->ports) {
    for (unsigned bit = 0; bit < 8; ++bit) {
      if ((port->row().mask >> bit & 1U) == 0) continue;
      const std::string name = std::string("P") + port->row().letter + static_cast<char>('0' + bit);
      names.push_back(name);
      if (!base::equal_ignoring_case(name, pin)) continue;
      port->drive(world_, bit, level, world_.cpu.now);
      return {};
    }
  }
  return fail(ErrorCode::kNotFound, "there is no pin '" + pin + "' on " + info().name,
              base::did_you_mean(pin, names));
}

Result<void> AvrMachine::send(const std::string& port, const std::string& bytes) {
  for (const auto& usart : fabric_->usarts) {
    if (!base::equal_ignoring_case(usart->name(), port)) continue;
    usart->send(Bus(world_, outputs_), bytes, world_.cpu.now);
    return {};
  }
  return fail(ErrorCode::kNotFound, "there is no serial port '" + port + "' on " + info().name,
              base::did_you_mean(port, info().serial_ports));
}

}  // namespace lucid::chip
