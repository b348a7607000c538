// SPDX-License-Identifier: MIT
// Part: something attached to a chip's pins: a button, a lamp, a sensor. docs/parts.md shows how to
// write one; those that come along are made from a bench file (<lucid/bench.h>).
//
// A Part is constant: what changes are whole numbers that the chip keeps for it, so that copies of
// the chip hold copies of its parts, and equal hashes mean equal parts, too.
#ifndef LUCID_PART_H
#define LUCID_PART_H

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lucid/error.h"
#include "lucid/serial.h"

namespace lucid {

/// What a part can do at one moment. Pins are given by their place in Part::pins().
class LUCID_API Wires {
 public:
  virtual ~Wires();
  [[nodiscard]] virtual std::uint64_t now() const = 0;       ///< oscillator ticks since power-on
  [[nodiscard]] virtual std::uint64_t clock_hz() const = 0;  ///< ticks a second
  [[nodiscard]] virtual std::int32_t supply() const = 0;     ///< microvolts
  /// The level on a wire now.
  [[nodiscard]] virtual bool level(unsigned pin) const = 0;
  /// The part drives a wire; nullopt lets go of it.
  virtual void drive(unsigned pin, std::optional<bool> level) = 0;
  /// The same with a voltage in microvolts; clamped to what a pin bears.
  virtual void apply(unsigned pin, std::int32_t microvolts) = 0;
  /// The reset pin goes low for a moment.
  virtual void reset() = 0;
  /// The chip's supply changes, in microvolts, 0 to 5.5 V.
  virtual void set_supply(std::int32_t microvolts) = 0;
  /// Bytes arrive at a serial port, back to back. Nothing happens if there is no such port.
  virtual void send(const std::string& port, const std::string& bytes) = 0;
  /// One frame, and a transfer by a controller outside; see Chip. Nothing happens if the chip has
  /// no such port or no two-wire interface.
  virtual void send_frame(const std::string& port, const SerialFrame& frame) = 0;
  virtual void transfer(const TwoWireTransfer& transfer) = 0;
  /// What a person does to another part of the same chip; see Part::act. A refusal is also noted.
  virtual Result<void> act(const std::string& part, const std::string& action,
                           const std::string& value) = 0;
  /// Something that a person should know; said once.
  virtual void note(const std::string& text) = 0;
  /// Part::on_time is called at this tick, once. A later call replaces an earlier one.
  virtual void wake_at(std::uint64_t tick) = 0;
  /// The part's own numbers, Part::numbers() of them, zero at power-on.
  virtual std::int64_t& number(unsigned index) = 0;

  /// Ticks in so many microseconds, rounded up.
  [[nodiscard]] std::uint64_t ticks(std::uint64_t microseconds) const;
};

class LUCID_API Part {
 public:
  explicit Part(std::string name) : name_(std::move(name)) {}
  Part(const Part&) = delete;
  Part& operator=(const Part&) = delete;
  virtual ~Part();

  [[nodiscard]] const std::string& name() const { return name_; }
  /// The pins it is wired to (`PD2`). All calls are told of changes on them.
  [[nodiscard]] virtual std::vector<std::string> pins() const = 0;
  /// A serial port whose transmit pin it joins to the receive pin, as a wire does; empty: none.
  [[nodiscard]] virtual std::string joins() const { return {}; }
  [[nodiscard]] virtual unsigned numbers() const { return 0; }
  /// What it drives goes before all other parts, as what a person drives does.
  [[nodiscard]] virtual bool is_a_hand() const { return false; }
  virtual void start(Wires& /*wires*/) const {}  ///< at power-on
  virtual void on_pin(Wires& /*wires*/, unsigned /*pin*/, bool /*level*/) const {}
  virtual void on_time(Wires& /*wires*/) const {}
  /// A byte has left a serial port (`USART0`).
  virtual void on_byte(Wires& /*wires*/, const std::string& /*port*/, std::uint8_t /*byte*/) const {
  }
  // On the two-wire bus, byte by byte, for a part whose pins() are the chip's SDA and SCL. A device
  // that acknowledges its address is asked until the next START or STOP.
  virtual bool on_address(Wires& /*wires*/, std::uint8_t /*address*/, bool /*reading*/) const {
    return false;
  }
  /// The master has sent a byte; true acknowledges it.
  virtual bool on_bus_byte(Wires& /*wires*/, std::uint8_t /*byte*/) const { return false; }
  /// The master begins to read a byte.
  virtual std::uint8_t bus_byte(Wires& /*wires*/) const { return 0xff; }
  virtual void on_stop(Wires& /*wires*/) const {}

  /// What a person does to it: `press`, `release`, or `turn` with a value. Error: kUsage.
  virtual Result<void> act(Wires& wires, const std::string& action, const std::string& value) const;
  /// What a person can do to it, constant: `press`, `turn on`; `turn 40%` with an example of a
  /// value of one's own.
  struct Action {
    std::string action;      ///< press, release, turn
    std::string value = {};  ///< of turn
    bool any_value = false;  ///< that is an example
  };
  [[nodiscard]] virtual std::vector<Action> actions() const { return {}; }
  /// How it is at this moment, in a few words.
  [[nodiscard]] virtual std::string describe(Wires& wires) const = 0;
  /// What can be measured of it, constant. Values are in thousandths of the unit.
  struct Quantity {
    std::string name;  ///< temperature
    std::string unit;  ///< °C
  };
  [[nodiscard]] virtual std::vector<Quantity> quantities() const { return {}; }
  [[nodiscard]] virtual std::int32_t measure(Wires& /*wires*/, unsigned /*quantity*/) const {
    return 0;
  }
  /// Has it not met what it waited for?
  [[nodiscard]] virtual bool failed(Wires& /*wires*/) const { return false; }

 private:
  std::string name_;
};

}  // namespace lucid

#endif  // LUCID_PART_H
