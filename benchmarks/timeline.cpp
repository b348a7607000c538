// SPDX-License-Identifier: MIT
// What keeping the past costs a run, and how long going back takes.
//
//   timeline               all figures, an hour of the kiln and 10^9 cycles of a busy loop
//   timeline CYCLES        … with a busy loop of so many cycles
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <functional>
#include <random>
#include <string>
#include <vector>

#include "lucid/bench.h"
#include "lucid/session.h"

namespace {

using lucid::Picoseconds;
using lucid::Session;
using lucid::StepKind;
using lucid::StepUnit;

const std::string kKiln = LUCID_KILN;
constexpr std::uint64_t kSecond = 1'000'000'000'000;

double seconds_of(const std::function<void()>& act) {
  const auto begin = std::chrono::steady_clock::now();
  act();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

Session kiln() {
  auto bench = lucid::Bench::open(kKiln + "/../kiln.bench.toml", "");
  if (!bench) std::abort();
  Session session(*lucid::Chip::make(bench->chip));
  if (!session.open(kKiln + "/kiln-og.elf")) std::abort();
  return session;
}

Session busy() {
  Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(std::string(LUCID_IMAGES) + "/integer-Os.elf")) std::abort();
  return session;
}

/// Runs alternate, so that both see the same neighbours; the median of the ratios.
void recording(const char* name, Session (*opened)(), std::uint64_t cycles) {
  std::vector<double> ratios, rates;
  for (unsigned i = 0; i < 15; ++i) {
    double time[2];
    for (const bool on : {i % 2 == 0, i % 2 != 0}) {
      Session session = opened();
      session.set_timeline(on);
      session.go_for(std::uint64_t{2'000'000});
      time[on ? 1 : 0] = seconds_of([&] { session.go_for(cycles); });
      if (on) rates.push_back(static_cast<double>(cycles) / time[1] / 1e6);
    }
    ratios.push_back(time[1] / time[0]);
  }
  std::sort(ratios.begin(), ratios.end());
  std::sort(rates.begin(), rates.end());
  fmt::print("recording, {}: {:+.1f} % ({:+.1f} to {:+.1f}); {:.0f} M cycles/s\n", name,
             100 * (ratios[7] - 1), 100 * (ratios[3] - 1), 100 * (ratios[11] - 1), rates[7]);
}

void told(const std::string& what, std::vector<double> times) {
  std::sort(times.begin(), times.end());
  fmt::print("  {:<34} median {:8.2f} ms, worst {:8.2f} ms\n", what, 1000 * times[times.size() / 2],
             1000 * times.back());
}

/// Moves from the end and from anywhere.
void moves(Session& session) {
  const auto timeline = session.timeline();
  fmt::print("  {} copies, {:.1f} MiB, up to {}\n", timeline.copies,
             static_cast<double>(timeline.bytes) / (1 << 20), lucid::to_text(timeline.end));
  std::mt19937_64 random(11);
  if (!session.mark("end")) std::abort();
  const auto steps = [&](StepKind kind, StepUnit unit, unsigned count) {
    std::vector<double> times;
    for (unsigned i = 0; i < count; ++i)
      times.push_back(seconds_of([&] {
        if (!session.step_back(kind, unit)) std::abort();
      }));
    return times;
  };
  told("back into, at the present", steps(StepKind::kInto, StepUnit::kLine, 100));
  told("back over, at the present", steps(StepKind::kOver, StepUnit::kLine, 100));
  told("back into, by instruction", steps(StepKind::kInto, StepUnit::kInstruction, 100));
  std::vector<double> first, next;
  for (unsigned i = 0; i < 60; ++i) {
    const Picoseconds to{random() % timeline.end.count};
    if (!session.revert_to("end")) std::abort();
    first.push_back(seconds_of([&] {
      if (!session.back_to_time(to)) std::abort();
    }));
    for (const double time : steps(StepKind::kInto, StepUnit::kLine, 5)) next.push_back(time);
  }
  told("the first move to any moment", first);
  told("back into, there", next);
  fmt::print("  {:.1f} MiB now\n", static_cast<double>(session.timeline().bytes) / (1 << 20));
}

/// `back` to a breakpoint last passed so many cycles ago, and the same stretch forwards.
void back_to_breakpoint(std::uint64_t cycles) {
  Session session = kiln();
  session.go_for(Picoseconds{3 * kSecond});
  for (const char* place : {"clamp", "control_step"})
    if (!session.pause_at({place, lucid::BreakpointSpec::Rule::kOn, 1'000'000, ""})) std::abort();
  lucid::BreakpointSpec here{"control_step"};
  here.condition = fmt::format("chip.cycles < {}", session.chip().cycles() + 8'000'000);
  if (!session.pause_at(here)) std::abort();
  session.go();
  const double forward = seconds_of([&] { session.go_for(cycles); });
  const double back = seconds_of([&] {
    if (!session.back()) std::abort();
  });
  fmt::print("back to a breakpoint {} M cycles ago: {:.1f} ms; forwards {:.1f} ms\n",
             cycles / 1'000'000, 1000 * back, 1000 * forward);
}

}  // namespace

int main(int argc, char** argv) {
  const std::uint64_t cycles = argc > 1 ? std::strtoull(argv[1], nullptr, 10) : 1'000'000'000;
  recording("compute-bound", busy, 600'000'000);
  recording("the kiln with its bench", kiln, 8'000'000'000);
  for (const std::uint64_t far : {20'000'000, 200'000'000, 2'000'000'000}) back_to_breakpoint(far);
  {
    Session session = kiln();
    const double time = seconds_of([&] { session.go_for(Picoseconds{3600 * kSecond}); });
    fmt::print("an hour of the kiln, {:.1f} s\n", time);
    moves(session);
  }
  Session session = busy();
  const double time = seconds_of([&] { session.go_for(cycles); });
  fmt::print("{} M cycles of a busy loop, {:.1f} s\n", cycles / 1'000'000, time);
  moves(session);
  return 0;
}
