// SPDX-License-Identifier: MIT
#ifndef LUCID_APP_SERVE_SERVE_H
#define LUCID_APP_SERVE_SERVE_H

#include "console.h"

namespace lucid::app {

/// One session over standard input and output, until the client ends it. Result: an exit code.
int serve_here(const Console::Options& options);
/// Any number of them at a port of this machine alone, each on a thread of its own, until somebody
/// ends the program. Error: kIo if the port cannot be had.
Result<int> serve_port(const Console::Options& options, std::uint16_t port);

}  // namespace lucid::app

#endif  // LUCID_APP_SERVE_SERVE_H
