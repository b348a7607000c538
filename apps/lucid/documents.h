// SPDX-License-Identifier: MIT
// What a package installs beside the program: the man page and completion for two shells, made from
// the tables of commands and options.
#ifndef LUCID_APP_DOCUMENTS_H
#define LUCID_APP_DOCUMENTS_H

#include <string>

#include "lucid/error.h"

namespace lucid::app {

/// `man`, `bash` or `zsh`. Error: kUsage.
Result<std::string> document(const std::string& name);

}  // namespace lucid::app

#endif  // LUCID_APP_DOCUMENTS_H
