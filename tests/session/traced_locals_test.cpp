// SPDX-License-Identifier: MIT
// Locals that are traced, against what stepping shows where lines of their function begin.
#include <catch2/catch.hpp>
#include <random>
#include <string>
#include <vector>

#include "traces.h"

using namespace lucid;
using namespace test;

TEST_CASE("a traced local is what is seen of it where lines begin, and unknown elsewhere",
          "[tracing]") {
  std::mt19937 random(test::fresh_seed());
  unsigned known = 0;
  for (const std::string program : {"ring", "states", "recursion", "schedule", "parse", "curve"}) {
    const char* const levels[] = {"-O0", "-Og", "-Os", "-O2"};
    const std::string level = levels[random() % 4];
    INFO(program << " " << level);
    const std::string image = test::compiled(
        "tracing-locals",
        test::read(std::string(LUCID_TEST_SOURCES) + "/programs/" + program + ".c"),
        level + " -gdwarf-4 -std=gnu11 -w -I" LUCID_TEST_SOURCES "/programs", "atmega328p");
    const Chip chip = *Chip::make({"ATmega328P", 16'000'000});
    Session stepped(chip), traced(chip);
    for (Session* session : {&stepped, &traced}) {
      REQUIRE(session->open(image));
      session->go_for(random() % 1'500 + 100);
    }
    const auto begin = std::max(ticks_of(stepped), ticks_of(traced));
    for (Session* session : {&stepped, &traced})
      if (ticks_of(*session) < begin) session->go_for(begin - ticks_of(*session));
    std::vector<std::string> locals;
    for (const std::string& local : locals_of(traced.program()))
      if (traced.trace({local})) locals.push_back(local);
    struct Seen {
      std::uint64_t tick;
      std::size_t local;
      std::optional<std::int64_t> value;  // nothing: it cannot be told
      bool leaves = false;                // its function, so that it is gone
    };
    std::vector<Seen> seen;
    for (unsigned i = 0; i < (test::kSanitized ? 300U : 1'500U); ++i) {
      (void)stepped.step(StepKind::kInto, StepUnit::kInstruction).has_value();
      const std::uint32_t pc = stepped.chip().pc();
      const auto line = stepped.program().line_at(pc);
      const Function* function = stepped.program().function_at(pc);
      if (!line || line->begin != pc || function == nullptr) continue;
      const auto inlined = stepped.program().inlined_at(pc);
      const std::string& here = inlined.empty() ? function->name : inlined.front()->name;
      for (std::size_t k = 0; k < locals.size(); ++k) {
        const std::size_t in = locals[k].find(" in ");
        if (locals[k].substr(in + 4) != here) continue;
        const auto value = stepped.evaluate(locals[k].substr(0, in));
        const Instruction next = stepped.chip().instruction_at(pc);
        const bool leaves =
            next.flow == Flow::kReturn || next.flow == Flow::kInterruptReturn ||
            (next.flow == Flow::kJump && stepped.program().function_at(*next.target) != function);
        seen.push_back({ticks_of(stepped), k, {}, leaves});
        if (value && value->kind != Value::Kind::kReal) seen.back().value = value->integer;
        if (value && value->kind == Value::Kind::kReal) seen.pop_back();
      }
    }
    traced.go_for(ticks_of(stepped) - ticks_of(traced));
    REQUIRE(ticks_of(traced) == ticks_of(stepped));
    CHECK(traced.chip().hash() == stepped.chip().hash());
    for (const Seen& one : seen) {
      INFO(locals[one.local] << " at " << one.tick);
      const auto signal = traced.signal(locals[one.local]);
      REQUIRE(signal);
      const Sample sample = signal->at(one.tick);
      const std::uint64_t mask =
          signal->facts().bits >= 64 ? UINT64_MAX : (std::uint64_t{1} << signal->facts().bits) - 1;
      if (one.value && !one.leaves) {
        REQUIRE(sample.known());
        CHECK(sample.value == (static_cast<std::uint64_t>(*one.value) & mask));
        ++known;
      } else {
        CHECK_FALSE(sample.known());
      }
    }
  }
  CHECK(known > 200);
}

TEST_CASE("a traced local that is a real is one, and a structure is never a number", "[tracing]") {
  const std::string image =
      test::compiled("tracing-reals",
                     "struct pair { int low, high; };\n"
                     "volatile int sink; volatile float by;\n"
                     "__attribute__((noinline)) int mean(float weight, struct pair *q) {\n"
                     "  float half = weight * 2;\n"
                     "  by = half;\n"
                     "  sink = q->low;\n"
                     "  return half > 3;\n"
                     "}\n"
                     "int main(void) {\n"
                     "  struct pair p = {4, 5};\n"
                     "  for (int i = 1;; i++) mean(i, &p);\n"
                     "}\n",
                     "-O0 -gdwarf-4");
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(image));
  // Asked for where they have no value, and where `half` has one: the same.
  trace(session, {"half in mean", "weight + half in mean"});
  REQUIRE(session.go_to("tracing-reals.c:5"));
  trace(session, {"half * 2", "q->high"});
  CHECK_FALSE(session.trace({"*q"}).has_value());
  session.go_for(std::uint64_t{20'000});
  const std::tuple<const char*, double, double> rows[] = {// the least, the step
                                                          {"half in mean", 2, 2},
                                                          {"weight + half in mean", 3, 3},
                                                          {"half * 2 in mean", 4, 4},
                                                          {"q->high in mean", 5, 0}};
  for (const auto& [name, first, step] : rows) {
    INFO(name);
    const auto signal = session.signal(name);
    REQUIRE(signal);
    std::vector<double> values;
    auto samples = signal->samples();
    while (const auto sample = samples.next())
      if (sample->known() && (values.empty() || values.back() != signal->number(*sample)))
        values.push_back(signal->number(*sample));
    REQUIRE(values.size() >= (step > 0 ? 3U : 1U));
    for (std::size_t i = 0; i < values.size(); ++i)
      CHECK(values[i] == first + step * static_cast<double>(i));
  }
}
