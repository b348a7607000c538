// SPDX-License-Identifier: MIT
// Input: what comes to a chip from outside at a time: by a bench file, or by hand.
#ifndef LUCID_INPUT_H
#define LUCID_INPUT_H

#include <cstdint>
#include <optional>
#include <string>

#include "lucid/serial.h"
#include "lucid/time.h"

namespace lucid {

struct Input {
  Picoseconds at;          ///< since power-on
  std::uint64_t tick = 0;  ///< the same in ticks of the chip's oscillator, if it has happened
  /// What it is done to: one of these, unless it is a transfer or a reset.
  std::string pin, serial, part;
  std::optional<bool> level;               ///< of a pin; nullopt, and no voltage: let go
  std::optional<std::int32_t> microvolts;  ///< at a pin; VCC is the supply
  std::string bytes;                       ///< to a serial port
  std::optional<SerialFrame> frame;        ///< the same as a frame
  std::optional<TwoWireTransfer> transfer;
  bool reset = false;         ///< the reset pin, for a moment
  std::string action, value;  ///< of a part: see Chip::act
};

}  // namespace lucid

#endif  // LUCID_INPUT_H
