// SPDX-License-Identifier: MIT
// A chip's end of the wires to others: the moment at which companions are asked, or, on a
// companion, of what reaches it.
#ifndef LUCID_AVR_PERIPHERALS_WIRE_END_H
#define LUCID_AVR_PERIPHERALS_WIRE_END_H

#include "avr/peripherals/port.h"
#include "machine/companions.h"

namespace lucid::avr {

/// The chip as its companions meet it, at a cycle.
class WireHost final : public machine::Host {
 public:
  WireHost(const std::vector<std::unique_ptr<Port>>& ports, const Bus& bus, u64 cycle)
      : ports_(ports), bus_(bus), cycle_(cycle) {}
  machine::GroupState& group() override { return bus_.world.group; }
  [[nodiscard]] u64 tick() const override { return bus_.world.tick_at(cycle_); }
  std::vector<machine::WireChange>& offers() override { return bus_.outputs_.offers; }
  void join(u8 pin, u8 offer) override { ports_[pin / 8U]->join(bus_, pin % 8U, offer, cycle_); }
  void say(const std::string& port, const std::string& bytes) override {
    for (const char c : bytes) bus_.transmit(port, static_cast<u8>(c));
  }
  void note(const std::string& text) override { bus_.note(text); }
  void sync_at(u64 tick) override { bus_.schedule_tick(bus_.world.sync_slot(), tick); }
  [[nodiscard]] machine::Companions* companions() const { return bus_.outputs_.companions; }

 private:
  const std::vector<std::unique_ptr<Port>>& ports_;
  const Bus& bus_;
  const u64 cycle_;
};

class WireEnd final : public Peripheral {
 public:
  WireEnd(const std::vector<std::unique_ptr<Port>>& ports, unsigned slot)
      : ports_(ports), slot_(slot) {}
  /// Something reaches the chip at a tick to come.
  void receive(const Bus& bus, const machine::WireChange& change) const;

  [[nodiscard]] std::vector<u16> addresses() const override { return {}; }
  void write(const Bus&, u16, u8, u8, u64) const override {}
  void on_event(const Bus& bus, unsigned slot, u64 due) const override;
  [[nodiscard]] bool runs_asleep(const World& /*world*/, unsigned /*sm*/) const override {
    return true;
  }
  /// Wires are not reset with the chip.
  void reset(const Bus& /*bus*/) const override {}
  [[nodiscard]] std::vector<unsigned> slots() const override { return {slot_}; }

 private:
  const std::vector<std::unique_ptr<Port>>& ports_;
  unsigned slot_;
};

}  // namespace lucid::avr

#endif  // LUCID_AVR_PERIPHERALS_WIRE_END_H
