// SPDX-License-Identifier: MIT
// What arrives at a serial port, frame by frame.
#ifndef LUCID_SERIAL_H
#define LUCID_SERIAL_H

#include <cstdint>
#include <string>

#include "lucid/error.h"

namespace lucid {

/// A frame on its way into a serial port, as a sender may make it, or spoil it.
struct SerialFrame {
  std::uint16_t data = 0;     ///< 5 to 9 bits, as the port expects; what is more is cut off
  bool wrong_parity = false;  ///< seen if the port uses parity
  bool no_stop_bit = false;   ///< the line is low where the stop bit should be: a framing error
};
/// Reads `0x141`, `0x41 wrong-parity no-stop-bit`. Error: kUsage.
[[nodiscard]] LUCID_API Result<SerialFrame> parse_serial_frame(const std::string& text);

}  // namespace lucid

#endif  // LUCID_SERIAL_H
