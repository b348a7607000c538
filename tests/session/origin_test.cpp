// SPDX-License-Identifier: MIT
// Origins against a record of every instruction: a shadow of each register and byte says which
// instruction has made what it holds. The shadow is kept by the disassembler's text alone.
#include <fmt/format.h>

#include <array>
#include <catch2/catch.hpp>
#include <map>
#include <optional>
#include <set>

#include "lucid/bench.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

Chip::Options kiln() {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml");
  REQUIRE(bench);
  return bench->chip;
}

struct Maker {
  std::uint64_t cycles = 0;
  std::uint32_t pc = 0;
};

class Shadow {
 public:
  explicit Shadow(const Chip& chip) : chip_(chip) {}

  /// REQUIRES: the chip stands before the instruction, which will be executed.
  void before() {
    const Instruction now = chip_.instruction_at(chip_.pc());
    me_ = {chip_.cycles(), chip_.pc()};
    const std::string& m = now.mnemonic;
    const std::size_t comma = now.operands.find(", ");
    const std::string first = now.operands.substr(0, comma);
    const std::string second = comma == std::string::npos ? "" : now.operands.substr(comma + 2);
    changes_.clear();
    static const std::set<std::string> kWork{
        "add", "adc", "sub", "subi", "sbc", "sbci", "and", "andi", "or",  "ori", "eor", "com",
        "neg", "inc", "dec", "ldi",  "lsr", "ror",  "asr", "swap", "bld", "in",  "lpm", "elpm"};
    static const std::set<std::string> kProducts{"mul", "muls", "mulsu", "fmul", "fmuls", "fmulsu"};
    if (m == "lpm" && now.operands.empty()) {
      make(0);
    } else if (kWork.count(m) != 0) {
      // What sets flags only makes nothing.
      if (!((m == "and" || m == "or") && first == second)) make(reg(first));
    } else if (m == "adiw" || m == "sbiw") {
      make(reg(first));
      make(reg(first) + 1);
    } else if (kProducts.count(m) != 0) {
      make(0);
      make(1);
    } else if (m == "mov") {
      if (first != second) move(reg(first), reg(second));
    } else if (m == "movw") {
      move(reg(first), reg(second));
      move(reg(first) + 1, reg(second) + 1);
    } else if (m == "lds" || m == "ld" || m == "ldd" || m == "pop") {
      load(reg(first), m == "pop" ? sp() + 1 : address(second));
    } else if (m == "sts" || m == "st" || m == "std") {
      move(address(first), reg(second));
    } else if (m == "out") {
      move(0x20 + number(first), reg(second));
    } else if (m == "push") {
      move(sp(), reg(first));
    } else if (m == "call" || m == "rcall" || m == "icall") {
      make(sp());
      make(sp() - 1);
    }
    for (const std::string& operand : {first, second})
      if ((m.substr(0, 2) == "ld" || m.substr(0, 2) == "st" || m == "lpm") &&
          (operand.back() == '+' || operand.front() == '-')) {
        const unsigned low = pair(operand);
        make(low);
        make(low + 1);
      }
  }
  void behind() {
    for (const auto& [cell, maker] : changes_) makers_[cell] = maker;
  }
  void interrupted() {
    makers_.erase(sp() + 1);
    makers_.erase(sp() + 2);
  }
  /// Data addresses; the registers are the first 32.
  [[nodiscard]] std::optional<Maker> maker(std::uint32_t cell) const {
    const auto found = makers_.find(cell);
    return found == makers_.end() ? std::nullopt : found->second;
  }

 private:
  [[nodiscard]] std::uint32_t sp() const { return chip_.sp(); }
  static std::uint32_t number(const std::string& text) {
    return static_cast<std::uint32_t>(std::stoul(text, nullptr, 0));
  }
  static std::uint32_t reg(const std::string& text) {
    return static_cast<std::uint32_t>(std::stoul(text.substr(1)));
  }
  static unsigned pair(const std::string& operand) {
    return operand.find('X') != operand.npos ? 26 : operand.find('Y') != operand.npos ? 28 : 30;
  }
  [[nodiscard]] std::uint32_t address(const std::string& operand) const {
    if (operand.find_first_of("XYZ") == operand.npos) return number(operand);
    const unsigned low = pair(operand);
    const auto at = static_cast<std::uint32_t>(*chip_.peek({Space::kData, low}) |
                                               *chip_.peek({Space::kData, low + 1}) << 8);
    if (operand.front() == '-') return at - 1;
    const std::size_t plus = operand.find('+');
    return plus == operand.npos || plus + 1 == operand.size()
               ? at
               : at + number(operand.substr(plus + 1));
  }
  void make(std::uint32_t cell) { changes_[cell] = me_; }
  void move(std::uint32_t to, std::uint32_t from) { changes_[to] = maker(from); }
  void load(std::uint32_t to, std::uint32_t from) {
    if (from >= 0x20 && from < 0x100)
      make(to);  // an I/O register
    else
      move(to, from);
  }

  const Chip& chip_;
  Maker me_;
  std::map<std::uint32_t, std::optional<Maker>> makers_, changes_;
};

}  // namespace

TEST_CASE("an origin is the instruction that a record of all of them says") {
  struct Row {
    std::string image;
    std::uint64_t begin;
    unsigned instructions;
  };
  unsigned compared = 0;
  const unsigned length = std::getenv("LUCID_QUICK") != nullptr ? 1'500
                          : test::is_short()                    ? 3'000
                                                                : 12'000;
  for (const Row& row : {Row{test::kKilnOg, 15'999'000, length},
                         {test::kKilnOs, 47'995'000, length},
                         {std::string(LUCID_KILN) + "/images/overshoot.elf", 100'000, length}}) {
    INFO(row.image);
    Session session(*Chip::make(kiln()));
    REQUIRE(session.open(row.image));
    session.go_for(row.begin);
    REQUIRE(session.step(StepKind::kInto, StepUnit::kInstruction));
    Shadow shadow(session.chip());
    for (unsigned i = 1; i <= row.instructions; ++i) {
      shadow.before();
      const auto pause = session.step(StepKind::kInto, StepUnit::kInstruction);
      REQUIRE(pause);
      if (pause->interrupt.empty())
        shadow.behind();
      else
        shadow.interrupted();
      if (i % (row.instructions / 6) != 0) continue;
      std::vector<std::pair<std::string, std::uint32_t>> objects;
      for (std::uint32_t n = 0; n < 32; ++n) objects.emplace_back(fmt::format("chip.r{}", n), n);
      for (std::uint32_t a = 0x100; a < 0x1a0; a += 3)
        objects.emplace_back(fmt::format("chip.ram[{:#x}]", a), a);
      for (std::uint32_t a = session.chip().sp() + 1; a < 0x900; ++a)
        objects.emplace_back(fmt::format("chip.ram[{:#x}]", a), a);
      for (const auto& [object, cell] : objects) {
        const auto expected = shadow.maker(cell);
        if (!expected) continue;
        INFO(object << " at " << session.chip().cycles());
        const auto origin = session.origin(object);
        REQUIRE(origin);
        REQUIRE(origin->nodes.size() == 1);
        CHECK(origin->nodes[0].where.address == expected->pc);
        CHECK(origin->nodes[0].time.count == to_time(expected->cycles, 16'000'000).count);
        ++compared;
      }
    }
  }
  CHECK(compared > 200);
}

TEST_CASE(
    "an origin in words of the program, through moves, calls and the other bytes of its line") {
  Session session(*Chip::make(kiln()));
  REQUIRE(session.open(std::string(LUCID_KILN) + "/images/overshoot.elf"));
  REQUIRE(session.go_to("control_step"));
  const std::string setpoint = session.evaluate("setpoint")->text;
  const std::string measured = session.evaluate("measured")->text;
  REQUIRE(session.step(StepKind::kOver, StepUnit::kLine));
  const std::uint64_t before = session.chip().hash();
  const auto origin = session.origin("error", 2);
  REQUIRE(origin);
  CHECK(session.chip().hash() == before);
  REQUIRE(!origin->nodes.empty());
  const OriginNode& error = origin->nodes[0];
  CHECK(error.where.line == 17);
  CHECK(error.how == OriginNode::How::kWorked);
  std::map<std::string, std::string> from;
  for (const OriginNode::From& f : error.from) from[f.name] = f.value;
  CHECK(from == std::map<std::string, std::string>{{"setpoint", setpoint}, {"measured", measured}});
  CHECK(origin->nodes.size() >= 3);
  // Each can be gone to; a person's change is one, too.
  REQUIRE(session.back_to_origin(1));
  CHECK(session.pause().where.address == error.where.address);
  CHECK(session.back_to_origin(99).error().code == ErrorCode::kNotFound);
  REQUIRE(session.let("seconds", "7"));
  const auto by_hand = session.origin("seconds");
  REQUIRE(by_hand);
  CHECK(by_hand->nodes[0].how == OriginNode::How::kEdit);
  CHECK(session.origin("command").error().code == ErrorCode::kUsage);
  CHECK(session.origin("1 + 1").error().code == ErrorCode::kUsage);
  const auto never = session.origin("chip.ram[0x500]");
  REQUIRE(never);
  CHECK(never->nodes[0].how == OriginNode::How::kStart);
}

TEST_CASE("the history of an object is what a data breakpoint pauses for on the way there") {
  for (const char* object : {"ticks", "seconds", "into_second in TIMER1_COMPA_vect"}) {
    INFO(object);
    std::vector<std::string> rows;
    Session forward(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(forward.open(test::kKilnOg));
    BreakpointSpec spec{object};
    spec.kind = BreakpointSpec::Kind::kWrite;
    REQUIRE(forward.pause_at(spec));
    constexpr std::uint64_t kEnd = 20'000'000;
    while (forward.chip().cycles() < kEnd) {
      const Pause pause = forward.go_for(kEnd - forward.chip().cycles());
      if (pause.data)
        rows.push_back(fmt::format("{} {}->{} by {:#x}", pause.time.count, pause.data->before,
                                   pause.data->after, pause.data->by.address));
    }
    Session session(*Chip::make({"ATmega328P", 16'000'000}));
    REQUIRE(session.open(test::kKilnOg));
    session.go_for(kEnd);
    const auto history = session.history(object, 100'000);
    REQUIRE(history);
    std::vector<std::string> found;
    for (const Session::Write& row : *history)
      found.push_back(fmt::format("{} {}->{} by {:#x}", row.time.count, row.access.before,
                                  row.access.after, row.access.by.address));
    CHECK(found == rows);
    const auto last = session.history(object, 3);
    REQUIRE(last);
    REQUIRE(last->size() == std::min<std::size_t>(3, rows.size()));
    REQUIRE(session.back_to_history(1));
    CHECK(session.chip().time().count == last->front().time.count);
  }
}

TEST_CASE("a register that was written long ago, as a register or as memory") {
  const std::string image = test::assembled("long_ago", R"(
    .global main
    main: ldi r16, 5
      ldi r30, 24
      ldi r31, 0
      st Z, r16      ; r24
      ldi r17, 7
      sec
      ldi r18, 0
      ldi r19, 0
      ldi r20, 4
    1: nop
      dec r18        ; leaves the carry alone
      brne 1b
      dec r19
      brne 1b
      dec r20
      brne 1b
    2: rjmp 2b
  )");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(image));
  session.go_for(1'060'000);
  REQUIRE(session.evaluate("chip.r20")->text == "0");
  struct Row {
    const char* object;
    const char* instruction;
  };
  for (const Row& row : {Row{"chip.r24", "ldi r16, 0x05"}, {"chip.r17", "ldi r17, 0x07"}}) {
    const auto origin = session.origin(row.object);
    REQUIRE(origin);
    REQUIRE(origin->nodes.size() == 1);
    CHECK(origin->nodes[0].how == OriginNode::How::kConstant);
    CHECK(origin->nodes[0].instruction == row.instruction);
  }
  const auto carry = session.origin("chip.sreg.C");
  REQUIRE(carry);
  CHECK(carry->nodes.at(0).instruction == "sec");
}

TEST_CASE(
    "a pin's level comes from its last edge: by an instruction, the chip itself, or outside") {
  Session session(*Chip::make(kiln()));
  REQUIRE(session.open(test::kKilnOg));
  REQUIRE(session.feed("USART0", "G\n"));
  session.go_for(Picoseconds{4'300'000'000'000});
  // Edges as one meets them going forwards, in a session of its own.
  for (const char* pin : {"PB5", "PD1"}) {
    INFO(pin);
    Session forwards(*Chip::make(kiln()));
    REQUIRE(forwards.open(test::kKilnOg));
    REQUIRE(forwards.feed("USART0", "G\n"));
    BreakpointSpec edge;
    edge.kind = BreakpointSpec::Kind::kEdge;
    edge.place = pin;
    REQUIRE(forwards.pause_at(edge));
    std::vector<std::uint64_t> met;
    const auto level = [&](const Session& at) {
      for (const PinState& state : at.chip().pins())
        if (state.name == pin) return state.level;
      return false;
    };
    bool last = level(forwards);
    while (forwards.go_for(session.chip().cycles() - forwards.chip().cycles()).cause ==
           Pause::Cause::kEvent)
      if (std::exchange(last, level(forwards)) != last) met.push_back(forwards.chip().cycles());
    const auto rows = session.history(std::string("pin.") + pin, 6);
    REQUIRE(rows);
    REQUIRE((rows->size() <= 6 && !rows->empty()));
    // A pause comes at the next instruction boundary.
    for (std::size_t i = 0; i < rows->size(); ++i) {
      const std::uint64_t edge_at = to_ticks((*rows)[i].time, 16'000'000);
      const std::uint64_t paused = met.at(met.size() - rows->size() + i);
      CHECK((edge_at <= paused && paused - edge_at < 60));
    }
  }
  const auto port = session.origin("pin.PB5", 3);
  REQUIRE(port);
  REQUIRE(port->nodes.size() >= 2);
  CHECK(port->nodes[0].how == OriginNode::How::kWorked);
  CHECK(port->nodes[0].from.at(0).name == "PORTB");
  CHECK(port->nodes[0].where.function == "heater_set");
  CHECK(port->nodes[1].object == "PORTB");
  CHECK(session.origin("pin.PD1")->nodes.at(0).how == OriginNode::How::kHardware);
  const Picoseconds driven = session.chip().time();
  REQUIRE(session.drive("PD4", true));
  session.go_for(Picoseconds{100'000'000'000});
  const std::uint64_t hash = session.chip().hash();
  const auto outside = session.origin("pin.PD4");
  REQUIRE(outside);
  CHECK(outside->nodes.at(0).how == OriginNode::How::kOutside);
  CHECK(outside->nodes.at(0).value == "high");
  CHECK(outside->nodes.at(0).time.count == driven.count);
  CHECK(session.origin("pin.PC5")->nodes.at(0).how == OriginNode::How::kStart);
  CHECK(session.chip().hash() == hash);
  CHECK(session.origin("chip.sp").error().code == ErrorCode::kUsage);
  REQUIRE(session.origin("pin.PD4"));
  REQUIRE(session.back_to_origin(1));
  CHECK(session.chip().time().count == driven.count);
}
