// SPDX-License-Identifier: MIT
// Companions: further chips with firmware of their own, joined to a chip by wires, in lock-step.
//
// The chip itself runs freely. What a companion will do to a wire next is found out by running it
// ahead; that moment is an event of the chip. What the chip does to a wire in between makes the
// companion begin again from where it surely was, its base, with the change in its inbox. So each
// change is seen by all others at its own time (rounded up to their clock), and nothing depends on
// how far anybody ran ahead or where a run was interrupted.
//
// A base is a value in the chip's world: copies of the chip share it. The runners here are derived.
#ifndef LUCID_AVR_CHIP_COMPANIONS_H
#define LUCID_AVR_CHIP_COMPANIONS_H

#include <memory>
#include <string>
#include <vector>

#include "avr/chip/fabric.h"

namespace lucid::avr {

class Companions {
 public:
  explicit Companions(const Fabric& fabric);
  ~Companions();
  Companions(const Companions&) = delete;
  Companions& operator=(const Companions&) = delete;

  void power_on(World& world);
  /// The chip's event: delivers what is due by this cycle in either direction, looks ahead again.
  void sync(const Bus& bus, u64 cycle);
  /// Takes what they have said up to now, but for the last few cycles.
  void catch_up(const Bus& bus);
  /// Of the chip and of all companions at its time.
  [[nodiscard]] u64 hash(const World& world);
  /// A companion at the chip's time. Good until the next call.
  [[nodiscard]] const AvrMachine& as_now(const World& world, unsigned which);
  [[nodiscard]] std::string describe(const World& world, unsigned which);

 private:
  struct Runner {
    std::unique_ptr<AvrMachine> sure;   ///< at the base, or about to make the next one
    std::unique_ptr<AvrMachine> ahead;  ///< beyond it, if nothing reaches it meanwhile
    bool ahead_holds = false;
    bool stopped = false;              ///< by a fault
    std::unique_ptr<AvrMachine> seen;  ///< by as_now(), from this base
    std::shared_ptr<const AvrMachine> seen_from;
    bool seen_stopped = false;       ///< by a fault
    u64 seen_at = 0;                 ///< picoseconds
    std::vector<WireChange> offers;  ///< of `ahead`, not yet delivered
  };
  struct Next {
    u64 time;  ///< picoseconds
    unsigned which;
    bool offered;
  };
  Next next_offer(const GroupState& group, u64 horizon);
  [[nodiscard]] u64 hz(unsigned chip) const;
  [[nodiscard]] u64 time_of(const World& world) const;
  void look_ahead(const GroupState& group, unsigned which, u64 until);
  bool advance(const Bus& bus, unsigned which, u64 until, u64 at_most);
  void say(const Bus& bus, unsigned which);
  void deliver(const Bus& bus, unsigned from, const WireChange& change, u64 time, u64 cycle);
  void send(const Bus& bus, unsigned which, WireChange change);

  const Fabric& fabric_;
  std::vector<Runner> runners_;
};

/// A chip's end of its wires: the event of sync(), or, on a companion, of its inbox.
class WireEnd final : public Peripheral {
 public:
  WireEnd(const std::vector<std::unique_ptr<Port>>& ports, unsigned slot)
      : ports_(ports), slot_(slot) {}
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

#endif  // LUCID_AVR_CHIP_COMPANIONS_H
