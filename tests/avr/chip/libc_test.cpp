// SPDX-License-Identifier: MIT
// avr-libc's own functions, which count on exact cycles and registers: delays, EEPROM, CRC, baud
// rates, watchdog and sleep. What must come out follows from its documentation.
#include <fmt/format.h>

#include <catch2/catch.hpp>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

constexpr std::uint64_t kHz = 16'000'000;

Session opened(const std::string& name, const std::string& source) {
  Session session(*Chip::make({"ATmega328P", kHz}));
  REQUIRE(session.open(test::compiled(name, source, "-Os -std=gnu11 -gdwarf-4")));
  return session;
}

std::uint64_t eeprom(const Session& session, std::uint32_t address) {
  return session.chip().peek({Space::kEeprom, address}).value_or(0);
}

}  // namespace

TEST_CASE("_delay_us and _delay_ms take the cycles that their arguments say") {
  // Rounded up to whole cycles; the two cycles are those of the `sbi` that makes the second edge.
  for (const char* span : {"0.0625", "0.3", "1", "2.5", "10", "47.2", "333", "1000", "12345.6"}) {
    for (const bool milliseconds : {false, true}) {
      const double us = std::stod(span) * (milliseconds ? 1000 : 1);
      if (us > 200'000) continue;
      INFO(span << (milliseconds ? " ms" : " us"));
      Session session = opened(
          "delay", fmt::format("#include <avr/io.h>\n#include <util/delay.h>\nint main(void) {{\n"
                               "  DDRB = 1;\n  for (;;) {{\n    PINB |= 1;\n    _delay_{}({});\n"
                               "    PINB |= 1;\n  }}\n}}\n",
                               milliseconds ? "ms" : "us", span));
      BreakpointSpec edge{"PB0"};
      edge.kind = BreakpointSpec::Kind::kEdge;
      REQUIRE(session.pause_at(edge));
      session.go();
      const std::uint64_t first = session.chip().cycles();
      session.go();
      const double cycles = us * kHz / 1e6;
      const auto whole = static_cast<std::uint64_t>(cycles);
      CHECK(session.chip().cycles() - first ==
            whole + (static_cast<double>(whole) < cycles ? 1 : 0) + 2);
    }
  }
}

TEST_CASE("EEPROM functions write what they are given, and update only what differs") {
  Session session = opened("eeprom", R"(#include <avr/eeprom.h>
#include <string.h>
volatile uint8_t stage, same;
volatile uint16_t word;
volatile uint32_t wide;
int main(void) {
  static const char text[] = "kiln";
  eeprom_write_byte((uint8_t *)1, 0x5a);
  eeprom_write_word((uint16_t *)2, 0x1234);
  eeprom_write_dword((uint32_t *)4, 0xdeadbeef);
  eeprom_write_block(text, (void *)16, sizeof text);
  eeprom_busy_wait();
  stage = 1;
  eeprom_update_byte((uint8_t *)1, 0x5a);
  eeprom_update_block(text, (void *)16, sizeof text);
  stage = 2;
  eeprom_update_byte((uint8_t *)1, 0x5b);
  eeprom_busy_wait();
  char back[5];
  eeprom_read_block(back, (const void *)16, 5);
  same = strcmp(back, text) == 0;
  word = eeprom_read_word((const uint16_t *)2);
  wide = eeprom_read_dword((const uint32_t *)4);
  stage = 3;
  for (;;) {
  }
}
)");
  unsigned writes = 0;
  BreakpointSpec written{""};
  written.kind = BreakpointSpec::Kind::kEepromWrite;
  REQUIRE(session.pause_at(written));
  BreakpointSpec stage{"stage"};
  stage.kind = BreakpointSpec::Kind::kChange;
  REQUIRE(session.pause_at(stage));
  std::vector<unsigned> in_stage;
  std::uint64_t begun = 0;
  while (in_stage.size() < 3) {
    const Pause pause = session.go();
    if (pause.cause == Pause::Cause::kEvent) {
      // Bytes one behind the other: 3.4 ms each, "EEPROM Mode Bits", erase and write.
      if (writes != 0 && in_stage.empty())
        CHECK(static_cast<double>(session.chip().cycles() - begun) ==
              Approx(kHz * 3.4e-3).epsilon(0.001));
      begun = session.chip().cycles();
      ++writes;
    } else {
      REQUIRE(pause.cause == Pause::Cause::kData);
      in_stage.push_back(std::exchange(writes, 0));
    }
  }
  CHECK(in_stage == std::vector<unsigned>{12, 0, 1});
  CHECK(session.evaluate("same")->integer == 1);
  CHECK(session.evaluate("word")->integer == 0x1234);
  CHECK(session.evaluate("wide")->integer == 0xdeadbeef);
  CHECK(eeprom(session, 1) == 0x5b);
  CHECK(eeprom(session, 4) == 0xef);
  CHECK(eeprom(session, 7) == 0xde);
  CHECK(eeprom(session, 17) == 'i');
}

TEST_CASE("CRC functions agree with the definitions in avr-libc's manual") {
  Session session = opened("crc", R"(#include <stdint.h>
#include <util/crc16.h>
volatile uint16_t crc16, xmodem, ccitt = 0xffff;
volatile uint8_t ibutton, crc8, done;
int main(void) {
  for (uint16_t i = 0; i < 300; i++) {
    uint8_t byte = i * 7 + (i >> 3);
    crc16 = _crc16_update(crc16, byte);
    xmodem = _crc_xmodem_update(xmodem, byte);
    ccitt = _crc_ccitt_update(ccitt, byte);
    ibutton = _crc_ibutton_update(ibutton, byte);
    crc8 = _crc8_ccitt_update(crc8, byte);
  }
  done = 1;
  for (;;) {
  }
}
)");
  REQUIRE(session.go_until("done == 1"));
  unsigned crc16 = 0;
  unsigned xmodem = 0;
  unsigned ccitt = 0xffff;
  unsigned ibutton = 0;
  unsigned crc8 = 0;
  for (unsigned i = 0; i < 300; ++i) {
    const unsigned byte = (i * 7 + (i >> 3)) & 0xff;
    const auto reflected = [&](unsigned crc, unsigned polynomial) {
      crc ^= byte;
      for (int bit = 0; bit < 8; ++bit) crc = (crc & 1) != 0 ? crc >> 1 ^ polynomial : crc >> 1;
      return crc;
    };
    const auto forward = [&](unsigned crc, unsigned polynomial, unsigned bits) {
      crc ^= byte << (bits - 8);
      for (int bit = 0; bit < 8; ++bit)
        crc = (crc << 1 ^ ((crc >> (bits - 1) & 1) != 0 ? polynomial : 0)) & ((1U << bits) - 1);
      return crc;
    };
    crc16 = reflected(crc16, 0xa001);
    ccitt = reflected(ccitt, 0x8408);
    ibutton = reflected(ibutton, 0x8c);
    xmodem = forward(xmodem, 0x1021, 16);
    crc8 = forward(crc8, 0x07, 8);
  }
  CHECK(session.evaluate("crc16")->integer == crc16);
  CHECK(session.evaluate("xmodem")->integer == xmodem);
  CHECK(session.evaluate("ccitt")->integer == ccitt);
  CHECK(session.evaluate("ibutton")->integer == ibutton);
  CHECK(session.evaluate("crc8")->integer == crc8);
}

TEST_CASE("setbaud.h: bytes back to back leave at the rate it works out") {
  for (const unsigned baud : {2400U, 9600U, 38400U, 57600U, 115200U, 250000U, 1000000U}) {
    INFO(baud);
    Session session = opened("baud", fmt::format(R"(#include <avr/io.h>
#define BAUD {}
#define BAUD_TOL 4
#include <util/setbaud.h>
int main(void) {{
  UBRR0 = UBRR_VALUE;
  if (USE_2X) UCSR0A = _BV(U2X0);
  UCSR0B = _BV(TXEN0);
  for (;;) {{
    while (!(UCSR0A & _BV(UDRE0))) {{
    }}
    UDR0 = 'k';
  }}
}}
)",
                                                 baud));
    BreakpointSpec out{"USART0"};
    out.kind = BreakpointSpec::Kind::kByteOut;
    REQUIRE(session.pause_at(out));
    session.go();
    session.go();
    const std::uint64_t first = session.chip().cycles();
    for (int i = 0; i < 10; ++i) session.go();
    const std::uint64_t hundred_bits = session.chip().cycles() - first;
    const auto ubrr = static_cast<std::uint64_t>(session.evaluate("chip.UBRR0")->integer);
    const bool twice = session.evaluate("chip.UCSR0A.U2X0")->integer != 0;
    // "USART0", "Internal Clock Generation": a bit is 16 or 8 cycles of the divided clock.
    // A pause comes behind the instruction that was under way, of two cycles at the most.
    const std::uint64_t expected = 100 * (ubrr + 1) * (twice ? 8 : 16);
    CHECK(hundred_bits + 2 >= expected);
    CHECK(hundred_bits <= expected + 2);
    CHECK(static_cast<double>(expected) == Approx(100.0 * kHz / baud).epsilon(0.04));
  }
}

TEST_CASE("wdt_enable resets after its time; sleep_mode wakes by the interrupt that is due") {
  Session session = opened("dog", R"(#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/sleep.h>
#include <avr/wdt.h>
volatile uint8_t woken;
ISR(TIMER1_COMPA_vect) { woken++; }
int main(void) {
  MCUSR = 0;
  wdt_disable();
  OCR1A = 15999;
  TCCR1B = _BV(WGM12) | _BV(CS10);
  TIMSK1 = _BV(OCIE1A);
  sei();
  for (uint8_t i = 0; i < 5; i++) sleep_mode();
  cli();
  wdt_enable(WDTO_60MS);
  wdt_reset();
  for (;;) {
  }
}
)");
  BreakpointSpec wake{""};
  wake.kind = BreakpointSpec::Kind::kWake;
  REQUIRE(session.pause_at(wake));
  session.go();
  const std::uint64_t first = session.chip().cycles();
  for (int i = 1; i < 5; ++i) {
    REQUIRE(session.go().cause == Pause::Cause::kEvent);
    CHECK(session.chip().cycles() - first == 16'000U * static_cast<unsigned>(i));
  }
  BreakpointSpec reset{""};
  reset.kind = BreakpointSpec::Kind::kReset;
  REQUIRE(session.pause_at(reset));
  BreakpointSpec enabled{"chip.WDTCSR"};
  enabled.kind = BreakpointSpec::Kind::kWrite;
  enabled.condition = "chip.WDTCSR.WDE == 1 && chip.WDTCSR.WDCE == 0";
  REQUIRE(session.pause_at(enabled));
  REQUIRE(session.go().cause == Pause::Cause::kData);
  const std::uint64_t begun = session.chip().cycles();
  REQUIRE(session.go().cause == Pause::Cause::kEvent);
  // 8K periods of 128 kHz ("System Control and Reset", watchdog prescale select): 64 ms.
  CHECK(static_cast<double>(session.chip().cycles() - begun) == Approx(kHz * 0.064).epsilon(0.001));
  // Time asleep goes on counting through the reset, as the cycles do.
  CHECK(session.time().asleep.count > 3'750'000'000U);
  CHECK(session.time().asleep.count < session.time().time.count);
}
