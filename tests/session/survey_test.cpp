// SPDX-License-Identifier: MIT
// Counts of whole runs, against a record made by stepping, against breakpoints, and by formula.
#include "lucid/survey.h"

#include <catch2/catch.hpp>
#include <map>
#include <random>
#include <set>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kSecond = 1'000'000'000'000;

Session opened(const std::string& elf, const std::string& chip = "ATmega328P") {
  Session session(*Chip::make({chip, 16'000'000}));
  REQUIRE(session.open(elf));
  return session;
}

struct Count {
  std::uint64_t executed = 0, departed = 0, cycles = 0;
  friend bool operator==(const Count& a, const Count& b) {
    return a.executed == b.executed && a.departed == b.departed && a.cycles == b.cycles;
  }
};
std::ostream& operator<<(std::ostream& out, const Count& c) {
  return out << c.executed << " executed, " << c.departed << " departed, " << c.cycles << " cycles";
}
using Record = std::map<std::uint32_t, Count>;

Record counted(const Session& session) {
  Record out;
  const auto counts = session.instruction_counts();
  REQUIRE(counts);
  for (const InstructionCount& c : *counts) out[c.address] = {c.executed, c.departed, c.cycles};
  return out;
}

/// What happens in so many steps by instruction. An entry of an interrupt is one.
struct Stepped {
  Record record;
  std::uint64_t cycles = 0, entering = 0, asleep = 0;
  std::map<std::uint32_t, std::uint64_t> entries;  ///< by the vector's address
};
Stepped stepped(Session& session, unsigned steps) {
  Stepped out;
  std::set<std::uint32_t> vectors;
  for (const InterruptVector& v : session.chip().info().vectors) vectors.insert(v.address);
  std::map<std::uint32_t, Instruction> instructions;
  Picoseconds asleep = session.time().asleep;
  for (unsigned i = 0; i < steps; ++i) {
    const std::uint32_t at = session.pause().where.address;
    const auto [known, is_new] = instructions.try_emplace(at);
    if (is_new) known->second = session.disassembly("here", 1)->rows.front().instruction;
    const Instruction& instruction = known->second;
    const auto paused = session.step(StepKind::kInto, StepUnit::kInstruction);
    REQUIRE(paused);
    if (paused->cause == Pause::Cause::kFault) break;  // asleep for ever
    REQUIRE(paused->cause == Pause::Cause::kStep);
    const std::uint32_t to = paused->where.address;
    out.cycles += paused->cycles_since;
    const bool slept = session.time().asleep.count != asleep.count;
    asleep = session.time().asleep;
    if (slept) {
      out.asleep += paused->cycles_since;
      continue;
    }
    const bool conditional = instruction.flow == Flow::kBranch || instruction.flow == Flow::kSkip;
    // An entry: nothing but an interrupt leads to a vector, in these programs.
    if (at != 0 && to != 0 && vectors.count(to) != 0 && instruction.target != to) {
      out.entering += paused->cycles_since;
      ++out.entries[to];
      continue;
    }
    Count& c = out.record[at];
    ++c.executed;
    if (conditional && to != at + instruction.size) ++c.departed;
    c.cycles += paused->cycles_since;
  }
  return out;
}

std::string program(const std::string& name, const std::string& flags, const std::string& mcu) {
  return test::compiled(
      "survey-" + name + flags + "-" + mcu,
      test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + name + ".c"),
      flags + " -gdwarf-4 -std=gnu11 -w -DPRINTED -I" LUCID_TEST_SOURCES "/programs", mcu);
}

void check_equal(const Record& found, const Record& expected) {
  std::set<std::uint32_t> addresses;
  for (const auto* side : {&found, &expected})
    for (const auto& [address, count] : *side) addresses.insert(address);
  for (const std::uint32_t address : addresses) {
    const auto of = [address](const Record& r) {
      const auto at = r.find(address);
      return at == r.end() ? Count{} : at->second;
    };
    if (of(found) == of(expected)) continue;
    INFO("at " << std::hex << address);
    CHECK(of(found) == of(expected));
  }
}

}  // namespace

TEST_CASE("counts are those of a record made by stepping") {
  struct Row {
    std::string image, chip;
    unsigned steps;
  };
  std::vector<Row> rows;
  for (const char* kiln : {"kiln-os", "kiln-og", "torn-tick", "deep-plan", "lost-character"})
    rows.push_back({std::string(LUCID_KILN) + "/images/" + kiln + ".elf", "ATmega328P", 20'000});
  for (const char* name : {"ring", "recursion", "states", "real"}) {
    rows.push_back({program(name, "-O2", "atmega328p"), "ATmega328P", 20'000});
    rows.push_back({program(name, "-O0", "atmega2560"), "ATmega2560", 20'000});
  }
  for (const Row& row : rows) {
    INFO(row.image << " on " << row.chip);
    Session by_steps = opened(row.image, row.chip), whole = opened(row.image, row.chip);
    const Stepped truth = stepped(by_steps, row.steps);
    REQUIRE(whole.survey(true));
    // In pieces, so that some code is translated and some is left in the middle.
    std::uint64_t left = truth.cycles;
    for (std::uint64_t piece = 777; left != 0; piece *= 3) {
      whole.go_for(std::min(piece, left));
      left = truth.cycles - std::min(truth.cycles, whole.pause().cycles);
    }
    REQUIRE(truth.cycles > 10'000);
    REQUIRE(whole.pause().cycles == truth.cycles);
    check_equal(counted(whole), truth.record);
    const ProfileView profile = *whole.profile();
    CHECK(profile.cycles == truth.cycles);
    CHECK(profile.entering == truth.entering);
    CHECK(profile.asleep == truth.asleep);
    std::uint64_t sum = profile.asleep + profile.entering + profile.unknown;
    for (const ProfileView::Function& f : profile.functions) sum += f.self;
    CHECK(sum == profile.cycles);
    std::uint64_t entries = 0, told = 0;
    for (const auto& [vector, times] : truth.entries) entries += times;
    const std::vector<InterruptView> interrupts = *whole.interrupts();
    for (const InterruptView& i : interrupts) told += i.wait.count;
    CHECK(told == entries);
  }
}

TEST_CASE("lines and functions pass as breakpoints count them") {
  struct Row {
    std::string image, chip;
    std::uint64_t cycles;
  };
  std::vector<Row> rows;
  for (const char* kiln : {"kiln-os", "kiln-og", "torn-tick", "overshoot"})
    rows.push_back({std::string(LUCID_KILN) + "/images/" + kiln + ".elf", "ATmega328P", 3'000'000});
  for (const char* name : {"ring", "recursion", "states", "parse", "schedule"})
    for (const char* level : {"-O0", "-Os", "-O2"})
      rows.push_back({program(name, level, "atmega328p"), "ATmega328P", 1'000'000});
  for (const Row& row : rows) {
    INFO(row.image);
    Session session = opened(row.image, row.chip);
    const auto files = session.program().files();
    std::map<std::pair<std::string, unsigned>, unsigned> ids;
    for (const SourceFile& file : files)
      for (const unsigned line : file.lines_with_code) {
        BreakpointSpec spec;
        spec.place = file.path + ":" + std::to_string(line);
        spec.rule = BreakpointSpec::Rule::kOn;
        spec.count = UINT64_MAX;
        const auto point = session.pause_at(spec);
        REQUIRE(point);
        ids[{file.path, line}] = point->id;
      }
    REQUIRE(session.survey(true));
    session.go_for(row.cycles);
    std::map<unsigned, std::uint64_t> passes;
    const std::vector<Breakpoint> points = session.breakpoints();
    for (const Breakpoint& point : points) passes[point.id] = point.passes;
    const CoverageView coverage = *session.coverage();
    unsigned compared = 0;
    for (const CoverageView::File& file : coverage.files)
      for (const CoverageView::Line& line : file.lines)
        for (const auto& [place, id] : ids)
          if (place.second == line.line && file.path.size() >= place.first.size() &&
              file.path.compare(file.path.size() - place.first.size(), std::string::npos,
                                place.first) == 0) {
            INFO(file.path << ":" << line.line);
            // The one it stands before has been counted there, and has not executed.
            const bool stands =
                session.locate(place.first + ":" + std::to_string(place.second))->address ==
                session.pause().where.address;
            CHECK(line.passes + (stands ? 1 : 0) == passes[id]);
            CHECK(line.executed >= (line.passes != 0));
            ++compared;
          }
    CHECK(compared > 20);
  }
}
