// SPDX-License-Identifier: MIT
// Timeline: the past of a machine, as copies of it and what has been done to it between them.
//
// A run is exact, so any moment is a copy that was kept before it, run again. Copies lie densely
// around where one stands and around the end, and thin out with the distance, within a bound of
// memory; the first one is kept for ever. They are spaced by the work that a run is, never by the
// clock on the wall, so that everything repeats.
#ifndef LUCID_RECORD_TIMELINE_H
#define LUCID_RECORD_TIMELINE_H

#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <tuple>
#include <vector>

#include "lucid/input.h"
#include "machine/edit.h"
#include "machine/machine.h"

namespace lucid::record {

/// A tick, and how many acts had been done by then: several may be done at one tick.
struct Moment {
  std::uint64_t tick = 0;
  std::size_t acts = 0;
  friend bool operator<(const Moment& a, const Moment& b) {
    return std::tie(a.tick, a.acts) < std::tie(b.tick, b.acts);
  }
  friend bool operator==(const Moment& a, const Moment& b) {
    return a.tick == b.tick && a.acts == b.acts;
  }
  friend bool operator!=(const Moment& a, const Moment& b) { return !(a == b); }
  friend bool operator<=(const Moment& a, const Moment& b) { return !(b < a); }
};

/// Something that was done to a machine from outside its program: an input, or edits.
struct Act {
  std::uint64_t tick = 0;
  Input input = {};
  std::vector<machine::Edit> edits = {};  ///< if there are any, it is no input
  bool standing = false;                  ///< the program stood still
  bool lets_go = false;                   ///< of a pin, planned when it was driven
  std::uint64_t id = 0;                   ///< given by the timeline

  [[nodiscard]] bool is_edit() const { return !edits.empty() || input.reset; }
};

/// Does it again. An input that was taken once is taken again.
void carry_out(machine::Machine& machine, const Act& act);

/// What belongs to a copy and is not in the machine: whoever keeps copies says what.
struct Beside {
  virtual ~Beside() = default;
  [[nodiscard]] virtual std::size_t bytes() const { return 0; }
};

class Timeline {
 public:
  struct Copy {
    Moment at;
    std::shared_ptr<const machine::Machine> machine;
    std::shared_ptr<const Beside> beside;
    std::uint64_t work = 0;  ///< of the run up to it, in ticks awake or so
    std::size_t bytes = 0;
  };
  static constexpr std::size_t kBound = std::size_t{64} << 20;

  /// Everything is forgotten; time begins here.
  void begin();
  /// Off: no copies are kept, acts are.
  void set_on(bool on);
  [[nodiscard]] bool on() const { return on_; }
  /// Bytes that the copies may take.
  void set_bound(std::size_t bytes);
  [[nodiscard]] std::size_t bytes() const { return bytes_; }
  [[nodiscard]] std::size_t copies() const { return copies_.size(); }

  // What is done
  [[nodiscard]] const std::vector<Act>& acts() const { return acts_; }
  [[nodiscard]] std::size_t done() const { return done_; }
  void set_done(std::size_t done) { done_ = done; }
  /// It has just been done. Acts that are recorded behind it are other ones from now on.
  void did(Act act);
  /// To be done at its tick.
  void plan(Act act);
  /// Letting go of a pin that was planned, behind the present.
  void forget_plans(const std::string& pin);
  /// The tick of the next act; UINT64_MAX: there is none.
  [[nodiscard]] std::uint64_t next_act() const;
  /// Does the next one.
  void do_next(machine::Machine& machine);

  /// All that is to be done, from the beginning on. REQUIRES: nothing has been done.
  void take(std::vector<Act> acts);

  // Where it ends
  [[nodiscard]] const Moment& end() const { return end_; }
  /// The machine has come to a moment; the timeline goes so far at least.
  void reach(const Moment& now);
  /// What is recorded behind this moment will not happen; recorded inputs will. Acts that people
  /// had done to the program itself are dropped.
  void fork(const Moment& now);
  /// The acts are these, as far as a copy belongs to another future it is forgotten.
  void adopt(std::vector<Act> acts, std::size_t done, const Moment& end);

  // Copies
  void keep(const machine::Machine& machine, std::shared_ptr<const Beside> beside);
  /// The copy of this very moment, or null.
  [[nodiscard]] Copy* at(const Moment& moment);
  /// The latest at a moment or before it; null: there is none.
  [[nodiscard]] const Copy* before(const Moment& moment) const;
  [[nodiscard]] const Copy* strictly_before(const Moment& moment) const;
  [[nodiscard]] const Copy* first() const {
    return copies_.empty() ? nullptr : &copies_.begin()->second;
  }
  /// A run leads to this tick: on the way copies lie the denser the nearer. 0: it is not known.
  void aim_at(std::uint64_t tick) { aim_ = tick; }
  /// The tick at which a run from here should come by next: a copy is there, or one is due.
  [[nodiscard]] std::uint64_t next_stop(const machine::Machine& machine);
  /// It is time to keep one.
  [[nodiscard]] bool is_due(const machine::Machine& machine) const;

 private:
  void thin(const Moment& here);
  [[nodiscard]] std::uint64_t spacing_at(std::uint64_t tick) const;

  bool on_ = true;
  std::size_t bound_ = kBound, bytes_ = 0;
  std::vector<Act> acts_;
  std::size_t done_ = 0;
  std::uint64_t last_id_ = 0;
  Moment end_;
  std::map<Moment, Copy> copies_;
  std::uint64_t aim_ = 0;
  double spread_ = 0;        ///< of thinning: the least gap, by the distance
  std::uint64_t ratio_ = 1;  ///< ticks that a tick of work has taken lately
};

/// What differs between two machines that should be the same, in words; empty: nothing that can be
/// seen.
[[nodiscard]] std::string difference(const machine::Machine& then, const machine::Machine& now);

}  // namespace lucid::record

#endif  // LUCID_RECORD_TIMELINE_H
