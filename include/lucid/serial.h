// SPDX-License-Identifier: MIT
// What comes in from outside in one piece: a frame at a serial port, a transfer on the two-wire
// bus.
#ifndef LUCID_SERIAL_H
#define LUCID_SERIAL_H

#include <cstdint>
#include <string>
#include <vector>

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
/// What a controller outside does on the two-wire bus: START, the address, the bytes to write; a
/// repeated START and the bytes to read, the last one not acknowledged; STOP.
struct TwoWireTransfer {
  std::uint8_t address = 0;         ///< 7 bits; 0 is the general call
  std::vector<std::uint8_t> write;  ///< with nothing to read either, only the address is sent
  std::uint8_t read = 0;            ///< how many bytes
};
/// Reads `0x29 write 01 02 read 2`; one of the two may be missing. Error: kUsage.
[[nodiscard]] LUCID_API Result<TwoWireTransfer> parse_two_wire_transfer(const std::string& text);

}  // namespace lucid

#endif  // LUCID_SERIAL_H
