// SPDX-License-Identifier: MIT
#include "code_map.h"

#include <algorithm>

namespace lucid::app {

std::vector<std::uint32_t> instruction_starts(const Session& session) {
  std::vector<std::uint32_t> out;
  const Program& program = session.program();
  const auto stretch = [&](std::uint32_t begin, std::uint32_t end) {
    for (std::uint32_t pc = begin; pc < end;) {
      out.push_back(pc);
      pc += std::max<std::uint32_t>(session.chip().instruction_at(pc).size, 1);
    }
  };
  std::uint32_t at = 0;
  std::uint32_t end_of_code = 0;
  for (const Function& f : program.functions()) end_of_code = std::max(end_of_code, f.end);
  if (end_of_code == 0)  // nothing is known of it: as far as something was loaded
    for (const MemoryArea& area : session.chip().info().memories)
      if (area.name == "flash")
        for (std::uint32_t i = area.begin; i < area.end; ++i)
          if (session.chip().peek({Space::kCode, i}).value_or(0xff) != 0xff)
            end_of_code = i / 2 * 2 + 2;
  for (const Function& f : program.functions()) {
    if (f.begin < at || f.end <= f.begin) continue;
    stretch(at, f.begin);
    stretch(f.begin, f.end);
    at = f.end;
  }
  stretch(at, end_of_code);
  return out;
}

}  // namespace lucid::app
