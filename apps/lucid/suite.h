// SPDX-License-Identifier: MIT
// Suite: several scripts, each on a machine of its own, side by side, and what came of them, for
// people and for build servers.
#ifndef LUCID_APP_SUITE_H
#define LUCID_APP_SUITE_H

#include <chrono>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "cases.h"
#include "console.h"

namespace lucid::app {

/// What came of a script.
struct CaseResult {
  enum class Verdict : std::uint8_t {
    kHeld,
    kMissed,      ///< an expectation did not hold
    kError,       ///< it could not be carried out
    kNotReached,  ///< the suite was ended before
  };
  std::string script;
  std::string of_case;  ///< its name; empty: there are none
  /// `kiln.loop`, or `kiln.loop [cold start]`.
  [[nodiscard]] std::string name() const {
    return of_case.empty() ? script : script + " [" + of_case + "]";
  }
  Verdict verdict = Verdict::kNotReached;
  Error error;  ///< why it did not hold
  unsigned expectations = 0;
  std::vector<Expectations::Test> tests;  ///< on the target, that it has run
  Picoseconds time;                       ///< simulated, at its end
  std::string output;                     ///< what it has written
  std::string serial;                     ///< the last lines that serial ports have sent
  std::vector<std::string> callers;       ///< where it ended, innermost first
  /// Of a case that has missed: the fewest of its inputs and values that still make it miss there.
  std::optional<std::vector<std::string>> fewest;
  std::string moment;  ///< a file that leads to where it ended; empty: none
};

struct SuiteOptions {
  std::vector<std::string> scripts;
  std::string image;        ///< for scripts that open none
  std::vector<Case> cases;  ///< each script is carried out with each; none: once
  unsigned jobs = 1;
  std::optional<std::chrono::milliseconds> wall;  ///< the longest that one may take, by the clock
  /// One has been finished; from any thread, one at a time.
  std::function<void(const CaseResult&, std::size_t finished)> on_finished;
};
/// The results, in the order of the scripts. Ctrl-C ends it: those that were not reached say so.
std::vector<CaseResult> play_all(const Console::Options& console, const SuiteOptions& options);

/// By the JUnit XML that build servers read: one test case for each script. `time` is simulated,
/// and a property says so. Bytes that XML cannot hold are written as \xNN.
std::string junit_xml(const std::vector<CaseResult>& results);
/// A line for each script, and one for all.
std::string table(const std::vector<CaseResult>& results);
/// One JSON object a line.
std::string json_lines(const std::vector<CaseResult>& results);
/// That of the first that did not hold; 0 if all did.
int exit_code(const std::vector<CaseResult>& results);

}  // namespace lucid::app

#endif  // LUCID_APP_SUITE_H
