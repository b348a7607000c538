// SPDX-License-Identifier: MIT
// What a user waits for at the prompt: loading an image, and a step by line with watches in sight.
#include <benchmark/benchmark.h>

#include <string>

#include "lucid/session.h"

namespace {

const std::string kKiln = std::string(LUCID_KILN) + "/kiln-og.elf";

lucid::Session opened(const std::string& path) {
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(path)) std::abort();
  return session;
}

void load(benchmark::State& state, const std::string& path) {
  const auto image = lucid::Image::open(path);
  if (!image) std::abort();
  for (auto _ : state) benchmark::DoNotOptimize(lucid::Program::read(*image));
  state.counters["KB"] = static_cast<double>(image->file().size()) / 1000;
}

void step_with_watches(benchmark::State& state) {
  lucid::Session session = opened(kKiln);
  session.go_for(20'000'000);
  const char* const watched[] = {"measured",
                                 "setpoint - measured",
                                 "heater_ms",
                                 "seconds",
                                 "chip.PORTB.5",
                                 "chip.sp",
                                 "segment.target",
                                 "state == 3",
                                 "tx_head",
                                 "tx_tail",
                                 "(tx_head - tx_tail) & 63",
                                 "chip.cycles",
                                 "pin.PD2",
                                 "chip.TCNT1",
                                 "ticks",
                                 "beeps_left",
                                 "chip.ram[0x100..0x10f]",
                                 "chip.stack.free",
                                 "integral",
                                 "now"};
  for (std::size_t i = 0; i < std::size(watched); ++i)
    if (!session.watch(watched[i]) && !session.watch("measured + " + std::to_string(i)))
      std::abort();
  for (auto _ : state) {
    if (!session.step(lucid::StepKind::kInto, lucid::StepUnit::kLine)) std::abort();
    benchmark::DoNotOptimize(session.watches());
  }
}

}  // namespace

int main(int argc, char** argv) {
  benchmark::RegisterBenchmark("load kiln-og.elf", load, kKiln);
  benchmark::RegisterBenchmark("load the kiln with its macros", load,
                               std::string(LUCID_IMAGES) + "/kiln-g3.elf");
  benchmark::RegisterBenchmark("step by line with 20 watches", step_with_watches);
  benchmark::Initialize(&argc, argv);
  benchmark::RunSpecifiedBenchmarks();
  return 0;
}
