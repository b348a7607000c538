// SPDX-License-Identifier: MIT
// Decoders: what wires say. Each makes a signal whose values are bytes and conditions, as spans
// beside the wires; `-` where there is none. They work on any signals of levels: traces of a chip,
// or a capture from elsewhere.
#ifndef LUCID_DECODE_H
#define LUCID_DECODE_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/signal.h"

namespace lucid {

struct Decoded {
  Signal signal;
  std::uint64_t bytes = 0, faults = 0;
  std::uint64_t glitches = 0;  ///< pulses that were left out
  double rate = 0;             ///< of serial: bits a second
  struct Byte {
    Picoseconds at;  ///< where it begins
    std::uint8_t value = 0;
    bool fault = false;
  };
  std::vector<Byte> data;  ///< at most a million
};

/// Asynchronous serial, idle high.
struct SerialForm {
  double rate = 0;  ///< bits a second; 0: found from the shortest pulses
  unsigned bits = 8;
  enum class Parity : std::uint8_t { kNone, kEven, kOdd } parity = Parity::kNone;
};
/// Faults: a stop bit that is low (`framing`, `break` if nothing was high), a wrong parity. Errors:
/// kUsage for what is no level; kNotFound if no rate can be found.
[[nodiscard]] LUCID_API Result<Decoded> decode_serial(const Signal& line, const SerialForm& form);
/// START, address and direction, bytes, ACK and NAK, STOP. Faults: an address or a byte of the
/// controller that nobody acknowledges, a byte that is not complete.
[[nodiscard]] LUCID_API Result<Decoded> decode_two_wire(const Signal& clock, const Signal& data);
/// One direction, the highest bit first. Without `select`, eight clocks are a byte and a long pause
/// begins a new one. Mode: 0 to 3, CPOL and CPHA. Fault: a byte that is not complete.
[[nodiscard]] LUCID_API Result<Decoded> decode_spi(const Signal& clock, const Signal& data,
                                                   const Signal* select, unsigned mode);
/// RESET, whether somebody is there, and bytes, the lowest bit first. Fault: nobody is there.
[[nodiscard]] LUCID_API Result<Decoded> decode_one_wire(const Signal& line);
/// Of each period, the share of high; or the width of each high pulse in microseconds.
[[nodiscard]] LUCID_API Result<Decoded> decode_pulses(const Signal& line, bool widths);

/// The same level signal without pulses shorter than that; how many there were.
[[nodiscard]] LUCID_API std::pair<Signal, std::uint64_t> without_glitches(const Signal& line,
                                                                          Picoseconds shortest);

}  // namespace lucid

#endif  // LUCID_DECODE_H
