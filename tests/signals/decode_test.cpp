// SPDX-License-Identifier: MIT
// Decoders: against bytes that a test puts onto wires, and against another decoder that knows
// nothing of ours: sigrok-cli reads what is exported.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <cstring>
#include <random>
#include <sstream>

#include "lucid/bench.h"
#include "lucid/decode.h"
#include "lucid/measurement.h"
#include "lucid/session.h"
#include "lucid/waveform.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kHz = 16'000'000;

Signal wire(const std::string& name, bool level) {
  Signal out({name}, kHz, 0);
  out.add({0, level ? 1U : 0U});
  return out;
}

std::vector<unsigned> bytes_of(const Decoded& decoded) {
  std::vector<unsigned> out;
  for (const Decoded::Byte& byte : decoded.data) out.push_back(byte.value);
  return out;
}

std::vector<std::string> texts_of(const Signal& signal) {
  std::vector<std::string> out;
  auto samples = signal.samples();
  while (const auto sample = samples.next())
    if (const std::string text = signal.text(*sample); text != "-") out.push_back(text);
  return out;
}

/// What sigrok-cli says of levels that are exported, a line each.
std::vector<std::string> sigrok(const std::vector<Signal>& signals, Picoseconds from,
                                Picoseconds to, const std::string& decoder) {
  std::ostringstream vcd;
  REQUIRE(write_waveforms(vcd, WaveformKind::kVcd, signals, from, to));
  const std::string path = test::scratch("decode.vcd");
  test::write(path, vcd.str());
  // It makes a sample of each unit of time: at 16 MHz of those of 100 ps 625 are one.
  const std::string unit = vcd.str().substr(vcd.str().find("$timescale ") + 11, 6);
  const unsigned divide = unit == "100 ps" ? 625 : unit == "1 ns $" ? 62 : 1;
  const test::Output out = test::run(
      "sigrok-cli -i " + path + " -I vcd:downsample=" + std::to_string(divide) + " " + decoder);
  INFO(out.text.substr(0, 300));
  REQUIRE(out.code == 0);
  std::vector<std::string> lines;
  std::istringstream in(out.text);
  for (std::string line; std::getline(in, line);) lines.push_back(line.substr(line.find(": ") + 2));
  return lines;
}

std::vector<unsigned> hex_bytes(const std::vector<std::string>& lines) {
  std::vector<unsigned> out;
  for (const std::string& line : lines)
    out.push_back(static_cast<unsigned>(std::stoul(line.substr(line.rfind(' ') + 1), nullptr, 16)));
  return out;
}

}  // namespace

TEST_CASE("serial frames of any rate and form, with what is wrong with them", "[decode]") {
  std::mt19937 random(test::fresh_seed());
  for (unsigned round = 0; round < 60; ++round) {
    const double rates[] = {9600, 38400, 115200, 31250, 1200};
    const double bit = kHz / rates[random() % 5];
    SerialForm form;
    form.bits = 5 + random() % 4;
    form.parity = static_cast<SerialForm::Parity>(random() % 3);
    if (round % 2 != 0) form.rate = kHz / bit;
    Signal line = wire("TXD", true);
    double at = 1000;
    std::vector<unsigned> sent;
    unsigned wrong = 0;
    const auto put = [&](bool high, double bits) {
      line.add({static_cast<std::uint64_t>(at + 0.5), high ? 1U : 0U});
      at += bit * bits;
    };
    for (unsigned i = 0; i < 40; ++i) {
      const unsigned value = random() & ((1U << form.bits) - 1);
      const bool bad_stop = i > 5 && random() % 12 == 0;
      const bool bad_parity =
          i > 5 && form.parity != SerialForm::Parity::kNone && random() % 10 == 0;
      put(false, 1);
      for (unsigned k = 0; k < form.bits; ++k) put((value >> k & 1U) != 0, 1);
      bool odd = __builtin_popcount(value) % 2 != 0;
      if (form.parity == SerialForm::Parity::kOdd) odd = !odd;
      if (form.parity != SerialForm::Parity::kNone) put(odd != bad_parity, 1);
      put(!bad_stop, 1);
      put(true, bad_stop ? 2 : random() % 3 == 0 ? 0 : 0.3 * (random() % 40));
      sent.push_back(value);
      wrong += bad_stop || bad_parity ? 1 : 0;
    }
    put(true, 30);
    line.end_at(static_cast<std::uint64_t>(at));
    const auto decoded = decode_serial(line, form);
    REQUIRE(decoded);
    INFO("round " << round << ", " << kHz / bit << " baud, found " << decoded->rate);
    CHECK(bytes_of(*decoded) == sent);
    CHECK(decoded->faults == wrong);
    CHECK(decoded->rate == Approx(kHz / bit).epsilon(0.001));
  }
  CHECK_FALSE(decode_serial(wire("x", true), {}));
  CHECK_FALSE(decode_serial(wire("x", true), {9600, 4}));
}

TEST_CASE("a glitch is left out and counted", "[decode]") {
  Signal line = wire("x", true);
  std::vector<std::uint64_t> edges{1000, 2000, 5000, 5003, 5100, 9000, 9001, 9002, 9003, 12000};
  bool level = true;
  for (const std::uint64_t edge : edges) line.add({edge, (level = !level) ? 1U : 0U});
  line.end_at(20000);
  const auto [clean, glitches] = without_glitches(line, Picoseconds{62'500 * 50});
  std::vector<std::uint64_t> left;
  auto samples = clean.samples();
  while (const auto sample = samples.next()) left.push_back(sample->tick);
  CHECK(left == std::vector<std::uint64_t>{0, 1000, 2000, 5100, 12000});
  CHECK(glitches == 3);
}

TEST_CASE("the kiln's serial line, as another decoder reads it", "[decode]") {
  auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml", "");
  REQUIRE(bench);
  bench->chip.name = "ATmega328P";
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(test::kKilnOg));
  REQUIRE(session.trace({"pin.PD1"}));
  REQUIRE(session.trace({"byte out"}));
  session.go_for(Picoseconds{2'100'000'000'000});
  const auto decoded = session.decode({Session::DecodeSpec::Kind::kSerial, {"pin.PD1"}});
  REQUIRE(decoded);
  CHECK(decoded->faults == 0);
  const Signal line = *session.signal("pin.PD1");
  const Picoseconds from{999'000'000'000}, to{1'100'000'000'000};
  const auto theirs =
      hex_bytes(sigrok({line}, from, to, "-P uart:rx=PD1:baudrate=38400 -A uart=rx-data"));
  std::vector<unsigned> ours;
  for (const Decoded::Byte& byte : decoded->data)
    if (byte.at.count < to.count) ours.push_back(byte.value);
  CHECK(theirs.size() > 40);
  CHECK(ours == theirs);
  // And as the chip says that it has sent them: when the stop bit ends.
  const Signal sent = *session.signal("byte out");
  auto moments = sent.samples();
  for (const Decoded::Byte& byte : decoded->data) {
    const auto moment = moments.next();
    REQUIRE(moment);
    CHECK(moment->value == byte.value);
    const double bits =
        static_cast<double>(sent.time(moment->tick).count - byte.at.count) / 1e12 * 38400;
    CHECK(bits == Approx(10).margin(0.2));
  }
  // A decoder follows what is recorded.
  session.go_for(Picoseconds{1'000'000'000'000});
  CHECK(session.signal("pin.PD1 serial")->changes() > decoded->signal.changes());
}

TEST_CASE("two wires and SPI of the chip, as another decoder reads them", "[decode]") {
  const std::string image = test::compiled(
      "decode-buses",
      "#include <avr/io.h>\n#include <stdint.h>\n"
      "static void wait(void) { while (!(TWCR & 1 << TWINT)) {} }\n"
      "static void start(void) { TWCR = 1 << TWINT | 1 << TWSTA | 1 << TWEN; wait(); }\n"
      "static void put(uint8_t b) { TWDR = b; TWCR = 1 << TWINT | 1 << TWEN; wait(); }\n"
      "static uint8_t get(uint8_t ack) { TWCR = 1 << TWINT | 1 << TWEN | ack << TWEA; wait(); "
      "return TWDR; }\n"
      "static void stop(void) { TWCR = 1 << TWINT | 1 << TWEN | 1 << TWSTO; while (TWCR & 1 << "
      "TWSTO) {} }\n"
      "volatile uint8_t seen;\n"
      "int main(void) {\n"
      "  TWBR = 32;\n"
      "  start(); put(0x50 << 1); put(0x00); put(0x10); start(); put(0x50 << 1 | 1);\n"
      "  seen = get(1); seen = get(0); stop();\n"
      "  start(); put(0x23 << 1); stop();\n"  // nobody
      "  DDRB = 1 << 2 | 1 << 3 | 1 << 5; PORTB = 1 << 2; DDRD = 1;\n"
      "  for (uint8_t mode = 0; mode < 4; mode++) {\n"
      "    SPCR = 1 << SPE | 1 << MSTR | mode << CPHA | 1;\n"
      "    PORTD = 1; PORTD = 0;\n"
      "    PORTB &= ~(1 << 2);\n"
      "    for (uint8_t i = 0; i < 6; i++) { SPDR = 0xa5 ^ i * 37; while (!(SPSR & 1 << SPIF)) {} "
      "}\n"
      "    PORTB |= 1 << 2;\n"
      "  }\n"
      "  for (;;) {}\n}\n",
      "-Os -gdwarf-4");
  const auto bench = Bench::parse(
      "[chip]\nname = \"ATmega328P\"\nclock = \"16MHz\"\n"
      "[[part]]\nname = \"memory\"\nkind = \"two-wire-eeprom\"\nbytes = 4096\naddress = 0x50\nsda "
      "= \"PC4\"\nscl = \"PC5\"\n",
      "decode");
  if (!bench) FAIL(bench.error().text());
  Session session(*Chip::make(bench->chip));
  REQUIRE(session.open(image));
  for (const char* pin : {"pin.PC5", "pin.PC4", "pin.PB2", "pin.PB3", "pin.PB5", "pin.PD0"})
    REQUIRE(session.trace({pin}));
  session.go_for(Picoseconds{4'000'000'000});

  const auto bus = session.decode({Session::DecodeSpec::Kind::kTwoWire, {"pin.PC5", "pin.PC4"}});
  REQUIRE(bus);
  CHECK(bytes_of(*bus) == std::vector<unsigned>{0xa0, 0x00, 0x10, 0xa1, 0xff, 0xff, 0x46});
  CHECK(bus->faults == 1);  // the one that nobody has acknowledged
  CHECK(texts_of(bus->signal) ==
        std::vector<std::string>{"START", "0x50 write", "ACK", "0x00", "ACK", "0x10", "ACK",
                                 "START again", "0x50 read", "ACK", "0xff", "ACK", "0xff", "NAK",
                                 "STOP", "START", "0x23 write", "NAK", "STOP"});
  const Signal scl = *session.signal("pin.PC5"), sda = *session.signal("pin.PC4");
  const auto theirs = sigrok(
      {scl, sda}, {}, {2'000'000'000},
      "-P i2c:scl=PC5:sda=PC4 -A "
      "i2c=start:repeat-start:stop:ack:nack:address-read:address-write:data-read:data-write");
  std::vector<std::string> expected{"Start",
                                    "Address write: 50",
                                    "ACK",
                                    "Data write: 00",
                                    "ACK",
                                    "Data write: 10",
                                    "ACK",
                                    "Start repeat",
                                    "Address read: 50",
                                    "ACK",
                                    "Data read: FF",
                                    "ACK",
                                    "Data read: FF",
                                    "NACK",
                                    "Stop",
                                    "Start",
                                    "Address write: 23",
                                    "NACK",
                                    "Stop"};
  std::vector<std::string> said;
  for (const std::string& line : theirs)
    if (line != "Write" && line != "Read") said.push_back(line);
  CHECK(said == expected);

  // Each mode by itself: PD0 marks where one begins.
  std::vector<std::uint64_t> begins;
  const Signal mark = *session.signal("pin.PD0");
  auto marks = mark.samples();
  bool before = false;
  while (const auto sample = marks.next()) {
    if (sample->known() && sample->value != 0 && !before) begins.push_back(sample->tick);
    before = sample->known() && sample->value != 0;
  }
  REQUIRE(begins.size() == 4);
  begins.push_back(mark.end());
  for (unsigned mode = 0; mode < 4; ++mode) {
    INFO("mode " << mode);
    const auto part = [&](const char* pin) {
      const Signal whole = *session.signal(pin);
      Signal out(whole.facts(), whole.hz(), begins[mode]);
      auto samples = whole.samples(begins[mode], begins[mode + 1] - 1);
      while (const auto sample = samples.next()) out.add(*sample);
      out.end_at(begins[mode + 1]);
      return out;
    };
    const Signal clock = part("pin.PB5"), data = part("pin.PB3"), select = part("pin.PB2");
    std::vector<unsigned> sent;
    for (unsigned i = 0; i < 6; ++i) sent.push_back((0xa5U ^ i * 37U) & 0xffU);
    for (const bool with_select : {true, false}) {
      const auto spi = decode_spi(clock, data, with_select ? &select : nullptr, mode);
      REQUIRE(spi);
      CHECK(bytes_of(*spi) == sent);
      CHECK(spi->faults == 0);
    }
    const auto other =
        sigrok({clock, data, select}, clock.time(clock.begin()), {UINT64_MAX},
               fmt::format("-P spi:clk=PB5:mosi=PB3:cs=PB2:cpol={}:cpha={} -A spi=mosi-data",
                           mode >> 1, mode & 1U));
    CHECK(hex_bytes(other) == sent);
  }
}

TEST_CASE("one wire, duty and widths", "[decode]") {
  Signal line = wire("DQ", true);
  std::uint64_t at = 16 * 100;
  const auto low = [&](unsigned microseconds, unsigned then) {
    line.add({at, 0});
    at += 16ULL * microseconds;
    line.add({at, 1});
    at += 16ULL * then;
  };
  low(480, 30);
  low(120, 300);  // somebody is there
  const unsigned sent[] = {0x33, 0x28, 0x00, 0xff};
  for (const unsigned byte : sent)
    for (unsigned bit = 0; bit < 8; ++bit)
      low((byte >> bit & 1U) != 0 ? 6 : 60, (byte >> bit & 1U) != 0 ? 64 : 10);
  low(480, 500);  // nobody
  low(6, 100);
  line.end_at(at);
  const auto decoded = decode_one_wire(line);
  REQUIRE(decoded);
  CHECK(texts_of(decoded->signal) == std::vector<std::string>{"RESET", "presence", "0x33", "0x28",
                                                              "0x00", "0xff", "RESET", "nobody"});
  CHECK(decoded->faults == 1);

  Signal pulses = wire("servo", false);
  for (unsigned i = 0; i < 10; ++i) {
    pulses.add({16'000ULL * 20 * i + 100, 1});
    pulses.add({16'000ULL * 20 * i + 100 + 16 * (1000 + 100 * i), 0});
  }
  pulses.end_at(16'000ULL * 200);
  const auto widths = decode_pulses(pulses, true);
  REQUIRE(widths);
  CHECK(widths->signal.number(widths->signal.at(16'000ULL * 70)) == 1300);
  const auto duty = decode_pulses(pulses, false);
  REQUIRE(duty);
  CHECK(duty->signal.number(duty->signal.at(16'000ULL * 70)) == 6.5);
  Signal number({"n", {}, Signal::Kind::kNumber, 8}, kHz, 0);
  CHECK_FALSE(decode_pulses(number, false));
}

TEST_CASE("what is written is read again, whatever it is", "[decode]") {
  std::mt19937_64 random(test::fresh_seed());
  for (unsigned round = 0; round < 40; ++round) {
    std::vector<Signal> signals;
    for (unsigned i = 0; i < 1 + random() % 9; ++i) {
      Signal::Facts facts{
          "s" + std::to_string(i), {"a", "b"}, static_cast<Signal::Kind>(random() % 3)};
      facts.bits = facts.kind == Signal::Kind::kLevel  ? 1
                   : facts.kind == Signal::Kind::kReal ? 64
                                                       : 2 + random() % 60;
      Signal signal(facts, 20'000'000, 0);
      std::uint64_t tick = 0;
      for (unsigned k = 0; k < 1 + random() % 100; ++k) {
        Sample sample{tick, random() >> (64 - facts.bits)};
        if (facts.kind == Signal::Kind::kReal) {
          const double real = static_cast<double>(random() % 100'000) / 7;
          std::memcpy(&sample.value, &real, sizeof real);
        } else if (random() % 9 == 0) {
          sample.state = random() % 2 == 0 ? Sample::State::kFloating : Sample::State::kUnknown;
        }
        signal.add(sample);
        tick += 1 + random() % 900;
      }
      signal.end_at(tick);
      signals.push_back(std::move(signal));
    }
    for (const auto kind : {WaveformKind::kVcd, WaveformKind::kCsv}) {
      std::ostringstream out;
      REQUIRE(write_waveforms(out, kind, signals, {}, {UINT64_MAX}));
      const auto read = read_waveforms(out.str(), kind, "x");
      if (!read) FAIL(read.error().text());
      REQUIRE(read->size() == signals.size());
      for (std::size_t i = 0; i < signals.size(); ++i) {
        CHECK((*read)[i].name() == signals[i].name());
        auto a = signals[i].samples(), b = (*read)[i].samples(0, (*read)[i].end());
        while (const auto one = a.next()) {
          const auto other = b.next();
          REQUIRE(other);
          CHECK((*read)[i].time(other->tick).count == signals[i].time(one->tick).count);
          REQUIRE(other->state == one->state);
          if (!one->known()) continue;
          if (kind == WaveformKind::kVcd)
            REQUIRE(other->value == one->value);
          else
            REQUIRE((*read)[i].number(*other) == Approx(signals[i].number(*one)));
        }
      }
    }
  }
}

TEST_CASE("names of values come back", "[decode]") {
  Signal::Facts facts{"state", {"kiln"}, Signal::Kind::kNumber, 16};
  facts.names = {{0, "IDLE"}, {1, "two words"}, {7, "cost $end"}};
  std::ostringstream out;
  REQUIRE_FALSE(write_waveforms(out, WaveformKind::kVcd, {}, {}, {UINT64_MAX}));
  Signal ordered(facts, 1000, 0);
  for (const unsigned value : {0U, 1U, 3U, 7U}) ordered.add({10ULL * value, value});
  REQUIRE(write_waveforms(out, WaveformKind::kVcd, {ordered}, {}, {UINT64_MAX}));
  const auto read = read_waveforms(out.str(), WaveformKind::kVcd, "x");
  REQUIRE(read);
  CHECK(texts_of((*read)[0]) == std::vector<std::string>{"IDLE", "two_words", "3", "cost__end"});
}

TEST_CASE("captures that are no captures", "[decode]") {
  const std::string head = "$timescale 1 ns $end $var wire 1 ! a $end $enddefinitions $end\n";
  const std::pair<std::string, const char*> vcds[] = {
      {"", "no $enddefinitions"},
      {"hello", "no keyword"},
      {"$timescale 3 ns $end", "no time scale"},
      {"$timescale 1 ns", "before $end"},
      {"$var wire 1 ! $end", "a name"},
      {"$var wire 0 ! a $end", "no width"},
      {"$var wire 65 ! a $end", "65 bits"},
      {head + "#5\n1?", "no variable has the code"},
      {head + "#5\n2!", "no value"},
      {head + "#x\n", "no time"},
      {head + "#5\n#4\n", "time goes back"},
      {head + "$fullskip", "not expected among changes"},
      {head + "#1\nr1.5 !", "no such value"},
      {head + "#99999999999999999999", "no time"},
      {head + "#9223372036854776", "too late"},
      {"$timescale 100 s $end $enddefinitions $end #92234", "too late"},
      {head + "#1\nb", "no variable"},
  };
  for (const auto& [text, what] : vcds) {
    INFO(text);
    const auto read = read_waveforms(text, WaveformKind::kVcd, "x.vcd");
    REQUIRE_FALSE(read);
    CHECK_THAT(read.error().text(), Catch::Contains(what));
    CHECK_THAT(read.error().text(), Catch::Contains("x.vcd:"));
  }
  const std::pair<const char*, const char*> csvs[] = {
      {"", "titles"},
      {"time", "titles"},
      {"time,a\n", "nothing below"},
      {"time,a\n1\n", "1 fields"},
      {"time,a\nx,1\n", "no time"},
      {"time,a\n-1,1\n", "no time"},
      {"time,a\n2,1\n1,0\n", "time goes back"},
      {"time,a\n99999999999999999999,1\n", "no time"},
  };
  for (const auto& [text, what] : csvs) {
    INFO(text);
    const auto read = read_waveforms(text, WaveformKind::kCsv, "x.csv");
    REQUIRE_FALSE(read);
    CHECK_THAT(read.error().text(), Catch::Contains(what));
  }
  const auto table =
      read_waveforms("Time [ms];D0;\"state, of it\"\n0.5;1;idle\n1.25;;\"ramp\"\n2;0;z\n",
                     WaveformKind::kCsv, "x.csv");
  REQUIRE(table);
  CHECK((*table)[0].time((*table)[0].begin()).count == 500'000'000);
  CHECK((*table)[1].name() == "state, of it");
  CHECK((*table)[1].text((*table)[1].at(1'250'000'000)) == "ramp");
  CHECK_FALSE((*table)[0].at(1'300'000'000).known());
  CHECK_FALSE(waveform_kind("x.txt"));
  CHECK_FALSE(open_waveforms("/nowhere/x.vcd"));
}

TEST_CASE("a capture is matched with a trace: offset, rate, and what differs first", "[decode]") {
  std::mt19937 random(test::fresh_seed());
  for (unsigned round = 0; round < 200; ++round) {
    // A trace, and the same by another clock that is off, with noise below the tolerance.
    const double rate = 1 + (static_cast<double>(random() % 20'001) - 10'000) / 1e6 * (round % 3);
    const std::uint64_t later = random() % 1'000'000'000;
    Signal one = wire("one", false), other({"other"}, 1'000'000'000'000, 0);
    other.add({0, 0});
    std::vector<std::uint64_t> edges;
    std::uint64_t at = 5'000 + random() % 1000;
    const unsigned count = 3 + random() % 200;
    for (unsigned i = 0; i < count; ++i) edges.push_back(at += 400 + random() % 20'000);
    const unsigned kind = random() % 4;  // what is wrong: nothing, an edge, a pulse more, one less
    const std::size_t bad = 2 + random() % (count - 2);
    const auto there = [&](std::uint64_t tick) {
      return later + 1'000'000'000 +
             static_cast<std::uint64_t>(static_cast<double>(tick) * 62'500 * rate + 0.5);
    };
    bool level = false;
    for (std::size_t i = 0; i < edges.size(); ++i) {
      level = !level;
      one.add({edges[i], level ? 1U : 0U});
      std::uint64_t time = there(edges[i]) + random() % 100'000;
      if (kind == 1 && i == bad) time += 12'000'000;
      if (kind == 2 && i == bad) {
        other.add({time - 9'000'000, level ? 1U : 0U});
        other.add({time - 8'000'000, level ? 0U : 1U});
      }
      if (kind == 3 && (i == bad || i == bad + 1)) continue;
      other.add({time, level ? 1U : 0U});
    }
    one.end_at(edges.back() + 40'000);
    other.end_at(there(edges.back() + 40'000));
    const auto found = match(one, other, Edge::kAny, {5'000'000});
    REQUIRE(found);
    INFO("round " << round << " kind " << kind << " bad " << bad << " of " << count << " rate "
                  << rate);
    if (kind == 0) {
      CHECK_FALSE(found->difference);
      CHECK(found->edges == count);
      CHECK(found->worst.count <= 200'000);
      if (count > 20) CHECK(std::abs(found->ppm - (rate - 1) * 1e6) < 200);
    } else {
      // What few edges are off by may be taken for the clock's.
      if (bad <= 10 || bad + 4 > count) continue;
      REQUIRE(found->difference);
      CHECK(found->edges == bad);
      if (kind == 1) CHECK(found->difference->at.count == edges[bad] * 62'500);
    }
  }
  CHECK_FALSE(match(wire("a", true), wire("b", true), Edge::kAny, {1}));
  Signal a = wire("a", false), b = wire("b", false);
  a.add({100, 1});
  a.add({200, 0});
  b.add({50, 1});
  a.end_at(1000);
  b.end_at(60);  // the capture was stopped: nothing is missing
  const auto part = match(a, b, Edge::kRising, {1000});
  REQUIRE(part);
  CHECK(part->edges == 1);
  CHECK_FALSE(part->difference);
  CHECK(part->offset == -50 * 62'500);
  CHECK_FALSE(match(a, b, Edge::kFalling, {1000}));
}
