// SPDX-License-Identifier: MIT
// Race: what becomes of a function if an interrupt comes in the middle of it, at every place.
//
//   lucid::RaceSpec what{"clock_ms"};
//   auto view = session.race_search(what);
//   for (const auto& finding : view->findings) …     // clock_ms+0x4, returns 511 instead of 255
//   auto pause = session.go_to_race(1);               // stands there, with the interrupt raised
//   auto all = session.race_overview({});             // wherever the code could be torn
#ifndef LUCID_RACE_H
#define LUCID_RACE_H

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "lucid/error.h"
#include "lucid/pause.h"
#include "lucid/time.h"

namespace lucid {

struct RaceSpec {
  std::string function;                      ///< its next call from here on
  std::vector<std::string> interrupts = {};  ///< by name; empty: all that have a handler
  std::string expectation = {};           ///< an expression that has to hold when it has returned
  std::string from = {};                  ///< the next call behind this place
  std::optional<std::uint8_t> byte = {};  ///< what arrives, for the interrupt of a receiver
  bool pair = false;  ///< both of two interrupts: one before any instruction, the other behind it
  Picoseconds within{10'000'000'000'000};  ///< it has to be called by then
  Picoseconds longest{100'000'000'000};    ///< and to return in so long
  std::uint64_t most = 100'000;            ///< placements, of all interrupts
};

struct RaceView {
  std::string function, expectation;
  Location where;                ///< its entry
  Picoseconds entered;           ///< when
  std::uint64_t boundaries = 0;  ///< of instructions, from its entry to its return, undisturbed
  struct Interrupt {
    std::string name;
    std::uint64_t placements = 0;  ///< runs in which it came in the middle
    std::uint64_t masked = 0;      ///< boundaries at which it has to wait
    /// There are both orders to compare with. False: interrupts are off, or this one is, where the
    /// function is entered or has returned; then only the expectation judges.
    bool compared = true;
    std::uint64_t not_enabled = 0;  ///< boundaries at which it is not, or cannot be asked for
  };
  std::vector<Interrupt> interrupts;
  bool interrupted = false;    ///< somebody asked for a pause: this is not all
  std::uint64_t left_out = 0;  ///< boundaries behind RaceSpec::most
  /// Without an interrupt in the middle it does not hold either: before the entry, behind the
  /// return.
  bool broken_before = false, broken_behind = false;
  /// Objects that a handler counts in, with values at which all their bytes change: what could be
  /// torn is then torn.
  std::vector<std::string> also_with;

  struct Finding {
    enum class Kind : std::uint8_t {
      kBroken,   ///< the expectation does not hold
      kFault,    ///< the program misbehaves: `detail`
      kStuck,    ///< it does not return
      kNeither,  ///< an object or the result is as in neither order
      kMixed,    ///< each is as in one order, but not all in the same one
    } kind = Kind::kNeither;
    std::string interrupt;
    std::string first;         ///< of a pair: the interrupt that came before this one
    Location first_where;      ///< and the instruction it came before
    bool forced = false;       ///< the peripheral would not have come to that by itself
    Location where;            ///< the instruction it comes before
    std::uint64_t cycles = 0;  ///< from the function's entry to there
    Picoseconds at;            ///< since power-on
    std::uint64_t times = 1;   ///< it was found at that instruction
    std::string with;          ///< `ticks = 255`: a value of RaceView::also_with
    std::string detail;
    /// What the function has left behind, where that is not the same in all orders.
    struct Object {
      std::string name;                  ///< a variable, a register; `returns`
      std::string value;                 ///< with the interrupt in the middle
      std::string if_before, if_behind;  ///< it came before the entry, behind the return
    };
    std::vector<Object> objects;
  };
  /// The gravest first; numbered from 1 on.
  std::vector<Finding> findings;
};

/// A place where an interrupt could tear something, and what came of trying.
struct PossibleRace {
  std::string object;
  /// What the code does with it, by more than one instruction.
  enum class How : std::uint8_t { kReads, kWrites, kChanges } how = How::kReads;
  std::string interrupt;
  bool interrupt_changes = true;  ///< what its handler does; false: it reads
  Location where;                 ///< the first instruction
  Location other;                 ///< the handler's
  enum class Verdict : std::uint8_t {
    kRace,       ///< `races` show it
    kNone,       ///< each run ended as one without a race does
    kWaits,      ///< where it was come to, the interrupt was not enabled or had to wait
    kNotCome,    ///< it was not come to
    kReadAgain,  ///< it is read until it is twice the same; that was not tried
  } verdict = Verdict::kNotCome;
  std::uint64_t placements = 0;    ///< runs with the interrupt in the middle
  std::vector<std::size_t> races;  ///< numbers in RaceOverview::findings, from 1 on
};

struct RaceOverview {
  std::vector<PossibleRace> possible;  ///< by place
  std::vector<RaceView::Finding> findings;
  Picoseconds until;         ///< so far it was looked for places
  bool interrupted = false;  ///< somebody asked for a pause: this is not all
};

struct RaceOverviewSpec {
  std::vector<std::string> interrupts = {};  ///< empty: all that have a handler
  Picoseconds within{1'000'000'000'000};     ///< so far from here on
};

}  // namespace lucid

#endif  // LUCID_RACE_H
