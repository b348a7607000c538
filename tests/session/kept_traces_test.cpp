// SPDX-License-Identifier: MIT
// How much of a trace is kept: within its bound, in a file, around the passes of a breakpoint.
#include <catch2/catch.hpp>
#include <functional>
#include <random>

#include "traces.h"

using namespace lucid;
using namespace test;

TEST_CASE("traces outlive a new build, and memory is bounded", "[tracing]") {
  Session session = kiln();
  trace(session, {"pin.PB5", "heater_ms", "interrupt", "byte out"});
  session.go_for(Picoseconds{3'500'000'000'000});
  CHECK(session.signal("interrupt")->changes() > 10'000);
  session.set_trace_bound(20'000);
  session.go_for(Picoseconds{1'000'000'000'000});
  std::size_t bytes = 0;
  for (const auto& view : session.traces()) bytes += view.bytes;
  CHECK(bytes < 60'000);
  CHECK(session.traces()[2].discarded > 10'000);
  CHECK(session.traces()[0].discarded == 0);
  REQUIRE(session.reload(test::kKilnOs));
  CHECK(session.traces().size() == 4);
  CHECK(session.signal("interrupt")->changes() <= 1);
  session.go_for(Picoseconds{100'000'000'000});
  CHECK(session.signal("interrupt")->changes() > 100);
}

TEST_CASE("what there is no room for goes into a file, as long as there is one", "[tracing]") {
  struct Heard : Listener {
    std::vector<std::string> notes;
    void on_note(const std::string& text) override { notes.push_back(text); }
  } heard;
  const std::vector<std::string> all{"interrupt", "pin.PB5", "chip.TIFR1", "state", "byte out"};
  const Picoseconds end{2'000'000'000'000};
  Session plain = kiln(), filed = kiln(), full = kiln();
  for (Session* session : {&plain, &filed, &full}) trace(*session, all);
  filed.set_trace_bound(20'000);
  full.set_trace_bound(20'000);
  full.set_listener(&heard);
  REQUIRE(filed.put_traces_into(test::scratch("traces")));
  REQUIRE(full.put_traces_into("/dev/full"));
  CHECK_FALSE(full.put_traces_into("/nonexistent/file"));
  for (Session* session : {&plain, &filed, &full}) session->go_for(end);
  check_same(recorded(filed), recorded(plain));
  std::uint64_t in_file = 0;
  for (const Session::TraceView& view : filed.traces()) {
    CHECK(view.discarded == 0);
    in_file += view.bytes_in_file;
  }
  CHECK(in_file > 1'000);
  // Back, and another future.
  for (Session* session : {&plain, &filed}) {
    REQUIRE(session->back_for(Picoseconds{end.count / 3 * 2}));
    REQUIRE(session->let("setpoint", "100"));
    session->go_for(Picoseconds{end.count / 3});
  }
  check_same(recorded(filed), recorded(plain));
  REQUIRE(heard.notes.size() == 1);
  CHECK(heard.notes[0].find("cannot write '/dev/full': No space left on device") == 0);
  CHECK(full.traces()[0].discarded > 0);
}

TEST_CASE("around a breakpoint what is traced is what it is without, elsewhere nothing",
          "[tracing]") {
  const std::vector<std::string> all{"interrupt", "pin.PB5",    "seconds",
                                     "byte out",  "conversion", "chip.TIFR1"};
  const Picoseconds part{4'000'000'000'000};
  const bool dense = GENERATE(false, true);  // windows that meet
  const std::uint64_t before = dense ? 3'200'000 : 16'000, after = dense ? 3'200'000 : 23'456;
  BreakpointSpec often;
  often.kind = BreakpointSpec::Kind::kInterrupt;
  often.place = "TIMER1_COMPA";
  often.rule = BreakpointSpec::Rule::kEvery;
  often.count = 371;
  Session whole = kiln(), windowed = kiln(), pausing = kiln();
  REQUIRE(pausing.pause_at(often));
  often.log = "there";
  const auto point = windowed.pause_at(often);
  REQUIRE(point);
  trace(whole, all);
  for (const std::string& signal : all) {
    Session::TraceSpec spec{signal,
                            {},
                            {},
                            false,
                            true,
                            point->id,
                            to_time(before, 16'000'000),
                            to_time(after, 16'000'000)};
    REQUIRE(windowed.trace(spec));
    spec.name = "another";
    spec.around = 999;
    CHECK(windowed.trace(spec).error().code == ErrorCode::kNotFound);
    spec.around = point->id;
    spec.from_start = true;
    CHECK(windowed.trace(spec).error().code == ErrorCode::kUsage);
  }
  std::vector<std::uint64_t> marks;
  const auto run = [&](Picoseconds span) {
    whole.go_for(span);
    CHECK(windowed.go_for(span).cause == Pause::Cause::kTimeUp);
    const std::uint64_t end = ticks_of(whole);
    while (ticks_of(pausing) < end) {
      const Picoseconds left = to_time(end - ticks_of(pausing), 16'000'000);
      if (pausing.go_for(left).cause == Pause::Cause::kEvent) marks.push_back(ticks_of(pausing));
    }
  };
  const auto is_kept = [&](std::uint64_t tick) {
    return std::any_of(marks.begin(), marks.end(), [&](std::uint64_t mark) {
      return tick + before >= mark && tick <= mark + after;
    });
  };
  const auto check = [&] {
    std::uint64_t known = 0;
    for (const std::string& name : all) {
      INFO(name);
      const Signal truth = *whole.signal(name), seen = *windowed.signal(name);
      CHECK(seen.end() == truth.end());
      auto samples = truth.samples();
      if (truth.facts().kind == Signal::Kind::kMoment) {
        auto kept = seen.samples();
        while (const auto sample = samples.next()) {
          if (!is_kept(sample->tick)) continue;
          const auto same = kept.next();
          REQUIRE(same);
          CHECK((same->tick == sample->tick && same->value == sample->value));
          ++known;
        }
        CHECK_FALSE(kept.next());
        continue;
      }
      std::vector<std::uint64_t> looks;
      while (const auto sample = samples.next()) looks.push_back(sample->tick);
      for (const std::uint64_t mark : marks)
        for (const std::uint64_t edge : {mark - before, mark + after + 1}) {
          looks.push_back(edge);
          looks.push_back(edge - 1);
        }
      for (const std::uint64_t tick : looks) {
        if (tick > truth.end()) continue;
        const Sample there = seen.at(tick);
        if (there.known() != is_kept(tick) || (there.known() && !there.same_as(truth.at(tick))))
          FAIL(fmt::format("at {} (kept: {}, marks from {}) {} instead of {}", tick, is_kept(tick),
                           marks.empty() ? 0 : marks[0], seen.text(there),
                           truth.text(truth.at(tick))));
        known += there.known() ? 1 : 0;
      }
      // Changes within windows have their places.
      auto places = seen.places()->samples();
      while (const auto place = places.next())
        if (place->known()) CHECK(is_kept(place->tick));
    }
    CHECK(known > 200);
    CHECK(windowed.traces()[0].windows == (dense ? 1 : marks.size()));
  };
  run(part);
  check();
  run(part);
  check();
  // Back, over again, and into another future that parts before what has been settled long ago.
  for (const std::uint64_t share : {100, 2}) {
    const Picoseconds span = to_time(ticks_of(whole) / share, 16'000'000);
    for (Session* session : {&whole, &windowed, &pausing}) REQUIRE(session->back_for(span));
    const std::uint64_t now = ticks_of(whole);
    for (Session* session : {&whole, &windowed, &pausing}) REQUIRE(session->let("seconds", "7"));
    marks.erase(std::upper_bound(marks.begin(), marks.end(), now), marks.end());
    run(part);
    check();
  }
  whole.set_trace_bound(4'000);
  windowed.set_trace_bound(4'000);
  windowed.go_for(part);
  CHECK(windowed.traces()[0].windows < marks.size());
}
