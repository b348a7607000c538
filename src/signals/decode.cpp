// SPDX-License-Identifier: MIT
#include "lucid/decode.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>

namespace lucid {
namespace {

constexpr std::uint64_t kIdle = 0xffff;
constexpr std::size_t kMostBytes = 1'000'000;

struct WireEdge {
  std::uint64_t tick;
  bool high;
};

/// The levels of a wire; what floats or is unknown keeps the level before.
std::vector<WireEdge> edges_of(const Signal& signal) {
  std::vector<WireEdge> out;
  auto samples = signal.samples();
  while (const auto sample = samples.next()) {
    if (!sample->known()) continue;
    const bool high = sample->value != 0;
    if (out.empty() || out.back().high != high) out.push_back({sample->tick, high});
  }
  return out;
}

Result<void> be_level(const Signal& signal) {
  if (signal.facts().kind == Signal::Kind::kLevel) return {};
  return fail(ErrorCode::kUsage,
              fmt::format("'{}' is no wire: it is not high or low", signal.name()), "decode a pin");
}

/// Puts spans together.
class SpanWriter {
 public:
  /// What a value is called that is no byte.
  using NameOf = std::string (*)(std::uint64_t value);
  SpanWriter(const Signal& of, const std::string& name, Format::Kind format, NameOf name_of)
      : of_(of), name_of_(name_of) {
    facts_.name = name;
    facts_.scope = of.facts().scope;
    facts_.kind = Signal::Kind::kNumber;
    facts_.bits = 16;
    facts_.format.kind = format;
    facts_.names = {{kIdle, "-"}};
    samples_.push_back({of.begin(), kIdle, Sample::State::kKnown});
  }
  void span(std::uint64_t begin, std::uint64_t end, std::uint64_t value) {
    if (value > 0xff)
      facts_.names.emplace(value, name_of_(value));
    else if (facts_.format.kind == Format::Kind::kHex)
      facts_.names.emplace(value, fmt::format("{:#04x}", value));
    samples_.push_back({std::max(begin, last_), value, Sample::State::kKnown});
    last_ = std::max({begin, end, last_});
    samples_.push_back({last_, kIdle, Sample::State::kKnown});
  }
  void byte(std::uint64_t begin, std::uint8_t value, bool fault) {
    ++out_.bytes;
    if (fault) ++out_.faults;
    if (out_.data.size() < kMostBytes) out_.data.push_back({of_.time(begin), value, fault});
  }
  void fault() { ++out_.faults; }
  Decoded finish(std::uint64_t end) {
    out_.signal = Signal(std::move(facts_), of_.hz(), of_.begin());
    for (const Sample& sample : samples_) out_.signal.add(sample);
    out_.signal.end_at(end);
    return std::move(out_);
  }
  Decoded& out() { return out_; }

 private:
  const Signal& of_;
  NameOf name_of_;
  Signal::Facts facts_;
  std::vector<Sample> samples_;
  Decoded out_;
  std::uint64_t last_ = 0;
};

// Asynchronous serial
// --------------------------------------------------------------------------------

/// From the pulses: the shortest is one bit, all are whole numbers of them.
std::optional<double> bit_ticks(const std::vector<WireEdge>& edges, std::uint64_t hz) {
  constexpr std::size_t kEnough = 20'000;
  std::vector<std::uint64_t> widths;
  for (std::size_t i = 2; i < std::min(edges.size(), kEnough); ++i)
    widths.push_back(edges[i].tick - edges[i - 1].tick);
  if (widths.size() < 3) return std::nullopt;
  const auto shortest = static_cast<double>(*std::min_element(widths.begin(), widths.end()));
  double sum = 0, bits = 0;
  for (const std::uint64_t width : widths) {
    const double times = std::round(static_cast<double>(width) / shortest);
    if (times > 10) continue;  // the line was idle
    sum += static_cast<double>(width);
    bits += times;
  }
  const double found = sum / bits;
  // One of the usual rates, if it is near.
  for (const double rate :
       {300.0,    600.0,    1200.0,   2400.0,   4800.0,   9600.0,    14400.0,
        19200.0,  28800.0,  31250.0,  38400.0,  57600.0,  76800.0,   115200.0,
        230400.0, 250000.0, 460800.0, 500000.0, 921600.0, 1000000.0, 2000000.0}) {
    const double ticks = static_cast<double>(hz) / rate;
    if (std::abs(found / ticks - 1) < 0.02) return ticks;
  }
  return found;
}

enum Fault : std::uint64_t { kFraming = 0x200, kBreak = 0x201, kParity = 0x400 };

std::string serial_name(std::uint64_t value) {
  if (value == kFraming) return "framing";
  if (value == kBreak) return "break";
  return fmt::format("parity {:#04x}", value & 0xffU);
}

enum TwoWire : std::uint64_t { kStart = 0x300, kStop, kAck, kNak, kAgain, kAddress = 0x400 };

std::string two_wire_name(std::uint64_t value) {
  constexpr std::array<const char*, 5> kNames{"START", "STOP", "ACK", "NAK", "START again"};
  if (value < kAddress) return kNames[value - kStart];
  return fmt::format("{:#04x} {}", (value & 0xffU) >> 1, value % 2 != 0 ? "read" : "write");
}

enum Other : std::uint64_t { kPart = 0x300, kReset, kPresence, kNobody };

std::string other_name(std::uint64_t value) {
  constexpr std::array<const char*, 4> kNames{"not complete", "RESET", "presence", "nobody"};
  return kNames[value - kPart];
}

}  // namespace

Result<Decoded> decode_serial(const Signal& line, const SerialForm& form) {
  if (auto level = be_level(line); !level) return fail(level.error());
  if (form.bits < 5 || form.bits > 9 || form.rate < 0)
    return fail(ErrorCode::kOutOfRange, "a frame has 5 to 9 data bits");
  const std::vector<WireEdge> edges = edges_of(line);
  const auto found = form.rate > 0 ? std::optional(static_cast<double>(line.hz()) / form.rate)
                                   : bit_ticks(edges, line.hz());
  if (!found || *found < 1)
    return fail(ErrorCode::kNotFound,
                fmt::format("{} has too few edges to tell its rate", line.name()),
                "say it: decode serial … at 9600 baud");
  const double bit = *found;
  SpanWriter spans(line, line.name() + " serial", Format::Kind::kCharacter, serial_name);
  spans.out().rate = static_cast<double>(line.hz()) / bit;
  std::size_t at = 0;  // the edge at or before where the line is looked at
  const auto level = [&](double tick) {
    while (at + 1 < edges.size() && static_cast<double>(edges[at + 1].tick) <= tick) ++at;
    return edges[at].high;
  };
  const unsigned parity = form.parity == SerialForm::Parity::kNone ? 0 : 1;
  for (std::size_t i = 0; i < edges.size();) {
    if (edges[i].high || i == 0) {  // not where a frame begins
      ++i;
      continue;
    }
    const auto begin = static_cast<double>(edges[i].tick);
    const double frame = begin + bit * (1.5 + form.bits + parity);  // the middle of the stop bit
    if (frame > static_cast<double>(line.end())) break;
    at = i;
    if (level(begin + bit * 0.5)) {  // too short for a start bit
      ++i;
      continue;
    }
    std::uint64_t value = 0;
    unsigned ones = 0;
    for (unsigned k = 0; k < form.bits; ++k)
      if (level(begin + bit * (1.5 + k))) {
        value |= std::uint64_t{1} << k;
        ++ones;
      }
    bool wrong_parity = false;
    if (parity != 0) {
      if (level(begin + bit * (1.5 + form.bits))) ++ones;
      wrong_parity = (ones % 2 != 0) != (form.parity == SerialForm::Parity::kOdd);
    }
    const bool stop = level(frame);
    const auto first = edges[i].tick;
    auto end = static_cast<std::uint64_t>(begin + bit * (2 + form.bits + parity));
    std::uint64_t shown = value;
    if (!stop)
      shown = ones == 0 ? kBreak : kFraming;
    else if (wrong_parity)
      shown = kParity + (value & 0xffU);
    spans.byte(first, static_cast<std::uint8_t>(value), !stop || wrong_parity);
    // The next one begins behind the middle of the stop bit; behind a break when it has ended.
    while (i < edges.size() &&
           (static_cast<double>(edges[i].tick) < frame || (!stop && !edges[i].high)))
      ++i;
    if (!stop && i < edges.size()) end = std::max(end, edges[i].tick);
    if (i < edges.size() && !edges[i].high) end = std::min(end, edges[i].tick);
    spans.span(first, end, shown);
  }
  return spans.finish(line.end());
}

// Two wires
// ------------------------------------------------------------------------------------------

Result<Decoded> decode_two_wire(const Signal& clock, const Signal& data) {
  for (const Signal* wire : {&clock, &data})
    if (auto level = be_level(*wire); !level) return fail(level.error());
  if (clock.hz() != data.hz())
    return fail(ErrorCode::kUsage, "the two wires were not recorded by the same clock");
  SpanWriter spans(data, data.name() + " two-wire", Format::Kind::kHex, two_wire_name);
  const std::vector<WireEdge> scl = edges_of(clock), sda = edges_of(data);
  bool clock_high = true, data_high = true, busy = false, address = false, reading = false;
  unsigned bits = 0;
  std::uint64_t value = 0, began = 0, ack_began = 0;
  bool acknowledged = false;
  const auto broken = [&](std::uint64_t) {
    if (busy && bits > 1) spans.fault();
    bits = 0;
    value = 0;
  };
  std::size_t c = 0, d = 0;
  while (c < scl.size() || d < sda.size()) {
    // Data moves first where both move: it is to be stable while the clock is high.
    const bool is_data = c == scl.size() || (d < sda.size() && sda[d].tick <= scl[c].tick);
    if (is_data) {
      const WireEdge edge = sda[d++];
      const bool moved = edge.high != data_high;
      data_high = edge.high;
      const bool together = c < scl.size() && scl[c].tick == edge.tick && !scl[c].high;
      if (!moved || !clock_high || d == 1 || together) continue;
      if (!edge.high) {
        broken(edge.tick);
        const std::uint64_t end = c < scl.size() ? scl[c].tick : edge.tick;
        spans.span(edge.tick, end, busy ? kAgain : kStart);
        busy = address = true;
      } else if (busy) {
        broken(edge.tick);
        spans.span(edge.tick, edge.tick + std::max<std::uint64_t>(1, clock.hz() / 400'000), kStop);
        busy = false;
      }
      continue;
    }
    const WireEdge edge = scl[c++];
    if (edge.high == clock_high) continue;
    clock_high = edge.high;
    if (!busy) continue;
    if (edge.high) {
      if (bits == 0) began = edge.tick;
      if (bits < 8) {
        value = value << 1 | (data_high ? 1U : 0U);
      } else {
        acknowledged = !data_high;
        ack_began = edge.tick;
      }
      ++bits;
      continue;
    }
    if (bits == 8) {
      spans.span(began, edge.tick, address ? kAddress + value : value);
    } else if (bits == 9) {
      const bool by_controller = address || !reading;
      const bool fault = !acknowledged && by_controller;
      spans.span(ack_began, edge.tick, acknowledged ? kAck : kNak);
      spans.byte(began, static_cast<std::uint8_t>(value), fault);
      if (address) reading = (value & 1U) != 0;
      address = false;
      bits = 0;
      value = 0;
    }
  }
  return spans.finish(std::max(clock.end(), data.end()));
}

// The serial peripheral interface
// --------------------------------------------------------------------

Result<Decoded> decode_spi(const Signal& clock, const Signal& data, const Signal* select,
                           unsigned mode) {
  for (const Signal* wire : {&clock, &data, select})
    if (wire != nullptr)
      if (auto level = be_level(*wire); !level) return fail(level.error());
  if (mode > 3) return fail(ErrorCode::kOutOfRange, "there are modes 0 to 3");
  if (clock.hz() != data.hz() || (select != nullptr && select->hz() != clock.hz()))
    return fail(ErrorCode::kUsage, "the wires were not recorded by the same clock");
  SpanWriter spans(data, data.name() + " spi", Format::Kind::kHex, other_name);
  const std::vector<WireEdge> sck = edges_of(clock), line = edges_of(data);
  const std::vector<WireEdge> chosen =
      select != nullptr ? edges_of(*select) : std::vector<WireEdge>{};
  const auto level_at = [](const std::vector<WireEdge>& edges, std::size_t& at,
                           std::uint64_t tick) {
    while (at + 1 < edges.size() && edges[at + 1].tick <= tick) ++at;
    return !edges.empty() && edges[at].tick <= tick && edges[at].high;
  };
  const bool on_rise = mode == 0 || mode == 3;
  // A pause of several clocks begins a byte anew.
  std::uint64_t shortest = UINT64_MAX;
  for (std::size_t i = 2; i < sck.size(); ++i)
    shortest = std::min(shortest, sck[i].tick - sck[i - 2].tick);
  std::size_t d = 0, s = 0;
  unsigned bits = 0;
  std::uint64_t value = 0, began = 0, last = 0;
  const auto part = [&] {
    if (bits == 0) return;
    spans.span(began, last, kPart);
    spans.fault();
    bits = 0;
    value = 0;
  };
  std::size_t selections = 0, selection = 0;
  for (std::size_t i = 1; i < sck.size(); ++i) {
    if (sck[i].high != on_rise) continue;
    const std::uint64_t tick = sck[i].tick;
    if (select != nullptr) {
      if (level_at(chosen, s, tick)) {
        part();
        continue;
      }
      selection = s;
      if (selection != selections) part();
      selections = selection;
    } else if (bits != 0 && tick - last > 8 * shortest) {
      part();
    }
    if (bits == 0) began = tick;
    // What moves at the very edge was there before it.
    value = value << 1 | (level_at(line, d, tick - 1) ? 1U : 0U);
    last = tick;
    if (++bits != 8) continue;
    const std::uint64_t end = i + 1 < sck.size() ? sck[i + 1].tick : tick;
    spans.span(began, std::min(end, tick + 2 * (tick - began) / 7), value);
    spans.byte(began, static_cast<std::uint8_t>(value), false);
    bits = 0;
    value = 0;
  }
  part();
  return spans.finish(std::max(clock.end(), data.end()));
}

// One wire, and pulses
// -------------------------------------------------------------------------------

Result<Decoded> decode_one_wire(const Signal& line) {
  if (auto level = be_level(line); !level) return fail(level.error());
  SpanWriter spans(line, line.name() + " one-wire", Format::Kind::kHex, other_name);
  const std::vector<WireEdge> edges = edges_of(line);
  const auto microseconds = [&](std::uint64_t ticks) {
    return static_cast<double>(ticks) * 1e6 / static_cast<double>(line.hz());
  };
  unsigned bits = 0;
  std::uint64_t value = 0, began = 0;
  bool waits = false;  // for somebody to say that it is there
  std::uint64_t reset_end = 0;
  for (std::size_t i = 1; i + 1 < edges.size(); ++i) {
    if (edges[i].high) continue;
    const std::uint64_t fall = edges[i].tick, rise = edges[i + 1].tick;
    const double low = microseconds(rise - fall);
    if (low >= 400) {
      if (bits != 0) spans.fault();
      spans.span(fall, rise, kReset);
      bits = 0;
      waits = true;
      reset_end = rise;
      continue;
    }
    if (waits) {
      waits = false;
      if (low >= 50 && microseconds(fall - reset_end) < 100) {
        spans.span(fall, rise, kPresence);
        continue;
      }
      spans.span(reset_end, fall, kNobody);
      spans.fault();
    }
    if (bits == 0) {
      began = fall;
      value = 0;
    }
    if (low < 15) value |= std::uint64_t{1} << bits;
    if (++bits != 8) continue;
    spans.span(began, rise, value);
    spans.byte(began, static_cast<std::uint8_t>(value), false);
    bits = 0;
  }
  return spans.finish(line.end());
}

Result<Decoded> decode_pulses(const Signal& line, bool widths) {
  if (auto level = be_level(line); !level) return fail(level.error());
  Signal::Facts facts;
  facts.name = line.name() + (widths ? " width" : " duty");
  facts.scope = line.facts().scope;
  facts.kind = Signal::Kind::kReal;
  facts.bits = 64;
  facts.unit = widths ? "us" : "%";
  Decoded out;
  out.signal = Signal(std::move(facts), line.hz(), line.begin());
  const std::vector<WireEdge> edges = edges_of(line);
  const auto put = [&](std::uint64_t tick, double value) {
    Sample sample{tick, 0, Sample::State::kKnown};
    std::memcpy(&sample.value, &value, sizeof value);
    out.signal.add(sample);
  };
  for (std::size_t i = 1; i + 1 < edges.size(); ++i) {
    if (!edges[i].high) continue;
    const std::uint64_t rise = edges[i].tick, fall = edges[i + 1].tick;
    if (widths) {
      put(rise, static_cast<double>(fall - rise) * 1e6 / static_cast<double>(line.hz()));
    } else if (i + 2 < edges.size()) {
      put(rise,
          100 * static_cast<double>(fall - rise) / static_cast<double>(edges[i + 2].tick - rise));
    }
  }
  out.signal.end_at(line.end());
  return out;
}

std::pair<Signal, std::uint64_t> without_glitches(const Signal& line, Picoseconds shortest) {
  const std::uint64_t least = to_ticks(shortest, line.hz());
  Signal out(line.facts(), line.hz(), line.begin());
  std::uint64_t glitches = 0;
  std::vector<Sample> kept;
  auto samples = line.samples();
  while (const auto sample = samples.next()) {
    // What was before, for too short a time, was not there.
    while (kept.size() > 1 && sample->tick - kept.back().tick < least) {
      kept.pop_back();
      ++glitches;
      if (kept.back().same_as(*sample)) break;
    }
    if (kept.empty() || !kept.back().same_as(*sample)) kept.push_back(*sample);
  }
  for (const Sample& sample : kept) out.add(sample);
  out.end_at(line.end());
  return {std::move(out), glitches};
}

}  // namespace lucid
