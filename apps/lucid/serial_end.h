// SPDX-License-Identifier: MIT
// SerialEnd: a pseudo-terminal at a serial port, so that other programs talk to the firmware.
#ifndef LUCID_APPS_SERIAL_END_H
#define LUCID_APPS_SERIAL_END_H

#include <string>

#include "lucid/error.h"

namespace lucid::app {

class SerialEnd {
 public:
  SerialEnd() = default;
  SerialEnd(const SerialEnd&) = delete;
  SerialEnd& operator=(const SerialEnd&) = delete;
  ~SerialEnd();

  /// `USART0=pty`. Errors: kUsage, kIo.
  Result<void> open(const std::string& text);
  [[nodiscard]] bool is_open() const { return ours_ >= 0; }
  [[nodiscard]] const std::string& port() const { return port_; }
  /// Where other programs find it.
  [[nodiscard]] const std::string& path() const { return path_; }

  void write(const std::string& bytes) const;
  /// What has been typed at the other end; empty if nothing has.
  [[nodiscard]] std::string read() const;

 private:
  std::string port_, path_;
  int ours_ = -1;
  int theirs_ = -1;  ///< kept open, so that the other program may come and go
};

}  // namespace lucid::app

#endif  // LUCID_APPS_SERIAL_END_H
