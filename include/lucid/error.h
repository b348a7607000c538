// SPDX-License-Identifier: MIT
// Error and Result: how every public function of Lucid Loop reports a failure.
//
// A failed call leaves its object as it was. A program's own misbehaviour (a reserved instruction,
// a stack that ran into data) is not an error: it is a pause, see <lucid/pause.h>.
#ifndef LUCID_ERROR_H
#define LUCID_ERROR_H

#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include <tl/expected.hpp>

#if defined(__GNUC__)
#define LUCID_API __attribute__((visibility("default")))
#else
#define LUCID_API
#endif

namespace lucid {

/// What the caller would do next. `lucid` maps each code to an exit code.
enum class ErrorCode {
  kUsage,        ///< the request is malformed: correct its words
  kNotFound,     ///< no such name, place, register, file: name another
  kBadImage,     ///< the image cannot be used: rebuild or choose another
  kUnsupported,  ///< understood, but not modelled or not known here
  kOutOfRange,   ///< the number or address is outside what exists
  kIo,           ///< the operating system refused: see the text
};

/// Why the value of a variable is not known.
enum class Unknown : std::uint8_t {
  kNone,         ///< the error is of another kind
  kNotInScope,   ///< its name means nothing here
  kNoPlace,      ///< the compiler describes no place for it here: not set yet, or optimised away
  kNotSet,       ///< nothing has been stored in its place yet
  kOverwritten,  ///< its place holds something else by now
  kNoFrame,      ///< its function's frame is not made yet, or taken down
  kSharedPlace,  ///< another variable has the same place: the bytes are known, whose they are is
                 ///< not
  kNoMemory,     ///< its place is in no memory
};

/// The reason by a word, such as `overwritten`; empty for kNone.
[[nodiscard]] LUCID_API std::string unknown_word(Unknown why);

/// `did you mean a or b?` of the candidates closest to a word, or empty if none is close enough to
/// be a slip of the fingers.
[[nodiscard]] LUCID_API std::string did_you_mean(std::string_view word,
                                                 const std::vector<std::string>& candidates);

/// One failure: what is wrong, where, and what to do about it.
struct Error {
  ErrorCode code = ErrorCode::kUsage;
  std::string what;   ///< one sentence without a full stop
  std::string where;  ///< file, line, column or offset; empty if that would say nothing
  std::string hint;   ///< what to do; empty if there is nothing to suggest
  Unknown unknown = Unknown::kNone;

  /// The error on one line: `where: what (hint)`.
  [[nodiscard]] LUCID_API std::string text() const;
};

/// The value, or the Error. Must be looked at.
template <class T>
class [[nodiscard]] Result : public tl::expected<T, Error> {
 public:
  using tl::expected<T, Error>::expected;
};

/// Makes the failing side of any Result.
[[nodiscard]] inline tl::unexpected<Error> fail(ErrorCode code, std::string what,
                                                std::string hint = {}, std::string where = {}) {
  return tl::unexpected<Error>(
      Error{code, std::move(what), std::move(where), std::move(hint), Unknown::kNone});
}

/// The same for a value that is not known.
[[nodiscard]] inline tl::unexpected<Error> fail(Unknown why, std::string what, std::string hint) {
  const ErrorCode code =
      why == Unknown::kOverwritten ? ErrorCode::kUnsupported : ErrorCode::kNotFound;
  return tl::unexpected<Error>(Error{code, std::move(what), {}, std::move(hint), why});
}

/// Passes an error on, to a Result of another type.
[[nodiscard]] inline tl::unexpected<Error> fail(Error error) {
  return tl::unexpected<Error>(std::move(error));
}

}  // namespace lucid

#endif  // LUCID_ERROR_H
