// SPDX-License-Identifier: MIT
// What chips on one bench do to the wires between them.
#ifndef LUCID_MACHINE_WIRES_H
#define LUCID_MACHINE_WIRES_H

#include <cstdint>
#include <memory>
#include <vector>

namespace lucid::machine {

class Machine;

/// What a chip does to a wire, or what all others do, as bits.
enum : std::uint8_t { kOffersLow = 1, kOffersHigh = 2, kOffersPullUp = 4 };
struct WireChange {
  std::uint64_t tick = 0;  ///< of the chip whose pin it is
  std::uint8_t pin = 0;    ///< by the family's number
  std::uint8_t offer = 0;

  template <class Visit>
  void fields(Visit& visit) const {
    visit(tick, pin, offer);
  }
};

/// Further chips, on wires to this one: in its world. Not hashed as it stands: they are somewhere
/// before this chip's time, and what they will be then is.
struct GroupState {
  std::vector<std::shared_ptr<const Machine>> bases;
  std::vector<std::uint64_t> delivered;  ///< what they did up to this tick of theirs has arrived
  std::vector<std::uint8_t> halted;      ///< a fault has ended them
  std::vector<std::uint8_t> offers;      ///< by place on all wires
  std::uint64_t ahead = 0;               ///< picoseconds that are looked ahead
};

}  // namespace lucid::machine

#endif  // LUCID_MACHINE_WIRES_H
