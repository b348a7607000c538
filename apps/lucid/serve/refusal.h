// SPDX-License-Identifier: MIT
#ifndef LUCID_APP_SERVE_REFUSAL_H
#define LUCID_APP_SERVE_REFUSAL_H

#include <cstdint>
#include <optional>
#include <string>
#include <utility>

#include <nlohmann/json.hpp>

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

/// A whole number among the arguments of a request, within limits; `otherwise` if it is left out.
/// Not a number of that kind is refused.
inline std::int64_t whole(const nlohmann::json& arguments, const char* key, std::int64_t least,
                          std::int64_t most, std::optional<std::int64_t> otherwise = {}) {
  const auto found = arguments.find(key);
  if (found == arguments.end()) {
    if (otherwise) return *otherwise;
    throw Refusal(std::string("`") + key + "` is missing");
  }
  const bool fits = found->is_number_integer() &&
                    (!found->is_number_unsigned() ||
                     found->get<std::uint64_t>() <= static_cast<std::uint64_t>(INT64_MAX)) &&
                    found->get<std::int64_t>() >= least && found->get<std::int64_t>() <= most;
  if (!fits) throw Refusal(std::string("`") + key + "` is no number that can stand there");
  return found->get<std::int64_t>();
}

}  // namespace lucid::app

#endif  // LUCID_APP_SERVE_REFUSAL_H
