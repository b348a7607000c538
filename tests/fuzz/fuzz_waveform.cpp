// SPDX-License-Identifier: MIT
// Any bytes as a capture: read, measured, decoded, written again.
#include <cstdint>
#include <ostream>
#include <sstream>
#include <string_view>

#include "lucid/decode.h"
#include "lucid/measurement.h"
#include "lucid/waveform.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace lucid;
  if (size == 0) return 0;
  const auto kind = data[0] % 2 == 0 ? WaveformKind::kVcd : WaveformKind::kCsv;
  const std::string_view text(reinterpret_cast<const char*>(data) + 1, size - 1);
  const auto signals = read_waveforms(text, kind, "fuzz");
  if (!signals || signals->empty()) return 0;
  for (const Signal& signal : *signals) {
    (void)measure(signal, {}, {UINT64_MAX}).has_value();
    (void)decode_serial(signal, {}).has_value();
    (void)decode_two_wire(signal, signals->back()).has_value();
    (void)decode_spi(signal, signals->back(), &signals->front(), data[0] >> 1 & 3U).has_value();
    (void)decode_one_wire(signal).has_value();
    (void)decode_pulses(signal, true).has_value();
    (void)measure_delays(signal, Edge::kAny, signals->back(), Edge::kAny, {}, {UINT64_MAX});
    if (signal.begin() < signal.end()) (void)signal.columns(signal.begin(), signal.end(), 50);
    Signal cut = without_glitches(signal, {5000}).first;
    cut.cut_at((signal.begin() + signal.end()) / 2);
  }
  for (const auto into : {WaveformKind::kVcd, WaveformKind::kCsv}) {
    std::ostringstream out;
    const auto written = write_waveforms(out, into, *signals, {}, {UINT64_MAX});
    if (!written || *written == 0) continue;
    // What we have written can be read.
    if (!read_waveforms(out.str(), into, "again")) __builtin_trap();
  }
  return 0;
}
