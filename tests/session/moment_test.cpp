// SPDX-License-Identifier: MIT
// Going back: what follows a moment is the same each time it is returned to.
#include <fmt/format.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <random>
#include <thread>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

const char* const kKiln = LUCID_KILN "/images/kiln-og.elf";

Session opened() {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  REQUIRE(session.open(kKiln));
  return session;
}

/// All that can be told of where a session stands.
std::string told(const Session& session) {
  const Pause& pause = session.pause();
  std::string out = fmt::format("{} {} {} {} since {} {} hash {:x}", static_cast<int>(pause.cause),
                                pause.where.line, pause.passes, pause.reached, pause.cycles_since,
                                pause.detail, session.chip().hash());
  if (pause.data)
    out += fmt::format(" {} {}->{} by {:#x} stores {}", pause.data->object, pause.data->before,
                       pause.data->after, pause.data->by.address, pause.data->stores.size());
  for (const Breakpoint& b : session.breakpoints())
    out += fmt::format(" [{} {} {} {}]", b.id, b.passes, b.reached, b.enabled);
  for (const WatchView& w : session.watches())
    out += fmt::format(" {}={} {}", w.id, w.value, w.before);
  for (const auto& c : session.callers()) out += " " + c.where.function;
  for (const auto& v : session.globals("ticks"))
    out += fmt::format(" {}:{}<{}", v.name, v.value, v.before);
  out += fmt::format(" {} inputs", session.inputs().size());
  for (const auto& p : session.chip().pins()) out += p.driven ? " " + p.name : "";
  return out;
}

BreakpointSpec on_data(const std::string& object, BreakpointSpec::Kind kind) {
  BreakpointSpec spec;
  spec.place = object;
  spec.kind = kind;
  return spec;
}

/// One of the commands that a person might give.
void command(Session& session, std::mt19937& random) {
  switch (random() % 6) {
    case 0: static_cast<void>(session.step(StepKind::kOver, StepUnit::kLine).has_value()); break;
    case 1: session.go_for(random() % 400'000); break;
    case 2: static_cast<void>(session.drive_for("PD2", true, {3'000'000'000}).has_value()); break;
    case 3:
      static_cast<void>(session.step(StepKind::kInto, StepUnit::kInstruction, 9).has_value());
      break;
    default: session.go_for(16'000'000);
  }
}

}  // namespace

TEST_CASE("what follows a moment is the same each time it is returned to") {
  Session session = opened();
  REQUIRE(session.go_to("main"));
  REQUIRE(session.pause_at({"control_step", BreakpointSpec::Rule::kEvery, 3, ""}));
  BreakpointSpec once{"clock_ms", BreakpointSpec::Rule::kOn, 40, ""};
  once.once = true;
  REQUIRE(session.pause_at(once));
  REQUIRE(session.pause_at(on_data("ticks", BreakpointSpec::Kind::kChange)));
  REQUIRE(session.watch("ticks"));
  REQUIRE(session.feed("USART0", "P\nG\n"));
  std::mt19937 random(7);
  std::vector<Session::Moment> moments;
  std::vector<std::string> texts;
  for (unsigned i = 0; i < 60; ++i) {
    moments.push_back(session.moment());
    texts.push_back(told(session));
    command(session, random);
  }
  // Back and forth; and on from there, by the same commands, to the same texts.
  for (unsigned n = 0; n < 40; ++n) {
    const std::size_t at = random() % moments.size();
    REQUIRE(session.return_to(moments[at]));
    INFO(at);
    CHECK(told(session) == texts[at]);
  }
  REQUIRE(session.return_to(moments[0]));
  random.seed(7);
  for (unsigned i = 0; i < 60; ++i) {
    INFO(i);
    REQUIRE(told(session) == texts[i]);
    command(session, random);
  }
}

TEST_CASE("what was set after a moment stays and has not passed; what was spent is back") {
  Session session = opened();
  BreakpointSpec once{"clock_ms", BreakpointSpec::Rule::kOn, 1, ""};
  once.once = true;
  REQUIRE(session.pause_at(once));
  const auto start = session.moment();
  CHECK(session.go().where.function == "clock_ms");
  CHECK(session.breakpoints().empty());
  REQUIRE(session.pause_at({"clock_ms", BreakpointSpec::Rule::kEvery, 2, ""}));
  session.go();
  CHECK(session.breakpoints()[0].passes == 2);
  REQUIRE(session.return_to(start));
  REQUIRE(session.breakpoints().size() == 2);
  CHECK(session.breakpoints()[0].id == 1);
  CHECK(session.breakpoints()[1].passes == 0);
  CHECK(session.chip().cycles() == start.cycles());
  CHECK(session.go().breakpoints == std::vector<unsigned>{1});
  REQUIRE(session.remove(2));
  REQUIRE(session.return_to(start));  // what a person has removed stays away
  CHECK(session.breakpoints().size() == 1);
  REQUIRE(session.reload());
  CHECK(session.return_to(start).error().code == ErrorCode::kUsage);
  CHECK(session.return_to(Session::Moment()).error().code == ErrorCode::kUsage);
  Session other = opened();
  CHECK(other.return_to(session.moment()).error().code == ErrorCode::kUsage);
}

TEST_CASE("what another thread posts is done while the program runs, at an instruction boundary") {
  Session session = opened();
  std::atomic<bool> done{false};
  std::uint64_t at = 0;
  std::string order;
  std::thread other([&] {
    for (unsigned i = 0; i < 5; ++i)
      session.post([&session, &order, i] {
        order += static_cast<char>('a' + i);
        REQUIRE(session.running());
        REQUIRE(session.evaluate("ticks"));
      });
    session.post([&] {
      at = session.chip().cycles();
      REQUIRE(session.feed("USART0", "P\n"));
      REQUIRE(session.pause_at({"clock_ms", BreakpointSpec::Rule::kOn, 3, ""}));
      done = true;
    });
  });
  const Pause pause = session.go();  // without end but for what is posted
  other.join();
  CHECK(done);
  CHECK(order == "abcde");
  CHECK(pause.cause == Pause::Cause::kBreakpoint);
  CHECK(pause.passes == 3);
  CHECK(pause.cycles >= at);
  CHECK(session.inputs().size() == 1);
  // Between runs it waits for them, or is done when asked for.
  session.post([&] { order += "f"; });
  CHECK(order == "abcde");
  session.do_posted();
  session.post([&] { order += "g"; });
  session.go_for(1'000);
  CHECK(order == "abcdefg");
  session.request_pause();
  CHECK(session.go().cause == Pause::Cause::kRequested);
}
