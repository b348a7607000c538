// SPDX-License-Identifier: MIT
#include "serial_end.h"

#include <fcntl.h>
#include <pty.h>
#include <termios.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>

namespace lucid::app {

SerialEnd::~SerialEnd() {
  if (ours_ >= 0) close(ours_);
  if (theirs_ >= 0) close(theirs_);
}

Result<void> SerialEnd::open(const std::string& text) {
  const std::size_t equals = text.find('=');
  if (equals == std::string::npos || text.substr(equals + 1) != "pty")
    return fail(ErrorCode::kUsage, "'" + text + "' does not say what is at which serial port",
                "write USART0=pty");
  std::array<char, 256> name{};
  termios raw{};
  cfmakeraw(&raw);
  if (openpty(&ours_, &theirs_, name.data(), &raw, nullptr) != 0)
    return fail(ErrorCode::kIo, std::string("no pseudo-terminal: ") + std::strerror(errno));
  fcntl(ours_, F_SETFL, O_NONBLOCK);
  port_ = text.substr(0, equals);
  path_ = name.data();
  return {};
}

/// What nobody reads is lost when the line is full, as on a wire.
void SerialEnd::write(const std::string& bytes) const {
  for (std::size_t at = 0; at < bytes.size();) {
    const ssize_t n = ::write(ours_, bytes.data() + at, bytes.size() - at);
    if (n <= 0) return;
    at += static_cast<std::size_t>(n);
  }
}

std::string SerialEnd::read() const {
  std::array<char, 256> buffer{};
  const ssize_t n = ::read(ours_, buffer.data(), buffer.size());
  return n > 0 ? std::string(buffer.data(), static_cast<std::size_t>(n)) : std::string();
}

}  // namespace lucid::app
