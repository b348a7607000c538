// SPDX-License-Identifier: MIT
// Recorder: listens to a machine and keeps signals of what it hears, along one timeline. What is
// gone through a second time is recorded once.
#ifndef LUCID_RECORD_RECORDER_H
#define LUCID_RECORD_RECORDER_H

#include <deque>
#include <functional>
#include <map>
#include <set>
#include <unordered_map>
#include <utility>
#include <vector>

#include "lucid/signal.h"
#include "machine/machine.h"
#include "record/around.h"

namespace lucid::record {

/// Where a signal comes from.
struct Source {
  enum class Kind : std::uint8_t {
    kPins,       ///< `numbers`: one, or a bus with the lowest bit first; kNoPin where it has a gap
    kBytes,      ///< `bytes`, lowest first; judged as a whole when they are stored together
    kInterrupt,  ///< `numbers`: one vector, or none for whichever is at work
    kByteIn,     ///< `numbers`: a serial port
    kByteOut,
    kSleep,
    kEepromWrite,
    kReset,
    kVoltage,   ///< `numbers`: a pin
    kQuantity,  ///< `numbers`: of a part, as in Record
    kCalls,     ///< `numbers`: a call level, from 1; 0: the innermost
    kLooked,    ///< by `look`, at `places`
    kBusIn,     ///< `numbers`: a place in ChipInfo::buses
    kBusOut,
    kMoment,  ///< `numbers`: a place in ChipInfo::moments
  } kind = Kind::kPins;
  static constexpr std::uint32_t kNoPin = UINT32_MAX;
  std::vector<std::uint32_t> numbers = {};
  std::vector<Address> bytes = {};
  std::vector<std::uint8_t> objects =
      {};                  ///< bytes of each, if they are several; at most 64 in all
  std::uint8_t shift = 0;  ///< of a bit field within its bytes; its width is the signal's
  /// Of several objects together: the value that their bytes give; not for one.
  using WorkOut = std::function<Sample(const std::vector<std::uint8_t>& bytes)>;
  WorkOut work_out = {};
  std::vector<std::uint32_t> places =
      {};  ///< of instructions, before each of which it is looked at
  /// At a machine as it stands; the tick does not matter.
  std::function<Sample(const machine::Machine& at)> look = {};
};

/// A function, or a handler, that is being called.
struct Called {
  std::uint32_t begin = 0;  ///< its address
  std::uint32_t sp = 0;     ///< behind the call
  bool handler = false;
};
/// What a lane needs to know of the program and the machine, where the machine stands.
struct Standing {
  std::vector<unsigned> handlers;  ///< that are under way, the innermost last
  std::vector<Called> calls;       ///< the outermost first
  bool all_calls = true;           ///< the first of them is really the outermost
};

class Recorder final : public machine::RecordSink {
 public:
  static constexpr std::size_t kBound = std::size_t{64} << 20U;

  /// Begins with the value that it has now. REQUIRES: `id` is new.
  void add(unsigned id, Signal::Facts facts, Source source, const machine::Machine& machine,
           bool with_places = false, std::optional<AroundSpec> around = {});
  /// Takes over what another recorder has of it.
  void take_over(Recorder& other, unsigned id);
  bool remove(unsigned id);
  void clear();
  [[nodiscard]] bool empty() const { return lanes_.empty(); }
  [[nodiscard]] bool has(unsigned id) const;
  /// Of the machine's clock. REQUIRES: it is not empty.
  [[nodiscard]] std::uint64_t hz() const { return lanes_.front().signal.hz(); }
  void set_bound(std::size_t bytes) { bound_ = bytes; }
  /// What there is no room for goes there instead of being given up; null: nowhere.
  void set_file(std::shared_ptr<SignalFile> file) { file_ = std::move(file); }
  /// Why nothing goes there any more; told once.
  [[nodiscard]] std::optional<Error> trouble() { return std::exchange(trouble_, std::nullopt); }
  /// What is to be listened to, and which bytes are to be told of, with kTapWrite or kTapChange.
  [[nodiscard]] std::uint32_t kinds() const { return kinds_; }
  /// Of ChipInfo::moments, a bit each.
  [[nodiscard]] std::uint64_t moments() const { return wanted_moments_; }
  [[nodiscard]] const std::map<Address, std::uint8_t>& taps() const { return taps_; }
  /// Where it is to be told that the machine stands.
  [[nodiscard]] const std::set<std::uint32_t>& places() const { return places_; }

  /// The beginnings of all functions, and of the handler of each vector.
  void set_functions(std::vector<std::uint32_t> begins, std::map<unsigned, std::uint32_t> handlers);
  /// The machine is about to run from here, or something has been done to it by hand.
  void look(const machine::Machine& machine, const Standing& standing);
  void take(const machine::Record* records, std::size_t count) override;
  /// The machine stands at one of the places.
  void stand(const machine::Machine& at);
  /// What is seen there is kept until it is told of by the number that is returned, or by a later
  /// one: Hearing::look.
  std::uint32_t look_at(const machine::Machine& at);
  /// A breakpoint has been passed.
  void mark(unsigned breakpoint, std::uint64_t tick);
  /// It has run up to here.
  void end_at(std::uint64_t tick);
  /// Behind a tick another future begins.
  void cut_at(std::uint64_t tick);
  /// All that is traced, as if it began here: the timeline is another one.
  void begin_anew(const machine::Machine& machine);
  /// Forgets what was before that.
  void begin_at(std::uint64_t tick);

  /// Nothing: there is none.
  [[nodiscard]] std::optional<Signal> signal(unsigned id) const;
  /// Of a lane that keeps what lies around moments only: how many stretches.
  [[nodiscard]] std::size_t windows(unsigned id) const;
  /// How often something that was recorded has been taken back.
  [[nodiscard]] std::uint64_t futures() const { return futures_; }

 private:
  struct Lane : Recorded {
    unsigned id = 0;
    Source source;
    std::optional<Around> around;
    std::vector<std::uint8_t> bytes;    ///< as last heard, of all objects
    std::uint64_t value = 0;            ///< of pins, a bit each
    std::uint64_t odd = 0, fought = 0;  ///< of pins: those that float, those that are fought over
    std::uint64_t heard = 0;            ///< the machine has been listened to up to here
    std::uint64_t end = 0;              ///< recorded up to here: not further than `heard`
    std::uint32_t at_end = 0;           ///< moments at that very tick
    std::uint32_t to_skip = 0;          ///< of them, those that come again
    /// Bytes that are being stored one after the other.
    struct Partial {
      std::uint64_t stored = 0;  ///< a bit each
      std::uint64_t last = 0;    ///< tick
      std::optional<std::uint32_t> pc;
    };
    std::optional<Partial> partial;
    std::uint64_t pins = 0;            ///< a bit for each that is there
    std::vector<std::uint64_t> masks;  ///< of each object's bytes
    std::vector<std::uint8_t> taps;    ///< of each byte
  };

  void put(Lane& lane, Sample sample);
  void put_value(Lane& lane, std::uint64_t tick);
  static void take_look(Lane& lane, const machine::Machine& machine);
  void take_looks(std::uint32_t number);
  void settle(Lane& lane);
  void happened(const machine::Record& record);
  [[nodiscard]] bool is_function(std::uint32_t address) const;
  void stored(const machine::Record& record, std::uint32_t address);
  void set_pin(Lane& lane, unsigned bit, unsigned level);
  void read(Lane& lane, const machine::Machine& machine);
  void index();
  void keep_bound();
  bool make_room(Lane& lane);
  bool make_room(Recorded& of);
  [[nodiscard]] Sample value_of(const Lane& lane, std::uint64_t tick) const;

  std::vector<Lane> lanes_;
  std::uint32_t kinds_ = 0;
  std::uint64_t wanted_moments_ = 0;
  std::map<Address, std::uint8_t> taps_;
  std::set<std::uint32_t> places_;
  /// Lanes, each with the place of the number in it.
  using Ends = std::vector<std::pair<std::size_t, unsigned>>;
  std::unordered_map<std::uint32_t, Ends> by_address_, by_pin_, by_voltage_, by_quantity_;
  std::vector<std::size_t> wide_;     ///< lanes of several bytes
  std::vector<std::size_t> moments_;  ///< and those of which only some records matter
  Standing standing_;                 ///< where the records have led to
  /// The same as far as anybody has come: what the stack says of a moment in the middle of it may
  /// be less.
  struct Furthest {
    std::uint64_t tick = 0;
    Standing standing;
  };
  std::optional<Furthest> furthest_;
  void pass_furthest(std::uint64_t tick);
  bool behind_furthest_ = false;
  std::vector<std::uint32_t> functions_;          ///< by address
  std::vector<bool> function_begins_;             ///< from the first on; empty: they lie too wide
  std::map<unsigned, std::uint32_t> handler_of_;  ///< by vector
  bool asleep_ = false;
  std::optional<std::uint64_t> left_at_;  ///< the tick at which the machine was last listened to
  std::optional<std::uint32_t> pc_;       ///< of what is being put down
  std::size_t bound_ = kBound;
  std::shared_ptr<SignalFile> file_;
  std::optional<Error> trouble_;
  struct Look {
    std::uint32_t number = 0;
    unsigned lane = 0;  ///< its id
    Sample seen;
  };
  std::deque<Look> looks_;
  std::uint32_t next_look_ = 0;
  unsigned takes_ = 0;
  std::uint64_t futures_ = 0;
};

}  // namespace lucid::record

#endif  // LUCID_RECORD_RECORDER_H
