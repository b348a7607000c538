// SPDX-License-Identifier: MIT
#include "machine/machine.h"

#include <fmt/format.h>
#include <sstream>

#include <cmath>

#include "base/text.h"

namespace lucid {
namespace machine {

Making Target::making(const Machine& /*before*/, const Instruction& instruction,
                      const Cell& cell) const {
  if (cell.kind != Cell::Kind::kRegister || cell.number >= FrameState::kRegisters ||
      (writes(instruction) >> cell.number & 1U) == 0)
    return {};
  Making out{Making::How::kWorked, {}};
  const std::uint64_t read = reads(instruction);
  for (unsigned n = 0; n < FrameState::kRegisters; ++n)
    if ((read >> n & 1U) != 0) out.from.push_back({Cell::Kind::kRegister, n, {}});
  return out;
}

std::vector<Cell> Target::decides(const Machine& /*before*/, const Instruction& instruction) const {
  std::vector<Cell> out;
  const std::uint64_t read = reads(instruction);
  for (unsigned n = 0; n < FrameState::kRegisters; ++n)
    if ((read >> n & 1U) != 0) out.push_back({Cell::Kind::kRegister, n, {}});
  return out;
}

std::string fault_text(const Stop& stop) {
  const auto hex = [](std::uint32_t value) { return fmt::format("0x{:04x}", value); };
  const std::string who =
      (stop.fault_in_entry ? "the entry of an interrupt at " : "instruction at ") +
      hex(stop.fault_pc);
  switch (stop.fault) {
    case Fault::kReservedInstruction: return "reserved instruction at " + hex(stop.fault_pc);
    case Fault::kErasedFlash: return "execution reached erased flash at " + hex(stop.fault_pc);
    case Fault::kOutsideMemory:
      return who + " touched data address " + hex(stop.fault_address) +
             ", where there is no memory";
    case Fault::kStackOutsideRam:
      return who + " used the stack at " + hex(stop.fault_address) + ", outside RAM";
    case Fault::kStackIntoData:
      return who + " pushed the stack into static data at " + hex(stop.fault_address);
    case Fault::kNeverWritten:
      return who + " read RAM at " + hex(stop.fault_address) +
             ", which nothing has written since power-on";
    case Fault::kBusyFlash:
      return stop.fault_pc == stop.fault_address
                 ? "execution reached " + hex(stop.fault_pc) +
                       ", in the section of flash that is busy until RWWSRE is set"
                 : who + " read flash at " + hex(stop.fault_address) +
                       ", in the section that is busy until RWWSRE is set";
    case Fault::kNeverWakes:
      return "asleep or held in reset, and nothing is left that could end it";
    case Fault::kOutside: return stop.failure;
    case Fault::kCheck: return "a check has found something";
    case Fault::kNone: break;
  }
  return "no fault";
}

const std::uint8_t* Machine::plain_bytes(Address /*address*/, unsigned /*bytes*/) const {
  return nullptr;
}

void Machine::set_fault(Fault fault, bool on) {
  const std::uint32_t bit = 1U << static_cast<unsigned>(fault);
  faults_off_ = on ? faults_off_ & ~bit : faults_off_ | bit;
  if (fault == Fault::kNeverWritten) check_unwritten(on);
}

std::vector<Address> Machine::register_bytes(unsigned /*index*/) const { return {}; }

Result<void> Machine::watch(Address /*address*/, std::uint8_t /*kinds*/) {
  return fail(ErrorCode::kUnsupported, "this chip cannot watch data");
}

PinLevel level_of(const PinState& pin) {
  if (pin.contention) return kFought;
  if (pin.floating) return kFloats;
  return pin.level ? kHigh : kLow;
}

Result<void> Machine::count(bool /*on*/, bool /*calls*/) {
  return fail(ErrorCode::kUnsupported, "what is executed cannot be counted on " + info().name);
}

Result<void> Machine::listen(std::uint32_t kinds, RecordSink* sink) {
  if (kinds == 0 || sink == nullptr) return {};
  return fail(ErrorCode::kUnsupported, info().name + " does not tell what happens in it");
}

Result<void> Machine::drive(const std::string& pin, std::optional<bool> /*level*/) {
  return fail(ErrorCode::kNotFound, "there is no pin '" + pin + "' on " + info().name);
}

Result<void> Machine::act(const std::string& part, const std::string& /*action*/,
                          const std::string& /*value*/) {
  return fail(ErrorCode::kNotFound, "there is no part '" + part + "'");
}
Result<void> Machine::apply(const std::string& pin, std::int32_t /*microvolts*/) {
  return fail(ErrorCode::kNotFound, "there is no pin '" + pin + "' on " + info().name);
}
Result<void> Machine::feed(const std::string& port, const std::string& /*bytes*/) {
  return fail(ErrorCode::kNotFound, "there is no serial port '" + port + "' on " + info().name);
}

std::unique_ptr<Machine> Machine::companion(const std::string& /*name*/) const { return nullptr; }
Result<void> Machine::feed_frame(const std::string& port, const SerialFrame& /*frame*/) {
  return feed(port, {});
}

Result<void> Machine::transfer(const TwoWireTransfer& /*transfer*/) {
  return fail(ErrorCode::kNotFound, "there is no two-wire interface on " + info().name);
}

Instruction Machine::instruction_at(std::uint32_t address, bool with_text) const {
  std::vector<std::uint8_t> bytes;
  for (std::uint32_t i = 0; i < target().longest(); ++i) {
    const auto byte = peek({Space::kCode, address + i});
    if (!byte) break;
    bytes.push_back(*byte);
  }
  Instruction instruction = target().decode(bytes, address);
  if (with_text) target().write_text(instruction);
  return instruction;
}

std::optional<unsigned> Machine::find_register(const std::string& name) const {
  const auto& names = target().registers();
  for (unsigned i = 0; i < names.size(); ++i)
    if (base::equal_ignoring_case(names[i].name, name)) return i;
  return std::nullopt;
}

std::optional<unsigned> Machine::find_dwarf_register(int dwarf) const {
  const auto& names = target().registers();
  const auto number = static_cast<unsigned>(dwarf);  // most have the number of their place
  if (number < names.size() && names[number].dwarf == dwarf) return number;
  for (unsigned i = 0; i < names.size(); ++i)
    if (names[i].dwarf == dwarf) return i;
  return std::nullopt;
}

const MemoryArea* Machine::area(const std::string& name) const {
  for (const MemoryArea& area : info().memories)
    if (area.name == name) return &area;
  return nullptr;
}

const IoRegister* Machine::io_register(const std::string& name) const {
  for (const IoRegister& io : info().io)
    if (base::equal_ignoring_case(io.name, name)) return &io;
  return nullptr;
}

}  // namespace machine

Chip::Chip(std::unique_ptr<machine::Machine> machine) : machine_(std::move(machine)) {}
Chip::Chip(const Chip& other) : machine_(other.machine_->clone()) {}
Chip& Chip::operator=(const Chip& other) {
  if (this != &other && (!machine_ || !machine_->assume(*other.machine_)))
    machine_ = other.machine_->clone();
  return *this;
}
Chip::Chip(Chip&&) noexcept = default;
Chip& Chip::operator=(Chip&&) noexcept = default;
Chip::~Chip() = default;

Result<void> Chip::load(const Image& image) { return machine_->load(image); }
void Chip::reset() { machine_->reset(); }
const ChipInfo& Chip::info() const { return machine_->info(); }

namespace {

RunEnd end_of(const machine::Stop& stop) {
  if (stop.why == machine::Stop::Why::kBreakInstruction)
    return {RunEnd::Why::kBreakInstruction, {}};
  if (stop.why == machine::Stop::Why::kFault)
    return {RunEnd::Why::kFault, machine::fault_text(stop)};
  return {};
}

}  // namespace

namespace {

/// The sum, or the most that there is.
std::uint64_t saturated(std::uint64_t now, std::uint64_t more) {
  return more > UINT64_MAX - now ? UINT64_MAX : now + more;
}

}  // namespace

RunEnd Chip::run_for(std::uint64_t cycles) {
  machine::RunRequest request;
  request.until_cycles = saturated(machine_->cycles(), cycles);
  request.pass_first_breakpoint = true;
  return end_of(machine_->run(request));
}

RunEnd Chip::run_for(Picoseconds span) {
  machine::RunRequest request;
  request.until_ticks = saturated(machine_->ticks(), to_ticks(span, info().clock_hz));
  request.pass_first_breakpoint = true;
  return end_of(machine_->run(request));
}

RunEnd Chip::step() {
  machine::RunRequest request;
  request.instructions = 1;
  request.endless = true;  // asleep for ever, it says so
  request.pass_first_breakpoint = true;
  return end_of(machine_->run(request));
}

std::vector<std::string> Chip::companions() const { return machine_->companions(); }
Result<Chip> Chip::companion(const std::string& name) const {
  if (auto found = machine_->companion(name)) return Chip(std::move(found));
  const auto names = machine_->companions();
  return fail(ErrorCode::kNotFound, "there is no companion '" + name + "'",
              names.empty() ? "give a bench with several chips" : did_you_mean(name, names));
}

std::uint64_t Chip::cycles() const { return machine_->cycles(); }
Picoseconds Chip::time() const { return to_time(machine_->ticks(), info().clock_hz); }
std::uint32_t Chip::pc() const { return machine_->pc(); }
std::uint32_t Chip::sp() const { return machine_->sp(); }

Result<std::uint64_t> Chip::register_value(const std::string& name) const {
  if (const auto index = machine_->find_register(name)) return machine_->register_value(*index);
  return fail(ErrorCode::kNotFound, "there is no register '" + name + "'");
}

std::optional<std::uint8_t> Chip::peek(Address address) const { return machine_->peek(address); }
Instruction Chip::instruction_at(std::uint32_t address) const {
  return machine_->instruction_at(address);
}
std::vector<std::uint8_t> Chip::encode(const std::string& text, std::uint32_t address) const {
  return machine_->target().encode(text, address);
}
Explanation Chip::explain(std::uint32_t address) const {
  return machine_->target().explain(*machine_, address);
}
std::vector<PinState> Chip::pins() const { return machine_->pins(); }
std::uint64_t Chip::hash() const { return machine_->hash(); }
bool operator==(const Chip& a, const Chip& b) { return a.hash() == b.hash(); }

Result<void> Chip::set_register(const std::string& name, std::uint64_t value) {
  const auto index = machine_->find_register(name);
  if (!index) return fail(ErrorCode::kNotFound, "there is no register '" + name + "'");
  machine_->set_register(*index, value);
  return {};
}

bool Chip::poke(Address address, std::uint8_t value) { return machine_->poke(address, value); }
bool Chip::store(Address address, std::uint8_t value) { return machine_->store(address, value); }
Result<void> Chip::drive(const std::string& pin, std::optional<bool> level) {
  return machine_->drive(pin, level);
}
Result<void> Chip::apply_voltage(const std::string& pin, double volts) {
  if (!(volts >= -1000 && volts <= 1000))
    return fail(ErrorCode::kOutOfRange, "a voltage lies between -1000 V and 1000 V here");
  return machine_->apply(pin, static_cast<std::int32_t>(std::lround(volts * 1e6)));
}
Result<void> Chip::act(const std::string& part, const std::string& action,
                       const std::string& value) {
  return machine_->act(part, action, value);
}
std::vector<PartState> Chip::parts() const { return machine_->parts(); }
std::uint32_t Chip::linker_address(Address address) const {
  return machine_->target().linker_address(address);
}
Address Chip::placed(std::uint32_t linker_address) const {
  return machine_->target().placed(linker_address);
}
Result<void> Chip::feed(const std::string& port, const std::string& bytes) {
  return machine_->feed(port, bytes);
}
Result<SerialFrame> parse_serial_frame(const std::string& text) {
  std::istringstream words(text);
  std::string word;
  words >> word;
  const auto data = base::parse_unsigned(word);
  if (!data || *data > 0x1ff)
    return fail(ErrorCode::kUsage, "'" + word + "' is not the data of a frame",
                "data are 0 to 0x1ff, such as 0x141");
  SerialFrame frame;
  frame.data = static_cast<std::uint16_t>(*data);
  while (words >> word) {
    if (word == "wrong-parity")
      frame.wrong_parity = true;
    else if (word == "no-stop-bit")
      frame.no_stop_bit = true;
    else
      return fail(ErrorCode::kUsage, "'" + word + "' is nothing that can be wrong with a frame",
                  did_you_mean(word, {"wrong-parity", "no-stop-bit"}));
  }
  return frame;
}
Result<TwoWireTransfer> parse_two_wire_transfer(const std::string& text) {
  std::istringstream words(text);
  std::string word;
  words >> word;
  const auto address = base::parse_unsigned(word);
  if (!address || *address > 0x7f)
    return fail(ErrorCode::kUsage, "'" + word + "' is not an address on the two-wire bus",
                "addresses have 7 bits: 0x29 write 01 02 read 2");
  TwoWireTransfer transfer;
  transfer.address = static_cast<std::uint8_t>(*address);
  bool writing = false;
  while (words >> word) {
    if (word == "write" || word == "read") {
      writing = word == "write";
      if (writing) continue;
      words >> word;
      const auto count = base::parse_unsigned(word);
      if (!count || *count < 1 || *count > 255)
        return fail(ErrorCode::kUsage, "'" + word + "' is not how many bytes to read",
                    "write read 1 to read 255");
      transfer.read = static_cast<std::uint8_t>(*count);
      continue;
    }
    const auto byte = base::parse_unsigned("0x" + word);
    if (!writing || word.size() != 2 || !byte)
      return fail(ErrorCode::kUsage, "'" + word + "' is not a byte of two hex digits",
                  "a transfer is such as 0x29 write 01 02 read 2");
    transfer.write.push_back(static_cast<std::uint8_t>(*byte));
  }
  return transfer;
}
Result<void> Chip::transfer(const TwoWireTransfer& transfer) {
  return machine_->transfer(transfer);
}
Result<void> Chip::feed_frame(const std::string& port, const SerialFrame& frame) {
  return machine_->feed_frame(port, frame);
}
std::vector<SerialText> Chip::take_serial() { return machine_->take_serial(); }
std::string Chip::take_serial_output() {
  std::string out;
  for (const SerialText& text : take_serial()) out += text.bytes;
  return out;
}
std::vector<std::string> Chip::take_notes() {
  std::vector<std::string> out;
  for (machine::Note& note : machine_->take_notes()) out.push_back(std::move(note.text));
  return out;
}
machine::Machine& Chip::machine() { return *machine_; }
const machine::Machine& Chip::machine() const { return *machine_; }

}  // namespace lucid
