// SPDX-License-Identifier: MIT
// Signal: what has a value at each moment of a stretch of time: a pin, a variable, an interrupt's
// handler. A value: copies share what has been recorded.
//
//   lucid::Signal led({"PB5", {"kiln", "PORTB"}}, 16'000'000, 0);
//   led.add({0, 0});
//   led.add({16'000, 1});                       // high after a millisecond
//   led.end_at(32'000);
//   for (auto samples = led.samples(); auto sample = samples.next();) …
#ifndef LUCID_SIGNAL_H
#define LUCID_SIGNAL_H

#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "lucid/error.h"
#include "lucid/time.h"
#include "lucid/value.h"

namespace lucid {

/// A value, and the tick from which on it holds.
struct Sample {
  enum class State : std::uint8_t {
    kKnown,
    kFloating,  ///< a wire that nobody determines
    kUnknown,   ///< not recorded, out of scope, or fought over
  };
  std::uint64_t tick = 0;
  std::uint64_t value = 0;  ///< the bits of a number; of a real, those of a double
  State state = State::kKnown;

  [[nodiscard]] bool known() const { return state == State::kKnown; }
  [[nodiscard]] bool same_as(const Sample& other) const {
    return state == other.state && (!known() || value == other.value);
  }
};

/// A file for what signals have no room for in memory. Nobody else reads it, and it is of no use
/// once they are gone.
class LUCID_API SignalFile {
 public:
  /// Makes it; it takes the place of one that is there. Error: kIo.
  static Result<std::shared_ptr<SignalFile>> make(const std::string& path);
  ~SignalFile();
  SignalFile(const SignalFile&) = delete;
  SignalFile& operator=(const SignalFile&) = delete;
  [[nodiscard]] const std::string& path() const { return path_; }
  [[nodiscard]] std::uint64_t bytes() const { return bytes_; }

 private:
  friend class Signal;
  SignalFile(std::string path, int descriptor);
  Result<std::uint64_t> append(const std::vector<std::uint8_t>& bytes);
  [[nodiscard]] bool read(std::uint64_t offset, std::vector<std::uint8_t>& bytes) const;
  std::string path_;
  int descriptor_ = -1;
  std::uint64_t bytes_ = 0;
};

class LUCID_API Signal {
 public:
  enum class Kind : std::uint8_t {
    kLevel,   ///< low or high
    kNumber,  ///< whole, of up to 64 bits
    kReal,
    kMoment,  ///< nothing but moments, each with a number: a byte that was sent
  };
  /// What it is: constant.
  struct Facts {
    std::string name;
    std::vector<std::string> scope = {};  ///< the chip, and what of it: a port, a part, a function
    Kind kind = Kind::kLevel;
    std::uint8_t bits = 1;
    bool is_signed = false;
    Format format = {};
    double scale = 1;                                 ///< what a number of 1 means, in `unit`
    std::string unit = {};                            ///< V, °C
    std::map<std::uint64_t, std::string> names = {};  ///< of values: enumerators, interrupts
    bool fleeting = false;  ///< there is a value now and then only: a local
  };

  Signal() : Signal(Facts{}, 1, 0) {}
  /// A clock of `hz` ticks a second; it begins at a tick, with nothing known. REQUIRES: hz > 0.
  Signal(Facts facts, std::uint64_t hz, std::uint64_t begin);

  // Recording ------------------------------------------------------------------------------------

  /// From its tick on. At the tick of the last one it takes its place, but of moments; what is the
  /// same as the last one is no change. REQUIRES: not before the last one.
  void add(Sample sample);
  /// What there is holds up to a tick. Earlier than known: nothing happens.
  void end_at(std::uint64_t tick);
  /// Behind a tick nothing is known.
  void cut_at(std::uint64_t tick);
  /// Forgets its oldest thousands of changes. False: there are not so many.
  bool discard_oldest();
  /// Puts its oldest hundreds of changes that are still in memory into a file; they are read from
  /// there when somebody looks. False: there are not so many. Error: kIo, nothing changes.
  Result<bool> put_oldest_into(const std::shared_ptr<SignalFile>& file);

  // Looking --------------------------------------------------------------------------------------

  [[nodiscard]] const Facts& facts() const { return *facts_; }
  [[nodiscard]] const std::string& name() const { return facts_->name; }
  [[nodiscard]] std::uint64_t hz() const { return hz_; }
  [[nodiscard]] std::uint64_t begin() const { return begin_; }  ///< a tick
  [[nodiscard]] std::uint64_t end() const { return end_; }      ///< a tick
  [[nodiscard]] Picoseconds time(std::uint64_t tick) const { return to_time(tick, hz_); }
  [[nodiscard]] std::uint64_t changes() const { return changes_; }
  [[nodiscard]] std::uint64_t discarded() const { return discarded_; }  ///< changes before begin()
  [[nodiscard]] std::size_t bytes() const;                              ///< of memory
  [[nodiscard]] std::uint64_t bytes_in_file() const { return file_bytes_; }
  /// What holds at a tick; unknown outside of it. Of moments: the last one up to then.
  [[nodiscard]] Sample at(std::uint64_t tick) const;

  class Samples;
  /// Those in `[from, to]`; first what holds at `from`, if it is no moment. Good as long as the
  /// signal is not changed.
  [[nodiscard]] Samples samples(std::uint64_t from = 0, std::uint64_t to = UINT64_MAX) const;

  /// All that lies within a stretch of time, for drawing.
  struct Column {
    Sample first, last;          ///< what holds at its beginning, and just before its end
    double least = 0, most = 0;  ///< of known values, by number(); nothing if `known` is false
    std::uint64_t changes = 0;   ///< within it; one at `from` itself is none
    bool known = false;
    bool unknown = false;  ///< for some of it
  };
  /// `count` stretches of equal length from a tick to another. Takes about as long as there are
  /// stretches, however much there is. REQUIRES: from < to, count > 0.
  [[nodiscard]] std::vector<Column> columns(std::uint64_t from, std::uint64_t to,
                                            unsigned count) const;

  /// The same under another name, and so many ticks later.
  [[nodiscard]] Signal called(const std::string& name) const;
  [[nodiscard]] Signal moved(std::uint64_t ticks) const;
  /// The same with other names of values.
  [[nodiscard]] Signal naming(std::map<std::uint64_t, std::string> names) const;

  /// Where each change was made, if that has been recorded: at the tick of a change a number, the
  /// address of the instruction, which has a name there; null otherwise.
  [[nodiscard]] const Signal* places() const { return places_.get(); }
  [[nodiscard]] Signal with_places(Signal places) const;

  /// The value as a number in the unit.
  [[nodiscard]] double number(const Sample& sample) const;
  /// As people read it: `high`, `-12`, `0x1f`, `KILN_RAMP`, `2.5 V`; `floating`, `unknown`.
  [[nodiscard]] std::string text(const Sample& sample) const;

 private:
  struct Block;
  void close_block();
  void encode(const Sample& sample);
  static std::size_t bytes_of(const Block& block);
  [[nodiscard]] const Sample* in_blocks() const;

  std::shared_ptr<const Facts> facts_;
  std::uint64_t hz_ = 1, begin_ = 0, end_ = 0;
  std::uint64_t changes_ = 0, discarded_ = 0;
  std::deque<std::shared_ptr<const Block>> blocks_;
  std::size_t in_file_ = 0;  ///< so many of them, the oldest
  std::uint64_t file_bytes_ = 0;
  std::size_t block_bytes_ = 0;  ///< of memory that they take
  std::shared_ptr<Block> open_;  ///< not shared while it grows
  std::optional<Sample> last_;   ///< not in a block yet
  std::shared_ptr<const Signal> places_ = {};
};

/// Goes through the samples of a signal.
class LUCID_API Signal::Samples {
 public:
  std::optional<Sample> next();

 private:
  friend class Signal;
  std::optional<Sample> from_blocks();
  const Signal* signal_ = nullptr;
  std::uint64_t from_ = 0, to_ = 0;
  std::size_t block_ = 0, at_ = 0, left_ = 0;
  std::vector<std::uint8_t> read_;  ///< of a block that is in a file
  Sample now_;
  bool began_ = false, last_given_ = false;
  std::optional<Sample> ahead_;
};

}  // namespace lucid

#endif  // LUCID_SIGNAL_H
