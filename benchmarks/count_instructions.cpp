// SPDX-License-Identifier: MIT
// For callgrind: arms something, runs on for five million cycles, then for a number of cycles
// inside `measured_run`, and says how many instructions of the image that was and how often
// breakpoints were reached. Usage: count_instructions IMAGE CYCLES [SCENARIO]
//   nothing      no breakpoint at all
//   breakpoints  20 of them, in the functions at hand, on instructions that are not reached
//   condition    on the instruction that executes most, never true
//   untouched    8 data breakpoints on RAM that is not touched
//   written      one on a variable that is written most, with a condition that is never true
//   unwritten    reads of RAM that was never written are faults
#include <cstdio>
#include <cstdlib>
#include <map>
#include <string>

#include "lucid/session.h"

extern "C" __attribute__((noinline)) void measured_run(lucid::Session& session,
                                                       std::uint64_t cycles) {
  session.go_for(cycles);
}

namespace {

std::string hex(std::uint32_t value) {
  char text[16];
  std::snprintf(text, sizeof text, "0x%x", value);
  return text;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3) return 2;
  using lucid::BreakpointSpec;
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(argv[1])) return 1;
  const std::uint64_t cycles = std::strtoull(argv[2], nullptr, 10);
  const std::string scenario = argc > 3 ? argv[3] : "nothing";
  if (scenario == "unwritten" && !session.set_fault("never-written-read", true)) return 1;

  session.go_for(1'000'000);
  lucid::Chip copy = session.chip();
  std::map<std::uint32_t, std::uint64_t> executed;
  std::map<std::uint32_t, std::uint64_t> stored;
  std::uint64_t instructions = 0;
  for (const std::uint64_t end = copy.cycles() + cycles; copy.cycles() < end; ++instructions) {
    const std::uint32_t pc = copy.pc();
    ++executed[pc];
    copy.step();
  }
  for (const auto& [pc, times] : executed) {
    const lucid::Instruction i = copy.instruction_at(pc);
    if (i.mnemonic == "sts" && i.data && *i.data >= 0x100) stored[*i.data] += times;
  }
  const auto most = [](const auto& counts) {
    std::pair<std::uint32_t, std::uint64_t> best{0, 0};
    for (const auto& row : counts)
      if (row.second > best.second) best = row;
    return best.first;
  };
  const auto set = [&](BreakpointSpec::Kind kind, const std::string& what,
                       const std::string& condition = {}) {
    BreakpointSpec spec;
    spec.kind = kind;
    spec.place = what;
    spec.condition = condition;
    return session.pause_at(spec).has_value();
  };
  using Kind = BreakpointSpec::Kind;
  // A variable of the program whose value is compared: never true, yet it has to be looked at.
  const std::string never = "rounds == 4000000000";
  if (scenario == "breakpoints") {
    unsigned count = 0;
    for (const lucid::Function& f : session.program().functions())
      for (std::uint32_t a = f.begin; a < f.end && count < 20;) {
        if (executed.count(a) == 0 && set(Kind::kPlace, hex(a))) ++count;
        a += copy.instruction_at(a).size;
      }
  } else if (scenario == "condition") {
    if (!set(Kind::kPlace, hex(most(executed)), never)) return 1;
  } else if (scenario == "untouched") {
    for (unsigned i = 0; i < 8; ++i)
      if (!set(Kind::kWrite, "chip.ram[" + hex(0x600 + 4 * i) + "]")) return 1;
  } else if (scenario == "written") {
    if (!set(Kind::kWrite, "chip.ram[" + hex(most(stored)) + "]", never)) return 1;
  }
  session.go_for(5'000'000);
  std::uint64_t reached_before = 0;
  for (const lucid::Breakpoint& b : session.breakpoints()) reached_before += b.reached;
  measured_run(session, cycles);
  std::uint64_t reached = 0;
  for (const lucid::Breakpoint& b : session.breakpoints()) reached += b.reached;
  std::printf("%llu instructions, %llu reached%s\n", static_cast<unsigned long long>(instructions),
              static_cast<unsigned long long>(reached - reached_before),
              session.pause().cause == lucid::Pause::Cause::kTimeUp ? "" : ", ended early");
  return 0;
}
