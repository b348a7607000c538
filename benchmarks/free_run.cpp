// SPDX-License-Identifier: MIT
// How fast programs run freely: cycles and simulated seconds per second.
#include <benchmark/benchmark.h>

#include <string>

#include "lucid/session.h"

namespace {

lucid::Session opened(const std::string& path) {
  lucid::Session session(*lucid::Chip::make({"ATmega328P", 16'000'000}));
  if (!session.open(path)) std::abort();
  return session;
}

void free_run(benchmark::State& state, const std::string& path) {
  lucid::Session session = opened(path);
  constexpr std::uint64_t kCycles = 10'000'000;
  session.go_for(1'000'000);
  // How many instructions that is, from a copy.
  lucid::Chip copy = session.chip();
  std::uint64_t instructions = 0;
  for (const std::uint64_t end = copy.cycles() + 1'000'000; copy.cycles() < end; ++instructions)
    copy.step();
  const auto rounds = [&] {
    const auto value = session.evaluate("rounds");
    return value ? static_cast<double>(value->integer) : 0.0;
  };
  const double before = rounds();
  for (auto _ : state) session.go_for(kCycles);
  const double count = static_cast<double>(kCycles) * static_cast<double>(state.iterations());
  using benchmark::Counter;
  state.counters["MIPS"] =
      Counter(count * static_cast<double>(instructions) / 1e12, Counter::kIsRate);
  state.counters["cycles/s"] = Counter(count, Counter::kIsRate);
  state.counters["rounds/s"] = Counter(rounds() - before, Counter::kIsRate);
}

void copy_chip(benchmark::State& state, const std::string& chip) {
  const lucid::Chip original = *lucid::Chip::make({chip, 16'000'000});
  for (auto _ : state) {
    lucid::Chip copy = original;
    benchmark::DoNotOptimize(copy);
  }
}

/// A chip that has run the kiln, with all that is translated of it.
lucid::Chip warm(const std::string& chip) {
  lucid::Chip out = *lucid::Chip::make({chip, 16'000'000});
  if (!out.load(*lucid::Image::open(LUCID_IMAGES "/text-Os.elf"))) std::abort();
  out.run_for(20'000'000);
  return out;
}

/// A copy is made, and runs a hundred microseconds of the program's innermost work.
void first_run(benchmark::State& state, const std::string& chip) {
  const lucid::Chip original = warm(chip);
  for (auto _ : state) {
    lucid::Chip copy = original;
    copy.run_for(1'600);
  }
}

/// The same, but into a chip that is there.
void go_back(benchmark::State& state, const std::string& chip) {
  const lucid::Chip original = warm(chip);
  lucid::Chip other = original;
  for (auto _ : state) {
    other.run_for(16'000);
    other = original;
  }
}

void run_on(benchmark::State& state, const std::string& chip) {
  lucid::Chip original = warm(chip);
  for (auto _ : state) original.run_for(16'000);
}

}  // namespace

int main(int argc, char** argv) {
  for (const char* program :
       {"integer", "float", "text", "interrupts", "polling", "serial", "arduino"})
    for (const char* level : {"-Os", "-O2"})
      benchmark::RegisterBenchmark((std::string(program) + level).c_str(), free_run,
                                   std::string(LUCID_IMAGES) + "/" + program + level + ".elf");
  for (const char* period : {"64", "256", "1024", "16384"})
    benchmark::RegisterBenchmark((std::string("an interrupt every ") + period).c_str(), free_run,
                                 std::string(LUCID_IMAGES) + "/every-" + period + ".elf");
  benchmark::RegisterBenchmark("kiln, asleep most of the time", free_run,
                               std::string(LUCID_KILN) + "/kiln-os.elf");
  for (const char* chip : {"ATmega328P", "ATmega2560"}) {
    benchmark::RegisterBenchmark((std::string("first 100 us of a copy, ") + chip).c_str(),
                                 first_run, chip);
    benchmark::RegisterBenchmark((std::string("1 ms, and back, ") + chip).c_str(), go_back, chip);
    benchmark::RegisterBenchmark((std::string("1 ms, ") + chip).c_str(), run_on, chip);
  }
  // avr6 has the memories of an ATmega2560 and no peripherals yet.
  for (const char* chip : {"ATmega328P", "avr6"})
    benchmark::RegisterBenchmark((std::string("copy of ") + chip).c_str(), copy_chip, chip);
  benchmark::Initialize(&argc, argv);
  benchmark::RunSpecifiedBenchmarks();
  return 0;
}
