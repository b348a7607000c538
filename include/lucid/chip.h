// SPDX-License-Identifier: MIT
// Chip: one microcontroller with its memories, peripherals, pins and clock.
//
// A Chip is a value: copying it takes a snapshot, assigning the copy back goes back in time, and
// two chips with equal hashes have the same future. It knows no files, sockets, wall clock or
// source lines: for those see <lucid/session.h>, which debugs a program on a Chip.
//
//   auto chip = lucid::Chip::make({"ATmega328P", 16'000'000});
//   auto image = lucid::Image::parse(bytes, "kiln.elf");
//   chip->load(*image);
//   chip->run_for(16'000);           // one millisecond at 16 MHz
//   chip->register_value("r24");
//
// A Chip belongs to one thread at a time; two chips share nothing that changes.
#ifndef LUCID_CHIP_H
#define LUCID_CHIP_H

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/address.h"
#include "lucid/error.h"
#include "lucid/image.h"
#include "lucid/instruction.h"
#include "lucid/serial.h"
#include "lucid/time.h"

namespace lucid {
namespace machine {
class Machine;
}
class Part;

/// A part of a memory space: `[begin, end)` in bytes.
struct MemoryArea {
  std::string name;  ///< registers, io, ram, flash, eeprom, fuses, lock, signature
  Space space = Space::kCode;
  std::uint32_t begin = 0;
  std::uint32_t end = 0;
};

/// A named run of bits in an I/O register.
struct IoField {
  std::string name;
  std::uint8_t lowest = 0;                 ///< bit number
  std::uint8_t width = 1;                  ///< bits
  std::vector<std::string> meanings = {};  ///< of each value, in words; empty: none is known
};

/// An I/O register by the data sheet's name.
struct IoRegister {
  std::string name;
  std::string peripheral;     ///< PORTB, TIMER1, USART0, ...
  std::uint32_t address = 0;  ///< in data space, of its low byte
  std::uint8_t bytes = 1;     ///< 2 for a pair such as TCNT1
  bool modelled = false;      ///< false: it behaves as memory
  std::vector<IoField> fields;
};

/// An interrupt vector.
struct InterruptVector {
  std::uint8_t number = 0;  ///< 0 is reset
  std::string name;
  bool modelled = false;      ///< false: it never fires
  std::uint32_t address = 0;  ///< in code space, where the program has its vectors at its start
};

/// What one register of the processor is called.
struct RegisterName {
  std::string name;
  std::uint8_t bits = 8;
  int dwarf = -1;  ///< its number in DWARF, -1 if it has none
};

/// The fixed facts of a chip.
struct ChipInfo {
  std::string name;
  std::string core;  ///< the toolchain's family: avr5
  std::uint64_t clock_hz = 0;
  std::vector<MemoryArea> memories;
  std::vector<IoRegister> io;            ///< by address
  std::vector<InterruptVector> vectors;  ///< by number
  std::vector<std::string> serial_ports;
  std::vector<std::string> buses = {};    ///< over which it sends and receives bytes, too: SPI, TWI
  std::vector<std::string> moments = {};  ///< what else of it can be traced: `conversion`
};

/// What a pin is and does at this moment.
struct PinState {
  std::string name;      ///< PB5
  bool output = false;   ///< the chip drives it
  bool level = false;    ///< what the firmware would read once it is through the synchroniser
  bool pull_up = false;  ///< the chip's pull-up is on
  bool pulled_up_outside = false;  ///< by a resistor on the board, or another chip
  bool driven = false;             ///< something outside drives it
  bool driven_high = false;
  bool floating = false;    ///< nobody determines the level: it reads as low
  bool contention = false;  ///< both drive it, to different levels: the chip wins in this model
  std::string taken_by;     ///< the peripherals that use it, if any
  std::optional<std::int32_t> microvolts;  ///< applied from outside, if it is a voltage
};

/// A part outside the chip, as it is at this moment.
struct PartState {
  std::string name;
  std::vector<std::string> pins;
  std::string state;    ///< in a few words
  bool failed = false;  ///< it has not met what it waited for
  struct Quantity {
    std::string name, unit;
    std::int32_t thousandths = 0;
  };
  std::vector<Quantity> quantities = {};  ///< Part::quantities()
  struct Action {
    std::string action, value;
    bool any_value = false;
  };
  std::vector<Action> actions = {};  ///< Part::actions()
};

/// Bytes that have left a serial port.
struct SerialText {
  std::string port;  ///< USART0
  std::string bytes;
};

/// Why `run_for` came back early or on time.
struct RunEnd {
  enum class Why : std::uint8_t { kTimeUp, kFault, kBreakInstruction } why = Why::kTimeUp;
  std::string fault;  ///< in words, for kFault
};

class LUCID_API Chip {
 public:
  struct Companion;
  struct Options {
    std::string name = "ATmega328P";
    std::uint64_t clock_hz = 16'000'000;  ///< oscillator, 1 Hz to 1 GHz
    std::int32_t supply = 5'000'000;      ///< microvolts, 1.8 V to 5.5 V
    std::optional<std::array<std::uint8_t, 3>> fuses =
        {};  ///< low, high, extended; else as shipped, undivided, no JTAG
    std::vector<std::shared_ptr<const Part>> parts = {};  ///< on its pins
    /// Bytes of memory on the external memory interface, from the end of RAM on; the part must have
    /// it.
    std::uint32_t external_ram = 0;
    /// Code that has been reached so often is translated to machine code of this computer, 1 to 255
    /// times; 0: never. It changes nothing but the time a run takes.
    std::uint8_t translate_after = 40;
    /// Further chips with firmware of their own, which run along from power-on, and what joins
    /// them: each wire a list of pins, those of a companion with its name, `panel.PD0`. A change of
    /// a pin is seen by the others at its time, from the first tick of their clock on.
    std::vector<Companion> companions = {};
    std::vector<std::vector<std::string>> wires = {};
    /// How far they run ahead at most before they are asked for again; 0 picoseconds: as it suits.
    /// It changes nothing but the time a run takes.
    Picoseconds companions_ahead = {};
  };
  struct Companion {
    std::string name;
    Options options;  ///< without companions of its own
    Image image;
  };
  struct Summary {
    std::string name;
    std::string core;
    std::uint32_t flash = 0, ram = 0, eeprom = 0;  ///< bytes
    std::string remark;                            ///< what is modelled
  };

  /// A chip as it is after power-on reset, its flash erased. Errors: kNotFound with near names,
  /// also for a pin of a part or a wire; kOutOfRange; kUnsupported for external memory on a part
  /// without it; kBadImage for a companion's image.
  static Result<Chip> make(const Options& options);
  /// Every chip that `make` knows, by name.
  static std::vector<Summary> catalogue();
  /// A chip around another implementation; takes ownership. REQUIRES: machine is not null.
  explicit Chip(std::unique_ptr<machine::Machine> machine);

  Chip(const Chip& other);             ///< a snapshot
  Chip& operator=(const Chip& other);  ///< back to that snapshot
  Chip(Chip&&) noexcept;
  Chip& operator=(Chip&&) noexcept;
  ~Chip();

  /// Erases flash, writes the image and resets. EEPROM and fuses change only where the image has
  /// bytes for them. Error: kOutOfRange if the image does not fit; then nothing has changed.
  Result<void> load(const Image& image);
  /// As by the reset pin: memories keep their contents.
  void reset();

  [[nodiscard]] const ChipInfo& info() const;

  // Running -----------------------------------------------------------------------------------

  /// Runs until at least `cycles` CPU cycles have passed; the instruction that crosses the end is
  /// completed, and events due by then have fired.
  RunEnd run_for(std::uint64_t cycles);
  /// The same with time: Info::clock_hz is the oscillator's, which the chip may divide.
  RunEnd run_for(Picoseconds span);
  /// One instruction, or the entry of a pending interrupt, or the sleep up to the next event.
  RunEnd step();

  // Looking, without any effect -----------------------------------------------------------------

  [[nodiscard]] std::uint64_t cycles() const;  ///< CPU cycles since power-on, asleep or not
  [[nodiscard]] Picoseconds time() const;      ///< since power-on
  [[nodiscard]] std::uint32_t pc() const;      ///< byte address of the next instruction
  [[nodiscard]] std::uint32_t sp() const;
  /// By name (`r24`, `sp`, `pc`, `sreg`). Error: kNotFound.
  [[nodiscard]] Result<std::uint64_t> register_value(const std::string& name) const;
  /// The byte an observer sees; nullopt where there is no memory.
  [[nodiscard]] std::optional<std::uint8_t> peek(Address address) const;
  /// The number that the toolchain's linker and ELF files give to an address: they have all
  /// memories in one space. For the AVR flash is at 0, data at 0x800000, EEPROM at 0x810000.
  [[nodiscard]] std::uint32_t linker_address(Address address) const;
  /// And back.
  [[nodiscard]] Address placed(std::uint32_t linker_address) const;
  [[nodiscard]] Instruction instruction_at(std::uint32_t address) const;
  /// The bytes of an instruction at an address, from its text as instruction_at() gives it; numbers
  /// and blanks may be written otherwise. Empty: there is none.
  [[nodiscard]] std::vector<std::uint8_t> encode(const std::string& text,
                                                 std::uint32_t address) const;
  [[nodiscard]] Explanation explain(std::uint32_t address) const;
  [[nodiscard]] std::vector<PinState> pins() const;
  [[nodiscard]] std::vector<std::string> companions() const;  ///< by name
  /// A copy of a companion as it is now. Error: kNotFound.
  [[nodiscard]] Result<Chip> companion(const std::string& name) const;
  /// Equal worlds have equal hashes, on every machine and build. What a debugger keeps beside the
  /// world (breakpoints, deepest stack) is not in it.
  [[nodiscard]] std::uint64_t hash() const;
  friend LUCID_API bool operator==(const Chip& a, const Chip& b);

  // Changing ------------------------------------------------------------------------------------

  Result<void> set_register(const std::string& name, std::uint64_t value);
  /// A byte comes to hold this value. What rests on it follows (pins, a running timer, an enabled
  /// interrupt); nothing is written: nothing is sent, started, cleared by a one or opened by a
  /// sequence. Of UDRn and SPDR it is what the next read gives. False where nothing holds it.
  bool poke(Address address, std::uint8_t value);
  /// The same as an instruction of the firmware would, with all that a write does.
  bool store(Address address, std::uint8_t value);
  /// From outside: true is high, false low, nullopt lets go. Error: kNotFound.
  Result<void> drive(const std::string& pin, std::optional<bool> level);
  /// From outside: an analog input sees this voltage, a digital one high from 0.6 of the supply up
  /// and low from 0.3 down; kept until the pin is driven otherwise. Rounded to microvolts. Errors:
  /// kNotFound; kOutOfRange outside -0.5 V to 0.5 V above the supply. Pin VCC is the supply itself,
  /// 0 V to 5.5 V: with the brown-out detector on, by its fuses, a low one holds the chip in reset.
  Result<void> apply_voltage(const std::string& pin, double volts);
  /// What a person does to a part: `press`, `release`, or `turn` with a value. Errors: kNotFound;
  /// kUsage if nobody can do that to it.
  Result<void> act(const std::string& part, const std::string& action,
                   const std::string& value = {});
  [[nodiscard]] std::vector<PartState> parts() const;
  /// Queues bytes that arrive at a serial port back to back, at the port's own rate. Error:
  /// kNotFound.
  Result<void> feed(const std::string& port, const std::string& bytes);
  /// Queues one frame behind them. Error: kNotFound.
  Result<void> feed_frame(const std::string& port, const SerialFrame& frame);
  /// Queues a transfer by a controller outside, at 100 kHz, begun as soon as the bus is free. What
  /// it reads comes out of take_serial() as bytes of port `TWI`. Error: kNotFound.
  Result<void> transfer(const TwoWireTransfer& transfer);
  /// Bytes the firmware has sent since the last call, by all ports in the order they left.
  std::string take_serial_output();
  /// The same, each run of bytes with its port.
  std::vector<SerialText> take_serial();
  /// Notes since the last call: what was touched that is not modelled, or undefined by the manual.
  std::vector<std::string> take_notes();

  /// For the layers above; not part of the public face.
  [[nodiscard]] machine::Machine& machine();
  [[nodiscard]] const machine::Machine& machine() const;

 private:
  std::unique_ptr<machine::Machine> machine_;
};

}  // namespace lucid

#endif  // LUCID_CHIP_H
