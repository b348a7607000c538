// SPDX-License-Identifier: MIT
// Messages of the Debug Adapter Protocol as they are sent: a header with their length, then JSON.
// Standard: "Debug Adapter Protocol", chapter "Base protocol".
#ifndef LUCID_APP_SERVE_MESSAGES_H
#define LUCID_APP_SERVE_MESSAGES_H

#include <functional>
#include <string>

#include "lucid/error.h"

namespace lucid::app {

/// Takes bytes as they come and gives whole messages.
class MessageReader {
 public:
  /// Calls `take` with the contents of each message that is complete. Error: kUsage for a header
  /// line that is not the protocol's, or a length beyond 64 MiB: nothing can be read behind it.
  Result<void> feed(const std::string& bytes, const std::function<void(std::string)>& take);

 private:
  std::string waiting_;
};

/// With its header.
std::string framed(const std::string& content);

std::string base64(const std::string& bytes);
/// Error: kUsage.
Result<std::string> from_base64(const std::string& text);

}  // namespace lucid::app

#endif  // LUCID_APP_SERVE_MESSAGES_H
