// SPDX-License-Identifier: MIT
// A made-up 32-bit machine with eight instructions and one memory for code and data: the session
// and what it stands on work with it, linked without the AVR and without any chip.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <set>

#include "lucid/session.h"
#include "machine/family.h"
#include "machine/machine.h"

using namespace lucid;

const std::vector<const machine::Family*>& machine::families() {
  static const std::vector<const Family*> kNone;
  return kNone;
}

namespace {

// One word each: opcode, destination, source, signed byte. Registers r0..r5, sp, pc.
enum Opcode : std::uint8_t {
  kHalt,
  kLoadImmediate,
  kAdd,
  kStore,
  kLoad,
  kBranchIfNotZero,
  kCall,
  kReturn
};
constexpr unsigned kSp = 6, kPc = 7;

class ToyTarget final : public machine::Target {
 public:
  [[nodiscard]] const std::vector<RegisterName>& registers() const override {
    static const std::vector<RegisterName> kNames{{"r0", 32, 0}, {"r1", 32, 1}, {"r2", 32, 2},
                                                  {"r3", 32, 3}, {"r4", 32, 4}, {"r5", 32, 5},
                                                  {"sp", 32, 6}, {"pc", 32, 7}};
    return kNames;
  }
  [[nodiscard]] machine::CallConvention convention() const override {
    return {6, 7, 4, 4, 0, 4, 4};
  }
  [[nodiscard]] std::uint8_t longest() const override { return 4; }
  [[nodiscard]] Instruction decode(const std::vector<std::uint8_t>& bytes,
                                   std::uint32_t address) const override {
    Instruction i;
    i.address = address;
    i.size = 4;
    i.bytes = bytes;
    if (bytes.size() < 4 || bytes[0] > kReturn) return i;
    i.validity = Validity::kValid;
    const auto target =
        address + 4 * static_cast<std::uint32_t>(static_cast<std::int8_t>(bytes[3]));
    if (bytes[0] == kCall) i.flow = Flow::kCall;
    if (bytes[0] == kReturn) i.flow = Flow::kReturn;
    if (bytes[0] == kBranchIfNotZero) i.flow = Flow::kBranch;
    if (i.flow == Flow::kCall || i.flow == Flow::kBranch) i.target = target;
    return i;
  }
  void write_text(Instruction& i) const override {
    static const char* const kNames[] = {"halt", "set", "add",  "store",
                                         "load", "bnz", "call", "return"};
    i.mnemonic = i.validity == Validity::kValid ? kNames[i.bytes[0]] : ".word";
    if (i.bytes.size() == 4)
      i.operands = fmt::format("r{}, r{}, {}", i.bytes[1], i.bytes[2], i.bytes[3]);
  }
  [[nodiscard]] machine::StackEffect stack_effect(const Instruction&) const override { return {}; }
  [[nodiscard]] Explanation explain(const machine::Machine& machine,
                                    std::uint32_t address) const override {
    Explanation e;
    e.instruction = machine.instruction_at(address);
    e.words = "Does what its name says.";
    return e;
  }
  [[nodiscard]] std::uint32_t return_address(const std::vector<std::uint8_t>& b) const override {
    return b[0] | b[1] << 8 | b[2] << 16 | static_cast<std::uint32_t>(b[3]) << 24;
  }
};

class ToyMachine final : public machine::Machine {
 public:
  ToyMachine() : memory_(0x10000) {
    info_.name = "Toy32";
    info_.core = "toy";
    info_.clock_hz = 1'000'000;
    info_.memories = {{"ram", Space::kData, 0, 0x10000}, {"flash", Space::kCode, 0, 0x10000}};
    reset();
  }
  [[nodiscard]] std::unique_ptr<Machine> clone() const override {
    return std::make_unique<ToyMachine>(*this);
  }
  [[nodiscard]] const machine::Target& target() const override { return target_; }
  [[nodiscard]] const ChipInfo& info() const override { return info_; }
  machine::Stop run(const machine::RunRequest& request) override {
    machine::Stop stop;
    bool pass = request.pass_first_breakpoint;
    for (std::uint64_t n = 0; n < request.instructions; ++n, pass = false) {
      if (ticks_ >= request.until_ticks) return stop;
      if (request.pause_requested != nullptr && *request.pause_requested) {
        stop.why = machine::Stop::Why::kRequested;
        return stop;
      }
      if (!pass && marks_.count(r_[kPc]) != 0) {
        stop.why = machine::Stop::Why::kBreakpoint;
        return stop;
      }
      stop.last_pc = r_[kPc];
      if (!execute()) {
        stop.why = machine::Stop::Why::kFault;
        stop.fault = machine::Fault::kReservedInstruction;
        stop.fault_pc = r_[kPc];
        return stop;
      }
      ++ticks_;
    }
    stop.why = machine::Stop::Why::kInstructions;
    return stop;
  }
  void reset() override {
    r_.assign(8, 0);
    r_[kSp] = 0x10000;
  }
  Result<void> load(const Image&) override {
    return fail(ErrorCode::kUnsupported, "programs are poked in");
  }
  Result<void> set_breakpoint(std::uint32_t address, bool on) override {
    if (on)
      marks_.insert(address);
    else
      marks_.erase(address);
    return {};
  }
  void guard_stack(std::uint32_t, std::uint32_t) override {}
  [[nodiscard]] std::optional<std::uint8_t> peek(Address a) const override {
    if (a.offset < memory_.size()) return memory_[a.offset];
    return std::nullopt;
  }
  [[nodiscard]] std::uint64_t register_value(unsigned index) const override { return r_[index]; }
  [[nodiscard]] std::uint32_t pc() const override { return r_[kPc]; }
  [[nodiscard]] std::uint32_t sp() const override { return r_[kSp]; }
  [[nodiscard]] std::uint64_t ticks() const override { return ticks_; }
  [[nodiscard]] std::uint64_t hash() const override { return ticks_ ^ r_[0]; }
  [[nodiscard]] bool interrupt_imminent() const override { return false; }
  bool poke(Address a, std::uint8_t value) override {
    if (a.offset >= memory_.size()) return false;
    memory_[a.offset] = value;
    return true;
  }
  void set_register(unsigned index, std::uint64_t value) override {
    r_[index] = static_cast<std::uint32_t>(value);
  }
  void set_pc(std::uint32_t address) override { r_[kPc] = address; }

 private:
  std::uint32_t word(std::uint32_t a) const {
    return memory_[a] | memory_[a + 1] << 8 | memory_[a + 2] << 16 |
           static_cast<std::uint32_t>(memory_[a + 3]) << 24;
  }
  void put(std::uint32_t a, std::uint32_t v) {
    for (unsigned i = 0; i < 4; ++i) memory_[a + i] = static_cast<std::uint8_t>(v >> (8 * i));
  }
  bool execute() {
    const std::uint8_t* i = &memory_[r_[kPc]];
    const std::uint32_t next = r_[kPc] + 4;
    const auto offset = static_cast<std::uint32_t>(static_cast<std::int8_t>(i[3]));
    const std::uint32_t target = r_[kPc] + 4 * offset;
    switch (i[0]) {
      case kHalt: return true;
      case kLoadImmediate: r_[i[1]] = offset; break;
      case kAdd: r_[i[1]] += r_[i[2]] + offset; break;
      case kStore: put(r_[i[2]] + offset, r_[i[1]]); break;
      case kLoad: r_[i[1]] = word(r_[i[2]] + offset); break;
      case kBranchIfNotZero: r_[kPc] = r_[i[1]] != 0 ? target : next; return true;
      case kCall:
        r_[kSp] -= 4;
        put(r_[kSp], next);
        r_[kPc] = target;
        return true;
      case kReturn:
        r_[kPc] = word(r_[kSp]);
        r_[kSp] += 4;
        return true;
      default: return false;
    }
    r_[kPc] = next;
    return true;
  }

  ToyTarget target_;
  ChipInfo info_;
  std::vector<std::uint8_t> memory_;
  std::vector<std::uint32_t> r_;
  std::set<std::uint32_t> marks_;
  std::uint64_t ticks_ = 0;
};

/// Counts r0 down from 10, calling a function at 0x18 that adds 3 to r1 each time.
Session toy() {
  Chip chip(std::make_unique<ToyMachine>());
  const std::uint8_t program[][4] = {{kLoadImmediate, 0, 0, 10},
                                     {kCall, 0, 0, 5},
                                     {kAdd, 0, 5, 0xff},
                                     {kBranchIfNotZero, 0, 0, 0xfe},
                                     {kStore, 1, 5, 0x40},
                                     {kHalt, 0, 0, 0},
                                     {kAdd, 1, 5, 3},
                                     {kReturn, 0, 0, 0},
                                     {99, 0, 0, 0}};
  std::uint32_t at = 0;
  for (const auto& word : program)
    for (const std::uint8_t byte : word) chip.poke({Space::kCode, at++}, byte);
  return Session(std::move(chip));
}

}  // namespace

TEST_CASE("breakpoints with passes, steps and expressions on another instruction set") {
  Session session = toy();
  REQUIRE(session.pause_at({"0x18", BreakpointSpec::Rule::kOn, 4, "chip.r0 < 10"}));
  const Pause pause = session.go();
  CHECK(pause.cause == Pause::Cause::kBreakpoint);
  CHECK(pause.passes == 4);
  CHECK(session.evaluate("chip.r0")->integer == 6);
  CHECK(session.evaluate("chip.r1 * 2")->integer == 24);
  session.all_breakpoints(false);
  REQUIRE(session.go_to("0x4"));
  REQUIRE(session.step(StepKind::kOver, StepUnit::kInstruction));
  CHECK(session.chip().pc() == 8);
  REQUIRE(session.step(StepKind::kInto, StepUnit::kLine));  // no source: by instruction
  CHECK(session.chip().pc() == 12);
  REQUIRE(session.go_until("chip.r0 == 2"));
  REQUIRE(session.go_to("0x14"));
  CHECK(session.evaluate("chip.ram[0x40]")->integer == 30);
  REQUIRE(session.let("chip.r3", "100000"));  // int has 32 bits here
  CHECK(session.evaluate("chip.r3 * 10")->integer == 1'000'000);
  REQUIRE(session.move_to("0x20"));
  CHECK(session.go().cause == Pause::Cause::kFault);
}

TEST_CASE("views on another instruction set") {
  Session session = toy();
  session.go_for(5);
  CHECK(session.registers().size() == 8);
  CHECK(session.flags().empty());
  CHECK(session.pins().empty());
  const auto rows = session.disassembly("0x0", 9);
  REQUIRE(rows);
  CHECK(rows->rows[1].instruction.mnemonic == "call");
  CHECK(rows->rows[1].target == "→ 0x0018");
  CHECK(rows->rows[8].instruction.mnemonic == ".word");
  CHECK(session.callers().size() == 1);
  CHECK(session.explain()->words == "Does what its name says.");
  CHECK_FALSE(session.drive("PB5", true));
  CHECK_FALSE(session.feed("USART0", "x"));
  const auto memory = session.memory("ram", 0x0, 16);
  REQUIRE(memory);
  CHECK(memory->rows[0].bytes.size() == 16);
}
