// SPDX-License-Identifier: MIT
// For callgrind: runs an image for a number of cycles inside `measured_run`, and says how many
// instructions of the image that was. Usage: count_instructions IMAGE CYCLES [BREAKPOINTS]
//
// Breakpoints are set in the hottest function (the one the program is in after a while) and the
// functions around it, on instructions that the run does not reach.
#include <cstdio>
#include <cstdlib>
#include <set>
#include <string>

#include "lucid/session.h"

extern "C" __attribute__((noinline)) void measured_run(lucid::Session& session,
                                                       std::uint64_t cycles) {
  session.go_for(cycles);
}

int main(int argc, char** argv) {
  if (argc < 3) return 2;
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(argv[1])) return 1;
  const std::uint64_t cycles = std::strtoull(argv[2], nullptr, 10);
  const std::uint64_t breakpoints = argc > 3 ? std::strtoull(argv[3], nullptr, 10) : 0;

  session.go_for(1'000'000);
  lucid::Chip copy = session.chip();
  std::set<std::uint32_t> reached;
  std::uint64_t instructions = 0;
  for (const std::uint64_t end = copy.cycles() + cycles; copy.cycles() < end; ++instructions) {
    reached.insert(copy.pc());
    copy.step();
  }
  std::uint64_t set = 0;
  for (const lucid::Function& f : session.program().functions())
    for (std::uint32_t a = f.begin; a < f.end && set < breakpoints;) {
      const lucid::Instruction i = copy.instruction_at(a);
      if (reached.count(a) == 0 && session.pause_at({"0x" + [a] {
            char text[16];
            std::snprintf(text, sizeof text, "%x", a);
            return std::string(text);
          }()}))
        ++set;
      a += i.size;
    }
  measured_run(session, cycles);
  std::printf("%llu instructions, %llu cycles, %llu breakpoints\n",
              static_cast<unsigned long long>(instructions),
              static_cast<unsigned long long>(cycles), static_cast<unsigned long long>(set));
  return 0;
}
