// SPDX-License-Identifier: MIT
// Parts on the pins of a chip, of any family. A family gives each of them a moment in its queue of
// events and tells it what happens; what they do comes back through Terminals.
#ifndef LUCID_MACHINE_OUTSIDE_H
#define LUCID_MACHINE_OUTSIDE_H

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/part.h"

namespace lucid::machine {

/// What something outside does to a pin.
struct OutsideLevel {
  enum : std::uint8_t { kOpen, kLow, kHigh, kVoltage } kind = kOpen;
  std::int32_t microvolts = 0;

  static OutsideLevel of(std::optional<bool> level) {
    OutsideLevel out;
    if (level) out.kind = *level ? kHigh : kLow;
    return out;
  }
  template <class Visit>
  void fields(Visit& visit) const {
    visit(kind, static_cast<std::uint32_t>(microvolts));
  }
};

/// What the parts are at a moment: in a chip's world.
struct OutsideState {
  std::vector<std::vector<std::int64_t>> numbers;  ///< by part; the last one: it is off
  std::vector<std::vector<OutsideLevel>> levels;   ///< by part and its pin: what it does there

  template <class Visit>
  void fields(Visit& visit) const {
    for (const auto& part : numbers)
      for (const std::int64_t number : part) visit(number);
    for (const auto& part : levels)
      for (const OutsideLevel& level : part) level.fields(visit);
  }
};

/// A chip as what is outside reaches it, at one moment. Pins by the family's numbers.
class Terminals {
 public:
  virtual ~Terminals() = default;
  virtual OutsideState& outside() = 0;
  [[nodiscard]] virtual std::uint64_t tick() const = 0;
  [[nodiscard]] virtual std::uint64_t clock_hz() const = 0;
  [[nodiscard]] virtual std::int32_t supply() const = 0;  ///< microvolts
  virtual void set_supply(std::int32_t microvolts) = 0;
  [[nodiscard]] virtual bool level(unsigned pin) const = 0;
  /// What a person does to a pin.
  virtual OutsideLevel& by_hand(unsigned pin) = 0;
  /// All that is outside does this to a pin now; `fought`: they do not agree.
  virtual void settle(unsigned pin, const OutsideLevel& all, bool fought) = 0;
  virtual void reset() = 0;  ///< by the reset pin
  // Nothing happens without such a port.
  virtual void send(const std::string& port, const std::string& bytes) = 0;
  virtual void send_frame(const std::string& port, const SerialFrame& frame) = 0;
  virtual void transfer(const TwoWireTransfer& transfer) = 0;
  /// Outside::on_time is due for a part at this tick; nullopt: it is not.
  virtual void wake(unsigned part, std::optional<std::uint64_t> tick) = 0;
  /// Somebody wants to be told of what is measured of parts, and is.
  [[nodiscard]] virtual bool wants_quantities() const { return false; }
  virtual void measured(unsigned /*part*/, unsigned /*quantity*/, std::int32_t /*value*/) {}
  virtual void note(const std::string& text) = 0;
  virtual void fail(const std::string& why) = 0;  ///< ends the run
};

/// The parts of one chip: constant, shared by all its copies.
class Outside {
 public:
  /// Pins by the family's numbers, in the order of Part::pins(). Error: kOutOfRange for two parts
  /// of one name.
  Result<void> add(std::shared_ptr<const Part> part, std::vector<unsigned> pins);
  [[nodiscard]] std::size_t count() const { return parts_.size(); }
  [[nodiscard]] const Part& part(unsigned index) const { return *parts_[index].part; }
  [[nodiscard]] const std::vector<unsigned>& pins(unsigned index) const {
    return parts_[index].pins;
  }
  [[nodiscard]] bool has(const std::string& name) const;

  /// At power-on, before all else: no part has done anything.
  void clear(OutsideState& state) const;
  void start(Terminals& chip, unsigned part) const;
  /// Error: kNotFound without such a part; those of Part::act.
  Result<void> act(Terminals& chip, const std::string& part, const std::string& action,
                   const std::string& value) const;
  [[nodiscard]] std::vector<PartState> states(Terminals& chip) const;
  /// The pin with the family's number has changed; all parts are told or one.
  void on_pin(Terminals& chip, unsigned part, unsigned pin, bool level) const;
  void on_byte(Terminals& chip, unsigned part, const std::string& port, std::uint8_t byte) const;
  void on_time(Terminals& chip, unsigned part) const;
  // The two-wire bus; see Part.
  [[nodiscard]] bool on_address(Terminals& chip, unsigned part, std::uint8_t address,
                                bool reading) const;
  [[nodiscard]] bool on_bus_byte(Terminals& chip, unsigned part, std::uint8_t byte) const;
  [[nodiscard]] std::uint8_t bus_byte(Terminals& chip, unsigned part) const;
  void on_stop(Terminals& chip, unsigned part) const;
  /// What all that is outside does to a pin has changed: a person's hand goes before the parts, a
  /// voltage before a level, low before high.
  void settle(Terminals& chip, unsigned pin) const;

 private:
  class View;
  struct Wired {
    std::shared_ptr<const Part> part;
    std::vector<unsigned> pins;
  };
  template <class Call>
  void ask(Terminals& chip, unsigned part, Call call) const;
  std::vector<Wired> parts_;
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_OUTSIDE_H
