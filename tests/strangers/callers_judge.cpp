// SPDX-License-Identifier: MIT
// The list of callers against a shadow stack, at each instruction of programs that nobody here
// wrote. The shadow knows only calls, returns, interrupts and writes of the stack pointer.
#include <catch2/catch.hpp>
#include <map>

#include "strangers.h"

using namespace lucid;

namespace {

struct Tally {
  std::uint64_t images = 0, instructions = 0, right = 0, unknown = 0, wrong = 0;
  std::map<std::string, std::uint64_t> reasons, places;
};

std::string hex(std::uint32_t number) {
  char text[16];
  std::snprintf(text, sizeof text, "%x", number);
  return text;
}

class Shadow {
 public:
  explicit Shadow(Session& session) : session_(session) {}

  struct Call {
    std::uint32_t returns_to = 0, sp = 0;  ///< the stack pointer before it
  };

  /// Steps one instruction. False: the program has come to its end.
  bool step() {
    const std::uint32_t pc = session_.chip().pc();
    const std::uint32_t sp = session_.chip().sp();
    const Instruction now = session_.chip().instruction_at(pc);
    const auto pause = session_.step(StepKind::kInto, StepUnit::kInstruction);
    if (!pause || pause->cause == Pause::Cause::kFault) return false;
    const bool interrupted = pause->detail.find("interrupt") == 0;
    const bool calls_next = now.mnemonic == "rcall" && session_.chip().pc() == pc + now.size;
    bool makes_room = calls_next;
    for (const Symbol& symbol : session_.program().symbols())  // a call of what follows
      makes_room = makes_room && symbol.address != Address{Space::kCode, pc + now.size};
    if (interrupted)
      calls.push_back({pc, sp});
    else if (!makes_room &&
             (calls_next || now.flow == Flow::kCall || now.flow == Flow::kIndirectCall))
      calls.push_back({pc + now.size, sp});
    const bool returns = now.flow == Flow::kReturn || now.flow == Flow::kInterruptReturn;
    if (!interrupted && (returns || (now.mnemonic == "out" && now.operands.find("0x3d,") == 0)))
      while (!calls.empty() && session_.chip().sp() >= calls.back().sp) calls.pop_back();
    return session_.chip().pc() != pc && session_.chip().sp() <= first_sp_;
  }

  std::vector<Call> calls;

 private:
  Session& session_;
  const std::uint32_t first_sp_ = session_.chip().sp();  ///< behind main it is higher
};

void compare(Session& session, const std::vector<Shadow::Call>& calls, const std::string& image,
             Tally& tally) {
  auto found = session.callers();
  CallersEnd end = found.empty() ? CallersEnd::kNoFrame : found.front().end;
  if (found.size() > 1 && found.front().where.function.empty()) {  // start-up code, left by main
    found.erase(found.begin());
    end = CallersEnd::kStart;
  }
  found.erase(std::remove_if(found.begin(), found.end(),
                             [](const CallLevel& level) { return level.inlined || level.left; }),
              found.end());
  ++tally.instructions;
  bool good = found.size() <= calls.size() + 1 && !found.empty();
  for (std::size_t n = 1; good && n < found.size(); ++n) {  // from the innermost outwards
    const CallLevel& level = found[found.size() - n - 1];
    const Shadow::Call& call = calls[calls.size() - n];
    good = level.where.address == call.returns_to && found[found.size() - n].cfa == call.sp;
  }
  if (good && end == CallersEnd::kStart) good = found.size() == calls.size() + 1;
  const std::uint32_t pc = session.chip().pc();
  if (!good) {
    ++tally.wrong;
    std::string text;
    for (const CallLevel& level : found) text += " " + level.where.function;
    if (tally.wrong < 20)
      WARN(image << " at " << std::hex << pc << ":" << text << ", expected " << std::dec
                 << calls.size() + 1 << " levels");
  } else if (end != CallersEnd::kStart) {
    ++tally.unknown;
    ++tally.reasons[callers_end_text(end)];
    if (tally.places.size() < 300)
      ++tally.places[callers_end_text(end).substr(0, 25) + " " + image + " " +
                     found.back().where.function + " " + hex(pc)];
  } else {
    ++tally.right;
  }
}

}  // namespace

void test::judge_callers(const std::vector<std::string>& sources,
                         const std::vector<test::Build>& builds) {
  const unsigned most = test::everything() ? 4000 : 600;
  std::map<std::string, Tally> tallies;
  for (const std::string& source : sources) {
    for (const test::Build& build : builds) {
      const auto image = test::image_of(source, build);
      if (!image) continue;
      Session session(*Chip::make({build.chip, 16'000'000}));
      REQUIRE(session.open(*image));
      static_cast<void>(session.set_fault("outside-memory", false));
      const auto mains = session.program().find_functions("main");
      if (mains.empty() || !session.go_to("0x" + hex(mains[0]->begin))) continue;
      Tally& tally = tallies[build.name];
      ++tally.images;
      Shadow shadow(session);
      for (unsigned i = 0; i < most && shadow.step(); ++i)
        compare(session, shadow.calls, source.substr(source.rfind('/') + 1) + " " + build.name,
                tally);
    }
  }
  for (const auto& [name, tally] : tallies) {
    std::string text = name + ": " + std::to_string(tally.images) + " images, " +
                       std::to_string(tally.instructions) + " instructions, " +
                       std::to_string(tally.right) + " right, " + std::to_string(tally.unknown) +
                       " unknown, " + std::to_string(tally.wrong) + " wrong";
    for (const auto& [reason, count] : tally.reasons)
      text += "\n    " + std::to_string(count) + ": " + reason;
    unsigned shown = 0;
    for (const auto& [place, count] : tally.places)
      if (++shown < 6) text += "\n      " + place + " " + std::to_string(count);
    WARN(text);
    CHECK(tally.wrong == 0);
    CHECK(tally.unknown <= tally.instructions / 10);
  }
}
