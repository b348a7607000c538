// SPDX-License-Identifier: MIT
#ifndef LUCID_APP_SERVE_REFUSAL_H
#define LUCID_APP_SERVE_REFUSAL_H

#include <string>
#include <utility>

#include "lucid/error.h"

namespace lucid::app {

/// Thrown by what carries out a request; the client gets it as the response.
struct Refusal {
  explicit Refusal(std::string text) : why(std::move(text)) {}
  explicit Refusal(const Error& error) : why(error.text()) {}
  std::string why;
};

/// The value of a result, or a refusal.
template <class T>
T required(Result<T> result) {
  if (!result) throw Refusal(result.error());
  return std::move(*result);
}
inline void required(const Result<void>& result) {
  if (!result) throw Refusal(result.error());
}

}  // namespace lucid::app

#endif  // LUCID_APP_SERVE_REFUSAL_H
