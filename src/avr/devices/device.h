// SPDX-License-Identifier: MIT
// Device tables: what tells one chip from another, as data.
//
// A Device is what the toolchain's device headers say (devices_*.def): memories, registers and
// their bits, vectors. A Wiring is what they do not say: which pin carries which function. It is
// shared by a family, written by hand from the data sheets' chapters "Pin Configurations" and
// "Alternate Port Functions", and a part has peripherals only if it has one.
#ifndef LUCID_AVR_DEVICES_DEVICE_H
#define LUCID_AVR_DEVICES_DEVICE_H

#include <array>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <string_view>
#include <vector>

#include "lucid/chip.h"

namespace lucid::avr {

struct RegisterSet {
  const char *name, *registers, *vectors;
};

/// Pins are written as letter and bit, `B1`; `-` is none; lists are separated by blanks.
struct TimerPins {
  std::uint8_t number;
  std::uint8_t bits;
  std::string_view compare;  ///< OCnA OCnB OCnC
  std::string_view capture;  ///< ICPn
  std::string_view clock;    ///< Tn
};
struct UsartPins {
  std::uint8_t number;
  std::string_view txd, rxd, xck;
};

/// A view of a constant table.
template <class T>
class Rows {
 public:
  constexpr Rows() = default;
  template <std::size_t N>
  constexpr Rows(const T (&rows)[N]) : begin_(rows), size_(N) {}  // NOLINT: a table is a view
  [[nodiscard]] constexpr const T* begin() const { return begin_; }
  [[nodiscard]] constexpr const T* end() const { return begin_ + size_; }
  [[nodiscard]] constexpr std::size_t size() const { return size_; }
  constexpr const T& operator[](std::size_t i) const { return begin_[i]; }

 private:
  const T* begin_ = nullptr;
  std::size_t size_ = 0;
};

/// What an ADC channel of a family measures besides pins.
enum class AdcKind : std::uint8_t { kSmall, kDifferential, kLarge };

struct Wiring {
  std::string_view parts;  ///< names
  Rows<TimerPins> timers;
  Rows<UsartPins> usarts;
  std::string_view interrupts;   ///< INT0 INT1 …
  std::string_view pin_changes;  ///< PCINT0 PCINT1 …
  std::string_view adc;          ///< ADC0 ADC1 …
  AdcKind adc_kind;
  std::string_view spi;         ///< SS MOSI MISO SCK
  std::string_view twi;         ///< SDA SCL
  std::string_view comparator;  ///< AIN0 AIN1
  std::uint8_t boot_fuse;      ///< 1: BOOTSZ and BOOTRST are in the high fuse, 2: extended; 0: none
  std::uint16_t boot_words;    ///< the largest boot section, BOOTSZ = 0; each next is half of it
  std::string_view jtag = {};  ///< TCK TMS TDO TDI
};

struct Device {
  std::string_view name;
  std::string_view core;
  std::string_view set;  ///< of registers and vectors
  std::uint32_t flash;   ///< bytes
  std::uint32_t ram_begin, ram_end;
  std::uint32_t eeprom;
  std::uint32_t flash_page;
  std::uint8_t vector_words;
  std::array<std::uint8_t, 3> fuses;  ///< low, high, extended, as shipped
  std::array<std::uint8_t, 3> signature;
};

/// All parts: those with peripherals, then the others, then the bare cores.
const std::vector<Device>& devices();
const Device* find_device(std::string_view name);
const Wiring* wiring_of(const Device& device);
/// The pins of timer 0 of a part without a wiring; null if it is not known.
const TimerPins* lone_timer_of(const Device& device);
/// What there is beside core and memories: `peripherals`, `ports, timer 0`, `ports only` or `bare
/// core`.
std::string remark_on(const Device& device);

/// The registers of a part, by address, and its vectors, by number.
std::vector<IoRegister> registers_of(const Device& device);
/// Words for the values of the fields that peripherals here have.
void add_meanings(std::vector<IoRegister>& registers);
std::vector<InterruptVector> vectors_of(const Device& device);

/// Words of a list, in order.
std::vector<std::string_view> words_of(std::string_view list);

}  // namespace lucid::avr

#endif  // LUCID_AVR_DEVICES_DEVICE_H
