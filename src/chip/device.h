// SPDX-License-Identifier: MIT
// Device tables: what tells one chip from another, as data.
#ifndef LUCID_CHIP_DEVICE_H
#define LUCID_CHIP_DEVICE_H

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>
#include <vector>

namespace lucid::chip {

struct RegisterRow {
  std::uint16_t address;
  std::string_view name;
  std::uint8_t bytes;
  std::string_view peripheral;
  std::string_view fields;
};
struct VectorRow {
  std::uint8_t number;
  std::string_view name;
};
struct PortRow {
  char letter;
  std::uint16_t pin;
  std::uint8_t mask;
};
struct TimerRow {
  std::uint8_t number;
  std::uint16_t tccra, timsk, tifr;
  std::uint8_t first_vector;
};
struct UsartRow {
  std::uint8_t number;
  std::uint16_t ucsra;
  std::uint8_t first_vector;
  char port;
  std::uint8_t txd_bit, rxd_bit;
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

struct DeviceRow {
  std::string_view name;
  std::string_view core;
  std::uint32_t flash;
  std::uint32_t ram_begin, ram_end;
  std::uint32_t eeprom;
  std::uint32_t flash_page;
  std::array<std::uint8_t, 3> fuses;  ///< low, high, extended, as shipped
  std::array<std::uint8_t, 3> signature;
  std::uint8_t vector_words;
  std::array<std::uint16_t, 4> boot_words;
  Rows<RegisterRow> registers;
  Rows<VectorRow> vectors;
  Rows<PortRow> ports;
  Rows<TimerRow> timers;
  Rows<UsartRow> usarts;
  Rows<std::uint16_t> plain;
  std::uint8_t eeprom_vector;
  std::uint16_t eecr;
  std::string_view remark;
};

const DeviceRow& atmega328p();

/// All devices, chips first, then the bare cores.
const std::vector<DeviceRow>& devices();
const DeviceRow* find_device(std::string_view name);

}  // namespace lucid::chip

#endif  // LUCID_CHIP_DEVICE_H
