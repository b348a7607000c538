// SPDX-License-Identifier: MIT
// Survey: what a whole run has done, without a breakpoint: how often each instruction, line and
// function has executed and what that took, what never ran, and how long interrupts waited.
//
//   session.survey(Session::Survey::kCounts);
//   session.go_for({1'000'000'000'000});                    // a second
//   auto coverage = session.coverage();                     // lcov_text(*coverage) writes it
//
// Counts are exact: instructions count themselves, nothing is sampled. They are of what has been
// run since survey(), each stretch once: what is gone through again in the past does not count
// again, another future counts in addition.
#ifndef LUCID_SURVEY_H
#define LUCID_SURVEY_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/chip.h"
#include "lucid/error.h"
#include "lucid/instruction.h"
#include "lucid/pause.h"

namespace lucid {

/// One instruction that has executed.
struct InstructionCount {
  std::uint32_t address = 0;
  Flow flow = Flow::kNext;
  std::uint64_t executed = 0;
  std::uint64_t departed = 0;  ///< of a branch or skip: how often it was taken
  std::uint64_t cycles = 0;    ///< without sleep and entries of interrupts
};

/// Where the cycles went.
struct ProfileView {
  std::uint64_t cycles = 0;    ///< in all; what follows is of these
  std::uint64_t asleep = 0;    ///< sleeping and waking up
  std::uint64_t entering = 0;  ///< entering interrupts
  std::uint64_t unknown = 0;   ///< in code that belongs to no function, or held by the hardware
  Picoseconds span;            ///< the time that took

  struct Function {
    std::string name;
    std::string inlined_in;  ///< of a body that stands instead of a call: the function it is in
    bool handler = false;    ///< of an interrupt
    Location where;          ///< its beginning
    std::uint64_t calls = 0;
    std::uint64_t self = 0;  ///< cycles in its own instructions
    /// With what it has called, handlers and sleep left out; not of an inlined body. Recursion
    /// counts once.
    std::optional<std::uint64_t> total;
    std::uint64_t instructions = 0;
    /// Bytes of stack in use at most in it, by its calls and by what its code then pushes; what it
    /// calls has rows of its own. Counted with calls only; not where the code does not tell.
    std::optional<std::uint32_t> stack;
  };
  std::vector<Function> functions;  ///< that have executed, most cycles first
  struct Line {
    Location where;
    std::uint64_t passes = 0;  ///< as breakpoints count them
    std::uint64_t cycles = 0;
  };
  std::vector<Line> lines;  ///< the same
  /// A loop that does nothing but wait: no round leaves anything behind but a number that counts.
  struct Wait {
    std::string function;  ///< in which it stands, or the body that is inlined there
    Location where;        ///< its first instruction
    bool looks = false;    ///< at memory or an I/O register
    bool counts = false;   ///< a number; neither: only an interrupt leads out of it
    std::uint64_t rounds = 0;
    std::uint64_t cycles = 0;  ///< without those of a loop within it that waits, too
  };
  std::vector<Wait> waits;    ///< most cycles first; they are their functions' and lines', too
  std::uint64_t waiting = 0;  ///< cycles of all of them
  /// A function as it was called, from the program or a handler down. What is entered by a jump
  /// goes with who jumped; stacks that the program switches by itself are not followed.
  struct Call {
    std::string function;
    std::optional<std::size_t> caller;  ///< index into `calls`; none: the program, a handler
    bool handler = false;
    std::uint64_t calls = 0;
    std::uint64_t cycles = 0;  ///< with what it has called
    std::uint64_t self = 0;    ///< without
  };
  std::vector<Call> calls;  ///< callers before those they call; empty without calls
};

/// Which lines and functions have executed.
struct CoverageView {
  struct Line {
    unsigned line = 0;
    /// As breakpoints count them, of what has executed: in the middle of coming back to a loop's
    /// line one may be missing.
    std::uint64_t passes = 0;
    bool executed = false;  ///< any of its instructions
  };
  struct Function {
    std::string name;
    unsigned line = 0;
    std::uint64_t calls = 0;
  };
  /// One of the two ways on from a conditional jump or a skip.
  struct Branch {
    unsigned line = 0;
    unsigned block = 0;    ///< which one of the line's, from 0 on
    bool departs = false;  ///< it leads elsewhere than to what follows
    bool reached = false;  ///< the jump has executed
    std::uint64_t taken = 0;
  };
  struct File {
    std::string path;  ///< where its text was found, or else as the compiler noted it
    std::vector<Line> lines;
    std::vector<Function> functions;
    /// Only of what was built at -O0 or -Og, where they are the source's; by line and block.
    std::vector<Branch> branches;
    [[nodiscard]] LUCID_API std::size_t lines_executed() const;
    [[nodiscard]] LUCID_API std::size_t functions_executed() const;
    [[nodiscard]] LUCID_API std::size_t branches_taken() const;
  };
  std::vector<File> files;  ///< those with code in the image, by path
  /// Of that path, or that end in that name: `control.c`.
  [[nodiscard]] LUCID_API std::vector<const File*> named(const std::string& name) const;
  [[nodiscard]] LUCID_API std::vector<std::string> names() const;  ///< without directories
};

/// Adds what another run has executed: file by file, line by line. Images may differ.
LUCID_API void merge(CoverageView& into, const CoverageView& more);
/// The lines that `run` has executed and `other` has not; files without any are left out.
[[nodiscard]] LUCID_API CoverageView only_in(const CoverageView& run, const CoverageView& other);
/// As an LCOV tracefile: FN, FNDA, BRDA, DA and their sums. `test` is its name, letters, digits and
/// _.
[[nodiscard]] LUCID_API std::string lcov_text(const CoverageView& coverage,
                                              const std::string& test = {});
/// Reads what lcov_text() or another tool has written: SF, FN, FNDA, DA; other records are passed
/// over. Error: kBadImage with the line; also for a file that tells of no source at all.
[[nodiscard]] LUCID_API Result<CoverageView> read_lcov(const std::string& text,
                                                       const std::string& name);

/// Of spans of time.
struct SpreadView {
  std::uint64_t count = 0;
  Picoseconds least, mean, most;
  Picoseconds most_at;  ///< when the longest one ended, since power-on
};

/// One interrupt, as far as it has come or been asked for.
struct InterruptView {
  std::string name;
  unsigned number = 0;
  SpreadView wait;              ///< from the request to the handler's first instruction
  SpreadView inside;            ///< in the handler, without handlers that came between
  SpreadView whole;             ///< with them
  double load = 0;              ///< the handler's part of the time, 0 to 1; without those between
  std::uint64_t nested = 0;     ///< entered while a handler was under way
  std::uint64_t withdrawn = 0;  ///< requests that ended without the handler
  /// Events of timers, and of a converter that runs on, that came while the one before still waited
  /// for the handler: it has been called once for all of them.
  std::uint64_t missed = 0;
  /// What held up the longest wait.
  enum class HeldBy : std::uint8_t {
    kInstruction,
    kOff,
    kHandler,
    kSleep
  } held_by = HeldBy::kInstruction;
  std::string held_by_handler;  ///< of kHandler
  /// Of kOff: what had turned interrupts off, if the function's code has but one such instruction
  /// that leads to where it was requested; of an inlined body the line that calls it.
  std::optional<Location> off_since;
  Location requested_at;  ///< the next instruction when it was requested
  Location entered_at;    ///< and when it was entered
};

}  // namespace lucid

#endif  // LUCID_SURVEY_H
