// SPDX-License-Identifier: MIT
// A chip to which a test does single accesses, at known cycles.
#ifndef LUCID_TESTS_BENCH_H
#define LUCID_TESTS_BENCH_H

#include <catch2/catch.hpp>

#include "lucid/chip.h"
#include "tools.h"

namespace test {

using namespace lucid;

/// Writes little programs straight into flash; r16 carries values.
class Bench {
 public:
  explicit Bench(std::uint64_t hz = 16'000'000, const std::string& name = "ATmega328P")
      : Bench(Chip::Options{name, hz}) {}
  Bench(const Bench&) = delete;
  Bench& operator=(const Bench&) = delete;
  ~Bench() { record(chip_.hash()); }
  explicit Bench(const Chip::Options& options) : chip_(*Chip::make(options)) { nops(); }

  /// `ldi r16, value; sts address, r16`: the store's access is in its last cycle.
  void write(std::uint32_t address, unsigned value) {
    word(0xe000 | (value & 0xf) | (value & 0xf0) << 4);
    word(0x9300);
    word(address);
    run(2);
  }
  /// `lds r17, address`: two cycles.
  unsigned read(std::uint32_t address) {
    word(0x9110);
    word(address);
    run(1);
    return get(17);
  }
  /// Single-cycle `out`/`in` for I/O below 0x60.
  void out(std::uint32_t address, unsigned value) {
    set(16, value);
    const unsigned a = address - 0x20;
    word(0xb900 | (a & 0xf) | (a & 0x30) << 5);
    run(1);
  }
  unsigned in(std::uint32_t address) {
    const unsigned a = address - 0x20;
    word(0xb110 | (a & 0xf) | (a & 0x30) << 5);
    run(1);
    return get(17);
  }
  void sbi(std::uint32_t address, unsigned bit) {
    word(0x9a00 | (address - 0x20) << 3 | bit);
    run(1);
  }
  void nop(std::uint64_t cycles = 1) {
    while (cycles-- > 0) {
      word(0);
      run(1);
    }
  }
  /// Passes time without touching anything: a jump to itself, two cycles each.
  void pass(std::uint64_t cycles) { chip_.run_for(cycles); }
  void write16(std::uint32_t address, unsigned value) {
    write(address + 1, value >> 8);
    write(address, value & 0xff);
  }
  unsigned read16(std::uint32_t address) {
    const unsigned low = read(address);
    return low | read(address + 1) << 8;
  }
  unsigned get(std::uint32_t address) { return *chip_.peek({Space::kData, address}); }
  void set(std::uint32_t address, unsigned value) {
    chip_.poke({Space::kData, address}, static_cast<std::uint8_t>(value));
  }
  PinState pin(const std::string& name) {
    for (const PinState& state : chip_.pins())
      if (state.name == name) return state;
    FAIL(name);
    return {};
  }
  Chip& chip() { return chip_; }

 private:
  void nops() {
    for (std::uint32_t a = 0; a < 0x8000; a += 2) {  // rjmp to itself everywhere
      chip_.poke({Space::kCode, a}, 0xff);
      chip_.poke({Space::kCode, a + 1}, 0xcf);
    }
  }
  void word(unsigned value) {
    chip_.poke({Space::kCode, at_}, static_cast<std::uint8_t>(value));
    chip_.poke({Space::kCode, at_ + 1}, static_cast<std::uint8_t>(value >> 8));
    at_ += 2;
  }
  void run(unsigned instructions) {
    // From the start of what was just written; longer programs begin again at 0.
    for (unsigned i = 0; i < instructions; ++i) chip_.step();
    if (at_ > 0x7f00) {
      nops();
      at_ = 0;
      REQUIRE(chip_.set_register("pc", 0));
    }
  }
  Chip chip_;
  std::uint32_t at_ = 0;
};

}  // namespace test

#endif  // LUCID_TESTS_BENCH_H
