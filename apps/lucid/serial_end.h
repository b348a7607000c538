// SPDX-License-Identifier: MIT
// SerialEnd: what is at the other end of a serial port: a pseudo-terminal, a socket on loopback or
// files.
#ifndef LUCID_APPS_SERIAL_END_H
#define LUCID_APPS_SERIAL_END_H

#include <cstdint>
#include <memory>
#include <string>

#include "lucid/error.h"

namespace lucid::app {

class SerialEnd {
 public:
  virtual ~SerialEnd() = default;

  /// `USART0 terminal`, `USART0 socket 5555`, `USART0 files IN` or `USART0 files IN OUT`. Errors:
  /// kUsage, kNotFound, kIo.
  static Result<std::unique_ptr<SerialEnd>> open(const std::string& phrase);

  [[nodiscard]] const std::string& port() const { return port_; }
  /// Where other programs find it.
  [[nodiscard]] const std::string& path() const { return path_; }
  /// Other programs want time to pass as on a clock.
  [[nodiscard]] virtual bool is_paced() const { return true; }

  /// Bytes from the firmware. What nobody takes is lost, as on a wire, and counted.
  virtual void write(const std::string& bytes) = 0;
  /// What has come from the other end; empty if nothing has.
  [[nodiscard]] virtual std::string read() = 0;
  [[nodiscard]] std::uint64_t lost() const { return lost_; }

 protected:
  std::string path_;
  std::uint64_t lost_ = 0;

 private:
  std::string port_;
};

}  // namespace lucid::app

#endif  // LUCID_APPS_SERIAL_END_H
