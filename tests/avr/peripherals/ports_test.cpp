// SPDX-License-Identifier: MIT
// Writes to ports that nobody hears of take a shorter way: the same world as with somebody who
// listens to the pins.
#include <catch2/catch.hpp>
#include <random>

#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

TEST_CASE("ports are the same whether somebody listens to their pins or not") {
  const unsigned seed = test::fresh_seed();
  INFO("LUCID_SEED=" << seed);
  std::mt19937 random(seed);
  const auto pick = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  for (unsigned round = 0; round < 6; ++round) {
    std::string body;
    for (unsigned i = 0; i < 60; ++i) {
      const std::string port(1, "BCD"[pick(3)]);
      const std::string bits = std::to_string(pick(256)), bit = std::to_string(pick(8));
      switch (pick(12)) {
        case 0: body += "PORT" + port + " = " + bits; break;
        case 1: body += "DDR" + port + " = " + bits; break;
        case 2: body += "PIN" + port + " = " + bits; break;
        case 3: body += "PORT" + port + " |= 1 << " + bit; break;
        case 4: body += "PORT" + port + " &= ~(1 << " + bit + ")"; break;
        case 5: body += "DDR" + port + " ^= 1 << " + bit; break;
        case 6: body += "PCMSK" + std::to_string(pick(3)) + " = " + bits; break;
        case 7: body += "PCICR = " + std::to_string(pick(8)); break;
        case 8: body += "EICRA = " + std::to_string(pick(16)); break;
        case 9: body += "EIMSK = " + std::to_string(pick(4)); break;
        case 10:
          body +=
              pick(3) == 0 ? "MCUCR ^= 1 << PUD" : "SPCR ^= 1 << " + std::to_string(4 + pick(4));
          break;
        default:
          body +=
              pick(3) == 0 ? "TCCR0A ^= " + std::to_string(0x10U << pick(4)) : "sum += PIN" + port;
      }
      body += ";\n";
    }
    const std::string handler = "ISR(%) { sum = sum * 3 + PINB; }\n";
    std::string source =
        "#include <avr/interrupt.h>\n#include <avr/io.h>\nvolatile uint16_t sum;\n";
    for (const char* vector : {"INT0_vect", "INT1_vect", "PCINT0_vect", "PCINT1_vect",
                               "PCINT2_vect", "SPI_STC_vect", "ANALOG_COMP_vect"})
      source += std::string(handler).replace(handler.find('%'), 1, vector);
    source +=
        "int main(void) {\nsei();\nTCCR0B = 1;\nTCCR1B = 7;\nDIDR1 = 0;\nACSR = 8;\nfor (;;) {\n" +
        body + "}\n}\n";
    const std::string path = test::scratch("ports");
    test::write(path + ".c", source);
    const test::Output made =
        test::run("avr-gcc -w -std=gnu11 -Os -mmcu=atmega328p -o " + path + ".elf " + path + ".c");
    INFO(made.text << source);
    REQUIRE(made.code == 0);
    std::vector<std::uint64_t> hashes[2];
    for (const bool traced : {false, true}) {
      Session session(*Chip::make({"ATmega328P", 16'000'000}));
      REQUIRE(session.open(path + ".elf"));
      if (traced)
        for (const char* pins : {"pin.PB", "pin.PC", "pin.PD"}) REQUIRE(session.trace({pins}));
      for (unsigned i = 0; i < 40; ++i) {
        session.go_for(std::uint64_t{i * 7 + 11});
        hashes[traced ? 1 : 0].push_back(session.chip().hash());
      }
      session.go_for(std::uint64_t{50'000});
      hashes[traced ? 1 : 0].push_back(session.chip().hash());
    }
    CHECK(hashes[0] == hashes[1]);
    test::record(hashes[0].back());
  }
}
