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
  for (auto _ : state) session.go_for(kCycles);
  state.counters["cycles/s"] =
      benchmark::Counter(static_cast<double>(kCycles) * static_cast<double>(state.iterations()),
                         benchmark::Counter::kIsRate);
}

}  // namespace

int main(int argc, char** argv) {
  for (const char* program : {"integer", "float", "text"})
    for (const char* level : {"-Os", "-O2"})
      benchmark::RegisterBenchmark((std::string(program) + level).c_str(), free_run,
                                   std::string(LUCID_IMAGES) + "/" + program + level + ".elf");
  benchmark::RegisterBenchmark("kiln, asleep most of the time", free_run,
                               std::string(LUCID_KILN) + "/kiln-os.elf");
  benchmark::Initialize(&argc, argv);
  benchmark::RunSpecifiedBenchmarks();
  return 0;
}
