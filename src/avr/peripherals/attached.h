// SPDX-License-Identifier: MIT
// A part on the chip's pins, as the chip sees it: one more peripheral, with one event. What the
// part does goes through AvrTerminals.
#ifndef LUCID_AVR_PERIPHERALS_ATTACHED_H
#define LUCID_AVR_PERIPHERALS_ATTACHED_H

#include <memory>

#include "avr/peripherals/usart.h"
#include "machine/outside.h"

namespace lucid::avr {

class TwoWireBus;

/// What of a chip can be reached from outside: constant.
struct Reach {
  machine::Outside outside;
  u64 clock_hz = 0;
  const std::vector<std::unique_ptr<Port>>& ports;
  const std::vector<std::unique_ptr<Usart>>& usarts;
  const Adc* adc = nullptr;
  const TwoWireBus* two_wire = nullptr;
  std::vector<unsigned> slots = {};  ///< by part
};

/// At a cycle, which may have begun behind the tick at which something happens.
class AvrTerminals final : public machine::Terminals {
 public:
  AvrTerminals(const Reach& reach, const Bus& bus, u64 cycle, u64 tick = kNever)
      : reach_(reach),
        bus_(bus),
        cycle_(cycle),
        tick_(tick == kNever ? bus.world.tick_at(cycle) : tick) {}

  machine::OutsideState& outside() override { return bus_.world.outside; }
  [[nodiscard]] u64 tick() const override { return tick_; }
  [[nodiscard]] u64 clock_hz() const override { return reach_.clock_hz; }
  [[nodiscard]] std::int32_t supply() const override { return bus_.world.supply; }
  void set_supply(std::int32_t microvolts) override;
  [[nodiscard]] bool level(unsigned pin) const override;
  machine::OutsideLevel& by_hand(unsigned pin) override;
  void settle(unsigned pin, const machine::OutsideLevel& all, bool fought) override;
  void reset() override;
  void send(const std::string& port, const std::string& bytes) override;
  void send_frame(const std::string& port, const SerialFrame& frame) override;
  void transfer(const TwoWireTransfer& transfer) override;
  void wake(unsigned part, std::optional<std::uint64_t> tick) override;
  [[nodiscard]] bool wants_quantities() const override {
    return bus_.listens(machine::EventKind::kQuantity);
  }
  void measured(unsigned part, unsigned quantity, std::int32_t value) override {
    bus_.record(machine::EventKind::kQuantity, 256 * part + quantity, static_cast<u32>(value),
                cycle_);
  }
  void note(const std::string& text) override { bus_.note(text); }
  void fail(const std::string& why) override { bus_.fail(why); }

 private:
  [[nodiscard]] const Port& port(unsigned pin) const { return *reach_.ports[pin / 8]; }

  const Reach& reach_;
  const Bus& bus_;
  const u64 cycle_, tick_;
};

class Attached final : public Peripheral {
 public:
  Attached(const Reach& reach, unsigned index, std::vector<Pin> pins, unsigned slot)
      : reach_(reach), index_(index), pins_(std::move(pins)), slot_(slot) {}

  void start(const Bus& bus) const;
  [[nodiscard]] std::vector<u16> addresses() const override { return {}; }
  void write(const Bus&, u16, u8, u8, u64) const override {}
  [[nodiscard]] std::vector<Pin> listens() const override { return pins_; }
  void on_pin(const Bus& bus, Pin pin, bool level, u64 t) const override;
  void on_byte(const Bus& bus, const std::string& port, u8 byte, u64 t) const override;
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  // The two-wire bus; see Part.
  [[nodiscard]] bool on_address(const Bus& bus, u8 address, bool reading, u64 t) const;
  [[nodiscard]] bool on_bus_byte(const Bus& bus, u8 byte, u64 t) const;
  [[nodiscard]] u8 bus_byte(const Bus& bus, u64 t) const;
  void on_stop(const Bus& bus, u64 t) const;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  /// What is outside is not reset with the chip.
  void reset(const Bus& /*bus*/) const override {}
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  const Reach& reach_;
  const unsigned index_;
  const std::vector<Pin> pins_;
  const unsigned slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_ATTACHED_H
