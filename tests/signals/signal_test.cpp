// SPDX-License-Identifier: MIT
// Signals and what is read off them, against lists that are gone through the plain way.
#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <map>
#include <random>

#include "lucid/measurement.h"
#include "lucid/signal.h"
#include "lucid/waveform.h"
#include "signals/vcd_reader.h"
#include "tools.h"

using namespace lucid;
using State = Sample::State;

namespace {

constexpr std::uint64_t kHz = 16'000'000;

/// The same as a signal, kept as a list.
struct Plain {
  bool moments = false;
  std::vector<Sample> all;

  void add(const Sample& s) {
    if (!moments && !all.empty() && all.back().tick == s.tick) all.pop_back();
    if (!moments && !all.empty() && all.back().same_as(s)) return;
    all.push_back(s);
  }
  [[nodiscard]] Sample at(std::uint64_t tick) const {
    Sample out{0, 0, State::kUnknown};
    for (const Sample& s : all)
      if (s.tick <= tick) out = s;
    return out;
  }
};

bool same(const Sample& a, const Sample& b) { return a.same_as(b); }

Signal::Facts facts_of(Signal::Kind kind) {
  Signal::Facts facts;
  facts.name = "x";
  facts.kind = kind;
  facts.bits = kind == Signal::Kind::kLevel ? 1 : kind == Signal::Kind::kReal ? 64 : 16;
  facts.is_signed = kind == Signal::Kind::kNumber;
  return facts;
}

std::uint64_t value_of(Signal::Kind kind, std::mt19937_64& random) {
  if (kind == Signal::Kind::kLevel) return random() % 2;
  if (kind != Signal::Kind::kReal) return random() % 4 == 0 ? random() & 0xffffU : random() % 5;
  const double real = static_cast<double>(random() % 100) / 7;
  std::uint64_t bits = 0;
  std::memcpy(&bits, &real, sizeof bits);
  return bits;
}

/// From ticks to hours between two changes.
std::uint64_t gap(std::mt19937_64& random) {
  const std::uint64_t bits = random() % 44;
  return random() % 3 == 0 ? random() % 3 : random() & ((std::uint64_t{1} << bits) - 1);
}

}  // namespace

TEST_CASE("a signal is the list of what was added, whatever is asked of it", "[signal]") {
  std::mt19937_64 random(test::fresh_seed());
  const auto file = SignalFile::make(test::scratch("signals"));
  REQUIRE(file);
  for (const auto kind :
       {Signal::Kind::kLevel, Signal::Kind::kNumber, Signal::Kind::kReal, Signal::Kind::kMoment}) {
    for (unsigned round = 0; round < 12; ++round) {
      const unsigned count = round < 4 ? round : 3U << round % 12U;
      Plain plain;
      plain.moments = kind == Signal::Kind::kMoment;
      const std::uint64_t begin = gap(random);
      Signal signal(facts_of(kind), kHz, begin);
      std::uint64_t tick = begin;
      Signal half;  // a copy stays what it was
      std::size_t half_size = 0;
      for (unsigned i = 0; i < count; ++i) {
        tick += gap(random);
        const std::uint64_t what = random() % 16;
        Sample sample{tick, 0,
                      what == 0   ? State::kFloating
                      : what == 1 ? State::kUnknown
                                  : State::kKnown};
        if (plain.moments) sample.state = State::kKnown;
        if (sample.known()) sample.value = value_of(kind, random);
        signal.add(sample);
        plain.add(sample);
        // Some of it is in a file, in some rounds.
        if (round % 3 == 2 && random() % 256 == 0) REQUIRE(signal.put_oldest_into(*file));
        if (i == count / 2) {
          half = signal;
          half_size = plain.all.size();
        }
      }
      tick += gap(random);
      signal.end_at(tick);
      REQUIRE(signal.changes() == plain.all.size());
      if (count != 0) CHECK(half.changes() == half_size);
      CHECK(signal.end() == tick);

      const auto compare = [&](const Signal& with, std::uint64_t from, std::uint64_t to) {
        std::vector<Sample> expected;
        if (!plain.moments) {
          Sample first = plain.at(from);
          first.tick = from;
          expected.push_back(first);
        }
        for (const Sample& s : plain.all)
          if (s.tick <= to && (plain.moments ? s.tick >= from : s.tick > from))
            expected.push_back(s);
        auto samples = with.samples(from, to);
        INFO(static_cast<int>(kind) << " from " << from << " to " << to << " begin " << begin
                                    << " n " << plain.all.size());
        for (const Sample& s : expected) {
          const auto got = samples.next();
          REQUIRE(got);
          REQUIRE(got->tick == s.tick);
          REQUIRE(same(*got, s));
        }
        REQUIRE_FALSE(samples.next());
      };
      compare(signal, begin, tick);
      for (unsigned i = 0; i < 8 && !plain.all.empty(); ++i) {
        // Around changes, and anywhere.
        const auto near = [&] {
          const std::uint64_t at = plain.all[random() % plain.all.size()].tick + random() % 3;
          return std::clamp(random() % 4 == 0 ? begin + random() % (tick - begin + 1) : at - 1,
                            begin, tick);
        };
        const std::uint64_t a = near();
        const std::uint64_t b = near();
        compare(signal, std::min(a, b), std::max(a, b));
        CHECK(same(signal.at(a), plain.at(a)));
        Signal cut = signal;
        cut.cut_at(a);
        compare(cut, begin, a);
        CHECK(cut.end() == std::min(a, tick));
        cut.add({a + 1, 1, State::kKnown});  // and it can go on
        CHECK(same(cut.at(a + 1), {0, 1, State::kKnown}));
        CHECK(signal.changes() == plain.all.size());
      }
      CHECK_FALSE(signal.at(tick + 1).known());
    }
  }
}

TEST_CASE("columns are what lies in them", "[signal]") {
  std::mt19937_64 random(test::fresh_seed());
  for (unsigned round = 0; round < 30; ++round) {
    Signal signal(facts_of(round % 2 == 0 ? Signal::Kind::kNumber : Signal::Kind::kLevel), kHz, 10);
    std::uint64_t tick = 10;
    const unsigned count = random() % 30'000;
    for (unsigned i = 0; i < count; ++i) {
      const std::uint64_t odd = random() % 50;
      signal.add({tick, value_of(signal.facts().kind, random),
                  odd == 0 ? State::kUnknown : State::kKnown});
      tick += random() % 40;
    }
    signal.end_at(tick);
    const std::uint64_t from = random() % (tick + 1);
    const std::uint64_t to = from + 1 + random() % (tick + 100);
    const unsigned columns = 1 + random() % 300;
    const auto got = signal.columns(from, to, columns);
    for (unsigned i = 0; i < columns; ++i) {
      const auto bound = [&](unsigned k) {
        return from +
               static_cast<std::uint64_t>(static_cast<unsigned __int128>(to - from) * k / columns);
      };
      const std::uint64_t begin = bound(i), end = bound(i + 1);
      double least = 0, most = 0;
      std::uint64_t changes = 0;
      bool known = false;
      const auto take = [&](const Sample& s) {
        if (!s.known()) return;
        const double n = signal.number(s);
        least = known ? std::min(least, n) : n;
        most = known ? std::max(most, n) : n;
        known = true;
      };
      if (begin >= 10 && begin <= tick) take(signal.at(begin));
      if (end > begin) {
        // A change at the very beginning belongs to it, but not one where all begins.
        const std::uint64_t after = begin == from ? begin : std::max<std::uint64_t>(begin, 1) - 1;
        auto samples = signal.samples(after, end - 1);
        while (const auto s = samples.next())
          if (s->tick > after && s->tick >= 10) {
            take(*s);
            ++changes;
          }
      }
      REQUIRE(got[i].known == known);
      if (known) {
        REQUIRE(got[i].least == least);
        REQUIRE(got[i].most == most);
      }
      if (begin > 10) REQUIRE(got[i].changes == changes);
      REQUIRE(same(got[i].last, signal.at(std::max(begin, end - 1))));
    }
  }
}

TEST_CASE("what has been put into a file is read from there, or unknown", "[signal]") {
  const std::string path = test::scratch("signals-apart");
  const auto file = SignalFile::make(path);
  REQUIRE(file);
  Signal signal(facts_of(Signal::Kind::kNumber), kHz, 0);
  constexpr unsigned kCount = 10'000;
  for (unsigned i = 0; i < kCount; ++i) signal.add({i * 100ULL, i & 0xfffU, State::kKnown});
  const Signal before = signal;
  const std::size_t memory = signal.bytes();
  for (;;) {
    const auto more = signal.put_oldest_into(*file);
    REQUIRE(more);
    if (!*more) break;
  }
  CHECK(signal.bytes_in_file() == (*file)->bytes());
  CHECK(signal.bytes() + (*file)->bytes() / 2 < memory);
  const auto columns = signal.columns(0, kCount * 100, 97),
             plain = before.columns(0, kCount * 100, 97);
  for (unsigned i = 0; i < 97; ++i) {
    CHECK(columns[i].changes == plain[i].changes);
    CHECK(columns[i].most == plain[i].most);
    CHECK(same(columns[i].last, plain[i].last));
  }
  CHECK(signal.moved(5).at(505).value == 5);
  const auto again = SignalFile::make(path);  // of the same name: what the other has stays
  REQUIRE(again);
  CHECK(signal.at(500).value == 5);
  Signal second = before;
  REQUIRE(second.put_oldest_into(*again));
  CHECK(second.at(500).value == 5);
  test::write(path, "");  // somebody empties it
  CHECK_FALSE(second.at(500).known());
  CHECK(signal.at(500).value == 5);
  CHECK(signal.at((kCount - 1) * 100).value == ((kCount - 1) & 0xfff));  // it is still in memory
  CHECK(before.at(500).value == 5);
  for (const char* bad : {"/nonexistent/file", "/dev"}) {
    const auto none = SignalFile::make(bad);
    REQUIRE_FALSE(none);
    CHECK(none.error().code == ErrorCode::kIo);
  }
  const auto full = SignalFile::make("/dev/full");
  REQUIRE(full);
  Signal other = before;
  const auto refused = other.put_oldest_into(*full);
  REQUIRE_FALSE(refused);
  CHECK(refused.error().what.find("/dev/full") != std::string::npos);
  CHECK(other.at(500).value == 5);
}

TEST_CASE("what is given up is the oldest, and it is counted", "[signal]") {
  Signal signal(facts_of(Signal::Kind::kLevel), kHz, 0);
  CHECK_FALSE(signal.discard_oldest());
  for (std::uint64_t i = 0; i < 20'000; ++i) signal.add({i * 100, i % 2, State::kKnown});
  const std::size_t before = signal.bytes();
  CHECK(before < 20'000 * 4);  // two bytes a change, for those that are near each other
  REQUIRE(signal.discard_oldest());
  CHECK(signal.discarded() + signal.changes() == 20'000);
  CHECK(signal.bytes() < before);
  CHECK(signal.begin() == signal.discarded() * 100);
  CHECK_FALSE(signal.at(signal.begin() - 1).known());
  CHECK(signal.at(signal.begin()).value == signal.discarded() % 2);
}

TEST_CASE("a measurement is what the list says", "[signal]") {
  std::mt19937_64 random(test::fresh_seed());
  for (unsigned round = 0; round < 40; ++round) {
    Signal signal(facts_of(Signal::Kind::kLevel), kHz, 0);
    std::vector<std::pair<std::uint64_t, bool>> edges;
    std::uint64_t tick = random() % 100;
    signal.add({0, 0, State::kKnown});
    bool level = false;
    for (unsigned i = 0; i < round * 7; ++i) {
      tick += 1 + random() % 1000;
      level = !level;
      signal.add({tick, level ? 1U : 0U, State::kKnown});
      edges.emplace_back(tick, level);
    }
    signal.end_at(tick + 5);
    const auto m = measure(signal, {}, {UINT64_MAX});
    REQUIRE(m);
    std::vector<std::uint64_t> high, low, period;
    std::uint64_t rising = 0, last_rise = 0, inside = 0, first_rise = 0;
    for (std::size_t i = 0; i < edges.size(); ++i) {
      if (i != 0) (edges[i].second ? low : high).push_back(edges[i].first - edges[i - 1].first);
      if (!edges[i].second) continue;
      if (rising++ == 0) first_rise = edges[i].first;
      if (rising > 1) period.push_back(edges[i].first - last_rise);
      last_rise = edges[i].first;
    }
    for (std::size_t i = 1; i < edges.size(); ++i)
      if (!edges[i].second && edges[i].first <= last_rise)
        inside += edges[i].first - edges[i - 1].first;
    CHECK(m->rising == rising);
    CHECK(m->falling == edges.size() - rising);
    for (const auto& [spans, list] :
         {std::pair{&m->high, &high}, std::pair{&m->low, &low}, std::pair{&m->period, &period}}) {
      REQUIRE(spans->count == list->size());
      if (list->empty()) continue;
      CHECK(spans->least.count == 62'500 * *std::min_element(list->begin(), list->end()));
      CHECK(spans->most.count == 62'500 * *std::max_element(list->begin(), list->end()));
      CHECK(spans->last.count == 62'500 * list->back());
      long double sum = 0, square = 0;
      for (const std::uint64_t x : *list) sum += static_cast<long double>(x);
      const long double mean = sum / static_cast<long double>(list->size());
      for (const std::uint64_t x : *list)
        square += (static_cast<long double>(x) - mean) * (static_cast<long double>(x) - mean);
      CHECK(std::abs(static_cast<double>(spans->mean.count) - static_cast<double>(mean * 62'500)) <=
            1);
      const long double deviation = std::sqrt(square / static_cast<long double>(list->size()));
      CHECK(std::abs(static_cast<double>(spans->deviation.count) -
                     static_cast<double>(deviation * 62'500)) <= 10);
    }
    if (rising >= 2)
      CHECK(*m->duty ==
            Approx(static_cast<double>(inside) / static_cast<double>(last_rise - first_rise)));
    else
      CHECK_FALSE(m->duty);
  }
}

TEST_CASE("numbers are measured by time, delays by edges, limits by stretches", "[signal]") {
  Signal number(facts_of(Signal::Kind::kNumber), 1'000'000, 0);
  // 0 for 10, -5 for 30, 7 for 60 microseconds
  for (const auto& [tick, value] : {std::pair{0U, 0}, {10U, -5}, {40U, 7}})
    number.add({tick, static_cast<std::uint64_t>(value) & 0xffffU, State::kKnown});
  number.end_at(100);
  const auto m = measure(number, {}, {UINT64_MAX});
  REQUIRE(m);
  CHECK(m->values->least == -5);
  CHECK(m->values->most == 7);
  CHECK(m->values->least_at.count == 10'000'000);
  CHECK(m->values->mean == Approx((-5 * 30 + 7 * 60) / 100.0));
  REQUIRE(m->held.size() == 3);
  CHECK(m->held[0].text == "7");
  CHECK(m->held[0].time.count == 60'000'000);
  const auto within = measure_within(number, -10, 0, {}, {UINT64_MAX});
  REQUIRE(within);
  CHECK(within->count == 1);
  CHECK(within->most.count == 40'000'000);

  Signal a(facts_of(Signal::Kind::kLevel), 1'000'000, 0),
      b(facts_of(Signal::Kind::kLevel), 3'000'000, 0);
  for (const unsigned tick : {0U, 10U, 15U, 30U, 35U})
    a.add({tick, tick % 10 == 0 && tick != 0, State::kKnown});
  for (const unsigned tick : {0U, 36U, 99U}) b.add({tick, tick == 36 ? 1U : 0U, State::kKnown});
  a.end_at(100);
  b.end_at(300);
  const auto rises = measure_delays(a, Edge::kRising, b, Edge::kAny, {}, {UINT64_MAX});
  REQUIRE(rises);  // 10 us -> 12 us, 30 us -> 33 us
  CHECK(rises->count == 2);
  CHECK(rises->least.count == 2'000'000);
  CHECK(rises->most.count == 3'000'000);
  const auto falls = measure_delays(a, Edge::kFalling, b, Edge::kFalling, {}, {UINT64_MAX});
  REQUIRE(falls);  // 15 us -> 33 us
  CHECK(falls->count == 1);
  CHECK(falls->last.count == 18'000'000);
  CHECK_FALSE(measure(number, {200'000'000}, {300'000'000}));
  // The other end of a wire, of a chip with another clock; each edge of the one is one of the
  // other.
  Signal::Facts far = facts_of(Signal::Kind::kLevel);
  far.name = "the other end";
  Signal end(far, 3'000'000, 0);
  for (const unsigned tick : {0U, 30U, 45U, 90U, 105U})
    end.add({tick, tick % 30 == 0 && tick != 0, State::kKnown});
  end.end_at(300);
  const auto wire = measure_delays(a, Edge::kAny, end, Edge::kAny, {}, {UINT64_MAX});
  REQUIRE(wire);
  CHECK(wire->count == 4);
  CHECK(wire->most.count == 0);
  const auto itself = measure_delays(a, Edge::kRising, a, Edge::kRising, {}, {UINT64_MAX});
  REQUIRE(itself);
  CHECK(itself->count == 1);
  CHECK(itself->last.count == 20'000'000);
}

TEST_CASE("a value change dump says the same as the signals, by the standard's grammar",
          "[signal]") {
  std::mt19937_64 random(test::fresh_seed());
  for (unsigned round = 0; round < 30; ++round) {
    std::vector<Signal> signals;
    const std::uint64_t clocks[] = {1'000'000, 16'000'000, 32'768, 7'372'800, 20'000'000};
    for (unsigned i = 0; i < 1 + random() % 120; ++i) {
      const auto kind = static_cast<Signal::Kind>(random() % 4);
      Signal::Facts facts = facts_of(kind);
      facts.name = i % 3 == 0 ? "pin.PB" + std::to_string(i) : "a name, " + std::to_string(i % 2);
      facts.scope = {"chip", random() % 2 == 0 ? "left side" : "right"};
      if (i % 7 == 0 && kind == Signal::Kind::kNumber) {
        facts.scale = 0.001;
        facts.unit = "V";
      }
      Signal signal(facts, clocks[random() % (round % 2 == 0 ? 2 : 5)], random() % 2 * 500);
      std::uint64_t tick = signal.begin();
      for (unsigned k = 0; k < random() % 60; ++k) {
        const std::uint64_t odd = random() % 9;
        const bool plain = kind == Signal::Kind::kMoment;
        signal.add({tick, value_of(kind, random),
                    plain || odd > 1 ? State::kKnown
                    : odd == 0       ? State::kFloating
                                     : State::kUnknown});
        tick += 1 + random() % 5000;
      }
      signal.end_at(tick);
      signals.push_back(std::move(signal));
    }
    std::ostringstream out;
    const auto written = write_waveforms(out, WaveformKind::kVcd, signals, {}, {UINT64_MAX});
    REQUIRE(written);
    const test::Vcd vcd = test::read_vcd(out.str());
    INFO(vcd.error);
    REQUIRE(vcd.error.empty());
    // Each signal is found again, by its place among those of its scope.
    std::map<std::string, unsigned> met;
    for (const char* scope : {"left_side", "right"})
      for (std::size_t i = 0; i < signals.size(); ++i) {
        const Signal& signal = signals[i];
        if (test::plain(signal.facts().scope[1]) != scope) continue;
        const auto& variable = vcd.variables.at(met["all"]++);
        CHECK(variable.scope == std::string("chip.") + scope);
        const bool moment = signal.facts().kind == Signal::Kind::kMoment;
        const bool real = signal.facts().kind == Signal::Kind::kReal || signal.facts().scale != 1;
        CHECK(variable.type == (moment ? "event" : real ? "real" : "wire"));
        const auto& values = moment ? vcd.variables.at(met["all"]++).changes : variable.changes;
        // Only what differs, at its time.
        std::vector<std::pair<std::uint64_t, std::string>> expected;
        auto samples = signal.samples();
        while (const auto s = samples.next()) {
          const long double time = static_cast<long double>(s->tick) * 1e15L /
                                   static_cast<long double>(signal.hz()) /
                                   static_cast<long double>(vcd.femtoseconds);
          const auto at = static_cast<std::uint64_t>(std::llroundl(time));
          if (vcd.femtoseconds != 1000) CHECK(static_cast<long double>(at) == time);
          std::string text;
          if (real && !s->known()) continue;
          if (real)
            text = std::to_string(signal.number(*s));
          else if (!s->known())
            text = s->state == State::kFloating ? "z" : "x";
          else
            text = std::to_string(s->value & 0xffffU);
          expected.emplace_back(at, text);
        }
        std::vector<std::pair<std::uint64_t, std::string>> got;
        for (const auto& [time, text] : values) {
          if (moment && text == "x") continue;
          const bool initial = got.empty() && time == vcd.first_time &&
                               (expected.empty() || expected[0].first != time);
          if (initial) continue;
          got.emplace_back(time, real ? std::to_string(std::stod(text)) : text);
        }
        REQUIRE(got == expected);
        if (moment) CHECK(vcd.variables.at(met["all"] - 2).changes.size() == expected.size());
      }
  }
}

TEST_CASE("the unit of a dump is the coarsest that holds every time", "[signal]") {
  const auto unit = [](std::uint64_t hz, std::vector<std::uint64_t> ticks) {
    Signal signal(facts_of(Signal::Kind::kLevel), hz, 0);
    bool level = false;
    for (const std::uint64_t tick : ticks)
      signal.add({tick, (level = !level) ? 1U : 0U, State::kKnown});
    std::ostringstream out;
    REQUIRE(write_waveforms(out, WaveformKind::kVcd, {signal}, {}, {UINT64_MAX}));
    const std::string text = out.str();
    const std::size_t at = text.find("$timescale ") + 11;
    return text.substr(at, text.find(" $end", at) - at);
  };
  CHECK(unit(1'000'000, {0, 1'000'000}) == "1 s");
  CHECK(unit(1'000'000, {0, 300'000}) == "100 ms");
  CHECK(unit(1'000'000, {0, 7}) == "1 us");
  CHECK(unit(16'000'000, {16, 32}) == "1 us");
  CHECK(unit(16'000'000, {1}) == "100 ps");
  CHECK(unit(32'768, {1}) == "1 fs");
  CHECK(unit(7'372'800, {1}) == "1 ps");                                  // none holds it
  CHECK(unit(32'768, {std::uint64_t{32'768} * 7200 * 5 + 1}) == "1 ps");  // nor has it room
}
