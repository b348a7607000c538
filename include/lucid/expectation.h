// SPDX-License-Identifier: MIT
// Expectations: what must be so, now, soon, for a while, from here on. For scripts, and for tests
// in C++ with whatever test runner: each gives a verdict that says what was there instead.
#ifndef LUCID_EXPECTATION_H
#define LUCID_EXPECTATION_H

#include <optional>
#include <string>
#include <vector>

#include "lucid/session.h"

namespace lucid {

/// What came of an expectation.
struct LUCID_API Expectation {
  bool held = false;
  std::string expected;  ///< as people write it: `seconds == 4 within 2 s`
  std::string instead;   ///< what was there; empty if it held
  Picoseconds time;      ///< when that was decided
  Location where;

  explicit operator bool() const { return held; }
  /// `seconds == 4 within 2 s`, or `expected seconds == 4 within 2 s, but it was 3 == 4`.
  [[nodiscard]] std::string text() const;
};

/// The expectations of one session, which must outlive them.
///
/// Those with a span run the program on and end where they are decided: where it holds, or where it
/// breaks, or when the time is up. Breakpoints on the way are counted and write their logs; they do
/// not pause, and nothing that they say with `then` is done. A fault on the way breaks what is
/// expected. Errors of all: what Session::holds() gives for an expression that means nothing;
/// kOutOfRange where Session::set_limit() has ended it; kUsage where somebody asked for a pause.
class LUCID_API Expectations {
 public:
  explicit Expectations(Session& session) : session_(&session) {}

  /// Does it hold now?
  Result<Expectation> that(const std::string& expression);
  /// Does it hold now, or at an instruction boundary within a span?
  Result<Expectation> within(const std::string& expression, Picoseconds span);
  /// Does it hold now, and at every instruction boundary of a span?
  Result<Expectation> throughout(const std::string& expression, Picoseconds span);
  /// Is a text sent, from here on, within a span?
  Result<Expectation> heard(const std::string& port, const std::string& text, Picoseconds span);
  /// Does it stand at a place now: before its instruction, or on its line?
  Result<Expectation> at(const std::string& place);
  /// Is a place executed within a span?
  Result<Expectation> reaches(const std::string& place, Picoseconds span);
  /// Has the last run ended with a fault? Or does one come within a span?
  Result<Expectation> fault(std::optional<Picoseconds> span = {});

  /// Runs on through the tests of a program that is built with lucid/test.h (installed for
  /// firmware), to their end, within a span; held means that there were some, and that all of their
  /// checks held. tests() says of each. Error: kNotFound if the program has none.
  Result<Expectation> tests_hold(Picoseconds span);
  /// A test of the last tests_hold().
  struct Test {
    std::string name;
    std::vector<std::string> failures;  ///< each with its line
    Picoseconds began, took;
  };
  [[nodiscard]] const std::vector<Test>& tests() const { return tests_; }

  // From here on, while the program is run by whatever means: judged by broken(), best after each
  // run. Going back before here takes them back with it.

  /// It must not become true, and be looked for all the time. It is a breakpoint of the session
  /// (`pause when`), whose number is the result; 0: it was true already. Errors: those of
  /// Session::pause_at().
  Result<unsigned> never(const std::string& expression);
  /// What becomes true, is sent or entered has to do so every so often: from each to the next takes
  /// as long as that, and the first comes in time. It is a trace of the session, so all that
  /// Session::trace() takes can be said: `pin.PB5`, `interrupt TIMER1_COMPA`. Errors: those of
  /// trace(); kUsage if `least` > `most`.
  Result<void> every(const std::string& signal, Picoseconds least, Picoseconds most);
  /// The first of them that has broken, if any; it is told once, and expected no more. Of `every`,
  /// the session goes back to that very moment if its timeline reaches there.
  std::optional<Expectation> broken();
  /// How they stand: held means not broken so far.
  [[nodiscard]] std::vector<Expectation> armed() const;

 private:
  struct Armed {
    std::string text;    ///< what was expected
    std::string signal;  ///< empty: it is a breakpoint
    std::string trace;   ///< its name
    unsigned id = 0;
    Picoseconds least, most, from;
  };
  struct Break {
    Picoseconds time;
    std::string instead;
  };
  Result<Expectation> verdict(bool held, std::string expected, std::string instead) const;
  template <class Go>
  Result<std::optional<Expectation>> run(Picoseconds span, const std::string& expected, Go go);
  [[nodiscard]] std::string instead_of(const std::string& expression) const;
  void note_test_failure();
  [[nodiscard]] bool stands_at(const Location& place) const;
  [[nodiscard]] std::optional<Break> break_of(const Armed& armed) const;

  Session* session_;
  std::vector<Armed> armed_;
  std::vector<Test> tests_;
};

}  // namespace lucid

#endif  // LUCID_EXPECTATION_H
