// SPDX-License-Identifier: MIT
// What tracing costs a run, and how long drawing takes.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <functional>
#include <string>
#include <vector>

#include "lucid/session.h"

namespace {

using lucid::Session;

double seconds_of(const std::function<void()>& act) {
  const auto begin = std::chrono::steady_clock::now();
  act();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

Session opened(const std::string& image) {
  Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(std::string(LUCID_IMAGES) + "/" + image + "-Os.elf")) {
    fmt::print("build the target benchmark_images first\n");
    std::exit(1);
  }
  return session;
}

const std::vector<std::string> kSixteen{
    "pin.PB0", "pin.PB1", "pin.PD6",    "pin.PB",     "interrupt", "interrupt TIMER1_COMPA",
    "sleep",   "reset",   "chip.PORTB", "chip.OCR1A", "position",  "speed",
    "phase",   "flags",   "energy",     "byte out"};

/// Runs alternate, so that both see the same neighbours; the median of the ratios.
void cost(const char* name, const std::vector<std::string>& signals, std::uint64_t cycles,
          const std::string& image = "traced") {
  std::vector<double> ratios;
  double rate = 0;
  std::size_t bytes = 0;
  for (unsigned i = 0; i < 11; ++i) {
    double time[2];
    for (const bool on : {i % 2 == 0, i % 2 != 0}) {
      Session session = opened(image);
      session.go_for(std::uint64_t{2'000'000});
      if (on)
        for (const std::string& signal : signals)
          if (!session.trace({signal})) std::abort();
      time[on ? 1 : 0] = seconds_of([&] { session.go_for(cycles); });
      if (!on) continue;
      std::uint64_t changes = 0;
      bytes = 0;
      for (const auto& trace : session.traces()) {
        changes += trace.changes + trace.discarded;
        bytes += trace.bytes;
      }
      rate = static_cast<double>(cycles) / static_cast<double>(changes);
    }
    ratios.push_back(time[1] / time[0]);
  }
  std::sort(ratios.begin(), ratios.end());
  fmt::print(
      "{:<28} {:2} signals, a change every {:5.0f} cycles, {:5.1f} MiB: {:+.1f} % ({:+.1f} to "
      "{:+.1f})\n",
      name, signals.size(), rate, static_cast<double>(bytes) / (1 << 20), 100 * (ratios[5] - 1),
      100 * (ratios[2] - 1), 100 * (ratios[8] - 1));
}

}  // namespace

int main() {
  constexpr std::uint64_t kCycles = 400'000'000;
  cost("pins, events, I/O, objects", kSixteen, kCycles);
  cost("objects", {"position", "speed", "phase", "flags", "energy"}, kCycles);
  cost("pins", {"pin.PB0", "pin.PB1", "pin.PD6", "pin.PB"}, kCycles);
  cost("I/O", {"chip.PORTB", "chip.OCR1A"}, kCycles);
  cost("one pin", {"pin.PB0"}, kCycles);
  cost("one variable", {"position"}, kCycles);
  cost("interrupts", {"interrupt"}, kCycles);

  for (const char* image : {"integer", "text", "float"})
    cost((std::string("calls, ") + image).c_str(), {"calls"}, kCycles / 4, image);

  // A window of any width, of a signal with millions of changes.
  lucid::Signal::Facts facts;
  facts.name = "x";
  lucid::Signal many(facts, 16'000'000, 0);
  std::uint64_t tick = 0;
  for (unsigned i = 0; i < 10'000'000; ++i)
    many.add({tick += 100 + i % 77, i % 2, lucid::Sample::State::kKnown});
  std::vector<double> times;
  for (std::uint64_t width = tick; width > 1000; width /= 10)
    times.push_back(
        seconds_of([&] { (void)many.columns(tick / 2 - width / 2, tick / 2 + width / 2, 1280); }));
  fmt::print(
      "1280 columns of 10 million changes ({:.1f} MiB): {:.2f} ms at most, whatever the width\n",
      static_cast<double>(many.bytes()) / (1 << 20),
      1000 * *std::max_element(times.begin(), times.end()));
}
