// SPDX-License-Identifier: MIT
// The quick gear against the precise one: random programs, run freely and instruction by
// instruction, agree on everything, flags included, at every event.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <map>
#include <random>

#include "lucid/bench.h"
#include "lucid/chip.h"
#include "lucid/session.h"
#include "tools.h"

using namespace lucid;

namespace {

/// Fills flash with random instructions, weighted to flags and memory, that stay within it: jumps
/// are short, the stack is balanced by chance only and wanders through RAM.
void fill(Chip& chip, std::mt19937& random) {
  for (std::uint32_t at = 0; at < 0x8000;) {
    unsigned word = random() & 0xffff;
    const auto weight = random() % 10;
    if (weight < 4)
      word = (word & 0x3fff) | (random() % 2 != 0 ? 0x0400 : 0x1400);  // two registers
    if (weight == 4) word = 0x9400 | (word & 0x01ff);                  // one register
    if (weight == 5) word = 0x3000 | (word & 0x4fff);                  // immediates
    if (weight == 6) word = 0x8000 | (word & 0x2fff);                  // displacements
    if (weight == 7) word = 0x9000 | (word & 0x03ff);                  // loads, stores
    chip.poke({Space::kCode, at}, static_cast<std::uint8_t>(word));
    chip.poke({Space::kCode, at + 1}, static_cast<std::uint8_t>(word >> 8));
    const Instruction i = chip.instruction_at(at);
    const bool wild = i.validity != Validity::kValid || i.flow == Flow::kIndirectJump ||
                      i.flow == Flow::kIndirectCall || i.flow == Flow::kBreak ||
                      i.flow == Flow::kSleep || i.flow == Flow::kReturn ||
                      i.flow == Flow::kInterruptReturn || i.mnemonic == "spm";
    if (wild) continue;
    if (i.size == 4) {
      if (at + 4 > 0x8000) continue;
      // Addresses in RAM; far jumps to the start of something that is already there.
      const bool jumps = i.flow == Flow::kJump || i.flow == Flow::kCall;
      const unsigned second = jumps ? random() % (at / 2 + 1) : 0x100 + random() % 0x800;
      if (jumps) chip.poke({Space::kCode, at}, static_cast<std::uint8_t>(word & 0x0e));
      if (jumps) chip.poke({Space::kCode, at + 1}, 0x94);
      chip.poke({Space::kCode, at + 2}, static_cast<std::uint8_t>(second));
      chip.poke({Space::kCode, at + 3}, static_cast<std::uint8_t>(second >> 8));
    }
    at += i.size;
  }
  // Timer1 makes events all the time; all vectors return at once.
  for (const InterruptVector& vector : chip.info().vectors) {
    if (vector.number == 0) continue;
    chip.poke({Space::kCode, vector.number * 4U}, 0x18);
    chip.poke({Space::kCode, vector.number * 4U + 1}, 0x95);
  }
  for (std::uint32_t a = 0; a < 0x900; ++a)
    if (a < 0x20 || a >= 0x100) chip.poke({Space::kData, a}, static_cast<std::uint8_t>(random()));
  const auto io = [&](std::uint32_t address, unsigned value) {
    chip.poke({Space::kData, address}, static_cast<std::uint8_t>(value));
  };
  io(0x89, 0);
  io(0x88, 20 + random() % 200);  // OCR1A
  io(0x6f, random() % 8);         // TIMSK1
  io(0x81, 0x08 | (1 + random() % 3));
}

/// Everything else of the chip at work, in a way that the seed decides.
void switch_on_everything(Chip& chip, std::mt19937& random) {
  const auto set = [&](const char* name, unsigned value) {
    for (const IoRegister& io : chip.info().io)
      if (io.name == name) chip.poke({Space::kData, io.address}, static_cast<std::uint8_t>(value));
  };
  for (const char* name : {"OCR0A", "OCR0B", "OCR2A", "OCR2B", "OCR1BL", "DDRB", "DDRD", "PORTC",
                           "PCMSK0", "PCMSK2", "EICRA", "TIMSK0", "TIMSK2", "PCICR", "EIMSK"})
    set(name, random());
  set("TCCR0A", random() & 0xf3U);
  set("TCCR0B", (random() & 8U) | (1 + random() % 5));
  set("TCCR2A", random() & 0xf3U);
  set("TCCR2B", (random() & 8U) | (1 + random() % 7));
  set("ADMUX", 0x40 | random() % 8);
  set("ADCSRA", 0xe8 | random() % 4);  // free running, with its interrupt
  set("UBRR0L", random() % 8);
  set("UCSR0B", 0x18 | (random() & 0xe0U));
  set("SPCR", 0x50 | (random() & 0xacU));
  set("SPDR", random());
  set("TWBR", random() % 16);
  set("TWCR", 0xa5);
  set("WDTCSR", 0x40);
  set("UCSR0C", random());
  set("TWAR", 0x53);
  if (random() % 2 == 0) {
    set("CLKPR", 0x80);
    set("CLKPR", random() % 9);
  }
  REQUIRE(chip.feed("USART0", "a few bytes on their way in"));
  REQUIRE(chip.feed_frame("USART0", {static_cast<std::uint16_t>(random() & 0x1ffU), true, true}));
  REQUIRE(chip.transfer({0x29, {1, 2, 3}, 2}));
}

/// A loop of loads and stores of I/O registers, and what stores other values into them; the stack
/// pointer, the watchdog and what switches peripherals off are left alone.
void fill_with_io(Chip& chip, std::mt19937& random) {
  fill(chip, random);
  std::vector<std::uint32_t> own;
  for (const IoRegister& io : chip.info().io) {
    const bool spared = io.name.rfind("PRR", 0) == 0 || io.name.rfind("SP", 0) == 0 ||
                        io.name == "WDTCSR" || io.name == "SMCR" || io.name == "CLKPR" ||
                        io.name == "MCUCR" || io.name == "XMCRA";
    for (unsigned i = 0; i < io.bytes && !spared && io.address < 0x200; ++i)
      own.push_back(io.address + i);
  }
  std::uint32_t at = 0x2000;
  const auto put = [&](unsigned word) {
    chip.poke({Space::kCode, at}, static_cast<std::uint8_t>(word));
    chip.poke({Space::kCode, at + 1}, static_cast<std::uint8_t>(word >> 8));
    at += 2;
  };
  for (unsigned i = 0; i < 120; ++i) {
    const unsigned r = 16 + random() % 16;
    const std::uint32_t address = own[random() % own.size()];
    switch (random() % 5) {
      case 0: put(0xe000 | (random() & 0xf0fU) | (r - 16) << 4); break;  // ldi
      case 1: put(0x9403 | r << 4); break;                               // inc
      case 2:                                                            // sts
        put(0x9200 | r << 4);
        put(address);
        break;
      case 3:  // lds
        put(0x9000 | r << 4);
        put(address);
        break;
      default:
        for (unsigned nops = random() % 20; nops != 0; --nops) put(0);
    }
  }
  const std::uint32_t back = (0x2000 - (at + 2)) / 2;
  put(0xc000 | (back & 0xfffU));
  REQUIRE(chip.set_register("pc", 0x2000));
  REQUIRE(chip.set_register("sp", 0x500));
  REQUIRE(chip.set_register("sreg", random() % 2 * 0x80));
}

/// Do the gears part within so many cycles of this chip?
bool gears_part(const Chip& start, std::uint64_t cycles) {
  Chip quick = start;
  Chip precise = start;
  quick.run_for(cycles);
  while (precise.cycles() < quick.cycles())
    if (precise.step().why == RunEnd::Why::kFault && precise.cycles() < quick.cycles()) return true;
  return quick.cycles() != precise.cycles() || quick.hash() != precise.hash();
}

/// The smallest program found that still shows what `parts` shows: as few cycles as will do, from
/// as late a start, with a nop for each instruction that plays no part. Registers and what remains.
template <class Parts>
std::string shrunk(Chip start, std::uint64_t cycles, const Parts& parts) {
  for (std::uint64_t fewer = 1; fewer < cycles; ++fewer)
    if (parts(start, fewer)) cycles = fewer;
  for (Chip later = start; later.step().why == RunEnd::Why::kTimeUp;) {
    const std::uint64_t passed = later.cycles() - start.cycles();
    if (passed >= cycles || !parts(later, cycles - passed)) break;
    start = later;
    cycles -= passed;
  }
  std::vector<std::uint32_t> path;
  for (Chip chip = start; chip.cycles() < start.cycles() + cycles; chip.step())
    if (std::find(path.begin(), path.end(), chip.pc()) == path.end()) path.push_back(chip.pc());
  for (const std::uint32_t pc : path) {
    Chip without = start;
    for (std::uint32_t i = 0; i < start.instruction_at(pc).size; ++i)
      without.poke({Space::kCode, pc + i}, 0);
    if (parts(without, cycles)) start = without;
  }
  std::string out = fmt::format("{} cycles from cycle {}\n", cycles, start.cycles());
  for (unsigned i = 0; i < 32; ++i)
    out += fmt::format("r{}={:#04x}{}", i, *start.register_value("r" + std::to_string(i)),
                       i % 8 == 7 ? "\n" : " ");
  out += fmt::format("sreg={:#04x} sp={:#06x}\n", *start.register_value("sreg"),
                     *start.register_value("sp"));
  for (const std::uint32_t pc : path) {
    const Instruction i = start.instruction_at(pc);
    if (i.mnemonic != "nop") out += fmt::format("{:#06x}  {} {}\n", pc, i.mnemonic, i.operands);
  }
  return out;
}

}  // namespace

TEST_CASE("what parts two runs is shrunk to the instructions that matter") {
  std::mt19937 random(1001);
  Chip chip = *Chip::make({"ATmega328P", 16'000'000});
  fill(chip, random);
  // ldi r20, 0x5a and inc r20 on the way through random instructions that leave r20 alone.
  std::uint32_t at = 0x4000;
  for (const unsigned word : {0x0c01U, 0xe54aU, 0x2c23U, 0x9543U, 0x1c45U & ~0x40U, 0xcfffU}) {
    chip.poke({Space::kCode, at}, static_cast<std::uint8_t>(word));
    chip.poke({Space::kCode, at + 1}, static_cast<std::uint8_t>(word >> 8));
    at += 2;
  }
  REQUIRE(chip.set_register("pc", 0x4000));
  REQUIRE(chip.set_register("sp", 0x8ff));
  REQUIRE(chip.set_register("sreg", 0));
  const std::string text = shrunk(chip, 500, [](const Chip& start, std::uint64_t cycles) {
    Chip run = start;
    run.run_for(cycles);
    return *run.register_value("r20") == 0x5b;
  });
  INFO(text);
  CHECK(text.rfind("1 cycles", 0) == 0);
  CHECK(text.find("r20=0x5a") != std::string::npos);
  CHECK(text.find("\n0x4006  inc r20\n") != std::string::npos);
  CHECK(text.find("mov") == std::string::npos);
}

TEST_CASE("random programs: run freely or step by step, the same world") {
  std::uint64_t instructions = 0;
  unsigned faults = 0;
  // Those that once found something, 40 fixed programs and 20 fresh ones; with LUCID_SECONDS, fresh
  // ones until that time is over.
  const char* seconds = std::getenv("LUCID_SECONDS");
  const auto end = std::chrono::steady_clock::now() +
                   std::chrono::seconds(seconds != nullptr ? std::atoi(seconds) : 0);
  for (unsigned n = 0; n < 60 || std::chrono::steady_clock::now() < end; ++n) {
    const unsigned seed = n == 0   ? 11573877
                          : n == 1 ? 383902939
                          : n < 40 ? 1000 + n
                                   : test::fresh_seed() + n;
    INFO("seed " << seed);
    std::mt19937 random(seed);
    const char* const names[] = {"ATmega328P", "ATmega1284P", "ATmega2560"};
    Chip::Options options;
    options.name = names[n < 2 ? 0 : n % 3];
    options.translate_after = static_cast<std::uint8_t>(1 + random() % 3);
    Chip quick = *Chip::make(options);
    fill(quick, random);
    if (n % 2 != 0 && n > 1) switch_on_everything(quick, random);
    Chip precise = quick;
    for (int piece = 0; piece < 60; ++piece) {
      const Chip before = quick;
      const std::uint64_t cycles = 1 + random() % 2000;
      const auto stop = quick.run_for(cycles);
      std::string trail;
      while (precise.cycles() < quick.cycles()) {
        const auto step = precise.step();
        ++instructions;
        if (step.why == RunEnd::Why::kFault && step.fault != stop.fault) trail += step.fault + "; ";
        if (step.why == RunEnd::Why::kFault && precise.cycles() < quick.cycles()) {
          INFO("the free run passed over: " << step.fault);
          REQUIRE(false);
        }
      }
      INFO("piece " << piece << ", cycle " << quick.cycles() << ", pc " << quick.pc() << " and "
                    << precise.pc() << ", flags " << *quick.register_value("sreg") << " and "
                    << *precise.register_value("sreg"));
      if (piece % 8 == 7) {  // a snapshot, looked at and put back
        const Chip copy = quick;
        (void)quick.pins();
        quick = copy;
      }
      if (quick.cycles() != precise.cycles() || quick.hash() != precise.hash())
        FAIL("the gears part:\n" << shrunk(before, cycles, gears_part));
      if (stop.why == RunEnd::Why::kFault) {
        ++faults;
        // Somewhere else, with the same state on both sides.
        const std::uint32_t pc = random() % 0x4000 * 2;
        const std::uint64_t sp = 0x200 + random() % 0x600;
        for (Chip* chip : {&quick, &precise}) {
          REQUIRE(chip->set_register("pc", pc));
          REQUIRE(chip->set_register("sp", sp));
        }
      }
    }
  }
  WARN(instructions << " instructions compared, " << faults << " faults met");
  CHECK(instructions > 100'000);
}

TEST_CASE("a change of any register is told at its instruction, whether or not each is looked at") {
  // To compare a register of the processor is to look at each instruction.
  const unsigned first = test::fresh_seed();
  INFO("LUCID_SEED=" << first);
  std::map<std::string, unsigned> changes;
  for (unsigned n = 0; n < (test::kSanitized ? 12 : 60); ++n) {
    std::mt19937 random(first + n);
    const char* const names[] = {"ATmega328P", "ATmega1284P", "ATmega2560"};
    Chip::Options options{names[n % 3], 16'000'000};
    options.translate_after = 2;
    Chip chip = *Chip::make(options);
    fill_with_io(chip, random);
    switch_on_everything(chip, random);
    for (unsigned i = 0; i < 12; ++i) {
      const IoRegister& io = chip.info().io[random() % chip.info().io.size()];
      INFO("program " << n << ", " << io.name << " of " << io.peripheral);
      std::string told[2];
      for (const bool each : {false, true}) {
        Session session(chip);
        BreakpointSpec spec;
        spec.kind = BreakpointSpec::Kind::kChange;
        spec.place = "chip." + io.name;
        if (!session.pause_at(spec)) continue;  // nothing holds its bits
        spec.place = "chip.sreg";
        spec.condition = "1 == 2";
        if (each) REQUIRE(session.pause_at(spec));
        for (unsigned go = 0; go < 30; ++go) {
          const Pause pause = session.go_for(std::uint64_t{5'000});
          told[each] += fmt::format("{} {} {:#x}", static_cast<int>(pause.cause), pause.cycles,
                                    session.chip().pc());
          if (pause.data)
            told[each] += fmt::format(" {} -> {}", pause.data->before, pause.data->after);
          told[each] += "\n";
          if (pause.cause != Pause::Cause::kData) break;
          changes[io.peripheral] += each ? 1 : 0;
        }
        told[each] += fmt::format("{:x}", session.chip().hash());
      }
      CHECK(told[0] == told[1]);
    }
  }
  std::string all;
  for (const auto& [peripheral, count] : changes) all += fmt::format("{} {}, ", peripheral, count);
  WARN("changes compared: " << all);
  CHECK(changes.size() > 5);
}

TEST_CASE("the kiln on its bench: both gears, the same world all the time") {
  for (const char* image : {"kiln-og", "kiln-os", "bouncing-door"}) {
    auto bench = Bench::open(std::string(LUCID_KILN) + "/kiln.bench.toml");
    REQUIRE(bench);
    Chip::Options options = bench->chip;
    options.translate_after = 1;
    Chip quick = *Chip::make(options);
    options.translate_after = 0;
    Chip precise = *Chip::make(options);
    const auto file = Image::open(std::string(LUCID_KILN) + "/images/" + image + ".elf");
    REQUIRE(file);
    std::mt19937 random(7);
    for (Chip* chip : {&quick, &precise}) {
      REQUIRE(chip->load(*file));
      REQUIRE(chip->act("door", "turn", "on"));
      REQUIRE(chip->feed("USART0", "G\n"));
    }
    for (int piece = 0; piece < 300; ++piece) {
      const std::uint64_t cycles = 1 + random() % 300'000;
      quick.run_for(cycles);
      precise.run_for(cycles);
      REQUIRE(quick.cycles() == precise.cycles());
      REQUIRE(quick.hash() == precise.hash());
    }
  }
}

TEST_CASE("an interrupt at every cycle of a run: both gears enter it at the same instruction") {
  const std::string elf = test::assembled("every_cycle", R"(
        .global start
        jmp start
        .org 11*4
        in r2, IO(SREG)
        push r2
        inc r20
        sts 0x0150, r20
        pop r2
        out IO(SREG), r2
        reti
start:  ldi r26, 0x00
        ldi r27, 0x02
        sei
again:  ldi r16, 5
        ldi r17, 3
loop:   add r18, r16
        adc r19, r17
        st X, r18
        ld r21, X
        mul r18, r19
        sbrc r18, 3
        subi r19, 7
        cpc r18, r19
        rcall leaf
        dec r16
        brne loop
        rjmp again
leaf:   push r18
        lsr r18
        ror r19
        pop r18
        ret
)");
  const auto file = Image::open(elf);
  REQUIRE(file);
  Chip::Options options;
  options.translate_after = 1;
  Chip quick = *Chip::make(options);
  options.translate_after = 0;
  Chip precise = *Chip::make(options);
  const auto set = [](Chip& chip, std::uint32_t address, unsigned value) {
    chip.poke({Space::kData, address}, static_cast<std::uint8_t>(value));
  };
  for (Chip* chip : {&quick, &precise}) REQUIRE(chip->load(*file));
  for (unsigned at = 1; at < 400; ++at) {
    INFO("compare match after " << at << " counts");
    for (Chip* chip : {&quick, &precise}) {
      chip->reset();
      set(*chip, 0x89, at >> 8);
      set(*chip, 0x88, at);
      set(*chip, 0x6f, 2);
      set(*chip, 0x81, 0x09);
      chip->run_for(2000);
    }
    REQUIRE(quick.hash() == precise.hash());
    REQUIRE(*quick.register_value("r20") == *precise.register_value("r20"));
  }
  CHECK(*quick.register_value("r20") > 0);
}
